"""As which worker this process works at the moment: itself, or one that speaks HTTPS only."""

from __future__ import annotations

import os
import socket
from contextvars import ContextVar

_name: ContextVar[str] = ContextVar("worker_name", default=f"{socket.gethostname()}:{os.getpid()}")


def worker_name() -> str:
    return _name.get()


def work_as(name: str) -> None:
    """Has what starts from this asyncio task work under another name."""
    _name.set(name)
