"""What can happen to runs, legs and slices: each change of a state is a function here, and one transaction. Nothing else writes a state.

A leg:

    queued ──claim──▶ running ──about to publish──▶ running, outcome unknown ──end──▶ succeeded, failed or stopped
      ▲  └─stop─▶ stopped  │ └─end─▶ failed, stopped                               (settle: the outcome is found out later)
      └── hand over, lose, try again ──┘

A leg's row is its place in the queue and its lease. Who claims it gets a new lease number; each later change names the number, and is refused
with LeaseLost once there is a newer one. A lease is renewed by ``beat``; what is not renewed for ``LOST_AFTER_SECONDS``, by the clock of the
database, is lost, and claimed anew. A leg that may have published is never begun again before its target has said which attempt was committed.

What changes a leg locks it first and its run after that, so that two never wait for each other.
"""

from __future__ import annotations

import datetime as dt
import hashlib
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from typing import Any

from django.conf import settings
from django.db import connection, transaction
from django.db.models import F, Q, QuerySet
from django.db.models.functions import Greatest
from django.utils import timezone

from ultravect.core.engine.run.leg import PHASES
from ultravect.core.errors import UltravectError
from ultravect.core.words import counted
from ultravect.service.clock import ahead
from ultravect.service.records.lookup import find_connection
from ultravect.service.records.models import Connection, Event, Leg, LegSearch, Outcome, Run, Slice, State
from ultravect.service.records.moments import last_sign, records_now
from ultravect.service.records.register import enter_leg
from ultravect.service.records.resolved import source_name
from ultravect.service.records.run_signals import notify_run
from ultravect.service.work.runs.attempts import job_of, job_of_run, place_of, publishes_together
from ultravect.service.work.runs.notes import ACCOUNT, LegNotes, add_event, storable
from ultravect.service.work.wake_ups import wake_workers
from ultravect.service.work.workers.sites import ANYWHERE, HOME, sites_of_job

MAX_ATTEMPTS = 3
MAX_SLICE_ATTEMPTS = 6
MOST = 10
"""The highest priority of a job."""

NOTHING, COMMITTED, UNKNOWN = Outcome.NOTHING, Outcome.COMMITTED, Outcome.UNKNOWN
ENDED = (State.SUCCEEDED, State.FAILED, State.STOPPED)
_UNDER_WAY = (State.QUEUED, State.RUNNING)
_AT_ONCE = 4
_NAMED = 3
_PLACE_LENGTH = 200
_RESULT = (
    "rows_after", "rows_about", "checksums", "comparison", "peak_memory", "strategy", "gone", "mark", "guards", "unverified",
)  # fmt: skip
_LEFT = {
    NOTHING: ("nothing was written", ""),
    COMMITTED: (
        "its rows are committed: they are in the target",
        "do not run it again for these rows; look at the run's tally, and undo it if it has to be repeated",
    ),
    UNKNOWN: (
        "whether its rows are in the target is not known yet",
        "the target is asked again and again; run it again only when the outcome is known",
    ),
}
_SILENT = ("leg-timeout", "worker-lost", "outcome-unknown")


class LeaseLost(Exception):
    """Another worker has the leg by now, or may have it: what this one records is refused."""


def with_outcome(error: UltravectError, outcome: Outcome) -> UltravectError:
    """The error, which also says what the run has left in its target."""
    said, hint = _LEFT[outcome]
    detail = error.detail
    if outcome == NOTHING and error.code not in _SILENT:
        return error
    for other, _ in _LEFT.values():
        detail = detail.replace(f"; {other}", "")
    found = UltravectError(error.code, f"{detail}; {said}", hint=hint or error.hint, **error.where)
    found.outcome = outcome
    return found


def locked_run(number: int) -> Run:
    """The run, which no other transaction changes until this one ends."""
    return Run.objects.select_for_update(of=("self",)).select_related("job", "revision", "origin").get(pk=number)


def _with_runs() -> QuerySet[Leg]:
    """Legs with all but their plans, and their runs."""
    return Leg.objects.defer(None).defer("plan").select_related("run__job", "run__revision", "run__origin")


# ---------------------------------------------------------------------------------------------------------------------- a run begins


@transaction.atomic(savepoint=False)
def start(
    run: Run,
    connections: dict[str, Connection | None] | None = None,
    *,
    single: tuple[str, str] | None,
    structure: dict[str, Any] | None = None,
) -> None:
    """Queues what a run that was just recorded consists of: its legs, the only one ``single`` (labels of source and target), or the search
    for them where they are not known yet. ``structure``: the job of the only one, where that is not the run's revision."""
    if single is not None:
        # the only one: it begins at once, and nothing of it has to be read again
        leg = Leg(run=run, number=1, source=single[0], target=single[1], begun=True, structure=structure)
        _into_queue(leg, connections if connections is not None else {})
        leg.save(force_insert=True)
        wake_workers()
    elif run.legs.exists():
        begin_legs(run.pk)
    else:
        queue_search(run)


def queue_search(run: Run) -> None:
    """Has a worker find the legs of a run."""
    sites = sorted(sites_of_job(job_of_run(run)))
    LegSearch.objects.create(run=run, sites=sites, queued_at=records_now())
    wake_workers()


