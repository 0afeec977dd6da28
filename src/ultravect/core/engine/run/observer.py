"""What sees the rows of a leg on their way into the target."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Protocol

import pyarrow as pa

from ultravect.core.engine.run.reading import Reading
from ultravect.core.engine.run.shaped import Shaped
from ultravect.core.errors import UltravectError


class Observer(Protocol):
    """Sees each block of rows of a leg, or of one of its slices, in their order: after it is shaped, and before it is written.

    It is called by the thread that writes. UltravectError ends the leg, with nothing written.
    """

    def see(self, shaped: Shaped) -> None: ...


class RejectedKeys:
    """Keeps the keys of rejected rows: their rows of the target are not gone."""

    def __init__(self) -> None:
        self._batches: list[pa.RecordBatch] = []

    def see(self, shaped: Shaped) -> None:
        if shaped.rejected_keys is not None and shaped.rejected_keys.num_rows:
            self._batches.append(shaped.rejected_keys)

    @property
    def table(self) -> pa.Table | None:
        """One column a key, in the types of the target; None where no rejected row has a key."""
        return pa.Table.from_batches(self._batches) if self._batches else None


def write_rows(reading: Reading, observers: Sequence[Observer], write: Callable[[pa.RecordBatch], None]) -> None:
    """Takes the blocks from the thread that reads, shows them to all observers, and writes their rows. The phase of an error is *shape*
    where an observer raised it."""
    for shaped in reading.shaped():
        try:
            for observer in observers:
                observer.see(shaped)
        except UltravectError as error:
            error.phase = error.phase or "shape"
            raise
        write(shaped.batch)
