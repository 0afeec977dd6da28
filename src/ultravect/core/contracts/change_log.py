"""What a source promises that can say what changed: whole transactions, in the order of their commits, from a position on.

A log is followed by one reader at a time. Before it can be followed it is prepared at the source, which begins to keep it for us; what was
committed is kept until ``ChangeLog.confirm`` says that it is not needed any more.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import AbstractContextManager
from dataclasses import asdict, dataclass, field
from enum import IntEnum
from typing import Any, Protocol

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from ultravect.core.contracts.catalogue import LiveColumn, LiveTable, Remark
from ultravect.core.dialects.base import TableName

WARNINGS = frozenset(["log-of-partitions", "log-retention"])
"""The codes of what ``ChangeLog.lacks`` says and what keeps no one from following."""


class Kind(IntEnum):
    """What a change is. A row of ``FORMER`` comes before an ``UPDATE`` of which it is the key, or the whole row, as it was."""

    INSERT = 1
    UPDATE = 2
    DELETE = 3
    FORMER = 4


@dataclass(frozen=True)
class Changes:
    """Changes of one table in their order, a row each.

    ``values``: the table's columns, as ``types.stored.stored_values`` gives them; of a deleted row only its identity is known, all else is
    NULL. ``kinds``: of ``Kind``. ``unknown``: by the place of a column, the rows in which its value is the one it had before, and is not
    said. ``order``: the number of each change among all of its window. ``positions`` and ``moments`` are those of the commits: positions as
    numbers, moments in microseconds since 1970.
    """

    table: TableName
    values: pa.Table
    kinds: npt.NDArray[np.int8]
    order: npt.NDArray[np.int64]
    positions: npt.NDArray[np.int64]
    moments: npt.NDArray[np.int64]
    unknown: Mapping[int, npt.NDArray[np.int64]] = field(default_factory=dict)


@dataclass(frozen=True)
class Emptied:
    """A table was emptied at once: all rows that came before are gone."""

    table: TableName
    position: int
    moment: int


@dataclass(frozen=True)
class Redefined:
    """A table has other columns from here on: ``what`` says it in words. ``added`` and ``gone`` are names of columns, ``retyped`` those with the
    types that they had and have now, as the source writes them."""

    table: TableName
    what: str
    added: Sequence[str] = ()
    gone: Sequence[str] = ()
    retyped: Mapping[str, tuple[str, str]] = field(default_factory=dict)
    replaced: bool = False
    """Whether it has, or may have, other rows than before, which its log does not say."""


@dataclass(frozen=True)
class End:
    """All transactions up to ``position`` were given: the state of the source at a commit.

    ``moment``: when the last one was committed, in microseconds since 1970, 0 where there was none. ``proof``: see ``LogMark``.
    """

    position: int
    moment: int
    proof: str = ""


LogEvent = Changes | Emptied | Redefined | End


@dataclass(frozen=True)
class WindowSize:
    """When a window ends: with the first commit after ``seconds``, or after ``rows`` or ``bytes`` of changes."""

    seconds: float
    rows: int = 500_000
    bytes: int = 256 << 20


@dataclass(frozen=True)
class LogMark:
    """How far a table, or all of a job, was copied: up to ``position`` of the log ``log``, which names server and database.

    ``snapshot``: which transactions beyond it are in the copied rows already, of a table whose rows were copied while the log went on, up to
    the position ``until``; as the source writes it. ``proof``: what else the source says of the position, by which it knows whether that is
    still the one that was meant.
    """

    log: str
    position: int
    snapshot: str = ""
    until: int = 0
    proof: str = ""

    def as_text(self) -> str:
        return json.dumps(asdict(self), sort_keys=True)

    @classmethod
    def from_text(cls, text: str) -> LogMark:
        data: dict[str, Any] = json.loads(text)
        return cls(
            data["log"],
            int(data["position"]),
            data.get("snapshot", ""),
            int(data.get("until", 0)),
            data.get("proof", ""),
        )


@dataclass(frozen=True)
class LoggedTable:
    """A table that is followed. ``columns``: those that its changes are given with, in their order.

    ``keys``: the places of those by which its rows are distinguished in the target; none where it does not matter what a row was before.
    """

    name: TableName
    columns: Sequence[LiveColumn]
    mark: LogMark
    keys: Sequence[int] = ()
    left_out: frozenset[str] = frozenset()
    """Columns that it has besides, and that are not asked for."""

    accepted: frozenset[str] = frozenset()
    """Changes of its definition, in the words of ``Redefined.what``, that are known by now."""


@dataclass(frozen=True)
class Kept:
    """What the source keeps for the reader of a log: ``bytes`` of it, None where that is not known; ``lost``: why it has given that up."""

    there: bool
    bytes: int | None = None
    position: int = 0
    lost: str = ""


@dataclass(frozen=True)
class Snapshot:
    """``name`` as other sessions name it; ``mark`` of the table that is copied from it; ``position``: where its rows stand in the log.

    ``holds`` is asked when its rows were read: whether they are those of that moment. A table that was emptied or written anew in between
    is so in an older snapshot, too.
    """

    name: str
    mark: LogMark
    position: int
    holds: Callable[[], bool]


class ChangeLog(Protocol):
    """The log of one job. Methods open and close their own sessions, but for ``follow``. UltravectError where the source cannot be asked."""

    name: str
    """What the source calls what it keeps for us."""

    def lacks(self, tables: Sequence[LiveTable]) -> Sequence[Remark]:
        """What is missing at the source, each with the statement or setting that helps; nothing is made."""

    def identity(self, table: LiveTable) -> Sequence[str] | None:
        """The columns by which the log names a row that was updated or deleted; all of them where it has the whole row, None: it names
        none."""

    def sent(self, table: LiveTable) -> Sequence[str]:
        """The columns of a table that its log has."""

    def prepare(self, tables: Sequence[TableName]) -> None:
        """Has the source keep the log of these tables, from now on; those that it kept already go on."""

    def identifier(self) -> str:
        """What distinguishes this log from that of any other server or database."""

    def kept(self) -> Kept:
        """What the source keeps now."""

    def snapshot(self, table: TableName, log: str, position: int) -> AbstractContextManager[Snapshot]:
        """A snapshot that other sessions can read while the context lasts, and the mark of ``table`` when it is copied from it.
        ``position``: where the reader of the log is."""

    def follow(
        self, tables: Sequence[LoggedTable], start: LogMark, size: WindowSize
    ) -> AbstractContextManager[Iterator[LogEvent]]:
        """What was committed from ``start`` on, without end: one window after the other, each closed by an ``End``. A window without
        changes ends, too. Tables that the transactions of their marks' snapshots have written are left out of those.

        ``log-lost`` where the source has not kept what was committed since."""

    def confirm(self, position: int) -> None:
        """What was committed up to ``position`` is not needed any more; only while it is followed."""

    def drop(self) -> bool:
        """Has the source keep nothing any more; whether there was something."""

    def text(self, position: int) -> str:
        """A position as the source writes it."""
