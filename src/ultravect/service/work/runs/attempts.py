"""How receipts in targets name the attempts of a leg, and what a worker needs to know of its run."""

from __future__ import annotations

import datetime as dt
from typing import Any

from ultravect.core.engine.objects.names import RunFacts
from ultravect.core.engine.plan.target.load_place import load_place
from ultravect.core.model.document import job_from_data
from ultravect.service.records.lookup import find_connection
from ultravect.service.records.models import Connection, Leg, Run, RunKind
from ultravect.service.records.resolved import resolved


def attempt_name(run: Run, attempt: int) -> str:
    """Its number alone would be another run's in another service's records. A receipt's key has the leg's number, too."""
    name = f"{run.pk}-{run.queued_at:%Y%m%dT%H%M%S%f}"
    return name if attempt <= 1 else f"{name}.{attempt}"


def attempt_names(leg: Leg) -> list[str]:
    """All attempts so far, the one under way included."""
    return [attempt_name(leg.run, attempt) for attempt in range(1, leg.attempts + 1)]


def run_facts(run: Run) -> RunFacts:
    """What names of objects mean: those of the run that this one follows, however many are in between."""
    first = run
    while first.origin is not None:
        first = first.origin
    return RunFacts(str(run.pk), _date(first))


def _date(run: Run) -> dt.date:
    return run.run_date or run.queued_at.date()


def job_of(leg: Leg) -> dict[str, Any]:
    """The job of a leg, with the values that its parameters have in this run."""
    if leg.structure is not None:
        return dict(leg.structure)
    return job_of_run(leg.run)


def job_of_run(run: Run) -> dict[str, Any]:
    """The job of a run, with the values that its parameters have in it."""
    structure = resolved(dict(run.revision.structure))
    return {**structure, "parameters": run.parameters} if run.parameters else structure


def publishes_together(run: Run) -> bool:
    """Whether one worker copies all legs of a run, and publishes them together."""
    # rejects are loaded again, and loads taken back, leg by leg
    asked = (run.revision.structure.get("run") or {}).get("publish")
    return run.kind == RunKind.LOAD and asked == "together"


def place_of(leg: Leg, connections: dict[str, Connection | None]) -> str:
    """What the leg writes into: see ``load_place``. ``connections`` keeps those that were looked up."""
    job = job_from_data(job_of(leg))
    name = job.into.connection
    if name not in connections:
        connections[name] = find_connection(name)
    connection = connections[name]
    if connection is None:
        return f"job:{leg.run.job.name}"
    return load_place(job, connection.kind, connection.settings, run_facts(leg.run))
