"""Sessions kept for their next question: work that asks a database many short questions signs in once."""

from __future__ import annotations

import time
from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from typing import Any, Protocol

_IDLE_SECONDS = 10.0


class Closable(Protocol):
    def close(self) -> None: ...


class KeptSessions:
    """Those of one piece of work, in all its threads. A kind resets a session that it takes, and keeps only those in good order."""

    def __init__(self) -> None:
        self._idle: list[tuple[float, object, Any]] = []
        self.known: dict[object, Any] = {}
        """What was found out of servers in their sessions, by place."""

    def take(self, place: object) -> Any | None:
        """A session of an equal ``place`` that is not in use, now the caller's; None where there is no such session."""
        for kept in list(self._idle):
            since, its_place, session = kept
            late = time.monotonic() - since > _IDLE_SECONDS
            if late or its_place == place:
                try:
                    self._idle.remove(kept)
                except ValueError:
                    continue  # another thread was faster
                if not late:
                    return session
                session.close()
        return None

    def keep(self, place: object, session: Closable) -> None:
        self._idle.append((time.monotonic(), place, session))

    def close(self) -> None:
        while self._idle:
            self._idle.pop()[2].close()


_kept: ContextVar[KeptSessions | None] = ContextVar("kept_sessions", default=None)


@contextmanager
def keeping_sessions() -> Iterator[None]:
    """Within this, sessions are kept for their next use; inside another one, for as long as that one lasts."""
    if _kept.get() is not None:
        yield
        return
    sessions = KeptSessions()
    token = _kept.set(sessions)
    try:
        yield
    finally:
        _kept.reset(token)
        sessions.close()


def close_idle_sessions() -> None:
    """Closes those that are kept and not in use now."""
    if (sessions := _kept.get()) is not None:
        sessions.close()


def kept_sessions() -> KeptSessions | None:
    """Where sessions are kept now; None where each is closed after its use."""
    return _kept.get()