@transaction.atomic(savepoint=False)
def begin_legs(number: int) -> None:
    """Queues legs of a run that may begin, as many at once as its job says."""
    run = locked_run(number)
    if State(run.state).ended:
        return
    legs = list(run.legs.values_list("number", "state", "begun", "waits_for"))
    if publishes_together(run):
        # one worker copies them all: see ``begin_others``
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
        _into_queue(leg, connections)
        leg.save(update_fields=["begun", *_QUEUE_FIELDS])
    if ready:
        wake_workers()


_QUEUE_FIELDS = ("queued_at", "priority", "owner", "sites", "uses", "place")


def _into_queue(leg: Leg, connections: dict[str, Connection | None]) -> None:
    """Sets what decides who may claim a leg, and when."""
    run, structure = leg.run, job_of(leg)
    leg.place = _short(place_of(leg, connections))
    leg.sites = sorted(sites_of_job(structure, connections))
    leg.uses = sorted({source_name(structure), structure["into"]["connection"]})
    leg.priority = (run.revision.structure.get("run") or {}).get("priority", 0)
    limited = [
        name for name in leg.uses if (found := connections.get(name)) is not None and found.at_most is not None
    ]
    # those who wait for one connection come in their order; of all others, each user in turn
    leg.owner = f"connection:{limited[0]}" if limited else f"user:{run.started_by_id or ''}"
    leg.queued_at = records_now()


def _short(place: str) -> str:
    return place if len(place) <= _PLACE_LENGTH else hashlib.sha256(place.encode()).hexdigest()


@transaction.atomic
def adopt() -> None:
    """Queues what an earlier version has left under way, in records that are brought up to date."""
    connections: dict[str, Connection | None] = {}
    for leg in _with_runs().filter(state__in=_UNDER_WAY, begun=True, queued_at=None):
        if publishes_together(leg.run) and leg.run.legs.filter(number__lt=leg.number).exists():
            continue
        with suppress(UltravectError):
            _into_queue(leg, connections)
            leg.save(update_fields=_QUEUE_FIELDS)
    for run in Run.objects.filter(state__in=_UNDER_WAY, legs=None, search=None).select_related("revision"):
        queue_search(run)


# ------------------------------------------------------------------------------------------------------------------ a worker has a leg


