"""Wakes those who follow a run when something has happened in it, by LISTEN and NOTIFY of PostgreSQL."""

from __future__ import annotations

import asyncio
import logging
from collections import defaultdict
from collections.abc import Iterator
from contextlib import contextmanager

import psycopg
from django.db import connection

from ultravect.service.records.direct import direct_connection, notices

_CHANNEL = "ultravect_run"
_AGAIN_SECONDS = 1.0


def notify_run(run: int, *, ended: bool = False) -> None:
    """Wakes all who follow the run, once the transaction is committed."""
    with connection.cursor() as cursor:
        cursor.execute("SELECT pg_notify(%s, %s)", (_CHANNEL, f"{run} end" if ended else str(run)))


class Happened(asyncio.Event):
    """``over``: set where what has happened is that the run ended."""

    def __init__(self) -> None:
        super().__init__()
        self.over = asyncio.Event()


class RunSignals:
    """One listening connection for all streams of a process, opened with the first."""

    def __init__(self) -> None:
        self._followers: defaultdict[int, set[Happened]] = defaultdict(set)
        self._listening: asyncio.Task[None] | None = None

    @contextmanager
    def follow(self, run: int) -> Iterator[Happened]:
        """An event that is set whenever something has happened in ``run`` since it was cleared."""
        if self._listening is None or self._listening.done():
            self._listening = asyncio.create_task(self._listen())
        happened = Happened()
        self._followers[run].add(happened)
        try:
            yield happened
        finally:
            self._followers[run].discard(happened)
            if not self._followers[run]:
                del self._followers[run]

    async def _listen(self) -> None:
        while True:
            try:
                async with await direct_connection() as listener:
                    await listener.execute(f"LISTEN {_CHANNEL}".encode())
                    self._wake_all()  # what happened before is not notified
                    async for notice in notices(listener):
                        number, _, ended = notice.payload.partition(" ")
                        for happened in self._followers.get(int(number), ()):
                            if ended:
                                happened.over.set()
                            happened.set()
            except (psycopg.Error, OSError) as error:
                logging.getLogger(__name__).warning("events of runs are asked for once a second: %s", error)
            await asyncio.sleep(_AGAIN_SECONDS)
            self._wake_all()

    def _wake_all(self) -> None:
        for followers in self._followers.values():
            for happened in followers:
                happened.set()


SIGNALS = RunSignals()
