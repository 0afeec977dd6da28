"""Slices of legs: taken by any worker that is free, and looked after by the worker that has their leg."""

from __future__ import annotations

import asyncio
import datetime as dt
from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from typing import Any

import structlog
from django.conf import settings
from django.db import transaction
from django.db.models import F
from django.utils import timezone

from ultravect.core.errors import UltravectError
from ultravect.service.records.models import Leg, Slice, State
from ultravect.service.records.run_signals import notify_run
from ultravect.service.work.processes.pool import ENDINGS, gathered
from ultravect.service.work.processes.protocol import Process, Processes
from ultravect.service.work.recorded import opened_connection, recorded
from ultravect.service.work.runs.attempts import job_of
from ultravect.service.work.runs.leg_events import LeaseLost
from ultravect.service.work.runs.recorder import Recorder
from ultravect.service.work.worker_name import worker_name

log = structlog.get_logger()

MAX_ATTEMPTS = 6
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


class SliceRecorder(Recorder):
    """The records of one slice, under a lease of its own."""

    def __init__(self, leg: Leg, piece: Slice) -> None:
        super().__init__(leg)
        self.piece = piece

    @classmethod
    @transaction.atomic
    def take(cls, run: int, leg: int) -> SliceRecorder | None:
        """A slice of a leg under way that no worker has; None where there is none."""
        # what changes a slice locks its leg first
        held = Leg.objects.select_for_update(of=("self",)).filter(run_id=run, number=leg, state=State.RUNNING).first()
        found = held and held.slices.select_for_update().filter(state=State.QUEUED).order_by("number").first()
        if found is None:
            return None
        now = timezone.now()
        found.state, found.worker, found.started_at, found.seen_at = State.RUNNING, worker_name(), now, now
        found.attempts, found.lease, found.error = found.attempts + 1, found.lease + 1, None
        found.progress = {}
        found.save()
        recorder = cls(Recorder.of(run, leg).leg, found)
        # what an attempt before listed
        listed, _ = recorder.leg.rejects.filter(slice=found.number).delete()
        Leg.objects.filter(pk=found.leg_id).update(rejected=F("rejected") - listed)
        recorder.shown()
        return recorder

    @contextmanager
    def _leased(self) -> Iterator[None]:
        with transaction.atomic():
            self.leg.rejected = Leg.objects.select_for_update().get(pk=self.leg.pk).rejected
            held = Slice.objects.select_for_update().filter(
                pk=self.piece.pk, lease=self.piece.lease, state=State.RUNNING
            )
            if not held.exists():
                raise LeaseLost(f"slice {self.piece.number} of leg {self.leg.number} of run {self.run.pk}")
            yield

    def shown(self) -> None:
        """Lets those who watch the run know of the slice's state."""
        piece = self.piece
        self._event(
            "slice", {"number": piece.number, "state": piece.state, "worker": piece.worker, "error": piece.error}
        )

    def _record(self, event: dict[str, Any]) -> None:
        data = {key: value for key, value in event.items() if key not in ("kind", "said")}
        match event["kind"]:
            case "progress":
                self.piece.progress = data
                self.piece.save(update_fields=["progress"])
                notify_run(self.run.pk)
            case "rejects":
                self._event("rejects", self._rejects(data["rejects"], self.piece.number))
            case "log":
                self._event("log", {**data, "text": f"slice {self.piece.number}: {data['text']}"})

    def seen(self) -> None:
        """Notes a sign of life; LeaseLost where the slice, or its leg, is not this worker's to copy any more."""
        with self._leased():
            leg = Leg.objects.filter(pk=self.leg.pk, state=State.RUNNING, lease=self.leg.lease).first()
            if leg is None or leg.stop_requested:
                raise LeaseLost(f"leg {self.leg.number} of run {self.run.pk}")
            Slice.objects.filter(pk=self.piece.pk).update(seen_at=timezone.now())

    def done(self, result: dict[str, Any]) -> None:
        self._close(State.SUCCEEDED, result=result)

    def failed(self, error: dict[str, Any]) -> None:
        """Ends the slice, or gives it back where another attempt may succeed."""
        again = error["code"] in _AGAIN and self.piece.attempts < MAX_ATTEMPTS
        self._close(State.QUEUED if again else State.FAILED, error=error)

    def _close(self, state: State, **values: Any) -> None:
        with self._leased():
            self.piece.state, self.piece.ended_at = state, timezone.now()
            self.piece.lease += state == State.QUEUED
            for name, value in values.items():
                setattr(self.piece, name, value)
            self.piece.save()
            self.shown()


