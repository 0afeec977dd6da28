"""The fork server of a service or worker, seen from there: processes for legs and looks come from it. See ``fork_server`` for its end."""

from __future__ import annotations

import atexit
import select
import socket
import subprocess
import sys
import threading
import time
from collections.abc import Collection, Mapping, Sequence
from contextlib import suppress
from typing import Any

import structlog

from ultravect.core.kinds.registry import kinds
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
_FORK_SECONDS = 20.0
_LOOK_SECONDS = 0.1
_TRIES = 3
# no library may start threads before the fork
_ONE_THREAD = {"OPENBLAS_NUM_THREADS": "1", "OMP_NUM_THREADS": "1"}


class ForkServer:
    """Started when it is first needed, and anew when it has died; of this machine's files its processes see those below ``roots``.

    May be called from any thread.
    """

    def __init__(self, roots: Sequence[str]) -> None:
        self._roots = roots
        self._scratch: str | None = None
        self._starting = threading.Lock()
        self._server: subprocess.Popen[bytes] | None = None
        self._socket: socket.socket | None = None
        self._uses: set[str] = set()

    def warm(self) -> None:
        """Makes sure that it is there; RuntimeError where it does not start, tried three times."""
        self._started()

    def fork(self, what: str) -> tuple[socket.socket, int]:
        """A socket to a new process for a ``leg`` or a ``look``, which has begun, and the process as it is known here.

        OSError where there is none to be had, RuntimeError where the fork server does not start.
        """
        try:
            return self._forked(what, self._started())
        except OSError:
            # it has died since it was last seen
            return self._forked(what, self._started(again=True))

    def _forked(self, what: str, server: socket.socket) -> tuple[socket.socket, int]:
        ours, theirs = socket.socketpair()
        take_credentials(ours)
        try:
            with theirs:
                socket.send_fds(server, [what.encode()], [theirs.fileno()])
            until = time.monotonic() + _FORK_SECONDS
            # what has made the namespace keeps the socket of a server that has died
            while not select.select([ours], [], [], _LOOK_SECONDS)[0]:
                if time.monotonic() > until or self._server is None or self._server.poll() is not None:
                    raise OSError("the fork server does not answer")
            return ours, sender_of(ours)
        except OSError:
            ours.close()
            raise

    def use(self, names: Collection[str]) -> None:
        """Has it import what connections of these kinds need, so that processes that come later have it at once."""
        with self._starting:
            new = set(names) - self._uses
            self._uses |= new
            if new and self._socket is not None:
                with suppress(OSError):
                    self._socket.send(_import(new))

    def close(self) -> None:
        with self._starting:
            if self._socket is not None:
                self._socket.close()
            if self._server is not None:
                self._server.wait()
            self._socket = self._server = None
            remove_scratch(self._scratch)
            self._scratch = None

    def _started(self, *, again: bool = False) -> socket.socket:
        with self._starting:
            alive = self._server is not None and self._server.poll() is None
            if self._socket is not None and alive and not again:
                return self._socket
            for _ in range(_TRIES):
                if (started := self._start()) is not None:
                    self._socket = started
                    if self._uses:
                        started.send(_import(self._uses))
                    return started
            raise RuntimeError("the fork server did not start; the log above says why")

    def _start(self) -> socket.socket | None:
        if self._scratch is None:
            self._scratch = new_scratch()
            atexit.register(remove_scratch, self._scratch)
        ours, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        program = [sys.executable, "-m", "ultravect.service.work.processes.fork_server", str(theirs.fileno())]
        self._server = subprocess.Popen(
            confined(program, self._roots, self._scratch),
            stdin=subprocess.DEVNULL,
            env={**environment_of_legs(), **_ONE_THREAD},
            pass_fds=[theirs.fileno()],
            start_new_session=True,
        )
        theirs.close()
        ours.settimeout(_START_SECONDS)
        with suppress(OSError):
            if ours.recv(16):
                ours.settimeout(None)
                return ours
        ours.close()
        self._server.kill()
        log.warning("the fork server did not start", returned=self._server.wait())
        return None


def kinds_in(given: Mapping[str, Any]) -> set[str]:
    """The kinds of the connections among what a process is given, as far as they are known here."""
    named = {
        value["kind"] for value in given.values() if isinstance(value, dict) and {"kind", "settings"} <= value.keys()
    }
    return named & kinds().keys()


def _import(names: Collection[str]) -> bytes:
    return f"import {' '.join(sorted(names))}".encode()
