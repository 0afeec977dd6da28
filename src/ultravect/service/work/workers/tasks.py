"""The queue's tasks: legs of runs, and finding the legs of a job with many objects.

Legs that write into one place share a lock, so that a second one waits for the first, whatever run it is of.
"""

from __future__ import annotations

import asyncio
import math

from procrastinate.contrib.django import app

from ultravect.service.work.workers.serving import serving
from ultravect.service.work.workers.site_looks import answer_look
from ultravect.service.work.workers.sites import queue_for, sites_of_job

QUEUE = "runs"
SLICES = "slices"
LOOKS = "looks"
MOST = 10
"""The highest priority of a job."""

LAYING_OUT = 0
"""In place of a leg's number: the legs of the run are to be found."""


@app.task(name="ultravect.execute_run", queue=QUEUE)
async def execute_leg(run_id: int, leg: int = 1) -> None:
    # tasks that an earlier version has queued name no leg: their runs have one
    if leg == LAYING_OUT:
        await serving().legs.lay_out(run_id)
    else:
        await serving().legs.execute(run_id, leg)


@app.task(name="ultravect.execute_slice", queue=SLICES)
async def execute_slice(run: int, number: int) -> None:
    """Copies a slice of leg ``number`` that no worker has, if there is one."""
    await serving().slices.execute_next(run, number)


def queue_slice(run: int, leg: int) -> None:
    """Queues a place for a worker that copies a slice of a leg, before legs that have not begun."""
    from ultravect.service.records.models import Leg
    from ultravect.service.work.runs.attempts import job_of

    held = Leg.objects.select_related("run__revision").get(run_id=run, number=leg)
    queue = queue_for(SLICES, sites_of_job(job_of(held)))
    execute_slice.configure(priority=MOST + 1, queue=queue).defer(run=run, number=leg)


@app.task(name="ultravect.look_at_site", queue=LOOKS)
async def look_at_site(look: int) -> None:
    """Answers a question about connections of this worker's site."""
    await asyncio.to_thread(answer_look, look, serving().look_here)


def queue_leg(
    run_id: int, leg: int, place: str, sites: frozenset[str], *, priority: int = 0, wait: float = 0
) -> None:
    """Queues a leg in the database transaction that is open; ``place``: see ``load_place``; ``sites``: that its worker has to serve.

    ``wait``: seconds before which no worker takes it.
    """
    after = {"seconds": math.ceil(wait)} if wait else None
    task = execute_leg.configure(lock=place, queue=queue_for(QUEUE, sites), priority=priority, schedule_in=after)
    task.defer(run_id=run_id, leg=leg)


def queue_laying_out(run_id: int) -> None:
    from ultravect.service.records.models import Run
    from ultravect.service.work.runs.attempts import job_of_run

    sites = sites_of_job(job_of_run(Run.objects.select_related("revision").get(pk=run_id)))
    execute_leg.configure(lock=f"run:{run_id}", queue=queue_for(QUEUE, sites)).defer(run_id=run_id, leg=LAYING_OUT)
