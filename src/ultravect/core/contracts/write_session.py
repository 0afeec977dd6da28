"""What a kind supplies for a load: the steps of it, in one transaction of the target. In which order they are done says the driver alone."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import AbstractContextManager
from dataclasses import dataclass, field
from typing import Any, Protocol

import pyarrow as pa

from ultravect.core.contracts.changes import RowChange
from ultravect.core.contracts.ledger import Entry
from ultravect.core.dialects.base import Dialect
from ultravect.core.dialects.merge import MergeStatements

STAGED = "ultravect_staged"
"""What a staging table is called, where it is a session's own."""

PREVIOUS = "ultravect_previous_"
"""How names of tables begin in which a load keeps what it replaces."""

DELETE_AND_INSERT, SWAP = "delete and insert", "swap"
"""Strategies, of which a session uses one instead of the other where the target has changed since the load was planned."""

CHANGED = "target-changed"
"""The code of an error that a session raises where another writer was quicker: with the same rows it may succeed when tried again."""


@dataclass(frozen=True)
class Counts:
    """What the database says it did with the rows it was given; ``removed`` were there before, None: all that were there; ``refused`` it
    did not take; ``gone`` are the rows of the target that no row matched, and that were removed or flagged."""

    inserted: int
    updated: int = 0
    unchanged: int = 0
    repeated: int = 0
    removed: int | None = 0
    refused: int = 0
    gone: int = 0


@dataclass(frozen=True)
class RefusedRow:
    """``row`` is the row's number in the load, from 0; ``record`` its values as JSON."""

    row: int
    reason: str
    record: str


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


class RowsRefused(Exception):
    """The database refuses some row among those given; the text is its reason."""


@dataclass
class Isolated:
    """What became of staged rows; ``refused`` are numbers with reasons, in the order of the numbers."""

    updated: int = 0
    inserted: int = 0
    refused: list[tuple[int, str]] = field(default_factory=list)


@dataclass(frozen=True)
class Matches:
    """Which staged rows have a key that the table has, as ``WriteSession.find_matches`` found it.

    ``query`` finds a staged row ``s`` if it matches, "" to compare keys again; ``pairs`` is how many rows of the table match, None when
    they were not counted: then they are afterwards, with the inserted rows.
    """

    query: str = ""
    pairs: int | None = None


class WriteSession(Protocol):
    """One load's transaction in the target, from ``begin`` to ``commit``; leaving its context without ``commit`` undoes everything.

    It is used by one thread at a time.
    """

    @property
    def staged(self) -> StagedRowsSession | None:
        """The session itself where rows stand next to the table until all of them are there, and are brought into it by statements; known from
        ``begin`` on. None where rows go straight to where they stay."""

    prepares_late: bool
    """Whether definitions commit by themselves here, so that what comes before rows is done when they are staged."""

    counts_late: bool
    """Whether others may write to the table until ``hold``."""

    strategy: str
    """The strategy that was used in the end, where it was another than the plan's; "" where it was that."""

    @property
    def written(self) -> Sequence[str]:
        """The files that were published; a table has none."""

    def begin(self) -> None:
        """Begins the transaction, after whatever has to come before it. Waits for others as long as the plan says, and notifies of it."""

    def run(self, statements: Sequence[str]) -> None:
        """Runs statements of the job's own, which come before rows: they change nothing but this database."""

    def lock(self) -> None:
        """Takes the locks that the load needs while rows come."""

    def hold(self) -> None:
        """From now on no other session writes to the table, where it could until now; no reader waits for that."""

    def rows(self, *, exact: bool) -> int | None:
        """The rows of the table that is there; None where they are too many to be counted for each load, and ``exact`` does not ask for it."""

    def require_empty(self, rows: int | None) -> None:
        """UltravectError ``target-not-empty`` where something is there already; ``rows``: how many, as far as they were counted."""

    def keep_previous(self) -> str:
        """Keeps the rows that are about to be replaced; the name of the table that has them."""

    def define(self) -> None:
        """Makes the table, or the one that takes its place."""

    def remove_old(self) -> int | None:
        """Takes the rows away that are replaced, or has their table be replaced; how many, None: all that were there."""

    def stage(self) -> None:
        """Makes what rows are written into, where that is not the table itself."""

    def write(self, batch: pa.RecordBatch) -> None:
        """Takes rows, which have the columns of ``Attempt.sent``."""

    def end_rows(self) -> int:
        """Ends the stream of rows; how many the database says it took."""

    def settle(self) -> None:
        """Does what is due between the last row and its way into the table: changes of the table, indexes of staged rows."""

    def seal(self, rows_before: int | None, counts: Counts) -> None:
        """Called when all rows are in the table: counts them there, where that has to be done before the commit."""

    def swap(self) -> None:
        """Puts a table in the place of the one that is there, where that is part of the transaction."""

    def run_after(self, statements: Sequence[str]) -> None:
        """Runs statements of the job's own, which come after rows."""

    def commit(self, entry: Entry) -> None:
        """Publishes by the ledger. UltravectError ``attempt-replaced`` or ``mark-moved``, with nothing written, where another attempt or
        run was first; ``outcome-unknown`` where no answer says whether it took place."""

    def verify(self, counts: Counts) -> Verified:
        """Counts in the target what was to be; its cost is that of the load's rows, unless the plan says ``counts_all``."""


class StagedRowsSession(WriteSession, Protocol):
    """A session whose rows are staged: the driver brings them into the table by ``statements``, and by these steps, of which a kind replaces
    those that its database does more quickly."""

    dialect: Dialect
    statements: Statements
    table: str
    """The table as it is called, quoted."""

    final: str
    """What rows are brought into, quoted: the table, or one that takes its place."""

    staged_table: str
    """Where staged rows are, quoted."""

    incomparable: frozenset[str]
    """Columns of the table whose type knows no equality: they are compared as text."""

    def find_matches(self, merge: MergeStatements) -> Matches:
        """Finds the rows that match staged ones, before any of them changes."""

    def upsert(self, merge: MergeStatements, left: int, repeated: int, samples: list[RowChange]) -> Counts | None:
        """Brings ``left`` staged rows into the table in a quicker way than by ``update`` and ``insert``; None where there is none.

        What it is about to change is added to ``samples``, as many as the plan says.
        """

    def update(self, merge: MergeStatements) -> str | None:
        """The statement that updates rows that differ; None where a row is nothing but its key."""

    def sample_updates(self, merge: MergeStatements) -> Sequence[RowChange]:
        """Some of the rows that an upsert is about to change, as many as the plan says."""

    def isolate(self, merge: MergeStatements, rows: int, tolerated: int, known: str) -> Isolated | None:
        """Brings staged rows into the table but for those that are refused, at most ``tolerated`` and one; None: chunk by chunk, by
        ``chunk``. ``rows`` are all staged ones; ``known``: see ``Matches.query``."""

    def chunk(self) -> AbstractContextManager[None]:
        """What runs within is undone alone where the database refuses a row: RowsRefused then."""

    def apart(self, statement: str) -> int:
        """Runs a statement whose rows are not counted as the load's own; how many it changed."""
