"""Stops runs and legs: those that were not begun end at once, those under way when their worker notices."""

from __future__ import annotations

from django.db import transaction

from ultravect.service.records.models import Leg, Run, State
from ultravect.service.work.runs.attempts import publishes_together
from ultravect.service.work.runs.lay_out import end_without_legs
from ultravect.service.work.runs.legs import locked_run
from ultravect.service.work.runs.recorder import Recorder


def stop_run(number: int) -> None:
    """Asks a run and all its legs to stop."""
    Run.objects.filter(pk=number).update(stop_requested=True)
    while (leg := Leg.objects.filter(run_id=number, state=State.QUEUED).order_by("number").first()) is not None:
        _end_queued(leg)
    with transaction.atomic():
        run = locked_run(number)
        if run.state == State.QUEUED and not run.legs.exists():
            end_without_legs(run, State.STOPPED, None)


def stop_leg(number: int, leg: int) -> None:
    """Asks one leg of a run to stop; the others go on."""
    found = Leg.objects.select_related("run__revision").get(run_id=number, number=leg)
    if publishes_together(found.run):
        stop_run(number)
        return
    Leg.objects.filter(run_id=number, number=leg).update(stop_requested=True)
    _end_queued(Leg.objects.get(run_id=number, number=leg))


@transaction.atomic
def _end_queued(leg: Leg) -> None:
    """Ends a leg that is queued; its task will find it so."""
    if Leg.objects.filter(pk=leg.pk, state=State.QUEUED).update(state=State.STOPPED, stop_requested=True):
        Recorder.of(leg.run_id, leg.number).end(State.STOPPED)
