"""Records and queues runs."""

from __future__ import annotations

from typing import Any

from django.db import transaction

from ultravect.core.model.document import job_from_data
from ultravect.service.records.models import Leg, Revision, Run, RunKind, User
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
    queue_run(run.pk, revision.job.name)
    return run
