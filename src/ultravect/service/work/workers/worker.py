"""A worker: claims what there is to do, renews its leases, and looks after what other workers have left."""

from __future__ import annotations

import asyncio
import datetime as dt
from collections.abc import Callable, Coroutine, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from typing import Any

import structlog
from django.conf import settings
from django.utils import timezone

from ultravect.service.records.models import Leg, SiteLook, WorkerSeen
from ultravect.service.records.moments import records_now
from ultravect.service.work.processes.look_pool import FORKS, POOL
from ultravect.service.work.processes.pool import LegPool
from ultravect.service.work.processes.protocol import Processes
from ultravect.service.work.recorded import apart, recorded
from ultravect.service.work.runs.attempts import job_of
from ultravect.service.work.runs.execute import LegExecutor
from ultravect.service.work.runs.lay_out import find_legs
from ultravect.service.work.runs.leases import NOT_ANSWERED, Leases
from ultravect.service.work.runs.slices import SliceExecutor
from ultravect.service.work.runs.transitions import (
    Claimant,
    LegRecord,
    Waiting,
    claim_leg,
    claim_look,
    claim_search,
    lose,
    lost_legs,
    note_waiting,
    unsettled,
    waiting_slice,
)
from ultravect.service.work.streams.execute import StreamExecutor
from ultravect.service.work.streams.leases import StreamLeases
from ultravect.service.work.streams.transitions import claim_stream
from ultravect.service.work.wake_ups import LOOK, STREAM, WORK, listen
from ultravect.service.work.worker_name import worker_name
from ultravect.service.work.workers.site_looks import answer_look
from ultravect.service.work.workers.sites import HOME, may_serve, sites_of_target

log = structlog.get_logger()
LookHere = Callable[[str, float, Mapping[str, Any]], bytes | None]
"""Looks at something at the place of the worker; see ``LookPool.look_here``."""

_ASK_SECONDS, _ASK_LOOKS_SECONDS = 1.0, 5.0
"""How often it is asked what there is to do, though a notice comes when there is: pauses of legs end without one, and a notice can be lost."""

_PAUSE_SECONDS = 1.0
_STOP_SECONDS = 5.0
_LOOKS = 4
_STREAMS = 50
"""How many streams a worker follows; they take no slots, and a process each."""

_SETTLERS = 4
_SIGNS = ThreadPoolExecutor(1, thread_name_prefix="sign of life")
"""A worker is known, and stays known, however long the records keep its other work waiting."""

Work = Coroutine[Any, Any, None]


async def run_worker(
    slots: int,
    sites: Sequence[str] = (HOME,),
    *,
    name: str = "",
    processes: Processes | None = None,
    look_here: LookHere = POOL.look_here,
) -> None:
    """Works until cancelled, on what needs these sites and no others.

    ``processes`` and ``look_here`` are those of another machine where this process works for a worker that has not the records itself,
    whose ``name`` is recorded then.
    """
    claimant = Claimant(name or worker_name(), frozenset(sites), joined=processes is not None)
    worker = _Worker(claimant, slots, processes or LegPool(FORKS), look_here)
    await worker.run()


