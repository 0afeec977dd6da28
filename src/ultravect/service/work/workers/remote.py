"""A worker that speaks HTTPS to the service alone, seen from the service: its processes, reached through one connection.

What a worker does with the records (leases, events, outcomes) this process does for it; the other machine has the processes in
which legs, slices and looks run, and nothing else. See ``remote_worker`` for its end, which defines the messages.
"""

from __future__ import annotations

import asyncio
import concurrent.futures
import itertools
import time
from collections.abc import AsyncIterator, Awaitable, Callable, Mapping
from typing import Any

from django.conf import settings
from django.db import connections

from ultravect.core.errors import UltravectError
from ultravect.service.work.processes.protocol import Process

_START_SECONDS = 60.0
_LOOK_GRACE_SECONDS = 5.0
_GREET_SECONDS = 1.0
_WAITING_LINES = 256

Say = Callable[[dict[str, Any]], Awaitable[None]]


class RemoteProcess:
    """See ``Process``; ``say`` sends a message about it to its machine."""

    def __init__(self, number: int, say: Say) -> None:
        self._number, self._say = number, say
        self.lines: asyncio.Queue[dict[str, Any] | None] = asyncio.Queue(_WAITING_LINES)
        self.started: asyncio.Future[None] = asyncio.get_running_loop().create_future()
        self._greeted, self._ended = 0.0, False
        self._sending: set[asyncio.Task[None]] = set()

    async def send(self, task: dict[str, Any]) -> None:
        await self._say({"process": self._number, "line": task})

    async def greet(self) -> None:
        if not self._ended and time.monotonic() - self._greeted > _GREET_SECONDS:
            self._greeted = time.monotonic()
            await self._do("greet")

    async def events(self) -> AsyncIterator[dict[str, Any]]:
        while (line := await self.lines.get()) is not None:
            yield line
        self._ended = True

    def stop(self) -> None:
        self._soon("stop")

    def kill(self) -> None:
        self._soon("kill")

    def close(self) -> None:
        self._soon("close")

    async def _do(self, what: str) -> None:
        await self._say({"process": self._number, "do": what})

    def _soon(self, what: str) -> None:
        sending = asyncio.create_task(self._do(what))
        self._sending.add(sending)
        sending.add_done_callback(self._sending.discard)


class RemoteProcesses:
    """The processes of the machine to which ``say`` sends messages; ``heard`` takes what comes from there."""

    def __init__(self, say: Say) -> None:
        self._say = say
        self._numbers = itertools.count(1)
        self._processes: dict[int, RemoteProcess] = {}
        self._looks: dict[int, asyncio.Future[str | None]] = {}
        self._loop = asyncio.get_running_loop()

    async def warm(self) -> None:
        """The other machine has seen to it before it joined."""

    async def close(self) -> None:
        """The other machine ends its processes when the connection ends."""

    async def take(self) -> Process:
        number = next(self._numbers)
        process = self._processes[number] = RemoteProcess(number, self._say)
        await self._say({"process": number, "do": "start"})
        try:
            async with asyncio.timeout(_START_SECONDS):
                await process.started
        except TimeoutError:
            self._processes.pop(number, None)
            raise OSError("the worker does not start a process") from None
        return process

    def look_here(self, name: str, seconds: float, arguments: Mapping[str, Any]) -> bytes | None:
        """See ``LookPool.look_here``; called in a thread."""
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
        number = next(self._numbers)
        answer = self._looks[number] = self._loop.create_future()
        question = {"name": name, "arguments": dict(arguments), "memory": settings.LOOK_MEMORY_BYTES}
        try:
            await self._say({"look": number, "seconds": seconds, **question})
            return await answer
        finally:
            del self._looks[number]

    async def heard(self, message: dict[str, Any]) -> None:
        """Passes on a message of the other machine; KeyError or TypeError for one that is not as it should be."""
        if "look" in message:
            waiting = self._looks.get(message["look"])
            answer = message["answer"]
            if waiting is not None and not waiting.done() and (answer is None or isinstance(answer, str)):
                waiting.set_result(answer)
            return
        number = message["process"]
        process = self._processes.get(number)
        if process is None:
            return
        if "line" in message:
            line = message["line"]
            if not isinstance(line, dict) or not isinstance(line.get("kind"), str):
                raise TypeError("a line of a process is an object with a kind")
            await process.lines.put(line)
        elif message["state"] == "started":
            if not process.started.done():
                process.started.set_result(None)
        else:
            del self._processes[number]
            if not process.started.done():
                process.started.set_exception(OSError("the worker could not start a process"))
            await process.lines.put(None)
