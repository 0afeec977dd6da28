"""The legs of a run: which of them are begun, and what the run is when they end.

What changes a leg locks it first and its run after that, so that two never wait for each other.
"""

from __future__ import annotations

from typing import Any

from django.db import transaction
from django.utils import timezone

from ultravect.core.engine.plan.target.load_place import load_place
from ultravect.core.model.document import job_from_data
from ultravect.core.words import counted
from ultravect.service.records.lookup import find_connection
from ultravect.service.records.models import Connection, Event, Leg, Outcome, Run, State
from ultravect.service.records.run_signals import notify_run
from ultravect.service.work.queueing import queue_leg
from ultravect.service.work.runs.attempts import job_of, publishes_together, run_facts
from ultravect.service.work.workers.sites import sites_of_job

_AT_ONCE = 4
_NAMED = 3


def add_event(run: Run, kind: str, data: dict[str, Any], leg: int | None = None) -> None:
    Event.objects.create(run=run, leg=leg, kind=kind, data=data)
    notify_run(run.pk)


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


def locked_run(number: int) -> Run:
    """The run, which no other transaction changes until this one ends."""
    return Run.objects.select_for_update(of=("self",)).select_related("job", "revision", "origin").get(pk=number)


@transaction.atomic(savepoint=False)
def begin_legs(number: int) -> None:
    """Queues legs of a run that may begin, as many at once as its job says."""
    run = locked_run(number)
    if State(run.state).ended:
        return
    legs = list(run.legs.values_list("number", "state", "begun", "waits_for"))
    if publishes_together(run):
        # one worker copies them all: see ``together``
        legs = sorted(legs)[:1]
        legs = [(number, state, begun, []) for number, state, begun, _ in legs]
    ended = {leg for leg, state, *_ in legs if State(state).ended}
    under_way = sum(begun and leg not in ended for leg, _, begun, _ in legs)
    room = (run.revision.structure.get("run") or {}).get("at_once", _AT_ONCE) - under_way
    ready = [
        leg
        for leg, state, begun, waits_for in legs
        if not begun and state == State.QUEUED and ended.issuperset(waits_for)
    ][: max(0, room)]
    connections: dict[str, Connection | None] = {}
    # one that is being stopped at this moment is left to who stops it
    beginning = run.legs.defer(None).defer("plan").select_for_update(skip_locked=True, of=("self",))
    for leg in beginning.filter(number__in=ready, state=State.QUEUED) if ready else ():
        leg.run = run
        leg.begun = True
        leg.save(update_fields=["begun"])
        queue_begun(leg, connections)


def queue_begun(leg: Leg, connections: dict[str, Connection | None]) -> None:
    """Queues a leg that begins, in the transaction that says so."""
    options = leg.run.revision.structure.get("run") or {}
    sites = sites_of_job(job_of(leg), connections)
    queue_leg(leg.run_id, leg.number, place_of(leg, connections), sites, priority=options.get("priority", 0))


@transaction.atomic(savepoint=False)
def after_leg(leg: Leg) -> None:
    """To be called in the transaction in which a leg has ended: begins others, or ends the run."""
    run = locked_run(leg.run_id)
    if State(run.state).ended:
        return
    options = run.revision.structure.get("run") or {}
    why = ""
    if leg.state == State.FAILED and options.get("on_error") == "stop":
        why = f"{leg.object or leg.source} failed, and run.on_error is stop"
    elif run.stop_requested:
        why = "the run was stopped"
    if why:
        _leave_out(run, why)
    if not run.legs.exclude(state__in=[State.SUCCEEDED, State.FAILED, State.STOPPED]).exists():
        end_run(run)
    else:
        begin_legs(run.pk)


def _leave_out(run: Run, why: str) -> None:
    """Stops the legs of a run that were not begun."""
    waiting = run.legs.select_for_update(skip_locked=True, of=("self",)).filter(begun=False, state=State.QUEUED)
    error = {"code": "leg-not-begun", "detail": f"not begun: {why}", "hint": "", "where": {}}
    numbers = [leg.number for leg in waiting]
    run.legs.filter(number__in=numbers).update(state=State.STOPPED, ended_at=timezone.now(), error=error)
    if numbers:
        add_event(run, "log", {"level": "warning", "text": f"{counted(len(numbers), 'leg')} not begun: {why}"})


def end_run(run: Run) -> None:
    """Closes a run whose legs have ended: what it is, and what it has left, follows from theirs."""
    legs = list(run.legs.order_by("number"))
    roll_up(run, legs)
    run.ended_at = timezone.now()
    run.save(update_fields=["state", "outcome", "error", "attempts", "ended_at"])
    add_event(run, "end", {"state": run.state, "outcome": run.outcome, "error": run.error})


def roll_up(run: Run, legs: list[Leg]) -> None:
    """Sets state, outcome and error of a run, without saving it, by those of its legs."""
    states = [leg.state for leg in legs]
    outcomes = [leg.outcome for leg in legs]
    run.state = next((state for state in (State.FAILED, State.STOPPED) if state in states), State.SUCCEEDED)
    run.outcome = next((item for item in (Outcome.UNKNOWN, Outcome.COMMITTED) if item in outcomes), Outcome.NOTHING)
    run.attempts = max((leg.attempts for leg in legs), default=run.attempts)
    run.error = _error_of(run, legs)


def _error_of(run: Run, legs: list[Leg]) -> dict[str, Any] | None:
    failed = [leg for leg in legs if leg.state == State.FAILED]
    if not failed:
        return None
    if len(legs) == 1 and not legs[0].object:
        return dict(failed[0].error or {})
    causes: dict[str, list[str]] = {}
    for leg in failed:
        error = leg.error or {}
        causes.setdefault(f"{error.get('code', '')}: {error.get('detail', '')}", []).append(leg.object)
    shown = [
        f"{', '.join(names[:_NAMED])}{f' and {len(names) - _NAMED} more' if len(names) > _NAMED else ''} ({cause})"
        for cause, names in list(causes.items())[:_NAMED]
    ]
    more = f"; and {counted(len(causes) - _NAMED, 'other cause')}" if len(causes) > _NAMED else ""
    published = (
        "none was published, for run.publish is together"
        if publishes_together(run)
        else "each leg was published on its own"
    )
    return {
        "code": "legs-failed",
        "detail": f"{len(failed)} of {counted(len(legs), 'leg')} failed: {'; '.join(shown)}{more}",
        "hint": f"{published}; ultravect rerun {run.pk} copies those that did not succeed",
        "where": {"legs": [leg.number for leg in failed]},
    }
