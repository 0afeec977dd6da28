"""Runs whose legs are published together: one process copies all of them, and the records of each are kept as of any other leg.

The first leg's lease is that of the run: its worker has all legs, and a worker that takes it over begins them all anew.
"""

from __future__ import annotations

from typing import Any

from django.db import transaction
from django.db.models import F

from ultravect.core.errors import UltravectError
from ultravect.service.records.models import Leg, Outcome, State
from ultravect.service.work.runs.attempts import publishes_together
from ultravect.service.work.runs.recorder import Recorder


@transaction.atomic
def begin_others(first: Recorder, worker: str) -> list[Recorder]:
    """Begins the legs that are copied with the first one, in the order in which they depend on each other.

    None of them, not even the first one, where one has been stopped or has failed: all are published, or none.
    """
    recorders = [first]
    for number in first.run.legs.exclude(pk=first.leg.pk).order_by("number").values_list("number", flat=True):
        # those that a lost worker has begun
        Leg.objects.filter(run=first.run, number=number).exclude(state__in=_ENDED).update(
            state=State.QUEUED, lease=F("lease") + 1
        )
        recorder = Recorder.of(first.run.pk, number)
        if recorder.begin(worker):
            recorders.append(recorder)
    # only now: one may be stopped while others are begun
    if first.run.legs.filter(state__in=[State.FAILED, State.STOPPED]).exists():
        return []
    return _ordered(recorders)


_ENDED = [State.SUCCEEDED, State.FAILED, State.STOPPED]


def _ordered(recorders: list[Recorder]) -> list[Recorder]:
    """Legs after those that they wait for."""
    done: list[Recorder] = []
    left = list(recorders)
    while left:
        waiting = {recorder.leg.number for recorder in left}
        ready = [recorder for recorder in left if not waiting.intersection(recorder.leg.waits_for)] or left
        done += ready
        left = [recorder for recorder in left if recorder not in ready]
    return done


def task_of(tasks: list[dict[str, Any]]) -> dict[str, Any]:
    """What the process of all legs is given, from what each one's would be."""
    own = ("leg", "job", "receipt", "earlier", "layout", "text")
    return {
        **{name: value for name, value in tasks[0].items() if name not in own},
        "kind": "together",
        "legs": [{name: task[name] for name in own} for task in tasks],
    }


def end_others(first: Recorder, state: State, outcome: Outcome) -> None:
    """Ends the legs of a run that are published with the first one, which has ended without any of them."""
    if not publishes_together(first.run):
        return
    for number in first.run.legs.exclude(pk=first.leg.pk).exclude(state__in=_ENDED).values_list("number", flat=True):
        error = None if state == State.STOPPED else not_published(first.leg, outcome).as_dict()
        Recorder.of(first.run.pk, number).end(state, outcome=outcome, error=error)


def not_published(failed: Leg, outcome: Outcome) -> UltravectError:
    """Why a leg was not published that has not failed itself."""
    error = UltravectError(
        "leg-not-published",
        f"not published: {failed.object or failed.source} failed, and run.publish is together",
        hint="see the error of that leg",
    )
    error.outcome = outcome
    return error
