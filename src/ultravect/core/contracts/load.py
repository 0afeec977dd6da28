"""What a load is asked to do, and what it answers."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Literal

from ultravect.core.dialects.base import Change, Dialect, NewColumn, NewTable, TableName
from ultravect.core.dialects.merge import ROW, Merge
from ultravect.core.types.canonical import CanonicalType

Mode = Literal["append", "overwrite", "upsert"]
Repeats = Literal["last", "first", "fail"]
STAGED = "ultravect_staged"
DELETE_AND_INSERT = "delete and insert"
"""The strategy that takes the place of a swap that is no longer possible."""

SWAP = "swap"
"""The strategy of a load whose table takes the place of one that was empty."""

CHANGED = "target-changed"
"""The code of an error that a load raises where another writer was quicker: with the same rows it may succeed when tried again."""

PREVIOUS = "ultravect_previous_"

COUNTED_ROWS = 10_000
"""A table with as many rows, or fewer, is counted before and after a load; of a larger one, only what statements say is known."""


@dataclass(frozen=True)
class ReceiptKey:
    """Which load a receipt is of: each is written once."""

    run: str
    leg: int = 1
    slice: int = 0

    @property
    def session(self) -> str:
        """Names the sessions of the attempt in the target, by which the one after it ends them."""
        return f"{self.run}/{self.leg}"


@dataclass(frozen=True)
class Between:
    """Rows of which a column is from ``low`` to ``high``, both as texts, None: not bounded there."""

    column: str
    low: str | None = None
    high: str | None = None


@dataclass(frozen=True)
class LoadOrder:
    """One load: ``columns`` are those that rows bring, in their order; ``source`` names what they come from.

    ``removes_old``: rows that are there make place for those that come (overwrite). ``matches_rows``: rows that come are matched with those
    that are there, by ``keys``: changed rows are updated, others inserted (upsert). Rows are added where neither is true.
    ``isolate``: rows that the database refuses are reported instead of failing the load.
    ``create``: the table that has to be made, because it is missing or because (``rebuild``) it takes the place of the
    one that is there. ``changes`` are made to the table before rows go into it. ``receipt`` None: none is written.
    ``samples``: of how many rows that it changes the load gives samples. ``keep_previous``: what an overwrite replaces is kept in a
    table of its own, see ``Load.previous``. ``lock_seconds``: how long to wait for others; ``notify`` is called when that
    begins. ``lock_table``: other writers wait until the load is done.
    ``truncate``: an overwrite takes the old rows away at once, and readers wait too. ``may_swap``: another table may take the
    place of the one that is overwritten, where the target still allows it.
    ``marks``: what was copied is noted, see ``Load.publish``. ``replaces``: an overwrite takes only rows away for which this is true,
    in the target's SQL; "" for all; ``within``: where all such rows are, as far as that is known.
    ``gone``: what an upsert does with rows of the target that no row matches: ``delete``, or the name
    of a column that is set to true; "" for nothing; ``gone_limit`` says how many of the target's rows that may be.
    ``staged_in``: the rows are in this table already, see ``stage``; ``filled``: it becomes the load's table.
    ``counts_all``: the table's rows are counted before and after, however many they are, and so are those of the load.
    """

    table: TableName
    columns: Sequence[NewColumn]
    source: str = "rows"
    removes_old: bool = False
    matches_rows: bool = False
    keys: Sequence[str] = ()
    repeats: Repeats = "last"
    create: NewTable | None = None
    rebuild: bool = False
    changes: Sequence[Change] = ()
    only_if_empty: bool = False
    before: Sequence[str] = ()
    after: Sequence[str] = ()
    receipt: ReceiptKey | None = None
    isolate: bool = False
    samples: int = 0
    keep_previous: bool = False
    lock_seconds: float = 60
    lock_table: bool = False
    truncate: bool = False
    may_swap: bool = True
    marks: bool = False
    replaces: str = ""
    within: Sequence[Between] = ()
    gone: str = ""
    gone_limit: Callable[[int], int] = lambda rows: rows
    staged_in: TableName | None = None
    filled: bool = False
    counts_all: bool = False
    notify: Callable[[str], None] = lambda text: None

    @property
    def staged(self) -> bool:
        """Whether rows have to stand next to the table first: to be matched by keys, or tried in parts."""
        return bool(self.keys) or self.isolate

    @property
    def sent(self) -> Sequence[NewColumn]:
        """The columns that rows are sent with: staged ones carry their number."""
        return [*self.columns, NewColumn(ROW, CanonicalType("bigint"))] if self.staged else self.columns

    def merge(self, dialect: Dialect, table: str, staged: str, as_text: frozenset[str] = frozenset()) -> Merge:
        """The statements that bring staged rows into the table; ``as_text``: see ``Merge``."""
        columns = {column.name: column.type for column in self.columns}
        return Merge(dialect, table, staged, columns, self.keys, as_text)


@dataclass(frozen=True)
class RefusedRow:
    """``row`` is the row's number in the load, from 0; ``record`` its values as JSON."""

    row: int
    reason: str
    record: str


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