def give_back_lost(leg: Leg) -> None:
    """Lets other workers take slices whose worker gives no sign of life."""
    before = timezone.now() - dt.timedelta(seconds=settings.LOST_AFTER_SECONDS)
    lost = Slice.objects.filter(leg=leg, state=State.RUNNING, seen_at__lt=before)
    died = {"code": "worker-lost", "detail": "the worker that had the slice was lost", "hint": "", "where": {}}
    for piece in lost:
        state = State.QUEUED if piece.attempts < MAX_ATTEMPTS else State.FAILED
        Slice.objects.filter(pk=piece.pk, lease=piece.lease, state=State.RUNNING).update(
            state=state, lease=F("lease") + 1, error=died
        )


class SliceExecutor:
    """Copies slices with the processes of one pool."""

    def __init__(self, pool: Processes) -> None:
        self._pool = pool

    async def execute_next(self, run: int, leg: int) -> bool:
        """Copies one slice of a leg; False where there is none to be taken."""
        recorder = await recorded(SliceRecorder.take)(run, leg)
        if recorder is None:
            return False
        with suppress(LeaseLost):
            try:
                await self._copy(recorder)
            except asyncio.CancelledError:
                # a slice that is another's by now must not keep this task from ending
                with suppress(LeaseLost):
                    await recorded(recorder.failed)(_gave_up("the service was stopped"))
                raise
            except UltravectError as error:
                await recorded(recorder.failed)(error.as_dict())
            except Exception as error:
                log.exception("slice failed unexpectedly", run=run, leg=leg, slice=recorder.piece.number)
                await recorded(recorder.failed)(_gave_up(f"unexpected: {type(error).__name__}"))
        return True

    async def _copy(self, recorder: SliceRecorder) -> None:
        task = await recorded(_task)(recorder)
        process = await self._pool.take()
        try:
            await process.send(task)
            watch = asyncio.create_task(_watch(process, recorder))
            try:
                ending = None
                async for events in gathered(process.events()):
                    ending = next((event for event in events if event["kind"] in ENDINGS), ending)
                    if known := [event for event in events if event["kind"] not in ENDINGS]:
                        await recorded(recorder.record)(*known)
            finally:
                watch.cancel()
            if ending is None or ending["kind"] == "stopped":
                await recorded(recorder.failed)(_gave_up("the slice's process died"))
            elif ending["kind"] == "failed":
                await recorded(recorder.failed)(ending["error"])
            else:
                await recorded(recorder.done)(ending["slice"])
        finally:
            process.close()

    async def of_leg(self, process: Process, recorder: Recorder) -> None:
        """Copies slices of a leg while others do, too, and passes on to the leg's process what becomes of each."""
        own = asyncio.create_task(self._copy_own(recorder))
        try:
            await _report(process, recorder)
        finally:
            own.cancel()
            with suppress(asyncio.CancelledError):
                await own

    async def _copy_own(self, recorder: Recorder) -> None:
        while True:
            if not await self.execute_next(recorder.run.pk, recorder.leg.number):
                await asyncio.sleep(_POLL_SECONDS)


def _gave_up(why: str) -> dict[str, Any]:
    return UltravectError("connection-lost", why, hint="the slice is copied again").as_dict()


def _task(recorder: SliceRecorder) -> dict[str, Any]:
    leg = recorder.leg
    structure = job_of(leg)
    return {
        "kind": "slice",
        "run": str(leg.run_id),
        "number": recorder.piece.number,
        "plan": Leg.objects.values_list("plan", flat=True).get(pk=leg.pk),
        "order": leg.slice_order,
        "memory": settings.LEG_MEMORY_BYTES,
        "lost_after": settings.LOST_AFTER_SECONDS,
        "source": opened_connection(structure["from"]["connection"], structure),
        "target": opened_connection(structure["into"]["connection"]),
    }


async def _watch(process: Process, recorder: SliceRecorder) -> None:
    """Ends the process when the slice is not this worker's any more."""
    while True:
        await asyncio.sleep(_WATCH_SECONDS)
        await process.greet()
        try:
            await recorded(recorder.seen)()
        except LeaseLost:
            process.kill()
            return


async def _report(process: Process, recorder: Recorder) -> None:
    """Passes on each slice that has ended, once, until all have."""
    passed: set[int] = set()
    shown = 0.0
    loop = asyncio.get_running_loop()
    while True:
        await recorded(give_back_lost)(recorder.leg)
        pieces = await recorded(lambda: list(Slice.objects.filter(leg=recorder.leg)))()
        for piece in pieces:
            if piece.number in passed:
                continue
            if piece.state == State.SUCCEEDED:
                await process.send({"slice": piece.result})
            elif piece.state == State.FAILED:
                await process.send({"error": piece.error})
            else:
                continue
            passed.add(piece.number)
        if loop.time() - shown > _PROGRESS_SECONDS or len(passed) == len(pieces):
            shown = loop.time()
            await recorded(recorder.record)({"kind": "progress", **_summed(pieces)})
        if len(passed) == len(pieces):
            return
        await asyncio.sleep(_POLL_SECONDS)


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
