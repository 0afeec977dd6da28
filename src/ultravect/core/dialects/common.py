"""What dialects share: names in quotes, and the plain form of CREATE TABLE."""

from __future__ import annotations

import datetime as dt
import re
from abc import ABC, abstractmethod
from collections.abc import Mapping, Sequence

from ultravect.core.dialects.base import Change, NewColumn, NewTable, TableName, Translation
from ultravect.core.dialects.naming import parse_name
from ultravect.core.dialects.statements import TAKEN, Lexical, Statement
from ultravect.core.types.canonical import CanonicalType

_NUMBERS = frozenset(["smallint", "integer", "bigint", "decimal", "real", "double"])
DEFINITIONS = frozenset(
    ["CREATE", "ALTER", "DROP", "TRUNCATE", "RENAME", "GRANT", "REVOKE", "COMMENT", "ANALYZE", "OPTIMIZE", "LOCK"]
)
"""First words of statements that databases without transactions over definitions commit by themselves."""
"""Statements of the kind that some databases commit by themselves."""
_NUMBER = re.compile(r"[+-]?(\d+(\.\d*)?|\.\d+)([eE][+-]?\d+)?")


class CommonDialect(ABC):
    """See ``Dialect``. ``quote_mark`` stands around identifiers; doubled, it stands for itself in them."""

    quote_mark = '"'
    text_type = "text"
    max_identifier_bytes = 128
    max_columns = 1000
    random_value = "random()"
    length = "length"
    natives: Sequence[str] = ()
    refuses: frozenset[str] = frozenset()
    folds_case = True
    keeps_comments = True
    compares_moments = True
    computes_decimals = True
    orders_texts = True
    slices_texts = True
    equal_by_bytes = True
    restates_columns = False
    truth = ("TRUE", "FALSE")
    rows_of = "VALUES "  # before a list of rows that columns are compared with
    adds = "ADD COLUMN"
    reserved: frozenset[str] = frozenset()

    def as_text(self, expression: str) -> str:
        return f"CAST({expression} AS {self.text_type})"

    def readable(self, name: str, native: str, kind: CanonicalType | None) -> str:
        return name if kind else self.as_text(name)

    def as_value(self, name: str, native: str) -> str:
        return name

    def rounds(self, native: str) -> bool:
        return False

    def newest(self, name: str, native: str) -> str:
        return f"max({self.as_value(name, native)})"

    def by_bytes(self, name: str) -> str:
        return name

    def standard(self, condition: str) -> str:
        return condition

    def like(self, text: str, pattern: str) -> str:
        return f"{self.by_bytes(text)} LIKE {self.literal(pattern)} ESCAPE ''"

    def moment(self, value: dt.datetime) -> str:
        written = value.strftime("%Y-%m-%d %H:%M:%S.%f").rjust(26, "0")
        return f"TIMESTAMP WITH TIME ZONE '{written}+00:00'" if value.tzinfo else f"TIMESTAMP '{written}'"

    def as_bigint(self, expression: str) -> str:
        return f"CAST({expression} AS BIGINT)"

    def first_rows(self, select: str, rows: int, *, skip: int = 0) -> str:
        return f"{select} LIMIT {rows}" + (f" OFFSET {skip}" if skip else "")

    def copied_table(self, table: str, select: str, *, temporary: bool = False) -> str:
        return f"CREATE {'TEMPORARY ' if temporary else ''}TABLE {table} AS {select}"

    def literal(self, text: str) -> str:
        return "'" + text.replace("'", "''") + "'"

    def quote(self, identifier: str) -> str:
        mark = self.quote_mark
        return mark + identifier.replace(mark, mark * 2) + mark

    def table(self, table: TableName) -> str:
        return ".".join(self.quote(part) for part in (table.schema, table.name) if part)

    def parse_table(self, text: str) -> TableName:
        return parse_name(text, self.quote_mark, self.too_long)

    def too_long(self, part: str) -> str:
        """What is wrong with the length of a name, or ""."""
        return ""

    def spelled(self, name: str) -> str:
        return name

    @abstractmethod
    def from_canonical(self, wanted: CanonicalType) -> Translation: ...

    def create_table(self, table: TableName, new: NewTable) -> Sequence[str]:
        lines = [
            f"    {self._column(column, key=column.name in new.keys)}{self.encoded(column.name, new)}"
            for column in new.columns
        ]
        if new.keys:
            lines.append(f"    PRIMARY KEY ({', '.join(map(self.quote, new.keys))})")
        created = f"CREATE TABLE {self.table(table)} (\n" + ",\n".join(lines) + "\n)"
        return [created + self.table_comment(new), *self.comments(table, new)]

    def _column(self, column: NewColumn, *, key: bool = False) -> str:
        parts = [self.quote(column.name), self.from_canonical(column.type).native]
        if column.default is not None:
            parts.append(f"DEFAULT {self.constant(column.default, column.type)}")
        if key or not column.nullable:
            parts.append("NOT NULL")
        return " ".join(parts) + self.column_comment(column)

    def constant(self, text: str, kind: CanonicalType) -> str:
        """A default, from its text: numbers and truth values stand bare."""
        if kind.name == "boolean":
            return self.truth[text.lower() not in ("true", "t", "1")]
        return text if kind.name in _NUMBERS and _NUMBER.fullmatch(text) else self.literal(text)

    def typed(self, value: str, native: str) -> str:
        """A constant, so that it is of a column's type by itself where that is needed."""
        return value

    def among(self, columns: Mapping[str, str], rows: Sequence[Sequence[str]]) -> str:
        if len(columns) == 1:
            return f"{self.quote(*columns)} IN ({', '.join(value for (value,) in rows)})"
        # the first row says of what types all are
        typed = [self.typed(value, native) for value, native in zip(rows[0], columns.values(), strict=True)]
        written = ", ".join(f"({', '.join(row)})" for row in [typed, *rows[1:]])
        return f"({', '.join(map(self.quote, columns))}) IN ({self.rows_of}{written})"

    def encoded(self, column: str, new: NewTable) -> str:
        """How a column is compressed, after its definition."""
        return ""

    def column_comment(self, column: NewColumn) -> str:
        """A comment as part of a column's definition."""
        return ""

    def table_comment(self, new: NewTable) -> str:
        """A comment as part of the statement that creates a table."""
        return ""

    def comments(self, table: TableName, new: NewTable) -> Sequence[str]:
        """Statements that comment, where they are not part of the definition."""
        return []

    def comment_on(self, table: TableName, new: NewTable) -> Sequence[str]:
        """``COMMENT ON`` for a table and its columns."""
        name = self.table(table)
        shown = [f"COMMENT ON TABLE {name} IS {self.literal(new.comment)}"] if new.comment else []
        return shown + [
            f"COMMENT ON COLUMN {name}.{self.quote(column.name)} IS {self.literal(column.comment)}"
            for column in new.columns
            if column.comment
        ]

    def catalogued(self, native: str) -> str:
        return native

    def key_obstacle(self, kind: CanonicalType) -> str:
        return ""

    def alter_table(self, table: TableName, changes: Sequence[Change]) -> Sequence[str]:
        return [
            f"ALTER TABLE {self.table(table)} "
            + (f"{self.adds} {self._column(change.column)}" if change.added else self.enlarge(change.column))
            for change in changes
        ]

    def enlarge(self, column: NewColumn) -> str:
        """What stands after ALTER TABLE to give a column a larger type."""
        return f"ALTER COLUMN {self.quote(column.name)} TYPE {self.from_canonical(column.type).native}"

    def enlarges(self, kind: CanonicalType) -> bool:
        return True

    def compared(self, value: str, kind: CanonicalType) -> str:
        return value

    lexical = Lexical()
    takes: frozenset[str] = TAKEN
    refused_words: frozenset[str] = frozenset()

    def commits_itself(self, statement: Statement) -> bool:
        return False

    def differs(self, left: str, right: str) -> str:
        return f"{left} IS DISTINCT FROM {right}"

    def delete_where(self, table: str, condition: str) -> str:
        return f"DELETE FROM {table} AS t WHERE {condition}"

    def delete_matched(self, table: str, staged: str, matched: str, keys: Sequence[str]) -> str:
        return f"DELETE FROM {table} AS t USING {staged} AS s WHERE {matched}"

    def set_where(self, table: str, column: str, value: str, condition: str) -> str:
        return f"UPDATE {table} AS t SET {self.quote(column)} = {value} WHERE {condition}"

    def update_matched(self, table: str, staged: str, matched: str, columns: Sequence[str], where: str) -> str:
        settings = ", ".join(f"{self.quote(column)} = s.{self.quote(column)}" for column in columns)
        return f"UPDATE {table} AS t SET {settings} FROM {staged} AS s WHERE {matched} AND ({where})"
