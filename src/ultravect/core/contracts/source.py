"""What rows of tables can be read from."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import AbstractContextManager
from dataclasses import dataclass
from typing import Protocol

import pyarrow as pa

from ultravect.core.contracts.catalogue import Answer, LiveColumn, LiveTable, Reference, TableInfo
from ultravect.core.contracts.change_log import ChangeLog
from ultravect.core.contracts.probe import Step
from ultravect.core.dialects.base import Dialect, TableName
from ultravect.core.types.canonical import CanonicalType


@dataclass(frozen=True)
class NewRows:
    """Rows that came with the versions of a table after one, up to ``version``: in a select, ``table`` names them.

    ``rows``: how many there are, as far as that is known. ``repeated``: whether there are rows among them that did not change.
    """

    table: TableName
    version: str
    rows: int | None
    repeated: bool


class Source(Protocol):
    """What holds tables and gives their rows. Methods open and close their own sessions."""

    dialect: Dialect

    exclusive_file: str
    """A file that a process must open for writing before it opens it for reading too, "" where there is no such order."""

    keeps_versions: bool
    """Whether a table can be read as it was: its name is followed by ``@`` and the version, or the moment."""

    @property
    def shares_snapshots(self) -> bool:
        """Whether several sessions can read one snapshot: see ``snapshot``."""

    def steps(self) -> Sequence[Step]:
        """What a copy would do to read here, a step each."""

    def tables(self, search: str, after: str, limit: int) -> Sequence[TableInfo]:
        """Tables and views whose name contains ``search``, sorted by name, those after ``after``."""

    def table(self, name: TableName) -> LiveTable | None:
        """A table as it is now, or None where there is none."""

    def new_rows(self, table: TableName, since: str) -> NewRows:
        """What came after the version ``since``, "" for all; where ``keeps_versions``. UltravectError ``version-missing``."""

    def references(self) -> Sequence[Reference]:
        """All foreign keys between two tables, with their schemas as ``tables`` gives them."""

    def ask(self, sql: str, limit: int, seconds: float) -> Answer:
        """Runs one statement that cannot write, and gives its first rows."""

    def columns_of(self, query: str) -> Sequence[LiveColumn]:
        """The columns that a statement gives; it is one that reads."""

    def read(
        self, statement: str, types: Sequence[CanonicalType], doing: str, snapshot: str = ""
    ) -> Iterator[pa.Table]:
        """The rows of a select, in one consistent snapshot, as ``types.stored.stored_values`` gives them.

        Its columns are of ``types``, each selected as the dialect's ``readable`` says. ``snapshot``: the name of the one to be read.
        """

    def ranges(self, table: LiveTable, count: int) -> Sequence[str]:
        """Conditions in the database's SQL that divide the rows of a table into at most ``count`` parts of about equal size.

        Each row meets just one of them. Empty where there is no quick way to divide them.
        """

    def snapshot(self) -> AbstractContextManager[str]:
        """The name of a snapshot of all rows, which other sessions can read while the context lasts; "" where there are none."""

    def change_log(self, job: str, owner: str, publication: str) -> ChangeLog | None:
        """What says what changes in its tables, for a job; None where there is nothing that could be followed.

        ``owner``: what distinguishes the job from one of the same name elsewhere; ``publication``: see ``Newer.publication``."""