class LegRecord(LegNotes):
    """The records of one leg, under the lease that ``leg`` has. Its methods block: call them from a thread.

    Each of them writes only while that lease is the newest, which the database decides; LeaseLost otherwise.
    """

    _stored_state = ""
    """As it is in the records, in a transaction of the lease."""

    may_publish = False
    """Whether the process, which is about to publish, may do so: it is not to stop."""

    @classmethod
    def of(cls, run: int, number: int) -> LegRecord:
        """Of a leg by the numbers of its run and its own."""
        legs = Leg.objects.defer(None).select_related("run__job", "run__revision", "run__origin")
        return cls(legs.get(run_id=run, number=number))

    @contextmanager
    def leased(self) -> Iterator[None]:
        with transaction.atomic():
            mine = Leg.objects.select_for_update().filter(pk=self.leg.pk, lease=self.leg.lease)
            # slices of the leg are recorded by other workers, too
            row = mine.order_by().values_list("state", "noted", "events_kept", "events_left_out", "rejected").first()
            if row is None:
                raise LeaseLost(f"leg {self.leg.number} of run {self.run.pk}")
            self._stored_state, self.leg.noted, self.leg.events_kept, self.leg.events_left_out, self.leg.rejected = (
                row
            )
            yield

    def begun(self) -> None:
        """In the transaction in which the leg was claimed: what an earlier attempt has listed goes, and those who follow the run are notified."""
        phases = [{"name": name, "state": "waiting", "started_at": None, "ended_at": None} for name in PHASES]
        now = timezone.now()
        values: dict[str, Any] = {
            "phases": phases, "started_at": now, "error": None, "progress": {}, "pace": [], "rejected": 0, "noted": 0,
            "not_before": None,
        }  # fmt: skip
        for name, value in values.items():
            setattr(self.leg, name, value)
        self.leg.save(update_fields=list(values))
        if self.leg.attempts > 1:
            self.forget()
        if self.is_one_of_many:
            Run.objects.filter(pk=self.run.pk).update(attempts=Greatest(F("attempts"), self.leg.attempts))
            Run.objects.filter(pk=self.run.pk, state=State.QUEUED).update(state=State.RUNNING, started_at=now)
            self.event("leg", {"state": State.RUNNING, "object": self.leg.object})
        else:
            attempts = max(self.run.attempts, self.leg.attempts)
            self._set_run(state=State.RUNNING, started_at=now, error=None, attempts=attempts)
            self.event("state", {"state": State.RUNNING})

    def _set_run(self, **values: Any) -> None:
        for name, value in values.items():
            setattr(self.run, name, value)
        Run.objects.filter(pk=self.run.pk).update(**values)

    @transaction.atomic
    def begin_with_first(self, worker: str) -> bool:
        """Takes a leg that goes with the first one of its run; False where it has ended."""
        taken = (
            Leg.objects.filter(pk=self.leg.pk)
            .exclude(state__in=ENDED)
            .update(
                state=State.RUNNING,
                worker=worker,
                seen_at=records_now(),
                attempts=F("attempts") + 1,
                lease=F("lease") + 1,
            )
        )
        if taken:
            self.leg.refresh_from_db(fields=["state", "worker", "attempts", "lease"])
            self.begun()
        return bool(taken)

    def note(self, event: dict[str, Any]) -> None:
        match event["kind"]:
            case "slice":
                known = {name: value for name, value in event.items() if name not in ("kind", "leg", "number")}
                self._copied_by_cluster(event["number"], storable(known))
            case "published":
                self._published({name: value for name, value in event.items() if name not in ("kind", "leg")})
            case "phase" if (event["name"], event["state"]) == ("publish", "running"):
                self._about_to_publish()
                super().note(event)
            case _:
                super().note(event)

    def _about_to_publish(self) -> None:
        """From now on the leg may have written. Its process publishes only after it was answered, which is ``may_publish``."""
        self.may_publish = not self._is_to_stop()
        if self.may_publish:
            self.leg.outcome = UNKNOWN
            self.changed("outcome")
            if not self.is_one_of_many:
                self._set_run(outcome=UNKNOWN)

    def _published(self, account: dict[str, Any]) -> None:
        """The process has seen its rows committed."""
        self.leg.outcome = COMMITTED
        self.set_account(account)
        self.changed("outcome", *ACCOUNT)
        self._set_run(outcome=COMMITTED)
        self.event("published", account)

    def _copied_by_cluster(self, number: int, known: Mapping[str, Any]) -> None:
        """Notes what has become of a slice that a cluster copies."""
        piece = self.leg.slices.filter(number=number).first()
        if piece is None or not settings.SLICES_CLUSTER:
            return
        now = timezone.now()
        piece.state, piece.worker = known.get("state", piece.state), known.get("worker", piece.worker)
        piece.progress, piece.error = known.get("progress", piece.progress), known.get("error", piece.error)
        if known.get("state") == State.RUNNING:
            piece.started_at, piece.attempts = now, piece.attempts + 1
        elif "state" in known:
            piece.ended_at = now
        piece.save()
        if "state" in known:
            self.event("slice", {"number": number, **known})

    def end(
        self,
        state: State,
        *,
        outcome: Outcome = NOTHING,
        error: dict[str, Any] | None = None,
        result: dict[str, Any] | None = None,
        last: Sequence[dict[str, Any]] = (),
    ) -> None:
        """Closes the leg, and its run where it was the last one. ``last``: what it said before, which is not stored yet."""
        with self.leased():
            if State(self._stored_state).ended:
                return  # it was closed, and the answer was lost
            self.store(last)
            self._end(state, outcome, storable(error), result or {})
            _after_leg(self.leg)

    def _end(self, state: State, outcome: Outcome, error: dict[str, Any] | None, result: dict[str, Any]) -> None:
        self._end_phases(state, str(result.get("phase") or ""))
        self.leg.state = state
        if "tally" in result:
            self.set_account(result)
        for field in _RESULT:
            if result.get(field) not in (None, ""):
                setattr(self.leg, field, result[field])
        self.leg.outcome = outcome
        self.leg.error = error
        self.leg.ended_at = timezone.now()
        self.leg.outcome_asked_at = self.leg.ended_at if outcome == UNKNOWN else None
        self.leg.save(
            update_fields=[*ACCOUNT, *_RESULT, "state", "phases", "outcome", "outcome_asked_at", "error", "ended_at"]
        )
        if self.leg.slice_order is not None:
            self.leg.slices.filter(state__in=_UNDER_WAY).update(
                state=State.STOPPED, lease=F("lease") + 1, ended_at=self.leg.ended_at
            )
        enter_leg(self.leg, result)
        self.say_left_out()
        if self.is_one_of_many:
            self.event("leg", {"state": state, "outcome": outcome, "error": error, "object": self.leg.object})

    def _end_phases(self, state: State, name: str) -> None:
        """Only the phase in which it ended has that state: phases overlap, and others that ran were cut off by it."""
        now = timezone.now().isoformat()
        running = [phase for phase in self.leg.phases if phase["state"] == "running"]
        ended = next((phase for phase in running if phase["name"] == name), running[-1] if running else None)
        for phase in running:
            phase["state"] = str(state) if phase is ended else "cut off"
            phase["ended_at"] = now

    def hand_over(self, why: str) -> bool:
        """Gives a leg back whose worker, or whose process, is gone, so that it is claimed again; False when it had to be ended instead."""
        if self.may_be_taken_over() and self._back_to_queue(f"{why}; the {self._called} is taken over"):
            return True
        # of one that may have published, the target is asked soon after
        outcome = UNKNOWN if self.leg.outcome != NOTHING else NOTHING
        state = State.STOPPED if self.wants_stop() else State.FAILED
        error = (
            None if state == State.STOPPED else with_outcome(UltravectError("worker-lost", why), outcome).as_dict()
        )
        self.end(state, outcome=outcome, error=error)
        end_others(self, state, outcome)
        return False

    def try_again(self, error: dict[str, Any], wait: float) -> None:
        """Gives a leg back that failed and is to be tried again in ``wait`` seconds; nothing is held meanwhile."""
        said = f"attempt {self.leg.attempts} failed, and is made again in {wait:.0f} s: {error['code']}: {error['detail']}"
        pause = records_now(dt.timedelta(seconds=wait))
        # the target has said of all attempts so far that nothing was written
        if not self._back_to_queue(said, error=storable(error), not_before=pause, outcome=NOTHING):
            self.end(State.STOPPED)

    def _back_to_queue(self, why: str, **values: Any) -> bool:
        """This lease ends with it; False where someone has asked to stop: a leg that waits for a worker would hear of it from no one."""
        with self.leased():
            # who asks to stop now waits until this is done, and then finds a leg that waits
            if locked_run(self.run.pk).stop_requested or self._is_to_stop():
                return False
            Leg.objects.filter(pk=self.leg.pk).update(state=State.QUEUED, lease=F("lease") + 1, **values)
            self.leg.state = State.QUEUED
            self.leg.lease += 1
            self.event("log", {"level": "warning", "text": why})
            if self.is_one_of_many:
                self.event("leg", {"state": State.QUEUED, "object": self.leg.object})
            else:
                self._set_run(state=State.QUEUED)
                self.event("state", {"state": State.QUEUED})
            wake_workers()
        return True

    def settle(self, outcome: Outcome, result: dict[str, Any] | None) -> None:
        """Stores what an ended leg has left in its target, found out afterwards; its error says so then."""
        with self.leased():
            if outcome != UNKNOWN:
                self.leg.outcome = outcome
                if self.leg.error:
                    self.leg.error = with_outcome(UltravectError.from_dict(self.leg.error), outcome).as_dict()
            if result:
                self.set_account(result)
                self.leg.rows_after = result.get("rows_after")
            self.leg.outcome_asked_at = timezone.now()
            self.leg.save(update_fields=[*ACCOUNT, "rows_after", "outcome", "outcome_asked_at", "error"])
            run = locked_run(self.run.pk)
            if State(run.state).ended:
                _roll_up(run, list(run.legs.order_by("number")))
                run.save(update_fields=["outcome", "error"])

    def verified_late(self, tally: Mapping[str, Any] | None) -> None:
        """Notes what the receipt says of a leg whose rows could not be counted after their commit; None: there is no receipt."""
        with self.leased():
            if tally is None:
                level, text = "warning", "not verified: the target has no receipt of this load any more"
            elif tally == self.leg.tally:
                level, text = "info", "verified later, by its receipt in the target: it says the same of the rows"
            else:
                level, text = "warning", f"not verified: the receipt in the target says {tally} of the rows"
            Leg.objects.filter(pk=self.leg.pk).update(unverified=False)
            self.event("log", {"level": level, "text": text})

    def may_be_taken_over(self) -> bool:
        """Whether another attempt is safe: nothing can have been written, or a receipt in the target says what was; and there is one left."""
        safe = self.leg.outcome == NOTHING or self.has_receipts()
        return safe and self.leg.attempts < MAX_ATTEMPTS and not self.wants_stop()

    def may_be_handed_over(self) -> bool:
        """Whether nothing has to be found out before: another attempt follows, or it is to stop."""
        return self.may_be_taken_over() or self.wants_stop()

    def has_receipts(self) -> bool:
        """Whether the target can be asked which attempt was committed."""
        into = job_of(self.leg)["into"]
        found = find_connection(into["connection"])
        return found is not None and bool(found.settings.get("receipts", True)) and not into.get("folder")

    @property
    def _called(self) -> str:
        return "leg" if self.is_one_of_many else "run"

    def wants_stop(self) -> bool:
        """Whether someone asked the leg or its run to stop; LeaseLost where another worker has it."""
        with self.leased():
            return self._is_to_stop()

    def _is_to_stop(self) -> bool:
        asked = Leg.objects.filter(pk=self.leg.pk).values_list("stop_requested", "run__stop_requested")
        return any(asked.get())


