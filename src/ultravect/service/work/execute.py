"""Carries out one run: takes a leg process, passes on what it says, and minds stops, limits and crashes."""

from __future__ import annotations

import asyncio
import os
import socket
import time
from collections.abc import Callable, Coroutine
from dataclasses import asdict
from typing import Any, ParamSpec, TypeVar

import structlog
from asgiref.sync import sync_to_async
from django.db import close_old_connections, transaction

from ultravect.core.engine.connections import ConnectionSpec
from ultravect.core.errors import UltravectError
from ultravect.core.model.base import duration_seconds
from ultravect.service.records.lookup import find_connection, layout_version, picked_keys, picked_rows
from ultravect.service.records.models import Run, RunKind, State
from ultravect.service.sealing import SealBroken
from ultravect.service.work.pool import LegPool, LegProcess
from ultravect.service.work.recorder import Recorder

log = structlog.get_logger()
P = ParamSpec("P")
T = TypeVar("T")

_ENDINGS = ("succeeded", "failed", "stopped")
_STOP_POLL_SECONDS = 0.25
_STOP_GRACE_SECONDS = 10.0


def recorded(function: Callable[P, T]) -> Callable[P, Coroutine[Any, Any, T]]:
    """Work on the records in a thread, with a connection that is known to be alive."""

    def call(*arguments: P.args, **options: P.kwargs) -> T:
        close_old_connections()
        return function(*arguments, **options)

    return sync_to_async(call)


def worker_name() -> str:
    return f"{socket.gethostname()}:{os.getpid()}"


def _receipt_name(run: Run) -> str:
    """How receipts name a run: its number alone would be another's in another service's records."""
    return f"{run.pk}-{run.queued_at:%Y%m%dT%H%M%S%f}"


def _picked(run: Run) -> dict[str, Any]:
    """What tells which rows ``run`` rejected: their keys, or their places in files."""
    keys = picked_keys(run)
    return {"keys": keys, "rows": {} if keys else picked_rows(run)}


