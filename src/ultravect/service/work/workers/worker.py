"""A worker: takes legs from the queue, and closes the legs of workers that died."""

from __future__ import annotations

import asyncio
import datetime as dt
from collections.abc import AsyncIterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import AbstractAsyncContextManager, asynccontextmanager, suppress
from typing import TypeVar

import structlog
from django.conf import settings
from django.db import connection, transaction
from django.db.models import F, Q, QuerySet
from django.utils import timezone
from procrastinate.contrib.django import app

from ultravect.core.errors import UltravectError
from ultravect.service.records.models import Leg, Outcome, SiteLook, State, WorkerSeen
from ultravect.service.work.processes.look_pool import POOL
from ultravect.service.work.processes.pool import LegPool
from ultravect.service.work.processes.protocol import Processes
from ultravect.service.work.queueing import LAYING_OUT, LOOKS, QUEUE, SLICES, queue_laying_out, queue_leg
from ultravect.service.work.recorded import apart, recorded
from ultravect.service.work.runs.attempts import job_of
from ultravect.service.work.runs.endings import release_or_end, with_outcome
from ultravect.service.work.runs.execute import LegExecutor
from ultravect.service.work.runs.legs import place_of
from ultravect.service.work.runs.recorder import Recorder
from ultravect.service.work.runs.slices import SliceExecutor
from ultravect.service.work.worker_name import worker_name
from ultravect.service.work.workers.serving import LookHere, Serving, begin_serving
from ultravect.service.work.workers.sites import HOME, may_serve, queues_of, sites_of_job, sites_of_target

log = structlog.get_logger()
T = TypeVar("T")
_PAUSE_SECONDS = 1.0
_SIGNS = ThreadPoolExecutor(1, thread_name_prefix="sign of life")
"""A worker is known, and stays known, however long the records keep its other work waiting."""

_LOOKED_AT = 50
_ASK_AGAIN_SECONDS = 20.0
# shorter than targets keep receipts: a missing one must mean that nothing was written
_RECEIPTS_KEPT = dt.timedelta(days=60)
# tasks whose worker gives no sign of life; other workers that look at the same time skip what is locked
_STALLED = """
SELECT job.id, (job.args->>'run_id')::bigint, coalesce((job.args->>'leg')::int, 1) FROM procrastinate_jobs job
WHERE job.status = 'doing' AND split_part(job.queue_name, '@', 1) = %(queue)s AND NOT EXISTS (
  SELECT 1 FROM procrastinate_workers w WHERE w.id = job.worker_id
  AND w.last_heartbeat > now() - make_interval(secs => %(seconds)s))
ORDER BY job.id LIMIT 1 FOR UPDATE OF job SKIP LOCKED
"""
# the leg of a slice sees to it itself; only the task has to end
_END_SLICE_TASKS = """
SELECT procrastinate_finish_job_v1(job.id, 'failed', false) FROM procrastinate_jobs job
WHERE job.status = 'doing' AND split_part(job.queue_name, '@', 1) = %(queue)s AND NOT EXISTS (
  SELECT 1 FROM procrastinate_workers w WHERE w.id = job.worker_id
  AND w.last_heartbeat > now() - make_interval(secs => %(seconds)s))
"""
# legs that are to be worked on, and for which there is no task
_WITHOUT_TASK = """
SELECT l.run_id, l.number FROM records_leg l
WHERE l.state IN ('queued', 'running') AND l.begun AND NOT EXISTS (
  SELECT 1 FROM procrastinate_jobs job
  WHERE (job.args->>'run_id')::bigint = l.run_id AND coalesce((job.args->>'leg')::int, 1) = l.number
    AND split_part(job.queue_name, '@', 1) = %(queue)s AND job.status IN ('todo', 'doing'))
ORDER BY l.id LIMIT 1 FOR UPDATE OF l SKIP LOCKED
"""
# runs whose legs are still to be found, and for which there is no task
_WITHOUT_LEGS = """
SELECT r.id FROM records_run r
WHERE r.state IN ('queued', 'running') AND NOT EXISTS (SELECT 1 FROM records_leg l WHERE l.run_id = r.id) AND NOT EXISTS (
  SELECT 1 FROM procrastinate_jobs job
  WHERE (job.args->>'run_id')::bigint = r.id AND split_part(job.queue_name, '@', 1) = %(queue)s AND job.status IN ('todo', 'doing'))
ORDER BY r.id LIMIT 1 FOR UPDATE OF r SKIP LOCKED
"""


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
    pool = processes or LegPool(settings.ROOTS)
    joined = processes is not None
    slices = SliceExecutor(pool)
    executor = LegExecutor(pool, slices, _queue_again)
    begin_serving(Serving(executor, slices, look_here), name)
    await pool.warm()
    sweeping = asyncio.create_task(_sweep(executor, slots, sites, joined))
    try:
        while True:
            try:
                await apart(_seen, _SIGNS)(slots, sites, joined)
                await _take_legs(slots, sites, joined)
                return
            except Exception:
                # the records do not answer at this moment; or it was paused for long, is no longer registered, and begins anew, as another
                log.exception("the worker broke off and begins again")
                await asyncio.sleep(_PAUSE_SECONDS)
    finally:
        sweeping.cancel()
        with suppress(asyncio.CancelledError):
            await sweeping
        await pool.close()