@dataclass(frozen=True)
class Beaten:
    """What has become of a leg that its worker says it has: ``lost`` where it is another's, ``stop`` where someone asked it to stop."""

    lost: bool
    stop: bool


def beat(held: Mapping[int, int], *, renew: bool) -> Mapping[int, Beaten]:
    """Renews the leases of legs (numbers of rows, with those of leases), all in one statement, or only looks at them."""
    mine = Q()
    for leg, lease in held.items():
        mine |= Q(pk=leg, lease=lease)
    legs = Leg.objects.filter(mine, state=State.RUNNING)
    if renew:
        legs.update(seen_at=records_now())
    found = {pk: leg or run for pk, leg, run in legs.values_list("pk", "stop_requested", "run__stop_requested")}
    return {leg: Beaten(leg not in found, found.get(leg, False)) for leg in held}


def lost_legs() -> list[tuple[int, int]]:
    """Legs whose worker gives no sign of life: the number of the row, and of its lease."""
    legs = Leg.objects.filter(_is_lost(), queued_at__isnull=False)
    return list(legs.order_by("pk").values_list("pk", "lease"))


def _is_lost() -> Q:
    return Q(state=State.RUNNING) & (Q(seen_at__lt=last_sign()) | Q(seen_at=None))


@transaction.atomic
def lose(number: int, lease: int) -> str:
    """Has a leg be claimed anew whose lease is over, or ends it; what became of it, "" where it is not lost any more."""
    legs = _with_runs().select_for_update(of=("self",), skip_locked=True)
    leg = legs.filter(_is_lost(), pk=number, lease=lease).first()
    if leg is None:
        return ""
    record = LegRecord(leg)
    record.hand_over(f"worker {leg.worker} was lost")
    return str(record.leg.state)


