"""A warm pool of leg processes: each runs one leg, so that its end, its limits or its crash harm nothing else."""

from __future__ import annotations

import asyncio
import json
import os
import signal
import sys
from collections.abc import AsyncIterator
from contextlib import suppress
from typing import Any

_LINE_LIMIT = 64 << 20
# what a leg needs of the environment; secrets come with its task, never this way
_ENVIRONMENT = ("PATH", "HOME", "LANG", "LC_ALL", "TZ", "LD_LIBRARY_PATH", "PYTHONPATH", "SSL_CERT_FILE")


class LegProcess:
    """One process, from waiting to its end."""

    def __init__(self, process: asyncio.subprocess.Process) -> None:
        self._process = process

    @classmethod
    async def start(cls) -> LegProcess:
        environment = {key: os.environ[key] for key in _ENVIRONMENT if key in os.environ}
        process = await asyncio.create_subprocess_exec(
            sys.executable,
            "-m",
            "ultravect.service.work.leg_process",
            stdin=asyncio.subprocess.PIPE,
            stdout=asyncio.subprocess.PIPE,
            env=environment,
            limit=_LINE_LIMIT,
            start_new_session=True,
        )
        leg = cls(process)
        assert process.stdout is not None
        await process.stdout.readline()
        return leg

    @property
    def alive(self) -> bool:
        return self._process.returncode is None

    async def send(self, task: dict[str, Any]) -> None:
        assert self._process.stdin is not None
        self._process.stdin.write(json.dumps(task).encode() + b"\n")
        await self._process.stdin.drain()

    async def events(self) -> AsyncIterator[dict[str, Any]]:
        """What the leg says, until it ends."""
        assert self._process.stdout is not None
        async for line in self._process.stdout:
            yield json.loads(line)

    def stop(self) -> None:
        """Asks the leg to stop and roll back."""
        with suppress(ProcessLookupError):
            self._process.send_signal(signal.SIGTERM)

    def kill(self) -> None:
        with suppress(ProcessLookupError):
            self._process.kill()

    async def ended(self) -> int:
        """Waits for the end; the exit code, negative for a signal."""
        return await self._process.wait()


class LegPool:
    """Keeps ``warm`` processes waiting."""

    def __init__(self, warm: int) -> None:
        self._warm = warm
        self._idle: list[LegProcess] = []
        self._filling: set[asyncio.Task[None]] = set()
        self._closed = False

    async def fill(self) -> None:
        while not self._closed and len(self._idle) < self._warm:
            leg = await LegProcess.start()
            if self._closed:
                leg.kill()
            else:
                self._idle.append(leg)

    async def take(self) -> LegProcess:
        """A process that waits for its task; another one is started in its place."""
        leg: LegProcess | None = None
        while self._idle and leg is None:
            candidate = self._idle.pop(0)
            leg = candidate if candidate.alive else None
        return leg or await LegProcess.start()

    def refill(self) -> None:
        """Starts what is missing, in the background; called once a leg is under way, to stay out of its start."""
        task = asyncio.get_running_loop().create_task(self.fill())
        self._filling.add(task)
        task.add_done_callback(self._filling.discard)

    async def close(self) -> None:
        self._closed = True
        for leg in self._idle:
            leg.kill()
        for leg in self._idle:
            await leg.ended()
        self._idle.clear()
