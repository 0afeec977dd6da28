"""Carries out one leg: takes a leg process, passes on what it says, and minds stops, limits and crashes."""

from __future__ import annotations

import asyncio
import itertools
from collections.abc import AsyncIterator, Mapping, Sequence
from contextlib import asynccontextmanager, suppress
from typing import Any

import structlog

from ultravect.core.errors import UltravectError
from ultravect.core.model.base import duration_seconds
from ultravect.service.records.models import Leg, Outcome, State
from ultravect.service.work.processes.pool import ENDINGS, gathered
from ultravect.service.work.processes.protocol import Process, Processes, attended
from ultravect.service.work.recorded import recorded
from ultravect.service.work.runs.attempts import publishes_together
from ultravect.service.work.runs.leases import NOT_ANSWERED, Leases
from ultravect.service.work.runs.leg_task import task_of_leg, task_of_outcome, task_together
from ultravect.service.work.runs.retrying import pause_before
from ultravect.service.work.runs.slices import SliceExecutor
from ultravect.service.work.runs.transitions import (
    COMMITTED,
    NOTHING,
    UNKNOWN,
    LeaseLost,
    LegRecord,
    begin_others,
    end_others,
    not_published,
    with_outcome,
)

log = structlog.get_logger()
_STOP_GRACE_SECONDS = 10.0
_ASK_SECONDS = 120.0


