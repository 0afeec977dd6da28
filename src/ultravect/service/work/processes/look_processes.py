"""Processes that look at something, within limits of memory, processor and time: see ``look_process``."""

from __future__ import annotations

import json
import os
import select
import signal
import socket
import threading
import time
from collections.abc import Iterator, Mapping
from contextlib import contextmanager, suppress
from typing import Any

import structlog

from ultravect.core.errors import UltravectError
from ultravect.service.work.processes.forks import ForkServer, kinds_in

log = structlog.get_logger()
_WAIT_SECONDS = 20.0
_MOST_OF_USER = 12
_MAX_ANSWER = 256 << 20
_PIECE = 1 << 20


class LookFailed(Exception):
    """The process met with what it should not have: a fault of ours, which the service's log describes."""


class _User:
    """Who looks: ``asking`` counts what is under way or waits."""

    def __init__(self, places: int) -> None:
        self.places = threading.BoundedSemaphore(places)
        self.asking = 0


class LookProcesses:
    """``at_once``: how many may look at the same time; others wait for them."""

    def __init__(self, at_once: int, forks: ForkServer) -> None:
        self._forks = forks
        self._places = threading.BoundedSemaphore(at_once)
        self._of_each = max(1, at_once // 2)
        self._users: dict[str, _User] = {}
        self._counting = threading.Lock()

    @contextmanager
    def _place(self, user: str) -> Iterator[None]:
        """A place for a look: first one of the user's own, of which each has half as many as there are; UltravectError after a while."""
        until = time.monotonic() + _WAIT_SECONDS
        with self._counting:
            own = self._users.setdefault(user, _User(self._of_each))
            if own.asking >= _MOST_OF_USER:
                raise UltravectError(
                    "too-busy",
                    f"you are looking at {own.asking} things at this moment",
                    hint="wait for some of them",
                )
            own.asking += 1
        try:
            if not own.places.acquire(timeout=_WAIT_SECONDS):
                raise UltravectError(
                    "too-busy", "your other looks take long at this moment", hint="wait for them, or try again later"
                )
            try:
                if not self._places.acquire(timeout=max(0.1, until - time.monotonic())):
                    raise UltravectError(
                        "too-busy", "too many are looking at something at this moment", hint="try again in a moment"
                    )
                try:
                    yield
                finally:
                    self._places.release()
            finally:
                own.places.release()
        finally:
            with self._counting:
                own.asking -= 1
                if not own.asking:
                    del self._users[user]

    def ask(
        self, name: str, seconds: float, arguments: Mapping[str, Any], memory: int, user: str = ""
    ) -> bytes | None:
        """What a process says to ``looks.LOOKS[name]``, as it says it; b"" when it ended without a word, None when it took too long.

        ``user``: who asks; no one keeps the others waiting.
        """
        task = {
            "name": name,
            "arguments": arguments,
            "memory": memory,
            "cpu_seconds": seconds * (os.cpu_count() or 1),
        }
        question = json.dumps(task).encode() + b"\n"
        self._forks.use(kinds_in(arguments))
        with self._place(user):
            try:
                return self._asked(question, seconds)
            except (OSError, LookFailed) as error:
                # the machine was short of memory or processes at this moment; nothing was looked at yet
                log.warning("a process for looks did not begin; another is started", cause=repr(error))
                return self._asked(question, seconds)

    def _asked(self, question: bytes, seconds: float) -> bytes | None:
        ours, pid = self._forks.fork("look")
        with ours:
            return _exchange(ours, pid, question, seconds)


def _exchange(asked: socket.socket, pid: int, question: bytes, seconds: float) -> bytes | None:
    """What the process says; b"" when it ended without a word, None when it took too long; OSError where it was gone before it was asked."""
    end = time.monotonic() + seconds
    asked.sendall(question)
    said = bytearray()
    while not said.endswith(b"\n"):
        left = end - time.monotonic()
        if left <= 0 or len(said) > _MAX_ANSWER or not select.select([asked], [], [], left)[0]:
            with suppress(ProcessLookupError):
                os.kill(pid, signal.SIGKILL)
            return None
        try:
            piece = asked.recv(_PIECE)
        except ConnectionResetError:
            return b""
        if not piece:
            return b""
        said += piece
    return bytes(said)
