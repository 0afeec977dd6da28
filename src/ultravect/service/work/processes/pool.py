"""Leg processes: each runs one leg, so that its end, its limits or its crash harm nothing else."""

from __future__ import annotations

import asyncio
import hashlib
import json
import os
import signal
from collections.abc import AsyncIterator, Callable, Mapping
from contextlib import suppress
from typing import Any

import structlog

from ultravect.service.work.processes.forks import ForkServer, kinds_in
from ultravect.service.work.processes.messages import MAX_LINE, NotAMessage, read_message

log = structlog.get_logger()
_LINE_LIMIT = MAX_LINE
_FREE_SECONDS = 1.0
"""How long a process waits for another task: it keeps its sessions with servers meanwhile."""

_MOST_FREE = 8


class LegProcess:
    """One process, from waiting for its task to its end, or until it is free for another task, which ``keep`` takes it for.

    ``connections``: what its tasks have in common.
    """

    def __init__(
        self,
        reader: asyncio.StreamReader,
        writer: asyncio.StreamWriter,
        pid: int,
        keep: Callable[[LegProcess], None],
        connections: str = "",
    ) -> None:
        self._reader = reader
        self._writer = writer
        self._pid = pid
        self._keep = keep
        self.connections = connections
        self._ended = self._is_free = self._is_given_back = self._has_task = False

    @property
    def is_gone(self) -> bool:
        """Whether the process has ended, as far as is seen from here."""
        return self._ended or self._reader.at_eof()

    async def send(self, task: dict[str, Any]) -> None:
        self._has_task = True
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
                if said["kind"] == "free":
                    self._is_free = True
                    break
                yield said
        self._ended = True

    def stop(self) -> None:
        """Asks the leg to stop and roll back."""
        if not self._ended:
            self._writer.write(b'{"stop": true}\n')

    def kill(self) -> None:
        if not self._ended:
            with suppress(ProcessLookupError):
                os.kill(self._pid, signal.SIGKILL)

    def close(self) -> None:
        """Lets go of the leg; one that still runs ends with this."""
        if self._is_free:
            # this object is the leg that has ended: what is still asked of it, as to stop, is not for the next one
            self._is_free, self._is_given_back = False, True
            self._keep(LegProcess(self._reader, self._writer, self._pid, self._keep, self.connections))
        elif not self._is_given_back:
            self.end()

    def end(self) -> None:
        """Ends the process: one that has a task at once, whatever it does; one that has none closes its sessions with servers first."""
        if self._has_task:
            self.kill()
        self._writer.close()


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
    """Gives leg processes: one that ended well is given the next task with the same connections, if that comes soon; all others are new.

    A process is never given secrets of other connections than its first.
    """

    def __init__(self, forks: ForkServer) -> None:
        self._forks = forks
        self._spare: asyncio.Task[LegProcess] | None = None
        self._free: list[tuple[LegProcess, asyncio.TimerHandle]] = []

    async def warm(self) -> None:
        await asyncio.to_thread(self._forks.warm)

    async def take(self, task: Mapping[str, Any] | None = None) -> LegProcess:
        """A process that waits for this task, or for any. Another one is made ready meanwhile, so that the next leg need not wait for it."""
        if task is not None:
            self._forks.use(kinds_in(task))
        connections = _connections_of(task)
        if connections and (free := self._free_with(connections)) is not None:
            return free
        spare, self._spare = self._spare, None
        process = await _ready(spare) or await self._fork()
        process.connections = connections
        self._spare = asyncio.create_task(self._fork())
        return process

    def _free_with(self, connections: str) -> LegProcess | None:
        for place, (process, timer) in enumerate(self._free):
            if process.connections == connections and not process.is_gone:
                del self._free[place]
                timer.cancel()
                return process
        return None

    def _keep(self, process: LegProcess) -> None:
        if not process.connections:
            process.end()
            return
        timer = asyncio.get_running_loop().call_later(_FREE_SECONDS, self._let_go, process)
        self._free.append((process, timer))
        if len(self._free) > _MOST_FREE:
            self._let_go(self._free[0][0])

    def _let_go(self, process: LegProcess) -> None:
        for place, (known, timer) in enumerate(self._free):
            if known is process:
                timer.cancel()
                del self._free[place]
                break
        process.end()

    async def _fork(self) -> LegProcess:
        ours, pid = await asyncio.to_thread(self._forks.fork, "leg")
        reader, writer = await asyncio.open_connection(sock=ours, limit=_LINE_LIMIT)
        return LegProcess(reader, writer, pid, self._keep)

    async def close(self) -> None:
        if (spare := await _ready(self._spare)) is not None:
            spare.close()
        for process, _ in list(self._free):
            self._let_go(process)


def _connections_of(task: Mapping[str, Any] | None) -> str:
    """What tasks have in common that one process may carry out: connections with all their secrets, and limits."""
    if task is None:
        return ""
    shared = {name: task.get(name) for name in ("source", "target", "memory", "lost_after")}
    return hashlib.sha256(json.dumps(shared, sort_keys=True).encode()).hexdigest()
