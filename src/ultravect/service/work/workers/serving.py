"""For whom this process works at the moment: itself, or a worker that speaks HTTPS only.

One process may serve several workers at once, each in an asyncio task of its own; what belongs to which goes by the context.
"""

from __future__ import annotations

import os
import socket
from collections.abc import Callable, Mapping
from contextvars import ContextVar
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from ultravect.service.work.runs.execute import LegExecutor
    from ultravect.service.work.runs.slices import SliceExecutor

LookHere = Callable[[str, float, Mapping[str, Any]], bytes | None]
"""Looks at something at the place of the worker; see ``LookPool.look_here``."""


@dataclass(frozen=True)
class Serving:
    """What tasks of a worker's queues are done with."""

    legs: LegExecutor
    slices: SliceExecutor
    look_here: LookHere


_serving: ContextVar[Serving] = ContextVar("serving")
_name: ContextVar[str] = ContextVar("worker_name", default=f"{socket.gethostname()}:{os.getpid()}")


def begin_serving(serving: Serving, name: str = "") -> None:
    """Names what the tasks that start from this one are done with; ``name`` of the worker: "" for this process itself."""
    _serving.set(serving)
    if name:
        _name.set(name)


def serving() -> Serving:
    return _serving.get()


def worker_name() -> str:
    return _name.get()