# ------------------------------------------------------------------------------------------------------------------------- a leg has ended


def _after_leg(leg: Leg) -> None:
    """In the transaction in which a leg has ended: begins others, or ends the run."""
    # what it wrote into, and its connections, have room now
    wake_workers()
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
    if not leg.object or not run.legs.exclude(state__in=ENDED).exists():
        _end_run(run, list(run.legs.order_by("number")))
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


def _end_run(run: Run, legs: Sequence[Leg]) -> None:
    """Closes a run whose legs have ended: what it is, and what it has left, follows from theirs."""
    _roll_up(run, legs)
    _close_run(run)


def _close_run(run: Run) -> None:
    """Stores state, outcome and error of a run that has ended."""
    run.ended_at = timezone.now()
    run.save(update_fields=["state", "outcome", "error", "attempts", "ended_at"])
    add_event(run, "end", {"state": run.state, "outcome": run.outcome, "error": run.error})


def end_without_legs(run: Run, state: State, error: UltravectError | None) -> None:
    """Ends a run that has no legs; it is locked."""
    LegSearch.objects.filter(run=run).delete()
    run.state, run.outcome = state, NOTHING
    run.error = error.as_dict() if error else None
    _close_run(run)


def begin_run(run: Run) -> None:
    """The legs of a run are being looked for; it is locked."""
    if run.state == State.QUEUED:
        run.state, run.started_at = State.RUNNING, timezone.now()
        run.save(update_fields=["state", "started_at"])
        add_event(run, "state", {"state": State.RUNNING})


def _roll_up(run: Run, legs: Sequence[Leg]) -> None:
    """Sets state, outcome and error of a run, without saving it, by those of its legs."""
    states = [leg.state for leg in legs]
    outcomes = [leg.outcome for leg in legs]
    run.state = next((state for state in (State.FAILED, State.STOPPED) if state in states), State.SUCCEEDED)
    run.outcome = next((item for item in (UNKNOWN, COMMITTED) if item in outcomes), NOTHING)
    run.attempts = max((leg.attempts for leg in legs), default=run.attempts)
    run.error = _error_of(run, legs)


def _error_of(run: Run, legs: Sequence[Leg]) -> dict[str, Any] | None:
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


# ------------------------------------------------------------------------------------------------------- legs that are published together


@transaction.atomic
def begin_others(first: LegRecord, worker: str) -> list[LegRecord]:
    """Begins the legs that are copied with the first one, in the order in which they depend on each other. The first leg's lease is that of
    the run: its worker has all legs, and a worker that takes it over begins them all anew.

    None of them, not even the first one, where one has been stopped or has failed: all are published, or none.
    """
    records = [first]
    for number in first.run.legs.exclude(pk=first.leg.pk).order_by("number").values_list("number", flat=True):
        record = LegRecord.of(first.run.pk, number)
        if record.begin_with_first(worker):
            records.append(record)
    # only now: one may be stopped while others are begun
    if first.run.legs.filter(state__in=[State.FAILED, State.STOPPED]).exists():
        return []
    return _ordered(records)


def _ordered(records: list[LegRecord]) -> list[LegRecord]:
    """Legs after those that they wait for."""
    done: list[LegRecord] = []
    left = list(records)
    while left:
        waiting = {record.leg.number for record in left}
        ready = [record for record in left if not waiting.intersection(record.leg.waits_for)] or left
        done += ready
        left = [record for record in left if record not in ready]
    return done


def end_others(first: LegRecord, state: State, outcome: Outcome) -> None:
    """Ends the legs of a run that are published with the first one, which has ended without any of them."""
    if not publishes_together(first.run):
        return
    for number in first.run.legs.exclude(pk=first.leg.pk).exclude(state__in=ENDED).values_list("number", flat=True):
        error = None if state == State.STOPPED else not_published(first.leg, outcome).as_dict()
        LegRecord.of(first.run.pk, number).end(state, outcome=outcome, error=error)


def not_published(failed: Leg, outcome: Outcome) -> UltravectError:
    """Why a leg was not published that has not failed itself."""
    error = UltravectError(
        "leg-not-published",
        f"not published: {failed.object or failed.source} failed, and run.publish is together",
        hint="see the error of that leg",
    )
    error.outcome = outcome
    return error


# ------------------------------------------------------------------------------------------------------------------- someone asks to stop