def _seen(slots: int, sites: Sequence[str], joined: bool) -> None:
    """Notes a sign of life of this worker, and forgets those that have given none for long."""
    now = timezone.now()
    WorkerSeen.objects.update_or_create(
        name=worker_name(), defaults={"sites": sorted(sites), "slots": slots, "seen_at": now, "joined": joined}
    )
    WorkerSeen.objects.filter(seen_at__lt=now - dt.timedelta(days=1)).delete()
    SiteLook.objects.filter(asked_at__lt=now - dt.timedelta(hours=1)).delete()


async def _take_legs(slots: int, sites: Sequence[str], joined: bool) -> None:
    # an app of its own: the other one queues runs in Django's transactions, in this process too
    async with _whole(app.with_connector(app.connector.get_worker_connector()).open_async()) as worker_app:
        await worker_app.run_worker_async(
            queues=[queue for base in (QUEUE, SLICES, LOOKS) for queue in queues_of(base, sites, joined=joined)],
            concurrency=slots,
            install_signal_handlers=False,
            # a task whose lock another has is only found by asking: the next leg into the same target waits no longer than this
            fetch_job_polling_interval=0.2,
            shutdown_graceful_timeout=1,
            update_heartbeat_interval=settings.LOST_AFTER_SECONDS / 5,
            stalled_worker_timeout=settings.LOST_AFTER_SECONDS,
        )


@asynccontextmanager
async def _whole(context: AbstractAsyncContextManager[T]) -> AsyncIterator[T]:
    """Enters a context to the end, even where this is cancelled meanwhile: its pool of connections, opened by half, would never end."""
    entering = asyncio.ensure_future(context.__aenter__())
    try:
        found = await asyncio.shield(entering)
    except asyncio.CancelledError:
        await entering
        await context.__aexit__(None, None, None)
        raise
    try:
        yield found
    finally:
        await context.__aexit__(None, None, None)


def _queue_again(leg: Leg, wait: float = 0) -> None:
    priority = (leg.run.revision.structure.get("run") or {}).get("priority", 0)
    queue_leg(leg.run_id, leg.number, place_of(leg, {}), sites_of_job(job_of(leg)), priority=priority, wait=wait)


@transaction.atomic
def _take_stalled() -> bool:
    """Has one leg of a lost worker taken over, or ends it, which also frees its place: all at once, or nothing of it."""
    with connection.cursor() as cursor:
        cursor.execute(_STALLED, {"queue": QUEUE, "seconds": settings.LOST_AFTER_SECONDS})
        found = cursor.fetchone()
        if found is None:
            return False
        task, run, number = found
        cursor.execute("SELECT procrastinate_finish_job_v1(%s, 'failed', false)", (task,))
    if number == LAYING_OUT:
        queue_laying_out(run)
    else:
        _continue(run, number)
    return True


