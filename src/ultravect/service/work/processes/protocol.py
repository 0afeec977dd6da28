"""What an executor needs of the processes in which legs and slices are copied, on this machine or on another one."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Mapping
from contextlib import asynccontextmanager, suppress
from typing import Any, Protocol

_GREET_SECONDS = 0.5


class Process(Protocol):
    """One process, from waiting for its task to its end."""

    async def send(self, task: dict[str, Any]) -> None:
        """Gives the task, and later what is said to it while it works."""

    async def greet(self) -> None:
        """Lets the process know that its worker is still there: one that does not hear this for long ends by itself."""

    def events(self) -> AsyncIterator[dict[str, Any]]:
        """What the process says, until it ends, or has done its task."""

    def stop(self) -> None:
        """Asks it to stop and roll back."""

    def kill(self) -> None: ...

    def close(self) -> None:
        """Lets go of the process; one that still runs ends with this."""


class Processes(Protocol):
    """Gives processes."""

    async def warm(self) -> None:
        """Makes sure that the next process need not wait for long."""

    async def take(self, task: Mapping[str, Any] | None = None) -> Process:
        """A process that waits for this task, or for any; OSError where there is none to be had."""

    async def close(self) -> None: ...


@asynccontextmanager
async def attended(pool: Processes, task: Mapping[str, Any]) -> AsyncIterator[Process]:
    """A process that waits for this task, and does nothing more after this context. As long as that lasts it hears that its worker is there."""
    process = await pool.take(task)

    async def greet() -> None:
        while True:
            await asyncio.sleep(_GREET_SECONDS)
            await process.greet()

    greeting = asyncio.create_task(greet())
    try:
        yield process
    finally:
        greeting.cancel()
        with suppress(asyncio.CancelledError, OSError):
            await greeting
        process.close()
