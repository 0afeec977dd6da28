"""Records and queues runs."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from typing import Any

from django.db import transaction

from ultravect.service.records.lookup import model_of
from ultravect.service.records.models import Connection, Leg, Outcome, Revision, Run, RunKind, Trigger, User
from ultravect.service.work.queueing import queue_laying_out
from ultravect.service.work.runs.legs import begin_legs, queue_begun


@transaction.atomic(savepoint=False)
def start_run(
    revision: Revision,
    user: User | None,
    parameters: dict[str, Any],
    *,
    key: str | None = None,
    kind: RunKind = RunKind.LOAD,
    origin: Run | None = None,
    only: Sequence[str] | None = None,
    again: dict[str, str] | None = None,
    trigger: Trigger = Trigger.HAND,
    scheduled_for: dt.datetime | None = None,
    run_date: dt.date | None = None,
    connections: dict[str, Connection | None] | None = None,
) -> Run:
    """Records and queues a run: both, or neither. ``only``: the objects that it copies, of a job with many; ``again``: see ``Run``;
    ``connections`` keeps those that were looked up, where several runs are started.
    """
    model = model_of(revision)
    run = Run.objects.create(
        job=revision.job,
        revision=revision,
        started_by=user,
        idempotency_key=key,
        parameters=parameters,
        kind=kind,
        origin=origin,
        only=only,
        again=again,
        trigger=trigger,
        scheduled_for=scheduled_for,
        run_date=run_date,
    )
    if kind == RunKind.LOAD and model.has_many:
        queue_laying_out(run.pk)
        return run
    if origin is not None and kind != RunKind.LOAD:
        _follow(run, origin, model.has_many)
    else:
        # the only one: it begins at once, and nothing of it has to be read again
        leg = Leg.objects.create(run=run, number=1, source=model.source.label, target=model.into.label, begun=True)
        queue_begun(leg, connections if connections is not None else {})
        return run
    begin_legs(run.pk)
    return run


def _follow(run: Run, origin: Run, many: bool) -> None:
    """A leg for each of the other run's that there is something to do about."""
    legs = origin.legs.filter(outcome=Outcome.COMMITTED).defer(None)
    if run.kind == RunKind.REJECTS:
        legs = legs.filter(rejected__gt=0)
    numbers = {leg.number for leg in legs}
    for leg in legs:
        waits_for = leg.waits_for
        if run.kind == RunKind.UNDO:
            # rows that others refer to go last
            waits_for = [other.number for other in legs if leg.number in other.waits_for]
        Leg.objects.create(
            run=run,
            number=leg.number,
            source=leg.source,
            target=leg.target,
            object=leg.object,
            structure=leg.structure if many else None,
            waits_for=sorted(numbers.intersection(waits_for)),
        )
