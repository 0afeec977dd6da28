"""Records and queues runs."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from typing import Any

from django.db import transaction

from ultravect.core.model.document import job_from_data
from ultravect.service.records.lookup import model_of
from ultravect.service.records.models import Connection, Leg, Outcome, Revision, Run, RunKind, Trigger, User
from ultravect.service.work.runs.transitions import start


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
    structure: dict[str, Any] | None = None,
) -> Run:
    """Records and queues a run: both, or neither. ``only``: the objects that it copies, of a job with many; ``again``: see ``Run``;
    ``connections`` keeps those that were looked up, where several runs are started; ``structure``: the job of its only leg, where that is not
    the revision's.
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
    if origin is not None and kind != RunKind.LOAD:
        _follow(run, origin, model.has_many)
        start(run, single=None)
    elif structure is not None:
        repaired = job_from_data(structure)
        start(run, connections, single=(repaired.source.label, repaired.into.label), structure=structure)
    elif model.has_many:
        start(run, single=None)
    else:
        start(run, connections, single=(model.source.label, model.into.label))
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
