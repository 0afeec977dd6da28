"""Slices of legs: taken by any worker that is free, and looked after by the worker that has their leg."""

from __future__ import annotations

import asyncio
import time
from collections import Counter
from contextlib import suppress
from typing import Any

import structlog
from django.conf import settings
from django.utils import timezone

from ultravect.core.errors import UltravectError
from ultravect.service.records.models import Leg, Slice, State
from ultravect.service.work.processes.pool import ENDINGS, gathered
from ultravect.service.work.processes.protocol import Process, Processes, attended
from ultravect.service.work.recorded import opened_connection, recorded
from ultravect.service.work.runs.attempts import job_of
from ultravect.service.work.runs.leases import NOT_ANSWERED, is_late
from ultravect.service.work.runs.transitions import LeaseLost, LegRecord, SliceRecord, give_back_lost_slices

log = structlog.get_logger()

_POLL_SECONDS = 0.1
_WATCH_SECONDS = 0.25
_PROGRESS_SECONDS = 0.5
# after these an attempt is made again: they say nothing of the rows
_AGAIN = frozenset(
    [
        "connection-lost",
        "host-unreachable",
        "port-refused",
        "target-locked",
        "server-full",
        "server-starting",
        "server-stopping",
    ]
)
_FIGURES = ("rows_read", "bytes_read", "rows_staged", "bytes_total")


class SliceExecutor:
    """Copies slices with the processes of one pool."""

    def __init__(self, pool: Processes, worker: str) -> None:
        self._pool, self._worker = pool, worker

    async def execute_next(self, run: int, leg: int) -> bool:
        """Copies one slice of a leg; False where there is none to be taken."""
        record = await recorded(SliceRecord.take)(run, leg, self._worker)
        if record is None:
            return False
        with suppress(LeaseLost):
            try:
                await self._copy(record)
            except asyncio.CancelledError:
                # a slice that is another's by now must not keep this task from ending
                with suppress(LeaseLost):
                    await recorded(record.failed)(_gave_up("the service was stopped"), again=True)
                raise
            except UltravectError as error:
                await recorded(record.failed)(error.as_dict(), again=error.code in _AGAIN)
            except Exception as error:
                log.exception("slice failed unexpectedly", run=run, leg=leg, slice=record.piece.number)
                with suppress(*NOT_ANSWERED):
                    await recorded(record.failed)(_gave_up(f"unexpected: {type(error).__name__}"), again=True)
        return True

    async def _copy(self, record: SliceRecord) -> None:
        task = await recorded(_task)(record)
        async with attended(self._pool, task) as process:
            await process.send(task)
            watch = asyncio.create_task(_watch(process, record))
            try:
                ending = None
                async for events in gathered(process.events()):
                    ending = next((event for event in events if event["kind"] in ENDINGS), ending)
                    if known := [event for event in events if event["kind"] not in ENDINGS]:
                        await recorded(record.record)(*known)
            finally:
                watch.cancel()
            if ending is None or ending["kind"] == "stopped":
                await recorded(record.failed)(_gave_up("the slice's process died"), again=True)
            elif ending["kind"] == "failed":
                await recorded(record.failed)(ending["error"], again=ending["error"]["code"] in _AGAIN)
            else:
                await recorded(record.done)(ending["slice"])

    async def of_leg(self, process: Process, record: LegRecord) -> None:
        """Copies slices of a leg while others do, too, and passes on to the leg's process what becomes of each."""
        own = asyncio.create_task(self._copy_own(record))
        try:
            await _report(process, record)
        finally:
            own.cancel()
            with suppress(asyncio.CancelledError):
                await own

    async def _copy_own(self, record: LegRecord) -> None:
        while True:
            try:
                copied = await self.execute_next(record.run.pk, record.leg.number)
            except NOT_ANSWERED:
                copied = False
            if not copied:
                await asyncio.sleep(_POLL_SECONDS)


def _gave_up(why: str) -> dict[str, Any]:
    return UltravectError("connection-lost", why, hint="the slice is copied again").as_dict()


def _task(record: SliceRecord) -> dict[str, Any]:
    leg = record.leg
    structure = job_of(leg)
    return {
        "kind": "slice",
        "run": str(leg.run_id),
        "number": record.piece.number,
        "plan": Leg.objects.values_list("plan", flat=True).get(pk=leg.pk),
        "order": leg.slice_order,
        "memory": settings.LEG_MEMORY_BYTES,
        "lost_after": settings.LOST_AFTER_SECONDS,
        "source": opened_connection(structure["from"]["connection"], structure),
        "target": opened_connection(structure["into"]["connection"]),
    }


async def _watch(process: Process, record: SliceRecord) -> None:
    """Ends the process when the slice is not this worker's any more, or its lease could not be renewed."""
    seen = time.monotonic()
    while True:
        await asyncio.sleep(_WATCH_SECONDS)
        try:
            await recorded(record.seen)()
            seen = time.monotonic()
        except LeaseLost:
            process.kill()
            return
        except NOT_ANSWERED:
            if is_late(seen):
                process.kill()
                return


async def _report(process: Process, record: LegRecord) -> None:
    """Passes on each slice that has ended, once, until all have."""
    passed: set[int] = set()
    shown = 0.0
    loop = asyncio.get_running_loop()
    while True:
        await asyncio.sleep(_POLL_SECONDS)
        try:
            await recorded(give_back_lost_slices)(record.leg)
            pieces = await recorded(lambda: list(Slice.objects.filter(leg=record.leg)))()
            for piece in pieces:
                if piece.number in passed or not State(piece.state).ended:
                    continue
                if piece.state == State.SUCCEEDED:
                    await process.send({"slice": piece.result})
                elif piece.state == State.FAILED:
                    await process.send({"error": piece.error})
                passed.add(piece.number)
            if loop.time() - shown > _PROGRESS_SECONDS or len(passed) == len(pieces):
                shown = loop.time()
                await recorded(record.record)({"kind": "progress", **_summed(pieces)})
        except NOT_ANSWERED:
            continue
        if len(passed) == len(pieces):
            return


def _summed(pieces: list[Slice]) -> dict[str, Any]:
    """The progress of a leg, from that of its slices."""
    figures: Counter[str] = Counter(dict.fromkeys(_FIGURES, 0))
    for piece in pieces:
        figures.update({name: piece.progress.get(name, 0) for name in _FIGURES})
    started = min((piece.started_at for piece in pieces if piece.started_at), default=None)
    ended = [piece.ended_at for piece in pieces]
    until = max((moment for moment in ended if moment), default=None) if all(ended) else None
    seconds = ((until or timezone.now()) - started).total_seconds() if started else 0
    return {**figures, "rows_per_second": round(figures["rows_read"] / seconds) if seconds > 0 else 0}
