"""Carries out one leg: takes a leg process, passes on what it says, and minds stops, limits and crashes."""

from __future__ import annotations

import asyncio
import itertools
import time
from collections.abc import Callable, Sequence
from contextlib import suppress
from typing import Any

import structlog
from django.db import transaction

from ultravect.core.errors import UltravectError
from ultravect.core.model.base import duration_seconds
from ultravect.service.records.models import Leg, Outcome, State
from ultravect.service.work.processes.pool import ENDINGS, gathered
from ultravect.service.work.processes.protocol import Process, Processes
from ultravect.service.work.recorded import recorded
from ultravect.service.work.runs.attempts import publishes_together
from ultravect.service.work.runs.endings import (
    COMMITTED,
    NOTHING,
    UNKNOWN,
    may_have_written,
    release_or_end,
    with_outcome,
)
from ultravect.service.work.runs.lay_out import find_legs
from ultravect.service.work.runs.leg_events import LeaseLost
from ultravect.service.work.runs.leg_task import task_of_leg, task_of_outcome
from ultravect.service.work.runs.recorder import Recorder
from ultravect.service.work.runs.retrying import pause_before
from ultravect.service.work.runs.room import full_connection
from ultravect.service.work.runs.slices import SliceExecutor
from ultravect.service.work.runs.together import begin_others, end_others, not_published, task_of
from ultravect.service.work.worker_name import worker_name

log = structlog.get_logger()
_STOP_POLL_SECONDS = 0.25
_STOP_GRACE_SECONDS = 10.0
_ASK_SECONDS = 120.0
_ROOM_SECONDS = 2.0


