"""What a SQL dialect can do: quote, name, translate types both ways, and write DDL."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Protocol

from ultravect.core.types.canonical import CanonicalType, Fit


@dataclass(frozen=True)
class TableName:
    """A table and the schema it is in; ``schema`` None: wherever the connection looks first."""

    schema: str | None
    name: str

    def __str__(self) -> str:
        return f"{self.schema}.{self.name}" if self.schema else self.name


@dataclass(frozen=True)
class Translation:
    """A canonical type in a dialect; ``change`` says what becomes of the values when the fit is not exact."""

    native: str
    fit: Fit
    change: str = ""


@dataclass(frozen=True)
class NewColumn:
    """A column of a table to be created."""

    name: str
    type: CanonicalType


class Dialect(Protocol):
    """One module a dialect; pure functions, no connection."""

    name: str
    max_identifier_bytes: int
    random_value: str
    length: str
    natives: Sequence[str]
    """Its types, one of each kind, as its catalogue writes them."""

    refuses: frozenset[str]
    """What its values cannot be, whatever their type: ``nul`` in texts, ``not finite`` floats, ``far years``
    (before 1 or after 9999), ``long numbers`` (more than 15 digits, but in a column of text)."""

    def as_text(self, expression: str) -> str:
        """The expression as text; ``length`` is the function that counts its characters."""

    def readable(self, name: str, native: str, kind: CanonicalType | None) -> str:
        """The expression that selects a column (``name`` is quoted) in a form that readers take.

        ``kind`` None: as text.
        """

    def by_bytes(self, name: str) -> str:
        """A column of text (``name`` is quoted), compared by its bytes and not by its collation."""

    def literal(self, text: str) -> str:
        """A text as a literal."""

    def quote(self, identifier: str) -> str:
        """The identifier as SQL, whatever characters it has."""

    def table(self, table: TableName) -> str:
        """The quoted name of a table."""

    def parse_table(self, text: str) -> TableName:
        """The table meant by ``schema.table``, parts "quoted" where needed; ValueError says what is wrong."""

    def from_canonical(self, wanted: CanonicalType) -> Translation:
        """The native type for new columns."""

    def to_canonical(self, native: str) -> CanonicalType | None:
        """The canonical type of a native one as the catalogue writes it; None where there is none."""

    def create_table(self, table: TableName, columns: Sequence[NewColumn]) -> str:
        """The statement that creates a table."""