def stop_run(number: int) -> None:
    """Asks a run and all its legs to stop: those that were not begun end at once, those under way when their worker notices."""
    Run.objects.filter(pk=number).update(stop_requested=True)
    while (leg := Leg.objects.filter(run_id=number, state=State.QUEUED).order_by("number").first()) is not None:
        _end_queued(leg)
    with transaction.atomic():
        run = locked_run(number)
        # a worker that looks for its legs finds out by itself
        waits = run.state == State.QUEUED or LegSearch.objects.filter(run=run, worker="").exists()
        if waits and not State(run.state).ended and not run.legs.exists():
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
    """Ends a leg that no worker has."""
    found = Leg.objects.select_for_update().filter(pk=leg.pk, state=State.QUEUED).first()
    if found is not None:
        Leg.objects.filter(pk=leg.pk).update(stop_requested=True)
        record = LegRecord.of(leg.run_id, leg.number)
        # of an attempt before, whose worker was lost, the target is asked
        record.end(State.STOPPED, outcome=UNKNOWN if record.leg.outcome != NOTHING else NOTHING)


# ------------------------------------------------------------------------------------------------------------------------------- slices


class SliceRecord(LegRecord):
    """The records of one slice, under a lease of its own."""

    def __init__(self, leg: Leg, piece: Slice) -> None:
        super().__init__(leg)
        self.piece = piece

    @classmethod
    @transaction.atomic
    def take(cls, run: int, leg: int, worker: str) -> SliceRecord | None:
        """A slice of a leg under way that no worker has; None where there is none."""
        # what changes a slice locks its leg first
        held = Leg.objects.select_for_update(of=("self",)).filter(run_id=run, number=leg, state=State.RUNNING).first()
        found = held and held.slices.select_for_update().filter(state=State.QUEUED).order_by("number").first()
        if found is None:
            return None
        Slice.objects.filter(pk=found.pk).update(
            state=State.RUNNING,
            worker=worker,
            started_at=timezone.now(),
            seen_at=records_now(),
            attempts=F("attempts") + 1,
            lease=F("lease") + 1,
            error=None,
            progress={},
        )
        found.refresh_from_db()
        record = cls(LegRecord.of(run, leg).leg, found)
        # what an attempt before listed
        listed, _ = record.leg.rejects.filter(slice=found.number).delete()
        Leg.objects.filter(pk=found.leg_id).update(rejected=F("rejected") - listed)
        record.shown()
        return record

    @contextmanager
    def leased(self) -> Iterator[None]:
        with transaction.atomic():
            held = Leg.objects.select_for_update().get(pk=self.leg.pk)
            self.leg.events_kept, self.leg.events_left_out, self.leg.rejected = (
                held.events_kept, held.events_left_out, held.rejected,
            )  # fmt: skip
            mine = Slice.objects.select_for_update().filter(
                pk=self.piece.pk, lease=self.piece.lease, state=State.RUNNING
            )
            if not mine.exists():
                raise LeaseLost(f"slice {self.piece.number} of leg {self.leg.number} of run {self.run.pk}")
            yield

    def shown(self) -> None:
        """Notifies those who follow the run of the slice's state."""
        piece = self.piece
        self.event(
            "slice", {"number": piece.number, "state": piece.state, "worker": piece.worker, "error": piece.error}
        )

    def note(self, event: dict[str, Any]) -> None:
        data = {key: value for key, value in event.items() if key not in ("kind", "said")}
        match event["kind"]:
            case "progress":
                self.piece.progress = data
                self.piece.save(update_fields=["progress"])
                notify_run(self.run.pk)
            case "rejects":
                self.event("rejects", self.keep_rejects(data["rejects"], self.piece.number))
            case "log":
                self.event("log", {**data, "text": f"slice {self.piece.number}: {data['text']}"})

    def seen(self) -> None:
        """Renews the lease; LeaseLost where the slice, or its leg, is not this worker's to copy any more."""
        with self.leased():
            leg = Leg.objects.filter(pk=self.leg.pk, state=State.RUNNING, lease=self.leg.lease).first()
            if leg is None or leg.stop_requested:
                raise LeaseLost(f"leg {self.leg.number} of run {self.run.pk}")
            Slice.objects.filter(pk=self.piece.pk).update(seen_at=records_now())

    def done(self, result: dict[str, Any]) -> None:
        self._close(State.SUCCEEDED, result=result)

    def failed(self, error: dict[str, Any], *, again: bool) -> None:
        """Ends the slice, or gives it back where another attempt may succeed (``again``)."""
        if again and self.piece.attempts < MAX_SLICE_ATTEMPTS:
            self._close(State.QUEUED, error=error)
            wake_workers()
        else:
            self._close(State.FAILED, error=error)

    def _close(self, state: State, **values: Any) -> None:
        with self.leased():
            self.piece.state, self.piece.ended_at = state, timezone.now()
            self.piece.lease += state == State.QUEUED
            for name, value in values.items():
                setattr(self.piece, name, value)
            self.piece.save(update_fields=["state", "ended_at", "lease", *values])
            self.shown()