class _Worker:
    def __init__(self, claimant: Claimant, slots: int, pool: Processes, look_here: LookHere) -> None:
        self._claimant, self._slots, self._pool, self._look_here = claimant, slots, pool, look_here
        self._leases = Leases()
        self._slices = SliceExecutor(pool, claimant.worker)
        self._legs = LegExecutor(pool, self._slices, self._leases, claimant.worker)
        self._woken = asyncio.Event()
        self._looked = asyncio.Event()
        self._for_streams = asyncio.Event()
        self._stream_leases = StreamLeases()
        self._streams = StreamExecutor(pool, self._stream_leases)

    async def run(self) -> None:
        await self._pool.warm()
        every = settings.LOST_AFTER_SECONDS / 5
        # each by itself: what waits long for an unreachable target must not keep lost legs from being taken over
        tasks = [
            asyncio.create_task(work)
            for work in (
                self._leases.keep(),
                self._stream_leases.keep(),
                _again_and_again(self._give_sign, every),
                _again_and_again(self._lose, every),
                self._take(self._claim_unsettled, _SETTLERS, asyncio.Event(), every),
                listen({WORK: self._woken, LOOK: self._looked, STREAM: self._for_streams}),
                self._take(self._claim, self._slots, self._woken, _ASK_SECONDS),
                self._take(self._claim_look, _LOOKS, self._looked, _ASK_LOOKS_SECONDS),
                self._take(self._claim_stream, _STREAMS, self._for_streams, _ASK_SECONDS),
            )
        ]
        try:
            await asyncio.gather(*tasks)
        finally:
            for task in tasks:
                task.cancel()
            await asyncio.wait(tasks)
            with suppress(Exception):
                await apart(_forget, _SIGNS)(self._claimant.worker)
            await self._pool.close()

    async def _take(self, claim: Callable[[], Work | None], slots: int, woken: asyncio.Event, every: float) -> None:
        """Keeps so many pieces of work under way, as long as there are some to be claimed; asks for them every so many seconds, too."""
        under_way: set[asyncio.Task[None]] = set()

        def ended(task: asyncio.Task[None]) -> None:
            under_way.discard(task)
            woken.set()
            if not task.cancelled() and (error := task.exception()) is not None:
                log.error("a piece of work broke off", exc_info=error)

        answered = True
        try:
            while True:
                woken.clear()
                try:
                    while len(under_way) < slots and (work := await recorded(claim)()) is not None:
                        task = asyncio.create_task(work)
                        under_way.add(task)
                        task.add_done_callback(ended)
                    answered = True
                except NOT_ANSWERED as error:
                    if answered:
                        log.warning(
                            "the records do not answer, and are asked again", reason=str(error).partition("\n")[0]
                        )
                    answered = False
                except Exception:
                    log.exception("nothing could be claimed")
                    await asyncio.sleep(_PAUSE_SECONDS)
                with suppress(TimeoutError):
                    async with asyncio.timeout(every):
                        await woken.wait()
        finally:
            for task in under_way:
                task.cancel()
            if under_way:
                await asyncio.wait(under_way, timeout=_STOP_SECONDS)

    def _claim(self) -> Work | None:
        """Slices come before legs that have not begun."""
        waiting = Waiting.now()
        if waiting.slices and (found := waiting_slice(self._claimant)) is not None:
            return self._slice(*found)
        if waiting.legs and (record := claim_leg(self._claimant)) is not None:
            return self._legs.execute(record)
        if waiting.searches and (search := claim_search(self._claimant)) is not None:
            return find_legs(self._pool, *search)
        if waiting.legs:
            note_waiting()
        return None

    async def _slice(self, run: int, leg: int) -> None:
        await self._slices.execute_next(run, leg)

    def _claim_stream(self) -> Work | None:
        record = claim_stream(self._claimant)
        return self._streams.execute(record) if record is not None else None

    def _claim_look(self) -> Work | None:
        found = claim_look(self._claimant)
        return asyncio.to_thread(answer_look, found, self._look_here) if found is not None else None

    async def _give_sign(self) -> None:
        await apart(_seen, _SIGNS)(self._claimant, self._slots)

    async def _lose(self) -> None:
        """Has legs be claimed anew whose worker is lost."""
        for number, lease in await recorded(lost_legs)():
            if state := await recorded(lose)(number, lease):
                log.warning("the leg of a lost worker is taken over, or ended", leg=number, state=state)

    def _claim_unsettled(self) -> Work | None:
        while (leg := unsettled(self._may_ask)) is not None:
            if LegRecord(leg).has_receipts():
                return self._settle(leg)
        return None

    async def _settle(self, leg: Leg) -> None:
        """Asks a target what an ended leg has left there, where that is not known."""
        record = LegRecord(leg)
        outcome, account = await self._legs.asked(leg)
        with suppress(*NOT_ANSWERED):  # it is asked again later
            if leg.unverified and outcome != "unknown":
                await recorded(record.verified_late)(account.get("tally"))
            elif not leg.unverified:
                await recorded(record.settle)(outcome, account)

    def _may_ask(self, leg: Leg) -> bool:
        return may_serve(sites_of_target(job_of(leg)), self._claimant.sites, joined=self._claimant.joined)


async def _again_and_again(what: Callable[[], Work], seconds: float) -> None:
    """Does something now and then, whatever becomes of it, until cancelled."""
    while True:
        try:
            await what()
        except NOT_ANSWERED:
            pass  # the records do not answer at this moment, which is logged where work is claimed
        except Exception:
            log.exception("looking after legs failed")
        await asyncio.sleep(seconds)


def _seen(claimant: Claimant, slots: int) -> None:
    """Notes a sign of life of this worker, and forgets those that have given none for long."""
    WorkerSeen.objects.update_or_create(
        name=claimant.worker,
        defaults={
            "sites": sorted(claimant.sites),
            "slots": slots,
            "seen_at": records_now(),
            "joined": claimant.joined,
        },
    )
    WorkerSeen.objects.filter(seen_at__lt=records_now(-dt.timedelta(days=1))).delete()
    SiteLook.objects.filter(asked_at__lt=timezone.now() - dt.timedelta(hours=1)).delete()


def _forget(worker: str) -> None:
    WorkerSeen.objects.filter(name=worker).delete()
