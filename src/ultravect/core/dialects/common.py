"""What dialects share: names in quotes, and the plain form of CREATE TABLE."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Sequence

from ultravect.core.dialects.base import NewColumn, TableName, Translation
from ultravect.core.dialects.naming import parse_name
from ultravect.core.types.canonical import CanonicalType


class CommonDialect(ABC):
    """See ``Dialect``. ``quote_mark`` stands around identifiers; doubled, it stands for itself in them."""

    quote_mark = '"'
    text_type = "text"
    natives: Sequence[str] = ()
    refuses: frozenset[str] = frozenset()

    def as_text(self, expression: str) -> str:
        return f"CAST({expression} AS {self.text_type})"

    def readable(self, name: str, native: str, kind: CanonicalType | None) -> str:
        return name if kind else self.as_text(name)

    def by_bytes(self, name: str) -> str:
        return name

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

    @abstractmethod
    def from_canonical(self, wanted: CanonicalType) -> Translation: ...

    def create_table(self, table: TableName, columns: Sequence[NewColumn]) -> str:
        lines = [f"    {self.quote(column.name)} {self.from_canonical(column.type).native}" for column in columns]
        return f"CREATE TABLE {self.table(table)} (\n" + ",\n".join(lines) + "\n)"
