"""Puts tasks into the queue, in the database transaction that is open; what they do is in ``workers/tasks.py``.

Legs that write into one place share a lock, so that a second one waits for the first, whatever run it is of.
"""

from __future__ import annotations

import math

from procrastinate.contrib.django import app

from ultravect.service.records.models import Leg, Run
from ultravect.service.work.runs.attempts import job_of, job_of_run
from ultravect.service.work.workers.sites import queue_for, sites_of_job

QUEUE = "runs"
SLICES = "slices"
LOOKS = "looks"
MOST = 10
"""The highest priority of a job."""

LAYING_OUT = 0
"""In place of a leg's number: the legs of the run are to be found."""

LEG_TASK = "ultravect.execute_run"
SLICE_TASK = "ultravect.execute_slice"
LOOK_TASK = "ultravect.look_at_site"


def queue_leg(
    run_id: int, leg: int, place: str, sites: frozenset[str], *, priority: int = 0, wait: float = 0
) -> None:
    """Queues a leg; ``place``: see ``load_place``; ``sites``: that its worker has to serve.

    ``wait``: seconds before which no worker takes it.
    """
    after = {"seconds": math.ceil(wait)} if wait else None
    queue = queue_for(QUEUE, sites)
    task = app.configure_task(LEG_TASK, lock=place, queue=queue, priority=priority, schedule_in=after)
    task.defer(run_id=run_id, leg=leg)


def queue_laying_out(run_id: int) -> None:
    """Has a worker find the legs of a run."""
    sites = sites_of_job(job_of_run(Run.objects.select_related("revision").get(pk=run_id)))
    task = app.configure_task(LEG_TASK, lock=f"run:{run_id}", queue=queue_for(QUEUE, sites))
    task.defer(run_id=run_id, leg=LAYING_OUT)


def queue_slice(run: int, leg: int) -> None:
    """Queues a place for a worker that copies a slice of a leg, before legs that have not begun."""
    held = Leg.objects.select_related("run__revision").get(run_id=run, number=leg)
    queue = queue_for(SLICES, sites_of_job(job_of(held)))
    app.configure_task(SLICE_TASK, priority=MOST + 1, queue=queue).defer(run=run, number=leg)


def queue_look(look: int, sites: frozenset[str]) -> None:
    """Has a worker of the sites answer a question about their connections."""
    app.configure_task(LOOK_TASK, queue=queue_for(LOOKS, sites), priority=2).defer(look=look)