class LegExecutor:
    """Executes legs with the processes of one pool."""

    def __init__(self, pool: Processes, slices: SliceExecutor, requeue: Callable[[Leg, float], None]) -> None:
        """``requeue`` queues a leg again, so many seconds later."""
        self._pool = pool
        self._slices = slices
        self._requeue = requeue

    async def execute(self, run_id: int, number: int) -> None:
        """Carries a queued leg to its end; whatever happens, it ends in a state that shows it."""
        recorder = await recorded(self._open)(run_id, number)
        if recorder is None:
            return
        log.info("leg started", run=run_id, leg=number, job=recorder.run.job.name)
        try:
            await self._run(recorder)
        except asyncio.CancelledError:
            with suppress(LeaseLost):
                await recorded(self._hand_over)(recorder)
            raise
        except LeaseLost:
            log.warning("another worker has taken the leg over", run=run_id, leg=number)
        except Exception as error:
            log.exception("leg failed unexpectedly", run=run_id, leg=number)
            unexpected = UltravectError(
                "internal-error", f"unexpected: {type(error).__name__}; the service's log has the details"
            )
            with suppress(LeaseLost):
                await self._close(
                    recorder, State.FAILED, UNKNOWN if may_have_written(recorder) else NOTHING, unexpected
                )
        finally:
            log.info("leg ended", run=run_id, leg=number, state=str(recorder.leg.state))

    async def lay_out(self, run_id: int) -> None:
        """Finds the legs of a run, and begins them; a run that has none ends with this."""
        await find_legs(self._pool, run_id)

    def _hand_over(self, recorder: Recorder) -> None:
        """Queues a leg again that the service stops in the middle of."""
        with transaction.atomic():
            if release_or_end(recorder, "the service was stopped"):
                self._requeue(recorder.leg, 0)

    @transaction.atomic
    def _open(self, run_id: int, number: int) -> Recorder | None:
        recorder = Recorder.of(run_id, number)
        if recorder.leg.state == State.QUEUED and (full := full_connection(recorder.leg)) is not None:
            recorder.wait_for(full)
            self._requeue(recorder.leg, _ROOM_SECONDS)
            return None
        return recorder if recorder.begin(worker_name()) else None

    async def _run(self, recorder: Recorder) -> None:
        while True:
            if publishes_together(recorder.run):
                recorders = await recorded(begin_others)(recorder, worker_name())
            else:
                recorders = [recorder]
            if not recorders:
                await recorded(recorder.end)(State.STOPPED)
                await recorded(end_others)(recorder, State.STOPPED, NOTHING)
                return
            try:
                tasks = [await recorded(task_of_leg)(one.leg) for one in recorders]
            except UltravectError as error:
                for one in recorders:
                    await recorded(one.end)(State.FAILED, error=error.as_dict())
                return
            if await self._attempt(
                recorder, task_of(tasks) if publishes_together(recorder.run) else tasks[0], recorders
            ):
                return
            await recorded(recorder.release)("the leg's process died")
            if not await recorded(recorder.begin)(worker_name()):
                return

    async def _attempt(self, recorder: Recorder, task: dict[str, Any], recorders: Sequence[Recorder]) -> bool:
        """Runs the leg in a process; False when that died without a word, and another can take over."""
        leg = await self._pool.take()
        timeout = (recorder.run.revision.structure.get("run") or {}).get("timeout")
        try:
            await leg.send(task)
            watch = asyncio.create_task(self._watch(leg, recorder, duration_seconds(timeout) if timeout else None))
            try:
                ending = await self._follow(leg, recorder, recorders)
            finally:
                watch.cancel()
            late = "" if watch.cancelled() or not watch.done() else str(watch.result() or "")
            if ending is None and not late and await recorded(recorder.may_be_taken_over)():
                return False
            if len(recorders) > 1:
                await self._end_together(recorders, ending, late, timeout)
            else:
                await self._end(recorder, ending, late, timeout)
            return True
        finally:
            leg.close()

    async def _follow(self, leg: Process, recorder: Recorder, recorders: Sequence[Recorder]) -> dict[str, Any] | None:
        """Records events until the leg ends; what it said last, or None when it died without a word."""
        ending, slices = None, None
        by_number = {one.leg.number: one for one in recorders}
        try:
            async for events in gathered(leg.events()):
                for number, said in itertools.groupby(events, lambda event: event.get("leg") or 0):
                    group = list(said)
                    if number and number not in by_number:
                        continue  # it is about a leg that this process does not copy
                    ending = next((event for event in group if event["kind"] in ENDINGS), ending)
                    known = [event for event in group if event["kind"] not in ENDINGS]
                    if known:
                        await recorded(by_number.get(number, recorder).record)(*known)
                    if any(event["kind"] == "slices" and not event.get("cluster") for event in known):
                        slices = asyncio.create_task(self._slices.of_leg(leg, recorder))
        finally:
            if slices is not None:
                slices.cancel()
                with suppress(asyncio.CancelledError, LeaseLost):
                    await slices
        return ending

    async def _watch(self, leg: Process, recorder: Recorder, limit: float | None) -> str:
        """Stops the leg when asked to, or when its time is over; says which. Ends it when the run is another worker's."""
        started = time.monotonic()
        while True:
            await asyncio.sleep(_STOP_POLL_SECONDS)
            await leg.greet()
            over = limit is not None and time.monotonic() - started > limit
            try:
                asked = await recorded(recorder.wants_stop)()
            except LeaseLost:
                leg.kill()
                raise
            if over or asked:
                leg.stop()
                asyncio.get_running_loop().call_later(_STOP_GRACE_SECONDS, leg.kill)
                return "timeout" if over else "stop"

    async def _end_together(
        self, recorders: Sequence[Recorder], ending: dict[str, Any] | None, stopped_by: str, timeout: str | None
    ) -> None:
        """Closes legs that were to be published together: one has failed, or each has its own account."""
        if ending and ending["kind"] == "succeeded":
            # the first one last: a worker that takes over continues with it
            for recorder in sorted(recorders, key=lambda item: -item.leg.number):
                result = ending["legs"][str(recorder.leg.number)]
                await self._end(recorder, {"kind": "succeeded", **result}, "", None)
            return
        failed = next((one for one in recorders if ending and ending.get("leg") == one.leg.number), recorders[0])
        await self._end(failed, ending, stopped_by, timeout)
        outcome = Outcome(failed.leg.outcome)
        for recorder in sorted(recorders, key=lambda item: -item.leg.number):
            if recorder is failed:
                continue
            state = State.STOPPED if outcome == NOTHING or failed.leg.state == State.STOPPED else State.FAILED
            error = not_published(failed.leg, outcome) if failed.leg.state == State.FAILED else None
            await self._close(recorder, state, outcome, error if outcome == NOTHING else None)

    async def _end(
        self, recorder: Recorder, ending: dict[str, Any] | None, stopped_by: str, timeout: str | None
    ) -> None:
        """Closes a leg by what it said last, or by what is known of one that said nothing."""
        kind = ending["kind"] if ending else ""
        if kind == "succeeded":
            left = NOTHING if ending and ending.get("nothing") else COMMITTED
            await recorded(recorder.end)(State.SUCCEEDED, outcome=left, result=ending)
            return
        outcome = UNKNOWN if may_have_written(recorder) else NOTHING
        if ending and ending.get("outcome"):
            outcome = Outcome(ending["outcome"])
        if (
            kind == "failed"
            and ending
            and outcome == NOTHING
            and await recorded(self._tries_again)(recorder, ending["error"])
        ):
            return
        if kind == "failed" and ending:
            error = UltravectError(**{**ending["error"], "where": None}, **ending["error"]["where"])
            await self._close(recorder, State.FAILED, outcome, error, ending)
        elif stopped_by == "timeout":
            error = UltravectError(
                "leg-timeout",
                f"the leg took longer than its timeout of {timeout} and was stopped",
                hint="raise run.timeout, or find out what is slow",
            )
            await self._close(recorder, State.FAILED, outcome, error, ending)
        elif stopped_by == "stop" or kind == "stopped":
            await self._close(recorder, State.STOPPED, outcome, None, ending)
        else:
            await self._close(
                recorder, State.FAILED, outcome, UltravectError("worker-lost", "the leg's process died")
            )

    def _tries_again(self, recorder: Recorder, error: dict[str, Any]) -> bool:
        """Queues a leg again that failed by something that passes, where its job says so and nothing was written."""
        wait = pause_before(recorder, error)
        if wait is None:
            return False
        with transaction.atomic():
            recorder.give_back(error, wait)
            self._requeue(recorder.leg, wait)
        return True

    async def _close(
        self,
        recorder: Recorder,
        state: State,
        outcome: Outcome,
        error: UltravectError | None,
        result: dict[str, Any] | None = None,
    ) -> None:
        """Ends a leg; where it is not known what it has left in the target, that is asked first."""
        if outcome == UNKNOWN and await recorded(recorder.has_receipts)():
            outcome, account = await self.asked(recorder.leg)
            result = {**(result or {}), **account}
        described = with_outcome(error, outcome).as_dict() if error else None
        await recorded(recorder.end)(state, outcome=outcome, error=described, result=result)

    async def asked(self, leg: Leg) -> tuple[Outcome, dict[str, Any]]:
        """What the target says of a leg's attempts, none of which can be committed afterwards; and its account."""
        process = None
        try:
            task = await recorded(task_of_outcome)(leg)
            process = await self._pool.take()
            await process.send(task)
            async with asyncio.timeout(_ASK_SECONDS):
                async for event in process.events():
                    if event["kind"] == "asked":
                        account = event["result"]
                        return (COMMITTED, account) if account else (NOTHING, {})
        except (UltravectError, TimeoutError, OSError) as error:
            log.warning("the outcome of a leg cannot be asked now", run=leg.run_id, leg=leg.number, reason=str(error))
        finally:
            if process is not None:
                process.close()
        return UNKNOWN, {}


# errors that do not say by themselves that nothing was written
