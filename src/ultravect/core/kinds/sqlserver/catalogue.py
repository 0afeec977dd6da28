"""What is asked of SQL Server's catalogue."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

from ultravect.core.contracts.catalogue import (
    PRIVILEGES,
    LiveCheck,
    LiveColumn,
    LiveTable,
    Reference,
    TableInfo,
)
from ultravect.core.dialects.base import Dialect, TableName
from ultravect.core.loading.defaults import constant_default

USUAL_SCHEMA = "dbo"
_LIST = """
SELECT s.name, o.name, CASE WHEN o.type = 'V' THEN 'view' WHEN h.temporal_type = 1 THEN 'history table' ELSE 'table' END,
       (SELECT SUM(p.rows) FROM sys.partitions p WHERE p.object_id = o.object_id AND p.index_id IN (0, 1)),
       (SELECT CAST(e.value AS nvarchar(4000)) FROM sys.extended_properties e
        WHERE e.class = 1 AND e.major_id = o.object_id AND e.minor_id = 0 AND e.name = N'MS_Description')
FROM sys.objects o JOIN sys.schemas s ON s.schema_id = o.schema_id LEFT JOIN sys.tables h ON h.object_id = o.object_id
WHERE o.type IN ('U', 'V') AND o.is_ms_shipped = 0 {condition}
"""
_COLUMNS = """
SELECT c.name, CASE WHEN t.is_user_defined = 1 THEN b.name ELSE t.name END, c.max_length, c.precision, c.scale, c.is_nullable,
       c.is_identity, c.is_computed, c.generated_always_type, c.collation_name, d.definition,
       (SELECT CAST(e.value AS nvarchar(4000)) FROM sys.extended_properties e
        WHERE e.class = 1 AND e.major_id = c.object_id AND e.minor_id = c.column_id AND e.name = N'MS_Description')
FROM sys.columns c JOIN sys.types t ON t.user_type_id = c.user_type_id
  LEFT JOIN sys.types b ON b.user_type_id = c.system_type_id
  LEFT JOIN sys.default_constraints d ON d.object_id = c.default_object_id
WHERE c.object_id = OBJECT_ID({name}) ORDER BY c.column_id
"""
_INDEXES = """
SELECT i.index_id, i.is_primary_key, i.is_unique, i.has_filter, k.key_ordinal, c.name
FROM sys.indexes i JOIN sys.index_columns k ON k.object_id = i.object_id AND k.index_id = i.index_id
  JOIN sys.columns c ON c.object_id = k.object_id AND c.column_id = k.column_id
WHERE i.object_id = OBJECT_ID({name}) AND i.is_disabled = 0 AND k.is_included_column = 0 ORDER BY i.index_id, k.key_ordinal
"""
_CHECKS = """
SELECT c.name, c.definition FROM sys.check_constraints c
WHERE c.parent_object_id = OBJECT_ID({name}) AND c.is_disabled = 0
  AND NOT EXISTS (SELECT 1 FROM sys.triggers t WHERE t.parent_id = c.parent_object_id AND t.is_disabled = 0 AND t.is_instead_of_trigger = 1)
"""
_REFERENCES = """
SELECT DISTINCT s.name, o.name, r.name, p.name
FROM sys.foreign_keys f JOIN sys.objects o ON o.object_id = f.parent_object_id JOIN sys.schemas s ON s.schema_id = o.schema_id
  JOIN sys.objects p ON p.object_id = f.referenced_object_id JOIN sys.schemas r ON r.schema_id = p.schema_id
