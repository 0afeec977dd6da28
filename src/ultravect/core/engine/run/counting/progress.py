"""Figures of a leg under way."""

from __future__ import annotations

import threading
import time
from typing import Any

from ultravect.core.engine.run.leg import Listener
from ultravect.core.engine.run.shaped import Shaped

_PROGRESS_SECONDS = 0.2


class Progress:
    """Passes figures on, at most every fifth of a second."""

    def __init__(self, listener: Listener, bytes_total: int) -> None:
        self._listener = listener
        self._started = time.monotonic()
        self._shown = 0.0
        self._staged = 0
        self._lock = threading.Lock()
        self.figures: dict[str, Any] = {
            "bytes_total": bytes_total,
            "bytes_read": 0,
            "rows_read": 0,
            "rows_staged": 0,
        }

    def see(self, shaped: Shaped) -> None:
        """Counts rows as staged."""
        self._staged += shaped.batch.num_rows
        self.report(rows_staged=self._staged)

    def report(self, *, now: bool = False, **figures: int) -> None:
        with self._lock:
            first = not self.figures["rows_read"]
            self.figures.update(figures)
            elapsed = time.monotonic() - self._started
            if now or first or elapsed - self._shown >= _PROGRESS_SECONDS:
                self._shown = elapsed
                rate = self.figures["rows_read"] / elapsed if elapsed > 0 else 0
                self._listener.progress({**self.figures, "rows_per_second": round(rate)})
