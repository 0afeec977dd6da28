"""What a load is asked to do, and what it answers."""

from __future__ import annotations

import secrets
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Literal

from ultravect.core.dialects.base import Change, Dialect, NewColumn, NewTable, TableName
from ultravect.core.dialects.merge import ROW, Merge
from ultravect.core.errors import UltravectError
from ultravect.core.types.canonical import CanonicalType

Mode = Literal["append", "overwrite", "upsert"]
Repeats = Literal["last", "first", "fail"]
STAGED = "ultravect_staged"
PREVIOUS = "ultravect_previous_"


@dataclass(frozen=True)
class ReceiptKey:
    """Which load a receipt is of: each is written once."""

    run: str
    leg: int = 1
    slice: int = 0


@dataclass(frozen=True)
class LoadOrder:
    """One load: ``columns`` are those that rows bring, in their order; ``source`` names what they come from.

    ``isolate``: rows that the database refuses are told instead of failing the load.
    ``create``: the table that has to be made, because it is missing or because (``rebuild``) it takes the place of the
    one that is there. ``changes`` are made to the table before rows go into it. ``receipt`` None: none is written.
    ``samples``: of how many rows that it changes the load tells. ``keep_previous``: what an overwrite replaces is kept in a
    table of its own, see ``Load.previous``. ``lock_seconds``: how long to wait for others; ``tell`` is told when that
    begins. ``lock_table``: other writers wait until the load is done.
    ``truncate``: an overwrite takes the old rows away at once, and readers wait too.
    """

    table: TableName
    columns: Sequence[NewColumn]
    source: str = "rows"
    mode: Mode = "append"
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
    tell: Callable[[str], None] = lambda text: None

    @property
    def staged(self) -> bool:
        """Whether rows have to stand beside the table first: to be matched by keys, or tried in parts."""
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
class Counts:
    """What the database says it did with the rows it was given; ``removed`` were there before, ``refused`` it did not take."""

    inserted: int
    updated: int = 0
    unchanged: int = 0
    repeated: int = 0
    removed: int = 0
    refused: int = 0


def previous_name() -> str:
    """A new name for the table in which an overwrite keeps what it replaces."""
    return f"{PREVIOUS}{secrets.token_hex(6)}"


def column_gone(order: LoadOrder, column: str) -> UltravectError:
    return UltravectError(
        "table-changed",
        f"{order.table} has no column {column!r} any more: it was changed since the run was planned; nothing was written",
        hint="run again: the plan is made anew",
        table=str(order.table),
        column=column,
    )


def told_waiting(order: LoadOrder) -> str:
    """What a load says when another session's lock is in its way."""
    return f"another session holds a lock on {order.table}: waiting for it, up to {order.lock_seconds:g} s"


def require_empty(order: LoadOrder, rows: int) -> None:
    """Raises when the job wants an empty table and this one is not."""
    if order.only_if_empty and rows:
        raise UltravectError(
            "target-not-empty",
            f"{order.table} holds {rows:,} rows, and the job writes only into an empty table; nothing was written",
            hint="empty the table, or take into.only_if_empty out of the job",
            table=str(order.table),
        )


def attempt_replaced(order: LoadOrder) -> UltravectError:
    """Another attempt of the same run has barred this one: see ``Target.committed``."""
    return UltravectError(
        "attempt-replaced",
        f"another worker has taken this run over, so that this attempt may not write to {order.table} any more; "
        "nothing was written by it",
        hint="see what the attempt after it did",
        table=str(order.table),
    )


def key_written(keys: Sequence[str], example: Sequence[object]) -> str:
    """``(hut, day) = (007, 2026-07-01)``"""
    return f"({', '.join(keys)}) = ({', '.join(str(value) or repr(value) for value in example)})"


def key_repeated(order: LoadOrder, example: Sequence[object]) -> UltravectError:
    return UltravectError(
        "key-repeated",
        f"the rows for {order.table} have the key {key_written(order.keys, example)} more than once, and the job says repeats: fail; "
        "nothing was written",
        hint="mend the source, or write into.repeats: last or first to say which row wins",
        table=str(order.table),
    )


def key_not_unique(order: LoadOrder, example: Sequence[object]) -> UltravectError:
    return UltravectError(
        "key-not-unique",
        f"{order.table} has more than one row with the key {key_written(order.keys, example)}: which one to update is not known; "
        "nothing was written",
        hint="remove the duplicates from the table, or name more columns in into.keys",
        table=str(order.table),
    )
