"""What readers of change logs share: when a window ends, reading on in a thread, and how a table differs from what is known of it."""

from __future__ import annotations

import queue
import threading
import time
from abc import ABC, abstractmethod
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from typing import Any, Protocol

import numpy as np
import pyarrow as pa

from ultravect.core.contracts.catalogue import LiveColumn
from ultravect.core.contracts.change_log import Changes, LogEvent, LoggedTable, Redefined, WindowSize
from ultravect.core.dialects.base import TableName
from ultravect.core.errors import UltravectError
from ultravect.core.loading.change_rows import ChangeRows

CHUNK_BYTES, CHUNK_ROWS = 12 << 20, 50_000
"""So many changes are given at once, at most."""

_CAUGHT_UP_SECONDS, _LONGEST_SECONDS = 3.0, 30.0
"""While the newest change that was read is older, windows grow, up to so many seconds."""

_READ_AHEAD = 2
"""So many chunks are read while others are written."""

_WAIT_SECONDS, _STEP_SECONDS = 0.5, 0.1


class Follower(Protocol):
    over: bool
    """Whether no one takes events any more."""

    def events(self) -> Iterator[LogEvent]: ...


@contextmanager
def read_ahead(follower: Follower) -> Iterator[Iterator[LogEvent]]:
    """The events of a follower, which reads on in a thread of its own while they are dealt with: some, and no more."""
    waiting: queue.Queue[LogEvent | BaseException] = queue.Queue(_READ_AHEAD)

    def put(item: LogEvent | BaseException) -> None:
        while not follower.over:
            with suppress(queue.Full):
                waiting.put(item, timeout=_WAIT_SECONDS)
                return

    def read() -> None:
        try:
            for event in follower.events():
                put(event)
                if follower.over:
                    return
        except BaseException as error:
            put(error)

    def taken() -> Iterator[LogEvent]:
        while True:
            item = waiting.get()
            if isinstance(item, BaseException):
                raise item
            yield item

    thread = threading.Thread(target=read, name="log", daemon=True)
    thread.start()
    try:
        yield taken()
    finally:
        follower.over = True
        thread.join()


class PollingFollower(ABC):
    """A reader of a source that is asked once a window, and does not say by itself what is new."""

    def __init__(self, seconds: float) -> None:
        self._seconds = seconds
        self.over = False

    @abstractmethod
    def window(self) -> Iterator[LogEvent]:
        """All that is new now, to an ``End``."""

    def events(self) -> Iterator[LogEvent]:
        while not self.over:
            began = time.monotonic()
            yield from self.window()
            while not self.over and time.monotonic() - began < self._seconds:
                time.sleep(min(_STEP_SECONDS, self._seconds))


class WindowClock:
    """When a window ends; ``rows`` and ``bytes`` are those of its chunks that were given already."""

    def __init__(self, size: WindowSize) -> None:
        self._size = size
        self.begin()

    def begin(self) -> None:
        self._begun, self._rows, self._bytes = time.monotonic(), 0, 0

    def gave(self, rows: int, size: int) -> None:
        """A chunk was given."""
        self._rows += rows
        self._bytes += size

    @property
    def left(self) -> float:
        """How many seconds there are until it ends."""
        return max(0.0, self._size.seconds - (time.monotonic() - self._begun))

    def has_rows(self, rows: int) -> bool:
        return self._rows + rows > 0

    def is_due(self, rows: int, size: int, moment: int, *, waits: bool) -> bool:
        """``rows`` and ``size``: what is held besides; ``moment``: when what was read last was committed, in microseconds since 1970.
        ``waits``: the source has nothing more at this instant."""
        passed = time.monotonic() - self._begun
        if self._rows + rows >= self._size.rows or self._bytes + size >= self._size.bytes:
            return True
        if passed < self._size.seconds:
            return False
        if waits:
            return True
        # large windows cost less, and there is time to be made good
        is_late = time.time() - moment / 1_000_000 > self._size.seconds + _CAUGHT_UP_SECONDS
        return not (is_late and self.has_rows(rows) and passed < min(_LONGEST_SECONDS, 10 * self._size.seconds))


def log_lost(connection: str, detail: str) -> UltravectError:
    """What to say where the source has not kept its log: only a new copy of all tables helps."""
    return UltravectError(
        "log-lost",
        f"connection {connection}: {detail}",
        hint="have all tables copied anew: ultravect mark JOB --reset, then ultravect stream resume JOB",
        connection=connection,
    )


def taken_changes(
    table: LoggedTable,
    rows: ChangeRows,
    places: Sequence[int | None],
    values_of: Callable[[LiveColumn, int, int, Sequence[Any]], pa.Array],
) -> Changes:
    """What a decoder has read of a table since; its rows are taken out.

    ``places``: for each column of the table that of the rows', None: they have none. ``values_of`` makes values of a column, its place, how many
    there are, and what the decoder has kept of them.
    """
    count, buffers, kinds, order, positions, moments, cells = rows.finish()
    arrays, unknown = [], {}
    pairs = np.array(cells, np.int64).reshape(-1, 2)
    for place, (column, at) in enumerate(zip(table.columns, places, strict=True)):
        if at is None:
            arrays.append(pa.nulls(count, column.type.arrow if column.type else pa.string()))
            continue
        arrays.append(values_of(column, at, count, buffers[at]))
        if len(said := pairs[pairs[:, 1] == at, 0]):
            unknown[place] = said
    values = pa.table(arrays, names=[str(place) for place in range(len(arrays))])
    return Changes(table.name, values, kinds, order, positions, moments, unknown)


def redefinition(
    table: TableName, added: Mapping[str, str], gone: Iterable[str], retyped: Mapping[str, tuple[str, str]]
) -> Redefined | None:
    """How a table differs from what is known of it, None where it does not; ``added``: new columns with their types."""
    missing = list(gone)
    shown = ", ".join(f"{name} {native}" for name, native in added.items())
    types = ", ".join(f"{name} from {old} to {new}" for name, (old, new) in retyped.items())
    columns = "a new column" if len(added) == 1 else f"{len(added)} new columns"
    parts = [
        *([f"has {columns}, {shown}"] if added else []),
        *([f"has no {', '.join(missing)} any more"] if missing else []),
        *([f"has other types: {types}"] if retyped else []),
    ]
    return Redefined(table, f"{table} {', and '.join(parts)}", list(added), missing, retyped) if parts else None