WHERE f.parent_object_id <> f.referenced_object_id
"""
_REFERRED = """
SELECT o.name FROM sys.foreign_keys f JOIN sys.objects o ON o.object_id = f.parent_object_id
WHERE f.referenced_object_id = OBJECT_ID({name}) AND f.parent_object_id <> f.referenced_object_id
"""
_DECIMALS = frozenset(["decimal", "numeric"])
_MOMENTS = frozenset(["time", "datetime2", "datetimeoffset"])
_WIDE = frozenset(["nchar", "nvarchar"])
_BYTES = frozenset(["char", "varchar", "binary", "varbinary"])
# what rows are never given: the server writes it
_WRITTEN_BY_SERVER = frozenset(["timestamp", "rowversion"])

Rows = Callable[[str, str], Sequence[Sequence[Any]]]


def native_of(base: str, length: int, precision: int, scale: int) -> str:
    """A type as it is declared, from what the catalogue says of it; lengths there are in bytes, -1 for (max)."""
    if base in _DECIMALS:
        return f"{base}({precision},{scale})"
    if base in _MOMENTS:
        return f"{base}({scale})"
    if base in _WIDE or base in _BYTES:
        shown = "max" if length == -1 else str(length // 2 if base in _WIDE else length)
        return f"{base}({shown})"
    return base


class Catalogue:
    """The tables of a database; ``rows`` asks it: what is being done, and the query."""

    def __init__(self, rows: Rows, dialect: Dialect) -> None:
        self._rows, self._dialect = rows, dialect

    def tables(self, search: str, after: str, limit: int) -> Sequence[TableInfo]:
        literal = self._dialect.literal
        shown = "s.name + N'.' + o.name"
        condition = f"AND CHARINDEX({literal(search.lower())}, LOWER({shown})) > 0" if search else ""
        order = " ORDER BY s.name COLLATE Latin1_General_100_BIN2, o.name COLLATE Latin1_General_100_BIN2"
        found = self._rows("listing tables", _LIST.format(condition=condition) + order)
        infos = [
            TableInfo(f"{schema}.{name}", kind, _count(rows), comment or "", TableName(schema, name))
            for schema, name, kind, rows, comment in found
        ]
        return [info for info in sorted(infos, key=lambda info: info.name) if info.name > after][:limit]

    def references(self) -> Sequence[Reference]:
        found = self._rows("reading the foreign keys", _REFERENCES)
        return [Reference(TableName(*row[:2]), TableName(*row[2:])) for row in found]

    def table(self, name: TableName) -> LiveTable | None:
        literal = self._dialect.literal
        schema = name.schema or USUAL_SCHEMA
        doing = f"reading the columns of {name}"
        condition = f"AND s.name = {literal(schema)} AND o.name = {literal(name.name)}"
        found = self._rows(doing, _LIST.format(condition=condition))
        if not found:
            return None
        schema, table, kind, rows, comment = found[0]
        live = TableName(schema, table)
        quoted = literal(self._dialect.table(live))
        indexes = self._indexes(doing, quoted)
        keys = next((names for names, primary, *_ in indexes if primary), [])
        return LiveTable(
            live,
            kind,
            self.columns(live, frozenset(keys)),
            self._granted(doing, quoted),
            _count(rows),
            comment or "",
            [frozenset(names) for names, _, unique, filtered in indexes if unique and not filtered],
            [str(row[0]) for row in self._rows(doing, _REFERRED.format(name=quoted))],
            [LiveCheck(*row) for row in self._rows(doing, _CHECKS.format(name=quoted))],
            frozenset(names[0] for names, *_ in indexes if names),
        )

    def columns(self, table: TableName, keys: frozenset[str] = frozenset()) -> Sequence[LiveColumn]:
        quoted = self._dialect.literal(self._dialect.table(table))
        made = []
        for row in self._rows(f"reading the columns of {table}", _COLUMNS.format(name=quoted)):
            name, base, length, precision, scale, nullable, identity, computed, generated, _, default, comment = row
            native = native_of(base, length, precision, scale)
            made.append(
                LiveColumn(
                    name,
                    native,
                    base,
                    self._dialect.to_canonical(native),
                    bool(nullable),
                    bool(identity) or default is not None,
                    bool(computed) or bool(generated) or base in _WRITTEN_BY_SERVER,
                    name in keys,
                    comment or "",
                    constant_default((default or "").replace("(N'", "('")) if default else None,
                )
            )
        return made

    def _indexes(self, doing: str, quoted: str) -> list[tuple[list[str], bool, bool, bool]]:
        """Of each index its columns in order, and whether it is the primary key, unique, and over a part of the rows."""
        found: dict[int, tuple[list[str], bool, bool, bool]] = {}
        for index, primary, unique, filtered, _, column in self._rows(doing, _INDEXES.format(name=quoted)):
            found.setdefault(index, ([], bool(primary), bool(unique), bool(filtered)))[0].append(column)
        return list(found.values())

    def _granted(self, doing: str, quoted: str) -> frozenset[str]:
        wanted = sorted(PRIVILEGES | {"ALTER"})
        asked = ", ".join(f"HAS_PERMS_BY_NAME({quoted}, 'OBJECT', '{privilege}')" for privilege in wanted)
        (row,) = self._rows(doing, f"SELECT {asked}")
        granted = frozenset(privilege for privilege, has in zip(wanted, row, strict=True) if has)
        # there is no permission of that name: it takes ALTER
        return granted | {"TRUNCATE"} if "ALTER" in granted else granted


def _count(rows: Any) -> int | None:
    return None if rows is None else int(rows)


def declared(
    rows: Callable[[str], Sequence[Sequence[Any]]], dialect: Dialect, quoted: str
) -> dict[str, tuple[str, str, bool]]:
    """Of each column of a table its type, its collation ("" where it has none), and whether it counts by itself.

    ``quoted`` is the table's name; ``rows`` asks in the session that has just made it.
    """
    return {
        name: (native_of(base, length, precision, scale), collation or "", bool(identity))
        for name, base, length, precision, scale, _, identity, _, _, collation, *_ in rows(
            _COLUMNS.format(name=dialect.literal(quoted))
        )
    }
