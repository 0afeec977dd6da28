"""What a load is to do, as it was planned: frozen data, JSON both ways. Nothing of it is decided again while rows are written.

A plan says by its ``action`` what becomes of the rows that are there: an ``Insert`` leaves them, a ``Replace`` has them make place for those
that come, a ``Merge`` matches them by their keys. ``Attempt`` is one execution of a plan.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Annotated, Literal

from pydantic import Field

from ultravect.core.contracts.receipt import ReceiptKey
from ultravect.core.dialects.base import Change, NewColumn, NewTable, TableName
from ultravect.core.dialects.merge import ROW
from ultravect.core.types.canonical import CanonicalType

Repeats = Literal["last", "first", "fail"]

COUNTED_ROWS = 10_000
"""A table with as many rows, or fewer, is counted before and after a load; of a larger one, only what statements say is known."""


@dataclass(frozen=True)
class Between:
    """Rows of which a column is from ``low`` to ``high``, both as texts, None: not bounded there."""

    column: str
    low: str | None = None
    high: str | None = None


@dataclass(frozen=True)
class Insert:
    """Rows are added to those that are there."""

    mode: Literal["append"] = "append"


@dataclass(frozen=True)
class Replace:
    """Rows that are there make place for those that come.

    ``where``: only rows for which this is true, in the target's SQL; "" for all of them; ``within``: where all such rows are, as far as
    that is known. ``how``: old rows are deleted, or all taken away at once while readers wait (``truncate``), or another table takes the
    place of theirs (``swap``), which a session gives up for ``delete`` where readers would have to wait for it.
    ``keep_previous``: what is replaced is kept in a table of its own.
    """

    mode: Literal["overwrite"] = "overwrite"
    where: str = ""
    within: tuple[Between, ...] = ()
    how: Literal["delete", "truncate", "swap"] = "delete"
    keep_previous: bool = False


@dataclass(frozen=True)
class Gone:
    """Rows of the target that no row matches are deleted, or ``flag``, a column of booleans, is set to true in them.

    ``limit``: how many of the target's rows that may be: a count, or a share such as ``10%``.
    """

    flag: str = ""
    limit: int | str = "10%"


@dataclass(frozen=True)
class Merge:
    """Rows that come are matched by keys with those that are there: changed ones are updated, others inserted. ``gone`` None: rows that no
    row matches stay. ``unflags``: a column of booleans that is set to false in rows that come, "" where there is none.

    ``only_matched``: rows that come without all of their columns, which are updated, and never inserted."""

    mode: Literal["upsert"] = "upsert"
    gone: Gone | None = None
    unflags: str = ""
    only_matched: bool = False


@dataclass(frozen=True)
class Remove:
    """Rows that have the keys of those that come are deleted, or ``flag``, a column of booleans, is set to true in them.

    ``every``: all rows of the table, whatever comes.
    """

    mode: Literal["remove"] = "remove"
    flag: str = ""
    every: bool = False


Action = Annotated[Insert | Replace | Merge | Remove, Field(discriminator="mode")]


@dataclass(frozen=True)
class WritePlan:
    """One load: ``columns`` are those that rows bring, in their order; ``source`` names what they come from.

    ``keys``: of rows with the same values in these columns one is written, which ``repeats`` says; a ``Merge`` matches by them.
    ``create``: the table that has to be made, because it is missing or because (``rebuild``) it takes the place of the one that is there.
    ``changes`` are made to the table before rows go into it. ``before`` and ``after`` are statements of the job's own.
    ``lock_seconds``: how long to wait for others; ``lock_table``: other writers wait until the load is done.
    ``samples``: of how many rows of a kind that it changes the load gives samples.
    ``receipts``: whether the load leaves a receipt; ``marks``: whether it notes what was copied.
    ``counts_all``: the table's rows are counted before and after, however many they are, and so are those of the load.
    """

    table: TableName
    columns: tuple[NewColumn, ...]
    action: Action = Insert()
    source: str = "rows"
    keys: tuple[str, ...] = ()
    repeats: Repeats = "last"
    create: NewTable | None = None
    rebuild: bool = False
    changes: tuple[Change, ...] = ()
    before: tuple[str, ...] = ()
    after: tuple[str, ...] = ()
    only_if_empty: bool = False
    lock_seconds: float = 60
    lock_table: bool = False
    samples: int = 0
    receipts: bool = True
    marks: bool = False
    counts_all: bool = False

    @property
    def replaces(self) -> Replace | None:
        """What is replaced; None where rows that are there stay."""
        return self.action if isinstance(self.action, Replace) else None

    @property
    def merges(self) -> Merge | None:
        """How rows are matched; None where they are not."""
        return self.action if isinstance(self.action, Merge) else None

    @property
    def removes(self) -> Remove | None:
        """What rows that come take away; None where they are written."""
        return self.action if isinstance(self.action, Remove) else None

    @property
    def flag(self) -> str:
        """The column that is set in rows which are gone; "" where none is."""
        return self.merges.gone.flag if self.merges is not None and self.merges.gone is not None else ""

    @property
    def is_new(self) -> bool:
        """Whether there is no table yet."""
        return self.create is not None and not self.rebuild

    @property
    def clears(self) -> Replace | None:
        """What rows are taken out of the table that is there; None where none are, or another table takes its place."""
        return self.replaces if self.create is None else None


@dataclass(frozen=True)
class Stage:
    """A table that every session sees, and that no one but slices of one load writes to.

    ``becomes_target``: it takes the name of the load's table when that is published; otherwise rows are brought from it into the table.
    """

    table: TableName
    becomes_target: bool


@dataclass(frozen=True)
class Attempt:
    """One execution of ``plan``. ``key`` names its receipt, None: it leaves none.

    ``isolates``: rows that the target refuses are reported instead of failing the load. ``stage``: rows are in this table already.
    ``notify`` is given a text when the load has to wait, or goes another way.
    """

    plan: WritePlan
    key: ReceiptKey | None = None
    isolates: bool = False
    stage: Stage | None = None
    notify: Callable[[str], None] = lambda text: None

    @property
    def staged(self) -> bool:
        """Whether rows have to stand next to the table first: to be matched by keys, or tried in chunks."""
        return bool(self.plan.keys) or self.isolates

    @property
    def sent(self) -> Sequence[NewColumn]:
        """The columns that rows are sent with: staged ones carry their number."""
        columns = self.plan.columns
        return [*columns, NewColumn(ROW, CanonicalType("bigint"))] if self.staged else columns
