"""Writes what happens in a leg into the records."""

from __future__ import annotations

import datetime as dt
import time
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

from django.db import transaction
from django.db.models import F
from django.db.models.functions import Coalesce, Greatest
from django.utils import timezone

from ultravect.core.engine.run.leg import PHASES
from ultravect.service.records.lookup import find_connection
from ultravect.service.records.models import Change, Connection, Event, Leg, Outcome, Reject, Run, Slice, State
from ultravect.service.records.run_signals import notify_run
from ultravect.service.work.runs.attempts import job_of
from ultravect.service.work.runs.legs import add_event, after_leg, locked_run, roll_up
from ultravect.service.work.runs.register import enter_leg

KEPT_REJECTS = 10_000
MAX_ATTEMPTS = 3
_AGO_SECONDS = 0.5
_ACCOUNT = ["tally", "rows_before", "created_target"]
_RESULT = ["rows_after", "checksums", "comparison", "peak_memory", "strategy", "gone", "mark", "guards"]


class LeaseLost(Exception):
    """Another worker has the leg by now: what this one records is refused."""


def _storable(value: Any) -> Any:
    """PostgreSQL keeps no NUL characters; they are shown as their symbol."""
    if isinstance(value, str):
        return value.replace("\0", "\N{SYMBOL FOR NULL}")
    if isinstance(value, dict):
        return {key: _storable(item) for key, item in value.items()}
    if isinstance(value, list):
        return [_storable(item) for item in value]
    return value