class LegExecutor:
    """Executes legs with the processes of one pool, under the leases of one worker."""

    def __init__(self, pool: Processes, slices: SliceExecutor, leases: Leases, worker: str) -> None:
        self._pool, self._slices, self._leases, self._worker = pool, slices, leases, worker

    async def execute(self, record: LegRecord) -> None:
        """Carries a claimed leg to its end; whatever happens, it ends in a state that shows it, or is another worker's."""
        run, number = record.run.pk, record.leg.number
        log.info("leg started", run=run, leg=number, job=record.run.job.name)
        try:
            await self._run(record)
        except asyncio.CancelledError:
            with suppress(LeaseLost, *NOT_ANSWERED):
                await recorded(record.hand_over)("the service was stopped")
            raise
        except LeaseLost:
            log.warning("another worker takes the leg over", run=run, leg=number)
        except OSError as error:
            # there is no process to be had, or the machine that has it is gone
            log.warning("the leg's process cannot be reached", run=run, leg=number, reason=str(error))
            with suppress(LeaseLost):
                await self._leases.while_held(record, record.hand_over, "the leg's process cannot be reached")
        except Exception as error:
            log.exception("leg failed unexpectedly", run=run, leg=number)
            unexpected = UltravectError(
                "internal-error", f"unexpected: {type(error).__name__}; the service's log has the details"
            )
            with suppress(LeaseLost):
                await self._close(record, State.FAILED, unexpected)
        finally:
            log.info("leg ended", run=run, leg=number, state=str(record.leg.state))

    async def _run(self, record: LegRecord) -> None:
        together = publishes_together(record.run)
        records = [record]
        if together:
            records = await self._leases.while_held(record, begin_others, record, self._worker)
        if not records:
            await self._leases.while_held(record, record.end, State.STOPPED)
            await self._leases.while_held(record, end_others, record, State.STOPPED, NOTHING)
            return
        try:
            tasks = [await self._leases.while_held(one, task_of_leg, one.leg) for one in records]
        except UltravectError as error:
            for one in records:
                await self._leases.while_held(one, one.end, State.FAILED, error=error.as_dict())
            return
        attempt = _Attempt(self._pool, self._leases, records)
        task = task_together(tasks) if together else tasks[0]
        async with attempt.process(task) as process:
            await process.send(task)
            ending = await self._follow(process, record, records)
            if attempt.over:
                raise LeaseLost(f"leg {record.leg.number} of run {record.run.pk}")
            died = ending is None and not attempt.stopped_by
            if died and await self._leases.while_held(record, record.may_be_handed_over):
                await self._leases.while_held(record, record.hand_over, "the leg's process died")
                return
            if len(records) > 1:
                await self._end_together(records, ending, attempt)
            else:
                await self._end(record, ending, attempt)

    async def _follow(
        self, process: Process, record: LegRecord, records: Sequence[LegRecord]
    ) -> dict[str, Any] | None:
        """Records events until the leg ends; what it said last, or None when it died without a word."""
        ending, slices = None, None
        by_number = {one.leg.number: one for one in records}
        numbers = itertools.count(1)
        try:
            async for events in gathered(process.events()):
                for number, said in itertools.groupby(events, lambda event: event.get("leg") or 0):
                    group = list(said)
                    if number and number not in by_number:
                        continue  # it is about a leg that this process does not copy
                    own = by_number.get(number, record)
                    ending = next((event for event in group if event["kind"] in ENDINGS), ending)
                    known = [event for event in group if event["kind"] not in ENDINGS]
                    if known and ending is not None and ending["kind"] == "succeeded" and len(records) == 1:
                        ending["last"] = known  # stored together with the end
                    elif known:
                        await self._leases.while_held(own, own.record, *known, number=next(numbers))
                    if any(
                        event["kind"] == "phase" and event["name"] == "publish" and event["state"] == "running"
                        for event in known
                    ):
                        await process.send({"leave": own.may_publish})
                    if any(event["kind"] == "slices" and not event.get("cluster") for event in known):
                        slices = asyncio.create_task(self._slices.of_leg(process, record))
        finally:
            if slices is not None:
                slices.cancel()
                with suppress(asyncio.CancelledError, LeaseLost):
                    await slices
        return ending

    async def _end_together(
        self, records: Sequence[LegRecord], ending: dict[str, Any] | None, attempt: _Attempt
    ) -> None:
        """Closes legs that were to be published together: one has failed, or each has its own account."""
        if ending and ending["kind"] == "succeeded":
            # the first one last: a worker that takes over continues with it
            for record in sorted(records, key=lambda item: -item.leg.number):
                await self._succeeded(record, ending["legs"][str(record.leg.number)])
            return
        failed = next((one for one in records if ending and ending.get("leg") == one.leg.number), records[0])
        await self._end(failed, ending, attempt)
        outcome = Outcome(failed.leg.outcome)
        for record in sorted(records, key=lambda item: -item.leg.number):
            if record is failed:
                continue
            state = State.STOPPED if outcome == NOTHING or failed.leg.state == State.STOPPED else State.FAILED
            error = not_published(failed.leg, outcome) if failed.leg.state == State.FAILED else None
            described = error if outcome == NOTHING else None
            await self._leases.while_held(
                record, record.end, state, outcome=outcome, error=described.as_dict() if described else None
            )

    async def _succeeded(self, record: LegRecord, result: dict[str, Any]) -> None:
        left = NOTHING if result.get("nothing") else COMMITTED
        last = result.pop("last", ())
        await self._leases.while_held(record, record.end, State.SUCCEEDED, outcome=left, result=result, last=last)

    async def _end(self, record: LegRecord, ending: dict[str, Any] | None, attempt: _Attempt) -> None:
        """Closes a leg by what it said last, or by what is known of one that said nothing."""
        kind = ending["kind"] if ending else ""
        if ending and kind == "succeeded":
            await self._succeeded(record, ending)
        elif ending and kind == "failed":
            error = UltravectError.from_dict(ending["error"])
            await self._close(record, State.FAILED, error, ending, may_try_again=True)
        elif attempt.stopped_by == "timeout":
            error = UltravectError(
                "leg-timeout",
                f"the leg took longer than its timeout of {attempt.timeout} and was stopped",
                hint="raise run.timeout, or find out what is slow",
            )
            await self._close(record, State.FAILED, error, ending)
        elif attempt.stopped_by == "stop" or kind == "stopped":
            await self._close(record, State.STOPPED, None, ending)
        else:
            await self._close(record, State.FAILED, UltravectError("worker-lost", "the leg's process died"))

    async def _close(
        self,
        record: LegRecord,
        state: State,
        error: UltravectError | None,
        result: dict[str, Any] | None = None,
        *,
        may_try_again: bool = False,
    ) -> None:
        """Ends a leg that did not succeed, or has it be tried again; first it is found out what it has left in the target."""
        outcome, account = await self._left(record, str((result or {}).get("outcome") or ""))
        if may_try_again and error is not None and outcome == NOTHING:
            pause = await self._leases.while_held(record, pause_before, record, error.code)
            if pause is not None:
                await self._leases.while_held(record, record.try_again, error.as_dict(), pause)
                return
        described = with_outcome(error, outcome).as_dict() if error else None
        result = {**(result or {}), **account}
        await self._leases.while_held(record, record.end, state, outcome=outcome, error=described, result=result)

    async def _left(self, record: LegRecord, said: str) -> tuple[Outcome, dict[str, Any]]:
        """What a leg has left in its target, and its account there. One that was never about to publish has left nothing; of all others only the
        ledger of the target knows, and without its answer the outcome is unknown. ``said``: what the process knows, where there is no ledger."""
        if record.leg.outcome != UNKNOWN:
            return Outcome(record.leg.outcome), {}
        if await self._leases.while_held(record, record.has_receipts):
            return await self.asked(record.leg)
        return (Outcome(said) if said else UNKNOWN), {}

    async def asked(self, leg: Leg) -> tuple[Outcome, dict[str, Any]]:
        """What the target says of a leg's attempts, none of which can be committed afterwards; and its account."""
        try:
            task = await recorded(task_of_outcome)(leg)
            async with attended(self._pool, task) as process, asyncio.timeout(_ASK_SECONDS):
                await process.send(task)
                async for event in process.events():
                    if event["kind"] == "asked":
                        account = event["result"]
                        return (COMMITTED, account) if account else (NOTHING, {})
        except (UltravectError, TimeoutError, OSError, *NOT_ANSWERED) as error:
            log.warning("the outcome of a leg cannot be asked now", run=leg.run_id, leg=leg.number, reason=str(error))
        return UNKNOWN, {}


