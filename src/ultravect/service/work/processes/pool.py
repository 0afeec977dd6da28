"""Leg processes: each runs one leg, so that its end, its limits or its crash harm nothing else."""

from __future__ import annotations

import asyncio
import json
import os
import signal
import socket
import sys
from collections.abc import AsyncIterator, Sequence
from contextlib import suppress
from typing import Any

import structlog

from ultravect.service.environment import environment_of_legs
from ultravect.service.work.processes.messages import MAX_LINE, NotAMessage, read_message
from ultravect.service.work.processes.sandbox import (
    confined,
    new_scratch,
    remove_scratch,
    sender_of,
    take_credentials,
)

log = structlog.get_logger()
_LINE_LIMIT = MAX_LINE
_TRIES = 3


class LegProcess:
    """One process, from waiting for its task to its end."""

    def __init__(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter, pid: int) -> None:
        self._reader = reader
        self._writer = writer
        self._pid = pid
        self._ended = False

    @property
    def is_gone(self) -> bool:
        """Whether the process has ended, as far as is seen from here."""
        return self._ended or self._reader.at_eof()

    async def send(self, task: dict[str, Any]) -> None:
        self._writer.write(json.dumps(task).encode() + b"\n")
        await self._writer.drain()

    async def greet(self) -> None:
        """Lets the leg know that its worker is still there: one that does not hear this for long ends by itself."""
        if not self._ended:
            with suppress(ConnectionError):
                self._writer.write(b"\n")
                await self._writer.drain()

    async def events(self) -> AsyncIterator[dict[str, Any]]:
        """What the leg says, until it ends; one that says what no leg does is ended."""
        with suppress(ConnectionError):
            async for line in self._reader:
                if not line.endswith(b"\n"):
                    break  # it was killed in the middle of a line
                try:
                    said = read_message(line)
                except NotAMessage as error:
                    log.error("a leg's process says what no leg does, and is ended", pid=self._pid, reason=str(error))
                    self.kill()
                    break
                yield said
        self._ended = True

    def stop(self) -> None:
        """Asks the leg to stop and roll back."""
        self._signal(signal.SIGTERM)

    def kill(self) -> None:
        self._signal(signal.SIGKILL)

    def close(self) -> None:
        """Lets go of the leg; one that still runs ends with this."""
        self.kill()
        self._writer.close()

    def _signal(self, number: signal.Signals) -> None:
        if not self._ended:
            with suppress(ProcessLookupError):
                os.kill(self._pid, number)


ENDINGS = ("succeeded", "failed", "stopped")
"""The kinds of what a process says last."""

_GATHERED = 64
_MOMENT_SECONDS = 0.05


def _is_pressing(event: dict[str, Any]) -> bool:
    return event["kind"] in (*ENDINGS, "slices", "published") or event.get("name") == "publish"


async def gathered(events: AsyncIterator[dict[str, Any]]) -> AsyncIterator[list[dict[str, Any]]]:
    """What a process says, in lists of what comes within a moment, or while the list before is being dealt with.

    What must be known before the process goes on, and how it ended, ends a list at once.
    """
    waiting: asyncio.Queue[dict[str, Any] | None] = asyncio.Queue(_GATHERED)
    loop = asyncio.get_running_loop()

    async def take() -> None:
        try:
            async for event in events:
                await waiting.put(event)
        except asyncio.CancelledError:
            raise  # no one waits any more
        except BaseException:
            await waiting.put(None)
            raise
        await waiting.put(None)

    taking = asyncio.create_task(take())
    try:
        while (event := await waiting.get()) is not None:
            some = [event]
            until = loop.time() + _MOMENT_SECONDS
            while not waiting.empty() or not (_is_pressing(some[-1]) or len(some) >= _GATHERED):
                try:
                    async with asyncio.timeout_at(until):
                        event = await waiting.get()
                except TimeoutError:
                    break
                if event is None:
                    yield some
                    await taking
                    return
                some.append(event)
            yield some
        await taking
    finally:
        taking.cancel()


async def _ready(spare: asyncio.Task[LegProcess] | None) -> LegProcess | None:
    """A process that was made ready before; None where there is none, or it is gone."""
    if spare is None:
        return None
    with suppress(OSError, RuntimeError, EOFError):
        process = await spare
        if not process.is_gone:
            return process
        process.close()
    return None


class LegPool:
    """Gives leg processes from a fork server that stays warm; of this machine's files they see those below ``roots``."""

    def __init__(self, roots: Sequence[str]) -> None:
        self._roots, self._scratch = roots, new_scratch()
        self._fork_server: asyncio.subprocess.Process | None = None
        self._socket: socket.socket | None = None
        self._starting = asyncio.Lock()
        self._spare: asyncio.Task[LegProcess] | None = None

    async def warm(self) -> None:
        """Makes sure that the fork server is there; RuntimeError where it does not start, tried three times."""
        async with self._starting:
            if self._fork_server is not None and self._fork_server.returncode is None:
                return
            for _ in range(_TRIES):
                if await self._start():
                    return
            raise RuntimeError("the fork server of leg processes did not start; the log above says why")

    async def _start(self) -> bool:
        ours, theirs = socket.socketpair()
        program = [sys.executable, "-m", "ultravect.service.work.processes.fork_server", str(theirs.fileno())]
        command = await asyncio.to_thread(confined, program, self._roots, self._scratch)
        self._fork_server = await asyncio.create_subprocess_exec(
            *command,
            stdin=asyncio.subprocess.DEVNULL,
            # no library may start threads before the fork
            env={**environment_of_legs(), "OPENBLAS_NUM_THREADS": "1", "OMP_NUM_THREADS": "1"},
            pass_fds=[theirs.fileno()],
            start_new_session=True,
        )
        theirs.close()
        if await asyncio.to_thread(ours.recv, 16):
            self._socket = ours
            return True
        ours.close()
        log.warning("the fork server of leg processes did not start", returned=await self._fork_server.wait())
        return False

    async def take(self) -> LegProcess:
        """A process that waits for its task. Another one is made ready meanwhile, so that the next leg need not wait for it."""
        spare, self._spare = self._spare, None
        process = await _ready(spare) or await self._forked()
        self._spare = asyncio.create_task(self._forked())
        return process

    async def _forked(self) -> LegProcess:
        try:
            return await self._fork()
        except OSError:
            # the fork server died since it was last seen
            self._fork_server = None
            return await self._fork()

    async def _fork(self) -> LegProcess:
        await self.warm()
        assert self._socket is not None
        ours, theirs = socket.socketpair()
        take_credentials(ours)
        with theirs:
            socket.send_fds(self._socket, [b"leg"], [theirs.fileno()])
        pid = await asyncio.to_thread(sender_of, ours)
        reader, writer = await asyncio.open_connection(sock=ours, limit=_LINE_LIMIT)
        return LegProcess(reader, writer, pid)

    async def close(self) -> None:
        if (spare := await _ready(self._spare)) is not None:
            spare.close()
        if self._socket is not None:
            self._socket.close()
        if self._fork_server is not None:
            await self._fork_server.wait()
        remove_scratch(self._scratch)
