"""SQL Server, as statements only: no connection speaks its wire protocol yet.

Types: https://learn.microsoft.com/en-us/sql/t-sql/data-types/data-types-transact-sql
"""

from __future__ import annotations

import re
from collections.abc import Sequence

from ultravect.core.dialects.base import NewColumn, NewTable, TableName, Translation
from ultravect.core.dialects.common import CommonDialect
from ultravect.core.types.canonical import MAX_PRECISION, CanonicalType, Fit

_NATIVE = re.compile(r"^(?P<base>[a-z0-9_ ]+?)(?:\((?P<first>\d+|max)(?:,\s*(?P<second>\d+))?\))?$")
_MAX_CHARACTERS, _MAX_BYTES = 4000, 8000
_MAX_KEY_CHARACTERS = 450  # 900 bytes of a clustered index
_TO_CANONICAL = {
    "bit": CanonicalType("boolean"),
    "tinyint": CanonicalType("smallint"),
    "smallint": CanonicalType("smallint"),
    "int": CanonicalType("integer"),
    "bigint": CanonicalType("bigint"),
    "money": CanonicalType("decimal", precision=19, scale=4),
    "smallmoney": CanonicalType("decimal", precision=10, scale=4),
    "real": CanonicalType("real"),
    "text": CanonicalType("text"),
    "ntext": CanonicalType("text"),
    "xml": CanonicalType("text"),
    "image": CanonicalType("binary"),
    "timestamp": CanonicalType("binary", length=8),
    "rowversion": CanonicalType("binary", length=8),
    "date": CanonicalType("date"),
    "datetime": CanonicalType("timestamp", precision=3),
    "smalldatetime": CanonicalType("timestamp", precision=0),
    "uniqueidentifier": CanonicalType("uuid"),
    "json": CanonicalType("json"),
}
_TO_NATIVE = {
    "boolean": "bit",
    "smallint": "smallint",
    "integer": "int",
    "bigint": "bigint",
    "real": "real",
    "double": "float",
    "date": "date",
    "uuid": "uniqueidentifier",
}
_MOMENTS = {"time": "time", "timestamp": "datetime2", "timestamptz": "datetimeoffset"}


