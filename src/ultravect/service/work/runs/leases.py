"""The leases that a worker holds: renewed all at once, and looked at for those who ask to stop.

A moment in which the records do not answer ends nothing: what is to be recorded is tried again for as long as the lease lasts. Before it is over,
the worker gives the leg up, so that it never works on what another one has begun.
"""

from __future__ import annotations

import asyncio
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from dataclasses import dataclass
from typing import ParamSpec, TypeVar

import structlog
from django.conf import settings
from django.db import InterfaceError, OperationalError

from ultravect.service.work.recorded import apart, recorded
from ultravect.service.work.runs.transitions import LeaseLost, LegRecord, beat

log = structlog.get_logger()
P = ParamSpec("P")
T = TypeVar("T")
NOT_ANSWERED = (OperationalError, InterfaceError)
"""What work on the records raises where they do not answer at this moment."""

_LOOK_SECONDS = 0.25
_AGAIN_SECONDS = 0.2
_SHARE = 0.8


def is_late(renewed: float) -> bool:
    """Whether a lease that was renewed then, by the clock of this process, has to be given up: soon another worker takes what it is of."""
    return time.monotonic() - renewed > _SHARE * settings.LOST_AFTER_SECONDS


@dataclass
class _Held:
    record: LegRecord
    renewed: float
    stop: Callable[[], None]
    give_up: Callable[[], None]
    asked: bool = False
    over: bool = False


class Leases:
    """Those of one worker."""

    def __init__(self) -> None:
        self._held: dict[int, _Held] = {}
        # never waits for other work on the records
        self._thread = ThreadPoolExecutor(1, thread_name_prefix="leases")
        self._renewed = time.monotonic()
        self._any = asyncio.Event()

    @contextmanager
    def hold(
        self, records: Sequence[LegRecord], stop: Callable[[], None], give_up: Callable[[], None]
    ) -> Iterator[None]:
        """Renews the leases within this. ``stop`` is called once where someone asks a leg to stop, ``give_up`` where a lease is over."""
        for record in records:
            self._held[record.leg.pk] = _Held(record, time.monotonic(), stop, give_up)
        self._any.set()
        try:
            yield
        finally:
            for record in records:
                self._held.pop(record.leg.pk, None)

    def is_over(self, record: LegRecord) -> bool:
        held = self._held.get(record.leg.pk)
        return held is not None and (held.over or is_late(held.renewed))

    async def while_held(
        self, record: LegRecord, function: Callable[P, T], *arguments: P.args, **options: P.kwargs
    ) -> T:
        """Work on the records of a leg, tried again while they do not answer; LeaseLost once its lease is over."""
        began = time.monotonic()
        while True:
            try:
                return await recorded(function)(*arguments, **options)
            except NOT_ANSWERED as error:
                if self.is_over(record) or (record.leg.pk not in self._held and is_late(began)):
                    raise LeaseLost(f"leg {record.leg.number} of run {record.run.pk}") from error
                log.warning("the records do not answer, and are asked again", reason=str(error).partition("\n")[0])
                await asyncio.sleep(_AGAIN_SECONDS)

    async def keep(self) -> None:
        """Renews and looks, until cancelled."""
        while True:
            await self._any.wait()
            await asyncio.sleep(_LOOK_SECONDS)
            if self._held:
                await self._look()
            else:
                self._any.clear()

    async def _look(self) -> None:
        held, now = dict(self._held), time.monotonic()
        renew = now - self._renewed > settings.LOST_AFTER_SECONDS / 5
        leases = {number: one.record.leg.lease for number, one in held.items()}
        asking = asyncio.ensure_future(apart(beat, self._thread)(leases, renew=renew))
        # without a connection, the question itself waits for seconds
        while not (await asyncio.wait([asking], timeout=_LOOK_SECONDS))[0]:
            self._give_up_late(held)
        try:
            found = asking.result()
        except Exception as error:
            if not isinstance(error, NOT_ANSWERED):
                log.exception("leases could not be looked at")
            self._give_up_late(held)
            return
        if renew:
            self._renewed = now
        for number, one in held.items():
            if renew:
                one.renewed = now
            if found[number].lost and number in self._held and not one.over:
                one.over = True
                one.give_up()
            elif found[number].stop and not one.asked:
                one.asked = True
                one.stop()

    def _give_up_late(self, held: Mapping[int, _Held]) -> None:
        for one in held.values():
            if is_late(one.renewed) and not one.over:
                log.warning(
                    "a leg is given up: its lease could not be renewed",
                    run=one.record.run.pk,
                    leg=one.record.leg.number,
                )
                one.over = True
                one.give_up()
