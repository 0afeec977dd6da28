"""A worker: takes runs from the queue, and closes the runs of workers that died."""

from __future__ import annotations

import asyncio
import datetime as dt
from contextlib import suppress

import structlog
from django.conf import settings
from procrastinate.contrib.django import app
from procrastinate.jobs import Status
from procrastinate.manager import JobManager

from ultravect.service.records.models import Run, State
from ultravect.service.work.execute import RunExecutor, recorded, release_or_end
from ultravect.service.work.pool import LegPool
from ultravect.service.work.recorder import Recorder
from ultravect.service.work.tasks import QUEUE, queue_run, use_executor

log = structlog.get_logger()


async def run_worker(slots: int) -> None:
    """Works until cancelled."""
    pool = LegPool()
    use_executor(RunExecutor(pool, queue_run))
    await pool.warm()
    try:
        # an app of its own: the other one queues runs in Django's transactions, in this process too
        async with app.with_connector(app.connector.get_worker_connector()).open_async() as worker_app:
            sweeping = asyncio.create_task(_sweep(worker_app.job_manager))
            try:
                await worker_app.run_worker_async(
                    queues=[QUEUE],
                    concurrency=slots,
                    install_signal_handlers=False,
                    fetch_job_polling_interval=1.0,
                    shutdown_graceful_timeout=1,
                    update_heartbeat_interval=settings.LOST_AFTER_SECONDS / 5,
                    stalled_worker_timeout=settings.LOST_AFTER_SECONDS,
                )
            finally:
                sweeping.cancel()
                with suppress(asyncio.CancelledError):
                    await sweeping
    finally:
        await pool.close()


def _release_lost(run_id: int) -> bool:
    """Whether the run of a lost worker is to be taken over; if not, it is closed."""
    run = Run.objects.select_related("job", "revision").filter(pk=run_id, state=State.RUNNING).first()
    if run is None:
        return False
    released = release_or_end(Recorder(run), f"worker {run.worker} was lost")
    log.warning(
        "the run of a lost worker is taken over" if released else "closed the run of a lost worker", run=run_id
    )
    return released


async def _sweep(manager: JobManager) -> None:
    """Has the runs taken over whose worker no longer gives a sign of life, which also frees their job's lock."""
    while True:
        try:
            for job in await manager.get_stalled_jobs(
                queue=QUEUE, seconds_since_heartbeat=settings.LOST_AFTER_SECONDS
            ):
                if await recorded(_release_lost)(job.task_kwargs["run_id"]):
                    await manager.retry_job(job, retry_at=dt.datetime.now(dt.UTC))
                else:
                    await manager.finish_job(job, status=Status.FAILED, delete_job=False)
        except Exception:
            log.exception("looking for lost workers failed")
        await asyncio.sleep(settings.LOST_AFTER_SECONDS / 5)