class SqlserverDialect(CommonDialect):
    """See ``Dialect``."""

    name = "sqlserver"
    truth = ("1", "0")
    adds = "ADD"
    max_identifier_bytes = 256  # 128 characters of two bytes
    max_columns = 1024
    random_value = "NEWID()"
    length = "LEN"
    text_type = "nvarchar(max)"
    refuses = frozenset({"not finite", "far years"})
    natives: Sequence[str] = (
        "bit", "tinyint", "smallint", "int", "bigint", "decimal(18,2)", "numeric(38,10)", "money", "smallmoney", "real",
        "float", "float(24)", "char(3)", "varchar(80)", "varchar(max)", "nchar(3)", "nvarchar(80)", "nvarchar(max)",
        "text", "ntext", "xml", "binary(16)", "varbinary(80)", "varbinary(max)", "image", "rowversion", "date", "time(7)",
        "datetime", "smalldatetime", "datetime2(3)", "datetime2(7)", "datetimeoffset(7)", "uniqueidentifier",
        "sql_variant", "geography", "hierarchyid",
    )  # fmt: skip

    def enlarge(self, column: NewColumn) -> str:
        native = self.from_canonical(column.type).native
        return f"ALTER COLUMN {self.quote(column.name)} {native}{'' if column.nullable else ' NOT NULL'}"

    def key_obstacle(self, kind: CanonicalType) -> str:
        large = self.from_canonical(kind).native.endswith("(max)")
        return f"a key of {kind.name} needs a length, of at most {_MAX_KEY_CHARACTERS}" if large else ""

    def comments(self, table: TableName, new: NewTable) -> Sequence[str]:
        place = f"N'SCHEMA', {self.literal(table.schema or 'dbo')}, N'TABLE', {self.literal(table.name)}"
        shown = [
            (new.comment, ""),
            *((item.comment, f", N'COLUMN', {self.literal(item.name)}") for item in new.columns),
        ]
        return [
            f"EXEC sys.sp_addextendedproperty N'MS_Description', {self.literal(comment)}, {place}{column}"
            for comment, column in shown
            if comment
        ]

    def quote(self, identifier: str) -> str:
        return "[" + identifier.replace("]", "]]") + "]"

    def literal(self, text: str) -> str:
        return "N'" + text.replace("'", "''") + "'"

    def by_bytes(self, name: str) -> str:
        return f"{name} COLLATE Latin1_General_100_BIN2"

    def from_canonical(self, wanted: CanonicalType) -> Translation:
        match wanted.name:
            case "decimal":
                if wanted.precision is None:
                    return Translation(
                        "decimal(38,18)", Fit.NARROWER, "at most 20 digits before the mark, 18 after it"
                    )
                return Translation(f"decimal({wanted.precision},{wanted.scale or 0})", Fit.EXACT)
            case "text":
                if wanted.length is None:
                    return Translation("nvarchar(max)", Fit.EXACT)
                # lengths count UTF-16 units, of which an emoji has two
                room = wanted.length * 2
                native = f"nvarchar({room})" if room <= _MAX_CHARACTERS else "nvarchar(max)"
                return Translation(native, Fit.WIDER, "room for characters of two UTF-16 units")
            case "binary":
                fits = wanted.length is not None and wanted.length <= _MAX_BYTES
                native = f"varbinary({wanted.length})" if fits else "varbinary(max)"
                return Translation(native, Fit.EXACT if fits or wanted.length is None else Fit.WIDER, "")
            case "json":
                return Translation("nvarchar(max)", Fit.WIDER, "kept as text")
            case "time" | "timestamp" | "timestamptz":
                digits = 6 if wanted.precision is None else wanted.precision
                return Translation(f"{_MOMENTS[wanted.name]}({digits})", Fit.EXACT)
        return Translation(_TO_NATIVE[wanted.name], Fit.EXACT)

    def to_canonical(self, native: str) -> CanonicalType | None:
        match = _NATIVE.match(native.lower())
        if not match:
            return None
        base, first = match["base"], match["first"]
        number = int(first) if first and first != "max" else None
        if base in _TO_CANONICAL:
            return _TO_CANONICAL[base]
        if base in ("decimal", "numeric"):
            return CanonicalType(
                "decimal", precision=min(number or 18, MAX_PRECISION), scale=int(match["second"] or 0)
            )
        if base == "float":
            return CanonicalType("real" if (number or 53) <= 24 else "double")
        if base in ("char", "varchar", "nchar", "nvarchar"):
            return CanonicalType("text", length=number)
        if base in ("binary", "varbinary"):
            return CanonicalType("binary", length=number)
        kinds = {native: kind for kind, native in _MOMENTS.items()}
        if base in kinds:
            # the seventh digit of seconds has no place here: it must be zero
            return CanonicalType(kinds[base], precision=min(7 if number is None else number, 6))
        return None

    def upsert(self, target: TableName, staged: TableName, keys: Sequence[str], columns: Sequence[str]) -> str:
        """Rows of ``staged`` into ``target`` by ``keys``: new ones inserted, changed ones updated, equal ones left alone."""
        on = " AND ".join(f"t.{self.quote(key)} = s.{self.quote(key)}" for key in keys)
        others = [column for column in columns if column not in keys]
        lines = [f"MERGE INTO {self.table(target)} WITH (HOLDLOCK) AS t", f"USING {self.table(staged)} AS s ON {on}"]
        if others:
            new, old = (", ".join(f"{side}.{self.quote(column)}" for column in others) for side in "st")
            changes = ", ".join(f"t.{self.quote(column)} = s.{self.quote(column)}" for column in others)
            # EXCEPT takes two NULLs for the same
            lines.append(f"WHEN MATCHED AND EXISTS (SELECT {new} EXCEPT SELECT {old}) THEN UPDATE SET {changes}")
        names = ", ".join(map(self.quote, columns))
        values = ", ".join(f"s.{self.quote(column)}" for column in columns)
        lines.append(f"WHEN NOT MATCHED BY TARGET THEN INSERT ({names}) VALUES ({values});")
        return "\n".join(lines)
