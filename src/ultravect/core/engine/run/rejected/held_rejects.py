"""Rejects that wait until it is sure that the leg does not begin again."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from ultravect.core.engine.plan.source.drift import TypeDrift
from ultravect.core.engine.run.rejected.rejects import Reject

_HELD = 1000


class HeldRejects:
    """Keeps rejects back while the types that they were found by may turn out to be others."""

    def __init__(self, keep: Callable[[Sequence[Reject]], None]) -> None:
        self._keep = keep
        self._held: list[Reject] = []

    def add(self, rejects: Sequence[Reject]) -> None:
        self._held += rejects
        if len(self._held) > _HELD:
            raise TypeDrift(f"more than {_HELD:,} rows are bad")

    def release(self) -> None:
        held, self._held = self._held, []
        if held:
            self._keep(held)
