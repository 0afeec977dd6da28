"""The thread of a leg that reads and shapes, while another one writes."""

from __future__ import annotations

import queue
import threading
from collections.abc import Iterator
from dataclasses import replace

from ultravect.core.engine.run.counting.progress import Progress
from ultravect.core.engine.run.counting.tie_rows import TieRows
from ultravect.core.engine.run.rejected.row_selection import RowSelection
from ultravect.core.engine.run.shape import Shaper
from ultravect.core.engine.run.shaped import Shaped
from ultravect.core.errors import UltravectError
from ultravect.core.layouts.base import KeyedReader, Reader

_QUEUE_BLOCKS = 2
_END_SECONDS = 5.0


class Reading:
    """Reads blocks and shapes them, at most a few before they are taken.

    ``with_keys``: rows carry the keys by which they are found again at the source, where it has such.
    """

    def __init__(
        self,
        reader: Reader,
        shaper: Shaper,
        progress: Progress,
        selection: RowSelection | None,
        ties: TieRows | None,
        *,
        with_keys: bool,
    ) -> None:
        self._reader, self._shaper, self._progress = reader, shaper, progress
        self._selection, self._ties, self._with_keys = selection, ties, with_keys
        self._queue: queue.Queue[Shaped | BaseException | None] = queue.Queue(_QUEUE_BLOCKS)
        self._cancelled = threading.Event()
        self._thread = threading.Thread(target=self._read, name="read", daemon=True)

    def start(self) -> None:
        self._thread.start()

    def shaped(self) -> Iterator[Shaped]:
        """The blocks, in their order; raises what reading or shaping raised."""
        while (item := self._queue.get()) is not None:
            if isinstance(item, BaseException):
                raise item
            yield item

    def end(self) -> None:
        """Stops reading."""
        self._cancelled.set()
        if self._thread.ident is not None:
            # its session of the source should be closed before another leg begins; a source that hangs is not waited for
            self._thread.join(_END_SECONDS)

    def _read(self) -> None:
        end: BaseException | None = None
        rows = size = 0
        phase = "read"
        try:
            for block in self._reader.blocks():
                phase = "shape"
                shaped = self._shaper.shape(block)
                if self._with_keys and isinstance(self._reader, KeyedReader) and self._reader.keys:
                    shaped = replace(shaped, keys=self._reader.keys_of(block, shaped.index))
                if self._ties:
                    shaped = self._ties.keep(shaped, block)
                if self._selection:
                    shaped = self._selection.keep(shaped)
                rows += shaped.rows
                size += shaped.bytes
                self._progress.report(rows_read=rows, bytes_read=size)
                phase = "read"
                self._put(shaped)
                if self._cancelled.is_set():
                    return
        except BaseException as error:
            if isinstance(error, UltravectError):
                error.phase = phase
            end = error
        self._put(end)

    def _put(self, item: Shaped | BaseException | None) -> None:
        while not self._cancelled.is_set():
            try:
                return self._queue.put(item, timeout=0.5)
            except queue.Full:
                continue
