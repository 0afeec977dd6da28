"""The queue's tasks. Runs that write into one place share a lock, so that a second one waits for the first."""

from __future__ import annotations

from procrastinate.contrib.django import app

from ultravect.service.work.execute import RunExecutor

QUEUE = "runs"
_executors: list[RunExecutor] = []


def use_executor(executor: RunExecutor) -> None:
    """Names the executor of this process, before its worker starts."""
    _executors[:] = [executor]


@app.task(name="ultravect.execute_run", queue=QUEUE)
async def execute_run(run_id: int) -> None:
    await _executors[0].execute(run_id)


def queue_run(run_id: int, place: str) -> None:
    """Queues a run in the database transaction that is open; ``place``: see ``load_place``."""
    execute_run.configure(lock=place).defer(run_id=run_id)
