"""Records and queues runs."""

from __future__ import annotations

from typing import Any

from django.db import transaction

from ultravect.core.engine.plan.load_place import load_place
from ultravect.core.model.document import job_from_data
from ultravect.service.records.lookup import find_connection
from ultravect.service.records.models import Leg, Revision, Run, RunKind, User
from ultravect.service.work.attempts import run_facts
from ultravect.service.work.tasks import queue_run


@transaction.atomic
def start_run(
    revision: Revision,
    user: User,
    parameters: dict[str, Any],
    *,
    key: str | None = None,
    kind: RunKind = RunKind.LOAD,
    origin: Run | None = None,
) -> Run:
    """Records and queues a run: both, or neither."""
    model = job_from_data(revision.structure)
    run = Run.objects.create(
        job=revision.job,
        revision=revision,
        started_by=user,
        idempotency_key=key,
        parameters=parameters,
        kind=kind,
        origin=origin,
    )
    Leg.objects.create(run=run, number=1, source=model.source.label, target=model.into.label)
    queue_run(run.pk, place_of(run))
    return run


def place_of(run: Run) -> str:
    """What the run writes into: see ``load_place``."""
    structure = run.revision.structure
    job = job_from_data({**structure, "parameters": run.parameters} if run.parameters else structure)
    connection = find_connection(job.into.connection)
    if connection is None:
        return f"job:{run.job.name}"
    return load_place(job, connection.kind, connection.settings, run_facts(run))
