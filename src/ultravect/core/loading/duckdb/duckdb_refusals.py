"""Says which staged rows DuckDB's constraints would refuse: there are no savepoints there, so that none can be tried.

It has no triggers either: what a row can be refused for is in the catalogue, and is asked of all rows at once.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from ultravect.core.contracts.write_session import Statements
from ultravect.core.dialects.base import TableName
from ultravect.core.dialects.merge import ROW, MergeStatements

REFUSED = "ultravect_refused"
_FREE = "ultravect_free"
_CONSTRAINTS = """
SELECT constraint_type, constraint_name, expression, constraint_column_names, referenced_table, referenced_column_names
FROM duckdb_constraints() WHERE lower(table_name) = lower({table}) AND lower(schema_name) = lower(coalesce({schema}, current_schema()))
ORDER BY constraint_index
"""
_INDEXES = """
SELECT index_name, CAST(expressions AS VARCHAR[]) FROM duckdb_indexes()
WHERE is_unique AND lower(table_name) = lower({table}) AND lower(schema_name) = lower(coalesce({schema}, current_schema()))
ORDER BY index_oid
"""


@dataclass(frozen=True)
class _Unique:
    """``values`` are the expressions, over the table's columns, that no two rows may have alike."""

    name: str
    values: Sequence[str]

    def same(self, one: str, other: str) -> str:
        return " AND ".join(f"{one}.u{number} = {other}.u{number}" for number in range(len(self.values)))

    @property
    def selected(self) -> str:
        return ", ".join(f"{value} AS u{number}" for number, value in enumerate(self.values))

    def after(self, rows: str) -> str:
        """Those of ``rows`` that stand after another with the same."""
        alike = ", ".join(f"u{number}" for number in range(len(self.values)))
        place = f"row_number() OVER (PARTITION BY {alike} ORDER BY {ROW}) AS place"
        return f"SELECT {ROW} FROM (SELECT {ROW}, {place} FROM {rows}) n WHERE place > 1"