def give_back_lost_slices(leg: Leg) -> None:
    """Lets other workers take slices whose worker gives no sign of life."""
    died = {"code": "worker-lost", "detail": "the worker that had the slice was lost", "hint": "", "where": {}}
    lost = Slice.objects.filter(leg=leg, state=State.RUNNING, seen_at__lt=last_sign())
    left = lost.filter(attempts__lt=MAX_SLICE_ATTEMPTS).update(state=State.QUEUED, lease=F("lease") + 1, error=died)
    lost.update(state=State.FAILED, lease=F("lease") + 1, error=died)
    if left:
        wake_workers()


# --------------------------------------------------------------------------------------------------------------------------------- claims

_LEG = """
WITH running AS MATERIALIZED (SELECT owner, uses FROM records_leg WHERE state = 'running'),
full_ AS MATERIALIZED (
  SELECT coalesce(array_agg(c.name::varchar), '{{}}') AS names FROM records_connection c
  WHERE c.at_most IS NOT NULL AND c.at_most <= (SELECT count(*) FROM running r WHERE c.name = ANY(r.uses))),
owners AS (
  WITH RECURSIVE waiting(owner) AS (
    (SELECT owner FROM records_leg WHERE state = 'queued' AND queued_at IS NOT NULL ORDER BY owner LIMIT 1)
    UNION ALL
    SELECT (SELECT l.owner FROM records_leg l WHERE l.state = 'queued' AND l.queued_at IS NOT NULL AND l.owner > w.owner
            ORDER BY l.owner LIMIT 1)
    FROM waiting w WHERE w.owner IS NOT NULL)
  SELECT owner, (SELECT count(*) FROM running r WHERE r.owner = waiting.owner) AS busy FROM waiting WHERE owner IS NOT NULL),
found AS (
  SELECT c.id FROM owners o CROSS JOIN LATERAL (
    SELECT l.id, l.priority, l.queued_at FROM records_leg l
    WHERE l.state = 'queued' AND l.queued_at IS NOT NULL AND l.owner = o.owner AND {reached}
      AND (l.not_before IS NULL OR l.not_before <= now() + %(ahead)s)
      AND NOT EXISTS (SELECT 1 FROM records_leg r WHERE r.state = 'running' AND r.place = l.place)
      AND NOT l.uses && (SELECT names FROM full_)
    ORDER BY l.priority DESC, l.queued_at, l.id LIMIT 1 FOR UPDATE OF l SKIP LOCKED) c
  ORDER BY c.priority DESC, o.busy, c.queued_at, c.id LIMIT 1)
UPDATE records_leg SET state = 'running', worker = %(worker)s, lease = lease + 1, attempts = attempts + 1, seen_at = now() + %(ahead)s
WHERE id = (SELECT id FROM found) AND state = 'queued' RETURNING run_id, number
"""
_SLICE = """
SELECT l.run_id, l.number FROM records_leg l
WHERE l.state = 'running' AND {reached} AND l.slice_order IS NOT NULL AND NOT coalesce((l.slice_order->>'cluster')::boolean, false)
  AND EXISTS (SELECT 1 FROM records_slice s WHERE s.leg_id = l.id AND s.state = 'queued')
ORDER BY l.id LIMIT 1
"""
_SEARCH = """
UPDATE records_legsearch SET worker = %(worker)s, lease = lease + 1, attempts = attempts + 1, seen_at = now() + %(ahead)s
WHERE id = (
  SELECT l.id FROM records_legsearch l WHERE (l.worker = '' OR l.seen_at < now() + %(ahead)s - %(lost)s) AND {reached}
    AND (l.not_before IS NULL OR l.not_before <= now() + %(ahead)s)
  ORDER BY l.queued_at, l.id LIMIT 1 FOR UPDATE SKIP LOCKED)
RETURNING run_id, lease
"""
_LOOK = """
UPDATE records_sitelook SET worker = %(worker)s WHERE id = (
  SELECT l.id FROM records_sitelook l WHERE l.worker = '' AND l.answer IS NULL AND {reached}
  ORDER BY l.id LIMIT 1 FOR UPDATE SKIP LOCKED)
RETURNING id
"""
_REACHED = "l.sites <@ %(served)s::varchar[] AND (%(home)s OR NOT l.sites <@ ARRAY['*']::varchar[])"
_ANYTHING = """
SELECT EXISTS (SELECT 1 FROM records_leg l WHERE l.state = 'queued' AND l.queued_at IS NOT NULL),
  EXISTS (SELECT 1 FROM records_leg l WHERE l.state = 'running' AND l.slice_order IS NOT NULL),
  EXISTS (SELECT 1 FROM records_legsearch)
"""
# what a claim sees must not change before it is made: who runs, and where
_ONE_AT_A_TIME = "SELECT pg_advisory_xact_lock(7236838512)"
_WAITS = """
UPDATE records_leg l SET waits_noted = true FROM records_connection c
WHERE l.state = 'queued' AND l.queued_at IS NOT NULL AND NOT l.waits_noted AND c.at_most IS NOT NULL AND c.name = ANY(l.uses)
  AND c.at_most <= (SELECT count(*) FROM records_leg r WHERE r.state = 'running' AND c.name = ANY(r.uses))
RETURNING l.run_id, l.number, l.object, c.name, c.at_most
"""