class _Attempt:
    """A process that copies legs, under their leases. ``stopped_by``: "stop" or "timeout", where it was asked to end; ``over``: whether another
    worker may have the legs."""

    def __init__(self, pool: Processes, leases: Leases, records: Sequence[LegRecord]) -> None:
        self._pool, self._leases, self._records = pool, leases, records
        self.timeout = (records[0].run.revision.structure.get("run") or {}).get("timeout")
        self.stopped_by, self.over = "", False
        self._process: Process | None = None

    @asynccontextmanager
    async def process(self, task: Mapping[str, Any]) -> AsyncIterator[Process]:
        """The process, which waits for this task, for as long as the context lasts."""
        with self._leases.hold(self._records, lambda: self._stop("stop"), self._give_up):
            async with attended(self._pool, task) as self._process:
                # what was asked while the process was being made
                if self.stopped_by:
                    self._end_process()
                if self.over:
                    self._process.kill()
                loop = asyncio.get_running_loop()
                timer = (
                    loop.call_later(duration_seconds(self.timeout), self._stop, "timeout") if self.timeout else None
                )
                try:
                    yield self._process
                finally:
                    if timer is not None:
                        timer.cancel()

    def _stop(self, why: str) -> None:
        if not self.stopped_by:
            self.stopped_by = why
            self._end_process()

    def _end_process(self) -> None:
        if self._process is not None:
            self._process.stop()
            asyncio.get_running_loop().call_later(_STOP_GRACE_SECONDS, self._process.kill)

    def _give_up(self) -> None:
        self.over = True
        if self._process is not None:
            self._process.kill()
