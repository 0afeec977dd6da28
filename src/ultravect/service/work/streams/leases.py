"""The leases of the streams that a worker follows: looked at and renewed all at once, so that many idle ones cost what one does."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from dataclasses import dataclass

import structlog
from django.conf import settings

from ultravect.service.work.recorded import apart
from ultravect.service.work.runs.leases import NOT_ANSWERED, is_late
from ultravect.service.work.streams.transitions import StreamRecord, held_leases

log = structlog.get_logger()
_LOOK_SECONDS = 0.5


@dataclass
class _Held:
    lease: int
    renewed: float
    give_up: Callable[[], None]


class StreamLeases:
    """Those of one worker."""

    def __init__(self) -> None:
        self._held: dict[int, _Held] = {}
        # never waits for other work on the records
        self._thread = ThreadPoolExecutor(1, thread_name_prefix="leases of streams")
        self._renewed = time.monotonic()
        self._any = asyncio.Event()

    @contextmanager
    def hold(self, record: StreamRecord, give_up: Callable[[], None]) -> Iterator[None]:
        """Renews the lease within this; ``give_up`` is called once where it is over."""
        self._held[record.stream.pk] = _Held(record.stream.lease, time.monotonic(), give_up)
        self._any.set()
        try:
            yield
        finally:
            self._held.pop(record.stream.pk, None)

    async def keep(self) -> None:
        """Renews and looks, until cancelled."""
        while True:
            await self._any.wait()
            await asyncio.sleep(min(_LOOK_SECONDS, settings.LOST_AFTER_SECONDS / 5))
            if self._held:
                await self._look()
            else:
                self._any.clear()

    async def _look(self) -> None:
        held, now = dict(self._held), time.monotonic()
        renew = now - self._renewed > settings.LOST_AFTER_SECONDS / 5
        try:
            mine = await apart(held_leases, self._thread)(
                {number: one.lease for number, one in held.items()}, renew=renew
            )
        except NOT_ANSWERED:
            mine = {number for number, one in held.items() if not is_late(one.renewed)}
        except Exception:
            log.exception("leases of streams could not be looked at")
            mine = {number for number, one in held.items() if not is_late(one.renewed)}
        else:
            if renew:
                self._renewed = now
                for one in held.values():
                    one.renewed = now
        for number, one in held.items():
            if number not in mine and self._held.get(number) is one:
                del self._held[number]
                one.give_up()
