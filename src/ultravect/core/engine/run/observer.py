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
