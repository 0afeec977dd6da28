"""The statements of an upsert from a staging table, the same in every dialect but for their forms.

Rows are matched as the target itself compares: ``t`` is the target, ``s`` a staged row. Staged rows carry their number
in the load, by which the first or the last of a repeated key wins.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from ultravect.core.dialects.base import Dialect, NewColumn
from ultravect.core.types.canonical import CanonicalType

ROW = "ultravect_row"


@dataclass(frozen=True)
class MergeStatements:
    """``table`` and ``staged`` are quoted names; ``columns`` and ``keys`` are not.

    ``as_text``: columns whose type knows no equality, compared as text.
    """

    dialect: Dialect
    table: str
    staged: str
    columns: Mapping[str, CanonicalType]
    keys: Sequence[str]
    as_text: frozenset[str] = frozenset()

    @classmethod
    def of(
        cls,
        dialect: Dialect,
        table: str,
        staged: str,
        columns: Sequence[NewColumn],
        keys: Sequence[str],
        as_text: frozenset[str] = frozenset(),
    ) -> MergeStatements:
        """Of rows with these columns."""
        return cls(dialect, table, staged, {column.name: column.type for column in columns}, keys, as_text)

    @property
    def matched(self) -> str:
        quoted = map(self.dialect.quote, self.keys)
        return " AND ".join(f"t.{key} = s.{key}" for key in quoted)

    @property
    def others(self) -> Sequence[str]:
        """The columns that are not keys."""
        return [column for column in self.columns if column not in self.keys]

    @property
    def differs(self) -> str:
        """Whether a column that is not a key differs."""
        return self._differs("s")

    def _differs(self, side: str) -> str:
        return " OR ".join(
            self.dialect.differs(self._value("t", other), self._value(side, other)) for other in self.others
        )

    def _value(self, side: str, column: str) -> str:
        value = f"{side}.{self.dialect.quote(column)}"
        if column in self.as_text:
            return self.dialect.as_text(value)
        return self.dialect.compared(value, self.columns[column])

    def _names(self, side: str = "") -> str:
        return ", ".join(side + self.dialect.quote(column) for column in self.columns)

    def _key_names(self, side: str = "") -> str:
        return ", ".join(side + self.dialect.quote(key) for key in self.keys)

    def repeated(self) -> str:
        """A key that more than one staged row has, if there is one."""
        names = self._key_names()
        return self.dialect.first_rows(f"SELECT {names} FROM {self.staged} GROUP BY {names} HAVING count(*) > 1", 1)

    def drop_repeats(self, *, first: bool) -> str:
        """Leaves one staged row a key: the first or the last."""
        order = "ASC" if first else "DESC"
        row = self.dialect.quote(ROW)
        numbered = (
            f"SELECT {row}, row_number() OVER (PARTITION BY {self._key_names()} ORDER BY {row} {order}) AS place "
            f"FROM {self.staged}"
        )
        return f"DELETE FROM {self.staged} WHERE {row} IN (SELECT {row} FROM ({numbered}) n WHERE place > 1)"

    def losers(self, limit: int, *, first: bool) -> str:
        """The numbers of staged rows that ``drop_repeats`` would drop, each with that of the row that stays."""
        order = "ASC" if first else "DESC"
        row = self.dialect.quote(ROW)
        window = f"PARTITION BY {self._key_names()} ORDER BY {row} {order}"
        # some databases want a frame to be named, where there can be one
        kept = f"first_value({row}) OVER ({window} ROWS UNBOUNDED PRECEDING) AS kept"
        numbered = f"SELECT {row} AS lost, {kept}, row_number() OVER ({window}) AS place FROM {self.staged}"
        return self.dialect.first_rows(f"SELECT lost, kept FROM ({numbered}) n WHERE place > 1 ORDER BY lost", limit)

    def differing(self, limit: int) -> str:
        """Rows of the target next to the staged ones of the same key that differ from them."""
        return self.dialect.first_rows(
            f"SELECT {self._names('t.')}, {self._names('s.')} FROM {self.staged} s JOIN {self.table} t "
            f"ON {self.matched} WHERE {self.differs}",
            limit,
        )

    def unknown(self, limit: int) -> str:
        """Staged rows whose key the target does not have."""
        rows = f"SELECT {self._names('s.')} FROM {self._new()} ORDER BY s.{self.dialect.quote(ROW)}"
        return self.dialect.first_rows(rows, limit)

    def _new(self) -> str:
        # joined by the shorter side first: a database need not have an index on the target's keys
        row = self.dialect.quote(ROW)
        known = f"SELECT s.{row} AS known FROM {self.staged} s JOIN {self.table} t ON {self.matched}"
        return f"{self.staged} s LEFT JOIN ({known}) m ON m.known = s.{row} WHERE m.known IS NULL"

    def gone(self, limit: int) -> str:
        """Rows of the target whose key no staged row has."""
        return self.dialect.first_rows(f"SELECT {self._names('t.')} FROM {self._unmatched()}", limit)

    def count_gone(self, flag: str = "") -> str:
        """How many rows of the target no staged row matches; of those without the ``flag``, where there is one."""
        unset = f" AND {self._is_unset(flag)}" if flag else ""
        return f"SELECT count(*) FROM {self.table} t WHERE {self._is_gone}{unset}"

    def delete_gone(self) -> str:
        return self.dialect.delete_where(self.table, self._is_gone)

    def flag_gone(self, flag: str) -> str:
        """Sets a column of booleans to true in the rows that no staged row matches."""
        return self.dialect.set_where(
            self.table, flag, self.dialect.truth[0], f"{self._is_gone} AND {self._is_unset(flag)}"
        )

    def delete_matched(self) -> str:
        """Deletes the rows of the target that staged rows match."""
        return self.dialect.delete_matched(self.table, self.staged, self.matched, self.keys)

    def flag_matched(self, flag: str, *, gone: bool) -> str:
        """Sets a column of booleans in the rows of the target that staged rows match, where it is not set so."""
        true, false = self.dialect.truth
        other = self._is_unset(flag) if gone else f"t.{self.dialect.quote(flag)} = {true}"
        # a select of one column, named as the table's own: what stands after SET names a column of the staged rows in every dialect
        staged = f"(SELECT {self._key_names('q.')}, {true if gone else false} AS {self.dialect.quote(flag)} FROM {self.staged} q)"
        return self.dialect.update_matched(self.table, staged, self.matched, [flag], other)

    def flag_all(self, flag: str) -> str:
        """Sets it to true in all rows."""
        return self.dialect.set_where(self.table, flag, self.dialect.truth[0], self._is_unset(flag))

    def unflag(self, flag: str) -> str:
        """Sets it to false in the rows that are there again."""
        true, false = self.dialect.truth
        back = f"NOT ({self._is_gone}) AND t.{self.dialect.quote(flag)} = {true}"
        return self.dialect.set_where(self.table, flag, false, back)

    def unflag_keys(self, flag: str, keys: Sequence[str], rows: Sequence[Sequence[str]]) -> str:
        """Sets it to false in the rows with these values, SQL already, in the columns ``keys``."""
        true, false = self.dialect.truth
        natives = {key: self.dialect.from_canonical(self.columns[key]).native for key in keys}
        found = f"t.{self.dialect.quote(flag)} = {true} AND {self.dialect.among(natives, rows)}"
        return self.dialect.set_where(self.table, flag, false, found)

    @property
    def _is_gone(self) -> str:
        return f"NOT EXISTS (SELECT 1 FROM {self.staged} s WHERE {self.matched})"

    def _is_unset(self, flag: str) -> str:
        column = f"t.{self.dialect.quote(flag)}"
        return f"({column} IS NULL OR {column} = {self.dialect.truth[1]})"

    def _unmatched(self) -> str:
        return f"{self.table} t LEFT JOIN {self.staged} s ON {self.matched} WHERE s.{self.dialect.quote(ROW)} IS NULL"

    def comparison(self) -> str:
        """How many staged rows have a new key, match a row of the target, and differ from it; how many there match none."""
        changed = f"coalesce(sum(CASE WHEN {self.differs} THEN 1 ELSE 0 END), 0)" if self.others else "0"
        return (
            f"SELECT (SELECT count(*) FROM {self._new()}), count(*), {changed}, (SELECT count(*) FROM {self._unmatched()}) "
            f"FROM {self.staged} s JOIN {self.table} t ON {self.matched}"
        )

    def pairs(self) -> str:
        """How many rows of the target match staged ones."""
        return f"SELECT count(*) FROM {self.staged} s JOIN {self.table} t ON {self.matched}"

    def ambiguous(self) -> str:
        """A staged key that more than one row of the target has."""
        row = self.dialect.quote(ROW)
        return self.dialect.first_rows(
            f"SELECT {self._key_names('s.')} FROM {self.staged} s JOIN {self.table} t ON {self.matched} "
            f"GROUP BY s.{row}, {self._key_names('s.')} HAVING count(*) > 1",
            1,
        )

    def within(self, first: int, last: int) -> str:
        """The condition that a staged row's number is from ``first`` to before ``last``."""
        row = self.dialect.quote(ROW)
        return f"s.{row} >= {first} AND s.{row} < {last}"

    def rows(self, rows: Sequence[int]) -> str:
        """The values of staged rows, each after its number."""
        row = self.dialect.quote(ROW)
        return f"SELECT {row}, {self._names()} FROM {self.staged} WHERE {row} IN ({', '.join(map(str, rows))})"

    def update(self, within: str = "") -> str | None:
        """Updates rows that differ; None where a row is nothing but its key."""
        if not self.others:
            return None
        where = f"({self.differs}) AND {within}" if within else self.differs
        return self.dialect.update_matched(self.table, self.staged, self.matched, self.others, where)

    def insert(self, known: str = "", within: str = "") -> str:
        """Inserts the rows whose key the target does not have; ``known``: the query that finds a row if it has."""
        return (
            f"INSERT INTO {self.table} ({self._names()}) SELECT {self._names('s.')} FROM {self.staged} s "
            f"WHERE NOT EXISTS ({known or f'SELECT 1 FROM {self.table} t WHERE {self.matched}'})"
            + (f" AND {within}" if within else "")
        )

    def insert_or_update(self) -> str:
        """All of an upsert by one statement, where a unique index keeps the keys apart."""
        quote = self.dialect.quote
        settings = ", ".join(f"{quote(other)} = excluded.{quote(other)}" for other in self.others)
        change = f"UPDATE SET {settings} WHERE {self._differs('excluded')}" if self.others else "NOTHING"
        return (
            f"INSERT INTO {self.table} AS t ({self._names()}) SELECT {self._names('s.')} FROM {self.staged} s "
            f"ON CONFLICT ({self._key_names()}) DO {change}"
        )

    def insert_all(self, within: str = "") -> str:
        statement = f"INSERT INTO {self.table} ({self._names()}) SELECT {self._names('s.')} FROM {self.staged} s"
        return f"{statement} WHERE {within}" if within else statement