class Recorder:
    """The records of one leg, under the lease that ``leg`` has. Its methods block: call them from a thread.

    Each of them writes only while that lease is the newest, which the database decides; LeaseLost otherwise.
    """

    def __init__(self, leg: Leg) -> None:
        self.leg = leg
        self.run = leg.run
        self._unsaved: set[str] = set()
        self._of_run: dict[str, Any] = {}
        self._unsent: list[Event] | None = None
        """Events of the transaction under way, None where each is stored by itself."""

    @classmethod
    def of(cls, run: int, number: int) -> Recorder:
        """Of a leg by the numbers of its run and its own."""
        legs = Leg.objects.defer(None).select_related("run__job", "run__revision", "run__origin")
        return cls(legs.get(run_id=run, number=number))

    @contextmanager
    def _leased(self) -> Iterator[None]:
        """A transaction in which no worker can take the leg over."""
        with transaction.atomic():
            if not Leg.objects.select_for_update().filter(pk=self.leg.pk, lease=self.leg.lease).exists():
                raise LeaseLost(f"leg {self.leg.number} of run {self.run.pk}")
            yield

    def _event(self, kind: str, data: dict[str, Any]) -> None:
        if self._unsent is None:
            add_event(self.run, kind, _storable(data), self.leg.number)
        else:
            self._unsent.append(Event(run=self.run, leg=self.leg.number, kind=kind, data=_storable(data)))

    @property
    def _is_one_of_many(self) -> bool:
        return bool(self.leg.object)

    def wait_for(self, full: Connection) -> None:
        """Says once that the leg waits for a connection that has no room."""
        text = f"{self._called} waits: connection {full.name} is used by {full.at_most} at once, and no more may be"
        if not Event.objects.filter(run=self.run, leg=self.leg.number, kind="log", data__text=text).exists():
            self._event("log", {"level": "info", "text": text})

    @transaction.atomic
    def begin(self, worker: str) -> bool:
        """Takes the leg with a lease of its own; False when it is not queued any more."""
        now = timezone.now()
        phases = [{"name": name, "state": "waiting", "started_at": None, "ended_at": None} for name in PHASES]
        begun = {
            "state": State.RUNNING,
            "started_at": now,
            "worker": worker,
            "error": None,
            "progress": {},
            "phases": phases,
        }
        taken = Leg.objects.filter(pk=self.leg.pk, state=State.QUEUED).update(
            **begun, rejected=0, attempts=F("attempts") + 1, lease=F("lease") + 1
        )
        if not taken:
            return False
        self.leg.refresh_from_db(fields=[*begun, "rejected", "attempts", "lease"])
        if self.leg.attempts > 1:
            # what an earlier attempt left
            self._forget()
        if self._is_one_of_many:
            Run.objects.filter(pk=self.run.pk).update(attempts=Greatest(F("attempts"), self.leg.attempts))
            Run.objects.filter(pk=self.run.pk, state=State.QUEUED).update(state=State.RUNNING, started_at=now)
            self._event("leg", {"state": State.RUNNING, "object": self.leg.object})
        else:
            attempts = max(self.run.attempts, self.leg.attempts)
            self._mark_run(state=State.RUNNING, started_at=now, error=None, attempts=attempts)
            self._event("state", {"state": State.RUNNING})
        return True

    def _mark_run(self, **values: Any) -> None:
        """Sets fields of the run: at once, or with all that is recorded at once."""
        for name, value in values.items():
            setattr(self.run, name, value)
        if self._unsent is None:
            Run.objects.filter(pk=self.run.pk).update(**values)
        else:
            self._of_run |= values

    def _forget(self) -> None:
        """Removes the rows that are listed of the leg."""
        self.leg.rejects.all().delete()
        self.leg.changes.all().delete()
        self.leg.slices.all().delete()
        self.leg.rejected = 0

    def record(self, *events: dict[str, Any]) -> None:
        """Stores what the leg said, other than how it ended, in one transaction."""
        with self._leased():
            self._unsaved, self._unsent, self._of_run = set(), [], {}
            try:
                for event in events:
                    self._record(event)
                if self._unsaved:
                    self.leg.save(update_fields=sorted(self._unsaved))
                if first := self._of_run.pop("first_row_at", None):
                    # another leg of the run may have been first
                    self._of_run["first_row_at"] = Coalesce(F("first_row_at"), first)
                if self._of_run:
                    Run.objects.filter(pk=self.run.pk).update(**self._of_run)
                Event.objects.bulk_create(self._unsent)
            finally:
                self._unsent = None
            notify_run(self.run.pk)

    def _changed(self, *fields: str) -> None:
        """Has fields of the leg be saved with all that is recorded at once."""
        self._unsaved.update(fields)

    def _record(self, event: dict[str, Any]) -> None:
        data = {key: value for key, value in event.items() if key not in ("kind", "leg")}
        match event["kind"]:
            case "phase":
                self._phase(data["name"], data["state"])
            case "progress":
                ago = time.time() - data.pop("said", time.time())
                if data.get("rows_read") and self.run.first_row_at is None:
                    # it was said a moment ago; another machine's clock may show anything
                    self._mark_run(
                        first_row_at=timezone.now() - dt.timedelta(seconds=min(max(ago, 0.0), _AGO_SECONDS))
                    )
                self.leg.progress = data
                self._changed("progress")
            case "planned":
                self.leg.plan = _storable(data["plan"])
                self.leg.strategy = data["plan"]["strategy"]["name"]
                self._changed("plan", "strategy")
                data = {"strategy": data["plan"]["strategy"]}
            case "rejects":
                data = self._rejects(data["rejects"])
            case "slices":
                self._offer_slices(data["order"], data["labels"], queued=not data.get("cluster"))
                data = {"count": len(data["labels"])}
            case "slice":
                self._slice_elsewhere(data.pop("number"), data)
                return
            case "statements":
                self.leg.statements = _storable(data["statements"])
                self._changed("statements")
                return
            case "changes":
                Change.objects.bulk_create(Change(leg=self.leg, **_storable(item)) for item in data["changes"])
                data = {"count": len(data["changes"])}
            case "read_again":
                self._forget()
                self._changed("rejected")
            case "published":
                self._account(data)
                self._changed(*_ACCOUNT)
                self._outcome(Outcome.COMMITTED)
        self._event(event["kind"], data)

    def _offer_slices(self, order: dict[str, Any], labels: list[str], *, queued: bool) -> None:
        """Lets every worker take slices of the leg; its own does so without being asked."""
        from ultravect.service.work.workers.tasks import queue_slice

        self.leg.slice_order = order
        self._changed("slice_order")
        Slice.objects.bulk_create(
            Slice(leg=self.leg, number=number, label=_storable(label)[:500]) for number, label in enumerate(labels, 1)
        )
        for _ in labels[1:] if queued else ():
            queue_slice(self.run.pk, self.leg.number)

    def _slice_elsewhere(self, number: int, known: dict[str, Any]) -> None:
        """Notes what has become of a slice that a cluster copies."""
        piece = self.leg.slices.get(number=number)
        now = timezone.now()
        for name, value in _storable(known).items():
            setattr(piece, name, value)
        if known.get("state") == State.RUNNING:
            piece.started_at, piece.attempts = now, piece.attempts + 1
        elif "state" in known:
            piece.ended_at = now
        piece.save()
        if "state" in known:
            self._event("slice", {"number": number, **known})

    def _outcome(self, outcome: Outcome) -> None:
        self.leg.outcome = outcome
        self._changed("outcome")
        # what one of many legs has left, the run has left
        if not self._is_one_of_many or outcome == Outcome.COMMITTED:
            self._mark_run(outcome=outcome)

    def _account(self, result: dict[str, Any]) -> None:
        """What a leg, or its receipt in the target, says of its rows."""
        self.leg.tally = result.get("tally")
        self.leg.rows_before = result.get("rows_before")
        self.leg.created_target = bool(result.get("created"))

    def _phase(self, name: str, state: str) -> None:
        if (name, state) == ("publish", "running"):
            self._outcome(Outcome.UNKNOWN)
        now = timezone.now().isoformat()
        for phase in self.leg.phases:
            if phase["name"] == name:
                phase["state"] = state
                phase["started_at" if state == "running" else "ended_at"] = now
        self._changed("phases")

    def _rejects(self, rejects: list[dict[str, Any]], slice_number: int | None = None) -> dict[str, Any]:
        room = max(0, KEPT_REJECTS - self.leg.rejected)
        Reject.objects.bulk_create(
            Reject(leg=self.leg, slice=slice_number, **_storable(reject)) for reject in rejects[:room]
        )
        self.leg.rejected += len(rejects)
        self._changed("rejected")
        return {
            "count": len(rejects),
            "total": self.leg.rejected,
            "kept": min(self.leg.rejected, KEPT_REJECTS),
        }

    def end(
        self,
        state: State,
        *,
        outcome: Outcome = Outcome.NOTHING,
        error: dict[str, Any] | None = None,
        result: dict[str, Any] | None = None,
    ) -> None:
        """Closes the leg, and its run where it was the last one."""
        with self._leased():
            self._end(state, outcome, _storable(error), result or {})
            after_leg(self.leg)

    def _end(self, state: State, outcome: Outcome, error: dict[str, Any] | None, result: dict[str, Any]) -> None:
        self._end_phases(state, str(result.get("phase") or ""))
        self.leg.state = state
        if "tally" in result:
            self._account(result)
        for field in _RESULT:
            if result.get(field) not in (None, ""):
                setattr(self.leg, field, result[field])
        self.leg.outcome = outcome
        self.leg.error = error
        self.leg.ended_at = timezone.now()
        self.leg.outcome_asked_at = self.leg.ended_at if outcome == Outcome.UNKNOWN else None
        self.leg.save(
            update_fields=[*_ACCOUNT, *_RESULT, "state", "phases", "outcome", "outcome_asked_at", "error", "ended_at"]
        )
        if self.leg.slice_order is not None:
            self.leg.slices.filter(state__in=[State.QUEUED, State.RUNNING]).update(
                state=State.STOPPED, lease=F("lease") + 1, ended_at=self.leg.ended_at
            )
        enter_leg(self.leg, result)
        if self._is_one_of_many:
            self._event("leg", {"state": state, "outcome": outcome, "error": error, "object": self.leg.object})

    def _end_phases(self, state: State, name: str) -> None:
        """Only the phase in which it ended has that state: phases overlap, and others that ran were cut off by it."""
        now = timezone.now().isoformat()
        running = [phase for phase in self.leg.phases if phase["state"] == "running"]
        ended = next((phase for phase in running if phase["name"] == name), running[-1] if running else None)
        for phase in running:
            phase["state"] = str(state) if phase is ended else "cut off"
            phase["ended_at"] = now

    def settle(self, outcome: Outcome, result: dict[str, Any] | None, error: dict[str, Any] | None) -> None:
        """Stores what an ended leg has left in its target, found out afterwards; its error says so then."""
        with self._leased():
            if outcome != Outcome.UNKNOWN:
                self.leg.outcome = outcome
                self.leg.error = error or self.leg.error
            if result:
                self._account(result)
                self.leg.rows_after = result.get("rows_after")
            self.leg.outcome_asked_at = timezone.now()
            self.leg.save(update_fields=[*_ACCOUNT, "rows_after", "outcome", "outcome_asked_at", "error"])
            run = locked_run(self.run.pk)
            if State(run.state).ended:
                roll_up(run, list(run.legs.order_by("number")))
                run.save(update_fields=["outcome", "error"])

    def may_be_taken_over(self) -> bool:
        """Whether another attempt is safe, since a receipt in the target says what was committed, and there is one left."""
        return self.has_receipts() and self.leg.attempts < MAX_ATTEMPTS and not self.wants_stop()

    def has_receipts(self) -> bool:
        """Whether the target can be asked which attempt was committed."""
        into = job_of(self.leg)["into"]
        connection = find_connection(into["connection"])
        return connection is not None and bool(connection.settings.get("receipts", True)) and not into.get("folder")

    def release(self, why: str) -> None:
        """Gives the leg back, so that it can be taken over; this lease ends with it."""
        with self._leased():
            self.leg.state = State.QUEUED
            self.leg.lease += 1
            self.leg.save(update_fields=["state", "lease"])
            self._event("log", {"level": "warning", "text": f"{why}; the {self._called} is taken over"})
            if self._is_one_of_many:
                self._event("leg", {"state": State.QUEUED, "object": self.leg.object})
            else:
                self._mark_run(state=State.QUEUED)
                self._event("state", {"state": State.QUEUED})

    def give_back(self, error: dict[str, Any], wait: float) -> None:
        """Gives a leg back that failed and is to be tried again in ``wait`` seconds; this lease ends with it."""
        with self._leased():
            self.leg.state = State.QUEUED
            self.leg.lease += 1
            self.leg.error = _storable(error)
            self.leg.save(update_fields=["state", "lease", "error"])
            said = f"attempt {self.leg.attempts} failed, and is made again in {wait:.0f} s: {error['code']}: {error['detail']}"
            self._event("log", {"level": "warning", "text": said})
            if self._is_one_of_many:
                self._event("leg", {"state": State.QUEUED, "object": self.leg.object})
            else:
                self._mark_run(state=State.QUEUED)
                self._event("state", {"state": State.QUEUED})

    @property
    def _called(self) -> str:
        return "leg" if self._is_one_of_many else "run"

    def wants_stop(self) -> bool:
        """Whether someone asked the leg or its run to stop; LeaseLost where another worker has it."""
        asked = Leg.objects.filter(pk=self.leg.pk).values_list("stop_requested", "run__stop_requested", "lease")
        row = asked.first()
        if row is None or row[2] != self.leg.lease:
            raise LeaseLost(f"leg {self.leg.number} of run {self.run.pk}")
        return bool(row[0] or row[1])