class RunExecutor:
    """Executes runs with the processes of one pool."""

    def __init__(self, pool: LegPool, requeue: Callable[[int, str], None]) -> None:
        """``requeue`` queues a run, by its number and its job's name."""
        self._pool = pool
        self._requeue = requeue

    async def execute(self, run_id: int) -> None:
        """Carries a queued run to its end; whatever happens, it ends in a state that tells it."""
        recorder = await recorded(self._open)(run_id)
        if recorder is None:
            return
        log.info("run started", run=run_id, job=recorder.run.job.name)
        try:
            await self._run(recorder)
        except asyncio.CancelledError:
            await recorded(self._hand_over)(recorder)
            raise
        except Exception as error:
            log.exception("run failed unexpectedly", run=run_id)
            told = UltravectError(
                "internal-error", f"unexpected: {type(error).__name__}; the service's log has the details"
            )
            await recorded(recorder.end)(State.FAILED, error=told.as_dict())
        finally:
            log.info("run ended", run=run_id, state=str(recorder.run.state))

    def _hand_over(self, recorder: Recorder) -> None:
        """Queues a run again that the service stops in the middle of."""
        with transaction.atomic():
            if release_or_end(recorder, "the service was stopped"):
                self._requeue(recorder.run.pk, recorder.run.job.name)

    @staticmethod
    def _open(run_id: int) -> Recorder | None:
        run = Run.objects.select_related("job", "revision", "origin").get(pk=run_id)
        if run.state != State.QUEUED:
            return None
        recorder = Recorder(run)
        recorder.begin(worker_name())
        return recorder

    @staticmethod
    def _task(run: Run) -> dict[str, Any]:
        """What the leg process is told; secrets are opened here, and go only into its memory."""
        structure = run.revision.structure

        def spec(name: str) -> dict[str, Any]:
            connection = find_connection(name)
            if connection is None:
                raise UltravectError(
                    "connection-unknown", f"there is no connection {name!r} any more", hint="add it again"
                )
            try:
                opened: ConnectionSpec = connection.spec()
            except SealBroken as error:
                raise UltravectError(
                    "seal-broken",
                    f"connection {name}: {error}",
                    hint=error.hint,
                ) from None
            return asdict(opened)

        named = structure["from"].get("layout")
        # names of objects mean those of the run that this one follows, however many are between
        first = run
        while first.origin is not None:
            first = first.origin
        return {
            "kind": run.kind,
            "run": str(run.pk),
            "origin": {"run": str(run.origin.pk), "receipt": _receipt_name(run.origin)} if run.origin else None,
            "pick": _picked(run.origin) if run.origin and run.kind == RunKind.REJECTS else None,
            "date": first.queued_at.date().isoformat(),
            "receipt": _receipt_name(run),
            "taken_over": run.attempts > 1,
            "job": {**structure, "parameters": run.parameters} if run.parameters else structure,
            "layout": layout_version(named).structure if isinstance(named, str) else None,
            "source": spec(structure["from"]["connection"]),
            "target": spec(structure["into"]["connection"]),
        }

    async def _run(self, recorder: Recorder) -> None:
        try:
            task = await recorded(self._task)(recorder.run)
        except UltravectError as error:
            await recorded(recorder.end)(State.FAILED, error=error.as_dict())
            return
        while not await self._attempt(recorder, task):
            await recorded(recorder.release)("the leg's process died")
            await recorded(recorder.begin)(worker_name())
            task["taken_over"] = True

    async def _attempt(self, recorder: Recorder, task: dict[str, Any]) -> bool:
        """Runs the leg in a process; False when that died without a word, and another can take over."""
        leg = await self._pool.take()
        cutoff = (recorder.run.revision.structure.get("run") or {}).get("cutoff")
        try:
            await leg.send(task)
            watch = asyncio.create_task(self._watch(leg, recorder, duration_seconds(cutoff) if cutoff else None))
            try:
                ending = await self._follow(leg, recorder)
            finally:
                watch.cancel()
            late = "" if watch.cancelled() or not watch.done() else str(watch.result() or "")
            if ending is None and not late and await recorded(recorder.may_be_taken_over)():
                return False
            await self._close(recorder, ending, late, cutoff)
            return True
        finally:
            leg.close()

    async def _follow(self, leg: LegProcess, recorder: Recorder) -> dict[str, Any] | None:
        """Records events until the leg ends; what it said last, or None when it died without a word."""
        ending = None
        async for event in leg.events():
            if event["kind"] in _ENDINGS:
                ending = event
            else:
                await recorded(recorder.record)(event)
        return ending

    async def _watch(self, leg: LegProcess, recorder: Recorder, limit: float | None) -> str:
        """Stops the leg when asked to, or when its time is over; says which."""
        started = time.monotonic()
        while True:
            await asyncio.sleep(_STOP_POLL_SECONDS)
            over = limit is not None and time.monotonic() - started > limit
            if over or await recorded(recorder.wants_stop)():
                leg.stop()
                asyncio.get_running_loop().call_later(_STOP_GRACE_SECONDS, leg.kill)
                return "cutoff" if over else "stop"

    async def _close(
        self, recorder: Recorder, ending: dict[str, Any] | None, stopped_by: str, cutoff: str | None
    ) -> None:
        end = recorded(recorder.end)
        kind = ending["kind"] if ending else ""
        if kind == "succeeded":
            await end(State.SUCCEEDED, result=ending)
        elif kind == "failed" and ending:
            await end(State.FAILED, error=ending["error"], result=ending)
        elif stopped_by == "cutoff":
            error = UltravectError(
                "cutoff",
                f"the leg took longer than its cutoff of {cutoff} and was stopped; nothing was written",
                hint="raise run.cutoff, or find out what is slow",
            )
            await end(State.FAILED, error=error.as_dict(), result=ending)
        elif stopped_by == "stop" or kind == "stopped":
            await end(State.STOPPED, result=ending)
        else:
            lost = lost_error(recorder.leg.phases, "the leg's process died")
            await end(State.FAILED, error=lost.as_dict())


def release_or_end(recorder: Recorder, why: str) -> bool:
    """Releases a run whose worker is gone, so that it can be taken over; False when it had to be ended instead."""
    if recorder.may_be_taken_over():
        recorder.release(why)
        return True
    recorder.end(State.FAILED, error=lost_error(recorder.leg.phases, why).as_dict())
    return False


def lost_error(phases: list[dict[str, Any]], what: str) -> UltravectError:
    """What to tell of a leg whose end nobody saw, by the phase it had come to."""
    state = {phase["name"]: phase["state"] for phase in phases}
    if state.get("publish") == "done":
        return UltravectError(
            "worker-lost",
            f"{what} after the rows were published: they are in the target, but were not verified",
            hint="count them in the target before running again",
        )
    if state.get("publish") == "running":
        return UltravectError(
            "outcome-unknown",
            f"{what} while publishing: the rows are in the target either all or not at all",
            hint="count them in the target before running again",
        )
    return UltravectError("worker-lost", f"{what} before publishing: nothing was written", hint="run it again")