def _end_slice_tasks() -> None:
    """Ends the tasks of slices that lost workers had."""
    with connection.cursor() as cursor:
        cursor.execute(_END_SLICE_TASKS, {"queue": SLICES, "seconds": settings.LOST_AFTER_SECONDS})


@transaction.atomic
def _take_forgotten() -> bool:
    """Queues one leg that no worker has, or one run whose legs are not found yet, and for which no task is left."""
    with connection.cursor() as cursor:
        cursor.execute(_WITHOUT_TASK, {"queue": QUEUE})
        if found := cursor.fetchone():
            _continue(*found)
            return True
        cursor.execute(_WITHOUT_LEGS, {"queue": QUEUE})
        if found := cursor.fetchone():
            queue_laying_out(found[0])
            return True
    return False


def _continue(run: int, number: int) -> None:
    leg = _legs().select_for_update(of=("self",)).filter(run_id=run, number=number).first()
    if leg is None or State(leg.state).ended:
        return
    lost = leg.state == State.RUNNING
    if not lost or release_or_end(Recorder(leg), f"worker {leg.worker} was lost"):
        _queue_again(leg)
    if lost:
        log.warning("the leg of a lost worker is taken over, or ended", run=run, leg=number, state=str(leg.state))


def _legs() -> QuerySet[Leg]:
    return Leg.objects.defer(None).defer("plan").select_related("run__job", "run__revision", "run__origin")


def _unsettled(sites: Sequence[str], joined: bool) -> Leg | None:
    """An ended leg of which the target has not said yet whether its rows are there; it is this process's to ask, at these sites."""
    before = timezone.now() - dt.timedelta(seconds=_ASK_AGAIN_SECONDS)
    just_ended = Q(outcome_asked_at=F("ended_at"))
    with transaction.atomic():
        legs = (
            _legs()
            .select_for_update(skip_locked=True, of=("self",))
            .filter(
                Q(outcome_asked_at__lt=before) | just_ended,
                outcome=Outcome.UNKNOWN,
                ended_at__gt=timezone.now() - _RECEIPTS_KEPT,
            )
            .exclude(state__in=[State.QUEUED, State.RUNNING])
            .order_by("outcome_asked_at")[:_LOOKED_AT]
        )
        leg = next(
            (leg for leg in legs if may_serve(sites_of_target(job_of(leg)), sites, joined=joined)),
            None,
        )
        if leg is not None:
            leg.outcome_asked_at = timezone.now()
            leg.save(update_fields=["outcome_asked_at"])
    return leg


async def _settle(executor: LegExecutor, leg: Leg) -> None:
    recorder = Recorder(leg)
    if not await recorded(recorder.has_receipts)():
        return
    outcome, account = await executor.asked(leg)
    error = None
    if leg.error:
        known = UltravectError(leg.error["code"], leg.error["detail"], hint=leg.error["hint"], **leg.error["where"])
        error = with_outcome(known, outcome).as_dict()
    await recorded(recorder.settle)(outcome, account, error)


async def _sweep(executor: LegExecutor, slots: int, sites: Sequence[str], joined: bool) -> None:
    """Looks after legs whose worker no longer gives a sign of life, and after those whose outcome is not known."""
    while True:
        try:
            await apart(_seen, _SIGNS)(slots, sites, joined)
            while await recorded(_take_stalled)() or await recorded(_take_forgotten)():
                pass
            await recorded(_end_slice_tasks)()
            while (leg := await recorded(_unsettled)(sites, joined)) is not None:
                await _settle(executor, leg)
        except Exception:
            log.exception("looking after legs failed")
        await asyncio.sleep(settings.LOST_AFTER_SECONDS / 5)
