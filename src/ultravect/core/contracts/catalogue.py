"""What a database says about its tables, and answers to questions."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Any

from ultravect.core.dialects.base import TableName
from ultravect.core.types.canonical import CanonicalType

PRIVILEGES = frozenset(["SELECT", "INSERT", "UPDATE", "DELETE"])


@dataclass(frozen=True)
class LiveColumn:
    """A column of a live table; ``native`` as the catalogue writes it, ``base`` the plain name of its type.

    ``default`` is the default's text where it is a constant; ``has_default`` is true for any.
    """

    name: str
    native: str
    base: str
    type: CanonicalType | None
    nullable: bool
    has_default: bool
    generated: bool = False
    key: bool = False
    comment: str = ""
    default: str | None = None


@dataclass(frozen=True)
class LiveCheck:
    """A condition that every row of a table meets, or leaves open by a NULL; ``condition`` is in the database's SQL."""

    name: str
    condition: str


@dataclass(frozen=True)
class LiveTable:
    """A table, or another thing that holds rows, as the catalogue has it now.

    ``kind``: table, view, history table (older rows of another table, which the database alone writes) and others, as databases have them.

    ``rows`` is the database's own estimate; ``granted`` what the connection's user may do with it; ``unique``
    the sets of columns that a unique index or key keeps apart; ``dependents`` are the views and foreign keys without
    which the table cannot be dropped; ``checks`` those that rows have to meet as they are sent: there are none where a
    trigger could change rows before. ``indexed``: the columns with which an index begins, so that rows are found quickly by them.
    """

    name: TableName
    kind: str
    columns: Sequence[LiveColumn]
    granted: frozenset[str] = PRIVILEGES
    rows: int | None = None
    comment: str = ""
    unique: Sequence[frozenset[str]] = ()
    dependents: Sequence[str] = ()
    checks: Sequence[LiveCheck] = ()
    indexed: frozenset[str] = frozenset()

    def keeps_apart(self, keys: Iterable[str]) -> bool:
        """Whether a unique index or key allows each combination of ``keys`` once only."""
        return any(known <= set(keys) for known in self.unique)

    def column(self, name: str) -> LiveColumn | None:
        return next((column for column in self.columns if column.name == name), None)


@dataclass(frozen=True)
class TableInfo:
    """A line of a catalogue: the name as it is shown, and as the database has it; ``rows`` and ``size`` in bytes are its own estimates."""

    name: str
    kind: str
    rows: int | None
    comment: str
    table: TableName
    size: int | None = None


@dataclass(frozen=True)
class Reference:
    """A foreign key: rows of ``table`` need rows of ``referred``."""

    table: TableName
    referred: TableName


@dataclass(frozen=True)
class Answer:
    """What a question to a database gave: at most the asked number of rows; ``more`` says that there are others.

    ``natives`` are the types of its columns, "" where the database does not say.
    """

    columns: list[str]
    rows: list[list[Any]]
    more: bool
    natives: list[str]


@dataclass(frozen=True)
class Objection:
    """Why a database would not take a statement: because it cannot read it (``is_syntax``), or as things are now."""

    message: str
    is_syntax: bool


@dataclass(frozen=True)
class Remark:
    """What a user had better know of a database that is copied from or into: a code, a sentence, and what helps."""

    code: str
    message: str
    fix: str
