"""What rows can be written into: a database, or files."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from contextlib import AbstractContextManager
from dataclasses import dataclass
from typing import Any, Protocol

import pyarrow as pa

from ultravect.core.contracts.catalogue import LiveTable, Objection
from ultravect.core.contracts.changes import Comparison, RowChange
from ultravect.core.contracts.load import Counts, LoadOrder, ReceiptKey, RefusedRow
from ultravect.core.contracts.mark import MarkChange, MarkKey
from ultravect.core.contracts.probe import Step
from ultravect.core.contracts.receipt import Receipt
from ultravect.core.contracts.source import Source
from ultravect.core.contracts.stage import Stages
from ultravect.core.dialects.base import Dialect, TableName

# what each mode does with a table: rows are counted before and after in all of them
NEEDS: Mapping[str, frozenset[str]] = {
    "append": frozenset(["SELECT", "INSERT"]),
    "overwrite": frozenset(["SELECT", "INSERT", "DELETE"]),
    "upsert": frozenset(["SELECT", "INSERT", "UPDATE"]),
}


@dataclass(frozen=True)
class Verified:
    """What is in the target after publishing: all rows, None where they were not counted; and those that this load inserted or updated."""

    rows_after: int | None
    rows_of_load: int
    how: str = ""
    """When and how the rows of the load were counted, for a reader; it completes "… rows of this load were counted"."""

    sure: bool = True
    """Whether a difference is a fault: triggers of the table, for one, may write into it as well."""


class Statements(Protocol):
    """A transaction in which statements are run one by one."""

    def rows(self, statement: str) -> Sequence[Sequence[Any]]:
        """Runs a statement that gives rows."""

    def changed(self, statement: str) -> int:
        """Runs a statement that changes rows: how many."""


class Load(Protocol):
    """One load into one table, in one transaction; leaving its context without ``publish`` undoes everything."""

    @property
    def rows_before(self) -> int | None:
        """The rows that were there; None where they were not counted, or are none that could be."""

    @property
    def written(self) -> Sequence[str]:
        """The files that were published; a table has none."""

    def write(self, batch: pa.RecordBatch) -> None:
        """Stages rows whose columns are those of the order."""

    @property
    def changes(self) -> Sequence[RowChange]:
        """Some of the rows that the load changes, once it is finished, as many of a kind as the order says."""

    @property
    def comparison(self) -> Comparison | None:
        """How the keys of an overwritten table compare with those that it had, where keys are given."""

    @property
    def strategy(self) -> str:
        """The strategy that was used in the end, where it was another than the plan's; "" where it was that."""

    @property
    def previous(self) -> str:
        """The name of the table in which an overwrite kept what it replaced, "" where there is none."""

    @property
    def refused(self) -> Iterable[RefusedRow]:
        """Rows that the database did not take, in their order, when the order isolates them; read between ``finish`` and
        ``publish``."""

    def finish(self, tolerated: int = 0, *, complete: bool = True) -> Counts:
        """Ends staging and does what the order's mode says; what the database says it did with the rows.

        ``tolerated``: how many rows may be refused, when the order isolates them. ``complete``: whether every row of the source was
        staged, so that rows of the target that none matches are gone.
        """

    def publish(self, receipt: Receipt | None = None, marks: Sequence[MarkChange] = ()) -> None:
        """Makes the rows visible: all of them, or none; with ``receipt``, if the order names one, and with ``marks``.

        UltravectError ``mark-moved``, with nothing written, where an entry of a mark is another than it was.
        """

    def verify(self) -> Verified:
        """Compares what was published with what was to be; its cost is that of the load's rows, unless the order says ``counts_all``."""


class LoadsTogether(Protocol):
    """Loads that one transaction publishes: all of them, or none."""

    def load(self, order: LoadOrder) -> AbstractContextManager[Load]:
        """Opens one of the loads; its ``publish`` leaves the commit to ``commit``."""

    def commit(self) -> None:
        """Makes the rows of all loads visible. UltravectError ``outcome-unknown`` where no answer says whether it took place."""


@dataclass(frozen=True)
class SwapNeeds:
    """What a job wants to be done with the table that an overwrite replaces: statements ``before`` and ``after`` in the load's
    transaction; ``keeps``: its old rows stay in a table of their own. ``keyed``: rows stand in a staging table first, where a key
    that comes twice is found; ``changes``: the table gets other columns or types."""

    before: bool = False
    after: bool = False
    keeps: bool = False
    keyed: bool = False
    changes: bool = False


