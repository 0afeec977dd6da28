"""A worker that speaks HTTPS to the service alone, seen from the service: its processes, reached through one connection.

What a worker does with the records (leases, events, outcomes) this process does for it; the other machine has the processes in
which legs, slices and looks run, and nothing else. It is another organisation's: it is given the connections of its own sites, and what
it says is read by type. See ``remote_worker`` for its end, and ``wire`` for the messages.
"""

from __future__ import annotations

import asyncio
import concurrent.futures
import itertools
import json
import time
from collections.abc import AsyncIterator, Awaitable, Callable, Mapping, Sequence
from typing import Any

from django.conf import settings
from django.db import connections

from ultravect.core.errors import UltravectError
from ultravect.service.work.processes.messages import MAX_LINE, read_message
from ultravect.service.work.processes.protocol import Process
from ultravect.service.work.workers.sites import require_own
from ultravect.service.work.workers.wire import (
    MAX_ANSWER,
    WINDOW,
    BadMessage,
    Joined,
    LookEnd,
    LookPart,
    ProcessPart,
    ProcessState,
    parts_of,
    read_heard,
)

_START_SECONDS = 60.0
_LOOK_GRACE_SECONDS = 5.0
_GREET_SECONDS = 1.0
_MOST_LOOKS = 16
# what is shorter takes less time to read than to hand to a thread
_SHORT = 2_048

Say = Callable[[dict[str, Any]], Awaitable[None]]


class RemoteProcess:
    """See ``Process``; ``say`` sends a message to its machine, ``leave`` is called when no one listens to it any more."""

    def __init__(self, number: int, sites: Sequence[str], say: Say, leave: Callable[[int], None]) -> None:
        self._number, self._sites, self._say, self._leave = number, sites, say, leave
        self._lines: asyncio.Queue[tuple[dict[str, Any] | None, int]] = asyncio.Queue()
        self._waiting = 0
        self._joined = Joined()
        self.started: asyncio.Future[None] = asyncio.get_running_loop().create_future()
        self._greeted, self._ended = 0.0, False
        self._sending: set[asyncio.Task[None]] = set()

    async def send(self, task: dict[str, Any]) -> None:
        require_own(self._sites, task)
        # a cluster is at home, and so is the key by which it is reached
        for part in parts_of(json.dumps({**task, "cluster": None} if "cluster" in task else task)):
            await self._say({"process": self._number, **part})

    async def greet(self) -> None:
        if not self._ended and time.monotonic() - self._greeted > _GREET_SECONDS:
            self._greeted = time.monotonic()
            await self._do("greet")

    async def events(self) -> AsyncIterator[dict[str, Any]]:
        while True:
            line, size = await self._lines.get()
            if line is None:
                break
            self._waiting -= size
            await self._say({"process": self._number, "taken": size})
            yield line
        self._ended = True

    async def heard(self, part: str, last: bool) -> None:
        """Keeps a part of what the process says; BadMessage where it says what no process does, or more than it may."""
        text = self._joined.add(part, last)
        if text is None:
            return
        self._waiting += len(text)
        if self._waiting > WINDOW + MAX_LINE:
            raise BadMessage("a process says more than is taken from it")
        line = read_message(text) if len(text) < _SHORT else await asyncio.to_thread(read_message, text)
        self._lines.put_nowait((line, len(text)))

    def ended(self) -> None:
        """Its machine has said that there is no more."""
        if not self.started.done():
            self.started.set_exception(OSError("the worker could not start a process"))
        self._lines.put_nowait((None, 0))

    def stop(self) -> None:
        self._soon("stop")

    def kill(self) -> None:
        self._soon("kill")

    def close(self) -> None:
        # from here on, what it says is not kept
        self._ended = True
        self._leave(self._number)
        self._soon("close")

    async def _do(self, what: str) -> None:
        await self._say({"process": self._number, "do": what})

    def _soon(self, what: str) -> None:
        sending = asyncio.create_task(self._do(what))
        self._sending.add(sending)
        sending.add_done_callback(self._sending.discard)


class RemoteProcesses:
    """The processes of the machine to which ``say`` sends messages, a worker of ``sites``; ``heard`` takes what comes from there."""

    def __init__(self, sites: Sequence[str], say: Say) -> None:
        self._sites, self._say = sites, say
        self._numbers = itertools.count(1)
        self._processes: dict[int, RemoteProcess] = {}
        self._looks: dict[int, tuple[asyncio.Future[str | None], Joined]] = {}
        self._loop = asyncio.get_running_loop()

    async def warm(self) -> None:
        """The other machine has seen to it before it joined."""

    async def close(self) -> None:
        """The other machine ends its processes when the connection ends."""

    async def take(self, task: Mapping[str, Any] | None = None) -> Process:
        number = next(self._numbers)
        process = self._processes[number] = RemoteProcess(number, self._sites, self._say, self._forget)
        await self._say({"process": number, "do": "start"})
        try:
            async with asyncio.timeout(_START_SECONDS):
                await process.started
        except TimeoutError:
            process.close()
            raise OSError("the worker does not start a process") from None
        return process

    def _forget(self, number: int) -> None:
        self._processes.pop(number, None)

    def look_here(self, name: str, seconds: float, arguments: Mapping[str, Any]) -> bytes | None:
        """See ``LookPool.look_here``; called in a thread."""
        require_own(self._sites, arguments)
        connections.close_all()
        asking = asyncio.run_coroutine_threadsafe(self._look(name, seconds, arguments), self._loop)
        try:
            answer = asking.result(seconds + _LOOK_GRACE_SECONDS)
        except TimeoutError:
            asking.cancel()
            return None
        except concurrent.futures.CancelledError:
            raise UltravectError(
                "worker-lost", "the worker of the site was lost while it looked", hint="try again in a moment"
            ) from None
        return None if answer is None else answer.encode()

    async def _look(self, name: str, seconds: float, arguments: Mapping[str, Any]) -> str | None:
        if len(self._looks) >= _MOST_LOOKS:
            raise UltravectError(
                "too-busy", "the site's worker looks at too much at this moment", hint="try again in a moment"
            )
        number = next(self._numbers)
        answer: asyncio.Future[str | None] = self._loop.create_future()
        self._looks[number] = answer, Joined(MAX_ANSWER)
        question = {"name": name, "arguments": dict(arguments), "memory": settings.LOOK_MEMORY_BYTES}
        try:
            for part in parts_of(json.dumps({"seconds": seconds, **question})):
                await self._say({"look": number, **part})
            return await answer
        finally:
            del self._looks[number]

    async def heard(self, text: str | bytes) -> None:
        """Takes a message of the other machine; BadMessage or NotAMessage for one that is not as it should be."""
        message = read_heard(text) if len(text) < _SHORT else await asyncio.to_thread(read_heard, text)
        match message:
            case LookPart():
                if (waiting := self._looks.get(message.look)) is not None:
                    whole = waiting[1].add(message.part, message.last)
                    if whole is not None and not waiting[0].done():
                        waiting[0].set_result(whole)
            case LookEnd():
                if (waiting := self._looks.get(message.look)) is not None and not waiting[0].done():
                    waiting[0].set_result(None if message.state == "late" else "")
            case ProcessPart():
                if (process := self._processes.get(message.process)) is not None:
                    await process.heard(message.part, message.last)
            case ProcessState(state="started"):
                process = self._processes.get(message.process)
                if process is not None and not process.started.done():
                    process.started.set_result(None)
            case ProcessState():
                if (process := self._processes.pop(message.process, None)) is not None:
                    process.ended()
