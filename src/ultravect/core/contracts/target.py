"""What rows can be written into: a database, or files."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from contextlib import AbstractContextManager
from dataclasses import dataclass
from typing import Protocol

from ultravect.core.contracts.catalogue import LiveTable, Objection, Remark
from ultravect.core.contracts.ledger import Ledger
from ultravect.core.contracts.probe import Step
from ultravect.core.contracts.receipt import ReceiptKey
from ultravect.core.contracts.source import Source
from ultravect.core.contracts.stage import Stages
from ultravect.core.contracts.write_plan import Attempt
from ultravect.core.contracts.write_session import Statements, WriteSession
from ultravect.core.dialects.base import Dialect, TableName

# what each mode does with a table: rows are counted before and after in all of them
NEEDS: Mapping[str, frozenset[str]] = {
    "append": frozenset(["SELECT", "INSERT"]),
    "overwrite": frozenset(["SELECT", "INSERT", "DELETE"]),
    "upsert": frozenset(["SELECT", "INSERT", "UPDATE"]),
}


class LoadsTogether(Protocol):
    """Loads that one transaction publishes: all of them, or none."""

    def write(self, attempt: Attempt) -> AbstractContextManager[WriteSession]:
        """Opens one of the loads; its own ``commit`` leaves the transaction open."""

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
        """Whether a load can go on when a row is refused: see ``Attempt.isolates``."""

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

    def ledger(self, table: TableName) -> Ledger:
        """Where loads into ``table`` leave receipts and marks, and are barred."""

    def remarks(self) -> Sequence[Remark]:
        """How the target is set up, where that makes loads slower or readers wait."""

    def swap_obstacle(self, live: LiveTable, needs: SwapNeeds) -> str:
        """Why another table may not take the place of this one when it is overwritten, or had better not; "" where it may."""

    def write(self, attempt: Attempt) -> AbstractContextManager[WriteSession]:
        """Opens the session of a load; what it changes is seen by no one before it is committed."""

    @property
    def together(self) -> Callable[[Sequence[Attempt]], AbstractContextManager[LoadsTogether]] | None:
        """Prepares loads into different tables that are published by one transaction; leaving the context without ``commit`` undoes
        them all. None where each load has a transaction of its own."""

    @property
    def windows(self) -> Callable[[Sequence[Attempt]], AbstractContextManager[LoadsTogether]] | None:
        """The same for the windows of a stream, one transaction after the other: loads that insert, merge and remove rows of tables that are
        there."""


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
