"""Processes that look at something, within limits of memory, processor and time: see ``look_process``."""

from __future__ import annotations

import atexit
import json
import os
import select
import signal
import socket
import subprocess
import sys
import threading
import time
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from typing import Any

import structlog

from ultravect.core.errors import UltravectError
from ultravect.service.environment import environment_of_legs
from ultravect.service.work.processes.sandbox import (
    confined,
    new_scratch,
    remove_scratch,
    sender_of,
    take_credentials,
)

log = structlog.get_logger()
_START_SECONDS = 60.0
_WAIT_SECONDS = 20.0
_MOST_OF_USER = 12
_MAX_ANSWER = 256 << 20
_PIECE = 1 << 20
# the limit of memory counts what is reserved too: each thread of a library would reserve an arena of its own
_THRIFTY = {
    "OPENBLAS_NUM_THREADS": "1",
    "OMP_NUM_THREADS": "1",
    "MALLOC_ARENA_MAX": "2",
    "ARROW_IO_THREADS": "2",
    "TOKIO_WORKER_THREADS": "2",
}


class LookFailed(Exception):
    """The process met with what it should not have: a fault of ours, which the service's log describes."""


class _User:
    """Who looks: ``asking`` counts what is under way or waits."""

    def __init__(self, places: int) -> None:
        self.places = threading.BoundedSemaphore(places)
        self.asking = 0


class LookProcesses:
    """``at_once``: how many may look at the same time; others wait for them. Of this machine's files they see those below ``roots``."""

    def __init__(self, at_once: int, roots: Sequence[str]) -> None:
        self._roots = roots
        self._scratch: str | None = None
        self._places = threading.BoundedSemaphore(at_once)
        self._of_each = max(1, at_once // 2)
        self._users: dict[str, _User] = {}
        self._counting = threading.Lock()
        self._starting = threading.Lock()
        self._parent: subprocess.Popen[bytes] | None = None
        self._socket: socket.socket | None = None

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
        with self._place(user):
            try:
                return self._asked(question, seconds)
            except (OSError, LookFailed) as error:
                # the machine was short of memory or processes at this moment; nothing was looked at yet
                log.warning("a process for looks did not begin; another is started", cause=repr(error))
                return self._asked(question, seconds)

    def _asked(self, question: bytes, seconds: float) -> bytes | None:
        with self._process() as ours:
            return _exchange(ours, question, seconds)

    def warm(self) -> None:
        """Starts the process that all others come from, so that the first look need not wait for it."""
        with suppress(OSError):
            self._process().close()

    def _process(self) -> socket.socket:
        """A socket to a process that waits for its question."""
        ours, theirs = socket.socketpair()
        take_credentials(ours)
        with theirs:
            try:
                socket.send_fds(self._started(), [b"look"], [theirs.fileno()])
            except OSError:
                # it died since it was last seen
                socket.send_fds(self._started(again=True), [b"look"], [theirs.fileno()])
        return ours

    def _started(self, *, again: bool = False) -> socket.socket:
        with self._starting:
            alive = self._parent is not None and self._parent.poll() is None
            if self._socket is not None and alive and not again:
                return self._socket
            ours, theirs = socket.socketpair()
            program = [
                sys.executable,
                "-m",
                "ultravect.service.work.processes.fork_server",
                str(theirs.fileno()),
                "looks",
            ]
            if self._scratch is None:
                self._scratch = new_scratch()
                atexit.register(remove_scratch, self._scratch)
            self._parent = subprocess.Popen(
                confined(program, self._roots, self._scratch),
                stdin=subprocess.DEVNULL,
                env={**environment_of_legs(), **_THRIFTY},
                pass_fds=[theirs.fileno()],
                start_new_session=True,
            )
            theirs.close()
            ours.settimeout(_START_SECONDS)
            if not ours.recv(16):
                raise LookFailed("the process for looks did not start; the log above says why")
            ours.settimeout(None)
            self._socket = ours
            return ours


def _exchange(asked: socket.socket, question: bytes, seconds: float) -> bytes | None:
    """What the process says; b"" when it ended without a word, None when it took too long; OSError when it never began."""
    end = time.monotonic() + seconds
    asked.sendall(question)
    said = bytearray()
    pid = sender_of(asked)
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