@dataclass(frozen=True)
class Claimant:
    """A worker that takes what it can do: ``sites`` it serves; ``joined``: by HTTPS, so that it is given connections of its sites alone."""

    worker: str
    sites: frozenset[str]
    joined: bool = False

    def values(self) -> dict[str, Any]:
        served = self.sites - {HOME} if self.joined else self.sites | {ANYWHERE}
        lost = dt.timedelta(seconds=settings.LOST_AFTER_SECONDS)
        # what needs no site at all is for those who serve home
        home = HOME in self.sites and not self.joined
        return {"worker": self.worker, "served": sorted(served), "home": home, "ahead": ahead(), "lost": lost}


def _asked(statement: str, claimant: Claimant) -> tuple[Any, ...] | None:
    with connection.cursor() as cursor:
        cursor.execute(statement.format(reached=_REACHED), claimant.values())
        found: tuple[Any, ...] | None = cursor.fetchone()
    return found


@dataclass(frozen=True)
class Waiting:
    """What is there to be claimed at all, by whomever."""

    legs: bool
    slices: bool
    searches: bool

    @classmethod
    def now(cls) -> Waiting:
        with connection.cursor() as cursor:
            cursor.execute(_ANYTHING)
            return cls(*cursor.fetchone())


def claim_leg(claimant: Claimant) -> LegRecord | None:
    """The leg whose turn it is, now this worker's; None where there is none that it may have. Its place and its connections have room, its
    pause is over; of two owners the one of whom fewer run is first."""
    with transaction.atomic():
        with connection.cursor() as cursor:
            cursor.execute(_ONE_AT_A_TIME)
        found = _asked(_LEG, claimant)
        if found is None:
            return None
        record = LegRecord.of(*found)
        record.begun()  # in the transaction that has claimed it
    return record


def waiting_slice(claimant: Claimant) -> tuple[int, int] | None:
    """Run and number of a leg that has a slice to be copied; see ``SliceRecord.take``."""
    return _asked(_SLICE, claimant)


def claim_search(claimant: Claimant) -> tuple[int, int] | None:
    """A run whose legs are to be found, with the number of the lease."""
    return _asked(_SEARCH, claimant)


def renew_search(run: int, lease: int) -> bool:
    """Whether the search is still this worker's, which it is for longer now."""
    return bool(LegSearch.objects.filter(run_id=run, lease=lease).update(seen_at=records_now()))


def give_search_back(run: int, lease: int) -> None:
    """Lets any worker look for the legs of a run."""
    LegSearch.objects.filter(run_id=run, lease=lease).update(worker="", seen_at=None, lease=F("lease") + 1)
    wake_workers()


@transaction.atomic
def search_again(run: Run, lease: int, error: UltravectError, wait: float) -> None:
    """Has the legs of a run be looked for again in ``wait`` seconds, by any worker."""
    again = {"worker": "", "seen_at": None, "not_before": records_now(dt.timedelta(seconds=wait))}
    if LegSearch.objects.filter(run=run, lease=lease).update(lease=F("lease") + 1, **again):
        text = f"finding what to copy failed, and is tried again in {wait:.0f} s: {error.code}: {error.detail}"
        add_event(run, "log", {"level": "warning", "text": text})


def claim_look(claimant: Claimant) -> int | None:
    """A question about connections of a site, which this worker answers."""
    found = _asked(_LOOK, claimant)
    return found[0] if found else None


@transaction.atomic
def note_waiting() -> None:
    """Says once of a leg that it waits for a connection that has no room."""
    with connection.cursor() as cursor:
        cursor.execute(_WAITS)
        found = cursor.fetchall()
    for run, number, called, name, most in found:
        what = "leg" if called else "run"
        text = f"{what} waits: connection {name} is used by {most} at once, and no more may be"
        Event.objects.create(run_id=run, leg=number, kind="log", data={"level": "info", "text": text})
        notify_run(run)


# ------------------------------------------------------------------------------------------------------------------- outcomes found out later

_ASK_AGAIN_SECONDS = 20.0
# shorter than targets keep receipts: a missing one must mean that nothing was written
_RECEIPTS_KEPT = dt.timedelta(days=60)
_LOOKED_AT = 50


def unsettled(may_ask: Callable[[Leg], bool]) -> Leg | None:
    """An ended leg of which the target has not said yet whether its rows are there, or are as many; it is this process's to ask."""
    now = timezone.now()
    before = now - dt.timedelta(seconds=_ASK_AGAIN_SECONDS)
    just_ended = Q(outcome_asked_at=F("ended_at"))
    unknown = Q(outcome=UNKNOWN) & (Q(outcome_asked_at__lt=before) | just_ended)
    unverified = Q(unverified=True) & (Q(outcome_asked_at__lt=before) | Q(outcome_asked_at=None))
    with transaction.atomic():
        legs = (
            _with_runs()
            .select_for_update(skip_locked=True, of=("self",))
            .filter(unknown | unverified, ended_at__gt=now - _RECEIPTS_KEPT, state__in=ENDED)
            .order_by("outcome_asked_at")[:_LOOKED_AT]
        )
        leg = next((leg for leg in legs if may_ask(leg)), None)
        if leg is not None:
            leg.outcome_asked_at = now
            leg.save(update_fields=["outcome_asked_at"])
    return leg