@dataclass(frozen=True)
class Remark:
    """What a user had better know of loads into a target: a code, a sentence, and what helps."""

    code: str
    message: str
    fix: str


class Target(Protocol):
    """What rows can be written into: a database, or files. Methods open and close their own sessions."""

    dialect: Dialect

    @property
    def database(self) -> Database | None:
        """The database that the target is, which can be asked and runs statements; None for files."""

    needs: Mapping[str, frozenset[str]]
    """The privileges that a load needs, by its mode."""

    @property
    def can_isolate(self) -> bool:
        """Whether a load can go on when a row is refused: see ``LoadOrder.isolate``."""

    locks_tables: bool
    """Whether a load can keep other writers away from its table, and no reader."""

    partitions: bool
    """Whether columns can divide the files of a new table: see ``NewTable.partition_by``."""

    arranges: frozenset[str]
    """How a new table can be arranged: ``sort_by``, ``distribute_by``, ``encode``; see ``NewTable``."""

    enforces_keys: bool
    """Whether a key of a table keeps rows apart; where it is only declared, loads alone do."""

    truncates: bool
    """Whether taking all rows away at once is another thing than deleting them."""

    @property
    def stages(self) -> Stages | None:
        """What lets several sessions fill one load; None where a load is one session's."""

    exclusive_file: str
    """A file that a process must open for writing before it opens it for reading too, "" where there is no such order."""

    def table(self, name: TableName) -> LiveTable | None:
        """A table as it is now, or None where there is none."""

    def may_create(self, name: TableName) -> str:
        """ "" when the user may create this table, otherwise the reason why not."""

    def count(self, name: TableName) -> int | None:
        """The rows of a table, all of which are looked at; None where they cannot be counted."""

    def receipt(self, table: TableName, key: ReceiptKey) -> Receipt | None:
        """The receipt of a load into ``table``, if it was committed."""

    def mark(self, table: TableName, key: MarkKey) -> Mapping[str, str]:
        """The entries of a mark that loads into ``table`` have written, by their items."""

    def set_mark(self, table: TableName, key: MarkKey, value: str | None) -> None:
        """Has a mark of a column be ``value``, the text of a ``ColumnMark``; or forgets the mark, of a column or of files.

        UltravectError where the table is not there yet: a mark says what was copied into it.
        """

    def committed(self, table: TableName, keys: Sequence[ReceiptKey]) -> Receipt | None:
        """The receipt of the attempt of a run that was committed; where none was, none of them can commit any more.

        UltravectError where an attempt is committing at this moment, or the target cannot be reached.
        """

    def remarks(self) -> Sequence[Remark]:
        """How the target is set up, where that makes loads slower or readers wait."""

    def swap_obstacle(self, live: LiveTable, needs: SwapNeeds) -> str:
        """Why another table may not take the place of this one when it is overwritten, or had better not; "" where it may."""

    def load(self, order: LoadOrder) -> AbstractContextManager[Load]:
        """Opens a load; what it changes is seen by no one before it is published."""

    @property
    def together(self) -> Callable[[Sequence[LoadOrder]], AbstractContextManager[LoadsTogether]] | None:
        """Prepares loads into different tables that are published by one transaction; leaving the context without ``commit`` undoes
        them all. None where each load has a transaction of its own."""


class Versions(Protocol):
    """Tables that keep their versions: a load is undone by the version before it."""

    def obstacle(self, table: TableName, load: ReceiptKey) -> str:
        """Why the version before a load cannot be restored; "" where it can."""

    def restore(self, table: TableName, load: ReceiptKey, own: ReceiptKey, mode: str) -> int:
        """Makes the version before a load the newest one, with a receipt ``own`` of this ``mode``; the rows that there were before."""


class Database(Source, Target, Protocol):
    """One connection's database: rows are read from it and written into it, and it can be asked."""

    def write_steps(self) -> Sequence[Step]:
        """What a copy would do to write here: create something in the staging place, and drop it."""

    def objection(self, statement: str) -> Objection | None:
        """What the database has against a statement that writes; it is parsed and not executed."""

    def transaction(self, table: TableName, doing: str) -> AbstractContextManager[Statements]:
        """A transaction, which keeps other writers of ``table`` away where that can be; leaving the context commits, an
        error undoes it."""

    def drop(self, table: TableName) -> None:
        """Drops a table of ours, if it is there."""

    @property
    def versions(self) -> Versions | None:
        """What makes an earlier version of a table its newest; None where tables have no versions."""