class Refusals:
    """Those of one load, in the temporary table ``REFUSED`` by their numbers."""

    def __init__(self, statements: Statements, merge: MergeStatements, table: TableName, *, upsert: bool) -> None:
        self._statements, self._merge, self._table, self._upsert = statements, merge, table, upsert
        self._quote, self._literal = merge.dialect.quote, merge.dialect.literal
        statements.changed(f"CREATE TEMPORARY TABLE {REFUSED} ({ROW} BIGINT, reason VARCHAR, later BOOLEAN)")
        conditions, uniques = self._constraints()
        for reason, condition in conditions:
            self._refuse(reason, f"SELECT s.{ROW} FROM {merge.staged} s WHERE {condition}")
        for unique in uniques:
            self._refuse(f"breaks {unique.name}: the table has such a row", self._held(unique, self.others))
            self._refuse(
                f"breaks {unique.name}: a row before has the same",
                unique.after(self._of(unique, self.others)),
                later=True,
            )
        while len(uniques) > 1 and self._let_through(uniques):
            pass

    def first(self, limit: int) -> list[tuple[int, str]]:
        """Numbers and reasons."""
        rows = self._statements.rows(f"SELECT {ROW}, reason FROM {REFUSED} ORDER BY 1 LIMIT {limit}")
        return [(int(row), str(reason)) for row, reason in rows]

    @property
    def others(self) -> str:
        """The condition of a staged row ``s`` that nothing is held against."""
        return f"s.{ROW} NOT IN (SELECT {ROW} FROM {REFUSED})"

    def drop(self) -> None:
        self._statements.changed(f"DROP TABLE {REFUSED}")

    def _refuse(self, reason: str, rows: str, *, later: bool = False) -> None:
        self._statements.changed(
            f"INSERT INTO {REFUSED} SELECT {ROW}, {self._literal(reason)}, {later} FROM ({rows}) s WHERE {self.others}"
        )

    def _constraints(self) -> tuple[list[tuple[str, str]], list[_Unique]]:
        """Reasons with their conditions of a staged row ``s``, and what must be unique: as far as rows bring the columns."""
        asked = {
            "table": self._literal(self._table.name),
            "schema": self._literal(self._table.schema) if self._table.schema else "NULL",
        }
        sent, keys = (frozenset(map(str.lower, names)) for names in (self._merge.columns, self._merge.keys))
        conditions, uniques = [], []
        for kind, name, expression, columns, other, others in self._statements.rows(_CONSTRAINTS.format(**asked)):
            if not {column.lower() for column in columns} <= sent:
                continue
            if kind == "CHECK":
                conditions.append((f"breaks {name}: {expression}", f"NOT coalesce(({expression}), true)"))
            elif kind in ("PRIMARY KEY", "UNIQUE"):
                uniques.append(_Unique(name, [self._quote(column) for column in columns]))
            elif kind == "FOREIGN KEY" and other.lower() != self._table.name.lower():
                conditions.append((f"breaks {name}: {other} has no such row", self._orphan(columns, other, others)))
        every = {str(name).lower() for name, *_ in self._statements.rows(f"DESCRIBE {self._merge.table}")}
        uniques += [
            _Unique(name, values)
            for name, values in self._statements.rows(_INDEXES.format(**asked))
            if every <= sent or _names(values) <= sent
        ]
        if self._upsert:  # a row with a known key is an update
            uniques = [unique for unique in uniques if not _names(unique.values) <= keys]
        return conditions, uniques

    def _orphan(self, columns: Sequence[str], other: str, others: Sequence[str]) -> str:
        given = " AND ".join(f"s.{self._quote(column)} IS NOT NULL" for column in columns)
        pairs = zip(map(self._quote, columns), map(self._quote, others), strict=True)
        same = " AND ".join(f"r.{theirs} = s.{ours}" for ours, theirs in pairs)
        referenced = self._merge.dialect.table(TableName(self._table.schema, other))
        return f"{given} AND NOT EXISTS (SELECT 1 FROM {referenced} r WHERE {same})"

    def _of(self, unique: _Unique, condition: str) -> str:
        """Staged rows, with what must be unique of them."""
        whole = " AND ".join(f"({value}) IS NOT NULL" for value in unique.values)
        return (
            f"(SELECT {ROW}, {unique.selected}{self._keys} FROM {self._merge.staged} s WHERE {condition} AND {whole})"
        )

    @property
    def _keys(self) -> str:
        return "".join(f", {self._quote(key)}" for key in self._merge.keys)

    def _held(self, unique: _Unique, condition: str) -> str:
        """Staged rows for which the table has another row with the same."""
        held = f"(SELECT {unique.selected}{self._keys} FROM {self._merge.table})"
        other = f" AND NOT ({self._merge.matched})" if self._upsert else ""
        return (
            f"SELECT s.{ROW} FROM {self._of(unique, condition)} s "
            f"WHERE EXISTS (SELECT 1 FROM {held} t WHERE {unique.same('t', 's')}{other})"
        )

    def _let_through(self, uniques: Sequence[_Unique]) -> int:
        """Takes back what was held against rows after one that was refused itself, for something else; how many."""
        later = f"s.{ROW} IN (SELECT {ROW} FROM {REFUSED} WHERE later)"
        self._statements.changed(f"CREATE TEMPORARY TABLE {_FREE} AS SELECT {ROW} FROM {REFUSED} WHERE later")
        for unique in uniques:
            taken = (
                f"SELECT s.{ROW} FROM {self._of(unique, later)} s "
                f"WHERE EXISTS (SELECT 1 FROM {self._of(unique, self.others)} t WHERE {unique.same('t', 's')})"
            )
            for blocked in (taken, self._held(unique, later)):
                self._statements.changed(f"DELETE FROM {_FREE} WHERE {ROW} IN ({blocked})")
        for unique in uniques:
            free = self._of(unique, f"s.{ROW} IN (SELECT {ROW} FROM {_FREE})")
            self._statements.changed(f"DELETE FROM {_FREE} WHERE {ROW} IN ({unique.after(free)})")
        count = self._statements.changed(f"DELETE FROM {REFUSED} WHERE {ROW} IN (SELECT {ROW} FROM {_FREE})")
        self._statements.changed(f"DROP TABLE {_FREE}")
        return count


def _names(values: Sequence[str]) -> set[str]:
    """What expressions would be called if they were but columns."""
    return {value.strip('"').lower() for value in values}
