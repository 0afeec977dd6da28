"""Turns the signal to stop into an error, at a moment when that does no harm."""

from __future__ import annotations

import signal
from collections.abc import Iterator
from contextlib import contextmanager
from types import FrameType

from ultravect.core.errors import StopRequested


class Stopper:
    """Turns SIGTERM into StopRequested in the main thread, at a moment when that does no harm."""

    def __init__(self) -> None:
        self._deaf = False
        self._holding = 0
        self._pending = False
        signal.signal(signal.SIGTERM, self._on_signal)
        signal.signal(signal.SIGINT, signal.SIG_IGN)

    def _on_signal(self, number: int, frame: FrameType | None) -> None:
        if self._holding:
            self._pending = True
        else:
            self._stop()

    def _stop(self) -> None:
        if not self._deaf:
            self._deaf = True  # once is enough: the way out must not be interrupted
            raise StopRequested

    def rest(self) -> None:
        """Between two tasks there is nothing to be stopped."""
        self._deaf = True

    def begin(self) -> None:
        """From here on, a stop is for the next task."""
        self._pending = self._deaf = False

    @contextmanager
    def hold(self) -> Iterator[None]:
        """Puts a stop off until the end of something that must not be cut in two."""
        self._holding += 1
        try:
            yield
        finally:
            self._holding -= 1
        if self._pending and not self._holding:
            self._pending = False
            self._stop()

    @contextmanager
    def shield(self) -> Iterator[None]:
        """From publishing on, a stop comes too late."""
        self._deaf = True
        yield
