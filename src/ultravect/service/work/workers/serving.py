"""For whom this process works at the moment: itself, or a worker that speaks HTTPS only.

One process may serve several workers at once, each in an asyncio task of its own; what belongs to which goes by the context.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from contextvars import ContextVar
from dataclasses import dataclass
from typing import Any

from ultravect.service.work.runs.execute import LegExecutor
from ultravect.service.work.runs.slices import SliceExecutor
from ultravect.service.work.worker_name import work_as

LookHere = Callable[[str, float, Mapping[str, Any]], bytes | None]
"""Looks at something at the place of the worker; see ``LookPool.look_here``."""


@dataclass(frozen=True)
class Serving:
    """What tasks of a worker's queues are done with."""

    legs: LegExecutor
    slices: SliceExecutor
    look_here: LookHere


_serving: ContextVar[Serving] = ContextVar("serving")


def begin_serving(serving: Serving, name: str = "") -> None:
    """Names what the tasks that start from this one are done with; ``name`` of the worker: "" for this process itself."""
    _serving.set(serving)
    if name:
        work_as(name)


def serving() -> Serving:
    return _serving.get()
