"""The queue's tasks: legs of runs, and finding the legs of a job with many objects; slices; questions about connections of a site."""

from __future__ import annotations

import asyncio

from procrastinate.contrib.django import app

from ultravect.service.work.queueing import LAYING_OUT, LEG_TASK, LOOK_TASK, LOOKS, QUEUE, SLICE_TASK, SLICES
from ultravect.service.work.workers.serving import serving
from ultravect.service.work.workers.site_looks import answer_look


@app.task(name=LEG_TASK, queue=QUEUE)
async def execute_leg(run_id: int, leg: int = 1) -> None:
    # tasks that an earlier version has queued name no leg: their runs have one
    if leg == LAYING_OUT:
        await serving().legs.lay_out(run_id)
    else:
        await serving().legs.execute(run_id, leg)


@app.task(name=SLICE_TASK, queue=SLICES)
async def execute_slice(run: int, number: int) -> None:
    """Copies a slice of leg ``number`` that no worker has, if there is one."""
    await serving().slices.execute_next(run, number)


@app.task(name=LOOK_TASK, queue=LOOKS)
async def look_at_site(look: int) -> None:
    """Answers a question about connections of this worker's site."""
    await asyncio.to_thread(answer_look, look, serving().look_here)
