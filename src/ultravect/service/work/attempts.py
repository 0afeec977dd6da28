"""How receipts in targets name the attempts of a run, and what a worker needs to know of it."""

from __future__ import annotations

import datetime as dt

from ultravect.core.engine.objects.names import RunFacts
from ultravect.service.records.models import Run


def attempt_name(run: Run, attempt: int) -> str:
    """Its number alone would be another run's in another service's records."""
    name = f"{run.pk}-{run.queued_at:%Y%m%dT%H%M%S%f}"
    return name if attempt <= 1 else f"{name}.{attempt}"


def attempt_names(run: Run) -> list[str]:
    """All attempts so far, the one under way included."""
    return [attempt_name(run, attempt) for attempt in range(1, run.attempts + 1)]


def run_facts(run: Run) -> RunFacts:
    """What names of objects mean: those of the run that this one follows, however many are in between."""
    first = run
    while first.origin is not None:
        first = first.origin
    return RunFacts(str(run.pk), _date(first))


def _date(run: Run) -> dt.date:
    return run.queued_at.date()
