"""What a SQL dialect can do: quote, name, translate types both ways, and write DDL."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Protocol

from ultravect.core.dialects.statements import Lexical, Statement
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
    """A column of a table to be created, or to be added; ``default`` is a constant, as its text."""

    name: str
    type: CanonicalType
    nullable: bool = True
    default: str | None = None
    comment: str = ""


@dataclass(frozen=True)
class NewTable:
    """A table to be created; ``keys`` are the columns of its primary key, ``partition_by`` those whose values divide its files.

    ``sort_by``: columns that its rows are kept in the order of. ``distribute_by``: the column whose values divide them among machines, or
    ``all``, or ``even``; "" where the database decides. ``encode``: how columns are compressed, in the database's own words.
    """

    columns: Sequence[NewColumn]
    keys: Sequence[str] = ()
    comment: str = ""
    partition_by: Sequence[str] = ()
    sort_by: Sequence[str] = ()
    distribute_by: str = ""
    encode: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True)
class Change:
    """What a table lacks: a column that is ``added``, or a larger type for one that it has."""

    column: NewColumn
    added: bool


class Dialect(Protocol):
    """One module a dialect; pure functions, no connection."""

    name: str
    max_identifier_bytes: int
    max_columns: int
    random_value: str
    length: str
    natives: Sequence[str]
    """Its types, one of each kind, as its catalogue writes them."""

    folds_case: bool
    """Whether two names of columns that differ only in case are the same."""

    keeps_comments: bool
    compares_moments: bool
    """Whether its timestamps compare as moments do, with or without a zone."""

    computes_decimals: bool
    """Whether sums and products of its decimals are exact."""

    equal_by_bytes: bool
    """Whether two texts are equal to it where their bytes are, and only there, unless a collation was named."""

    orders_texts: bool
    """Whether ``by_bytes`` gives a text that is compared with literals, and orders as the bytes of UTF-8 do."""

    slices_texts: bool
    """Whether its length and substring count characters, whatever they are."""

    restates_columns: bool
    """Whether a column's default has to be named again when its type changes."""

    reserved: frozenset[str]
    """Names that no column can have, in lower case."""

    refuses: frozenset[str]
    """What its values cannot be, whatever their type: ``nul`` in texts, ``not finite`` floats, ``far years``
    (before 1 or after 9999), ``early years`` (before 1900), ``long numbers`` (decimals of more than 15 digits, but in a
    column of text), ``long integers`` (the same of bigint), ``control characters``, ``long texts`` (more than 32,767), ``many bytes``
    (texts of more bytes than the length of their column says)."""

    def as_text(self, expression: str) -> str:
        """The expression as text; ``length`` is the function that counts its characters."""

    def readable(self, name: str, native: str, kind: CanonicalType | None) -> str:
        """The expression that selects a column (``name`` is quoted) in a form that readers take.

        ``kind`` None: as text.
        """

    def as_value(self, name: str, native: str) -> str:
        """A column (``name`` is quoted) as a value that is compared with literals of its canonical type: as exact as it is read."""

    def rounds(self, native: str) -> bool:
        """Whether moments of this type are kept more exactly than they are read, so that two that differ are read as one."""

    def newest(self, name: str, native: str) -> str:
        """The highest value of a column (``name`` is quoted) below which no row appears any more, as far as the database knows."""

    def by_bytes(self, name: str) -> str:
        """A column of text (``name`` is quoted), compared by its bytes and not by its collation."""

    def like(self, text: str, pattern: str) -> str:
        """The condition that a text is like a pattern of ``%`` and ``_`` to the letter, without an escape character."""

    def moment(self, value: dt.datetime) -> str:
        """A timestamp as a literal; one with a zone is in UTC."""

    def as_bigint(self, expression: str) -> str:
        """A whole number with 64 bits to compute with."""

    def standard(self, condition: str) -> str:
        """A condition of its catalogue in ISO SQL, as far as its text alone allows."""

    truth: tuple[str, str]
    """Its truth values, true first."""

    def literal(self, text: str) -> str:
        """A text as a literal."""

    def first_rows(self, select: str, rows: int, *, skip: int = 0) -> str:
        """The select, of which only the first rows are given, after some that are skipped: then it has an ORDER BY."""

    def copied_table(self, table: str, select: str, *, temporary: bool = False) -> str:
        """The statement that makes a table, whose name is quoted, of what a select gives."""

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

    def too_long(self, part: str) -> str:
        """What is wrong with the length of a name, or ""."""

    def spelled(self, name: str) -> str:
        """The name with only characters that a column's name can have."""

    def catalogued(self, native: str) -> str:
        """A type of a new column, as the catalogue writes it once the column is there."""

    def create_table(self, table: TableName, new: NewTable) -> Sequence[str]:
        """The statements that create a table, with its key, defaults and comments."""

    def key_obstacle(self, kind: CanonicalType) -> str:
        """Why columns of a type cannot be the key of a new table, or ""."""

    def alter_table(self, table: TableName, changes: Sequence[Change]) -> Sequence[str]:
        """The statements that add columns and enlarge types."""

    def enlarges(self, kind: CanonicalType) -> bool:
        """Whether a column that is there can be given this larger type."""

    def constant(self, text: str, kind: CanonicalType) -> str:
        """A value as SQL, from its text."""

    def among(self, columns: Mapping[str, str], rows: Sequence[Sequence[str]]) -> str:
        """The condition that columns, by their native types, have the values of one of the rows, which are SQL already."""

    def compared(self, value: str, kind: CanonicalType) -> str:
        """A value, so that two that are not the same to the last byte differ, whatever a collation says."""

    lexical: Lexical
    """How its statements are read as tokens."""

    takes: frozenset[str]
    """First words of the statements that a job may run: those of tables, views and indexes, and what is in them. All others could reach
    files, programs, other servers, accounts, or code that runs later."""

    refused_words: frozenset[str]
    """Words that stand in none of them."""

    def commits_itself(self, statement: Statement) -> bool:
        """Whether a statement commits by itself, even inside a transaction."""

    def differs(self, left: str, right: str) -> str:
        """The condition that two values are not the same; two NULLs are."""

    def delete_where(self, table: str, condition: str) -> str:
        """The statement that deletes the rows ``t`` of a quoted ``table`` for which a condition is true."""

    def delete_matched(self, table: str, staged: str, matched: str, keys: Sequence[str]) -> str:
        """The statement that deletes the rows ``t`` of ``table`` that rows ``s`` of ``staged`` match, by columns ``keys``, unquoted.

        Names of tables are quoted.
        """

    def set_where(self, table: str, column: str, value: str, condition: str) -> str:
        """The statement that sets a column, unquoted, to a value in such rows."""

    def update_matched(self, table: str, staged: str, matched: str, columns: Sequence[str], where: str) -> str:
        """The statement that gives rows ``t`` of ``table`` the columns of the rows ``s`` of ``staged`` they match.

        Names of tables are quoted, those of columns not.
        """
