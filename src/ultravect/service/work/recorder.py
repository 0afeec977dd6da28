"""Writes what happens in a run into the records."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

from django.db import transaction
from django.db.models import F
from django.utils import timezone

from ultravect.core.engine.run.leg import PHASES
from ultravect.service.records.lookup import find_connection
from ultravect.service.records.models import Change, Event, Leg, Outcome, Reject, Run, State
from ultravect.service.records.run_signals import notify_run

KEPT_REJECTS = 10_000
MAX_ATTEMPTS = 3


class LeaseLost(Exception):
    """Another worker has the run by now: what this one records is refused."""


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
    """The records of one run with its one leg, under the lease that ``run`` has. Its methods block: call them from a thread.

    Each of them writes only while that lease is the newest, which the database decides; LeaseLost otherwise.
    """

    def __init__(self, run: Run) -> None:
        self.run = run
        self.leg: Leg = run.legs.get(number=1)

    @contextmanager
    def _leased(self) -> Iterator[None]:
        """A transaction in which no worker can take the run over."""
        with transaction.atomic():
            if not Run.objects.select_for_update().filter(pk=self.run.pk, lease=self.run.lease).exists():
                raise LeaseLost(f"run {self.run.pk}")
            yield

    def _event(self, kind: str, data: dict[str, Any]) -> None:
        Event.objects.create(run=self.run, kind=kind, data=_storable(data))
        notify_run(self.run.pk)

    @transaction.atomic
    def begin(self, worker: str) -> bool:
        """Takes the run with a lease of its own; False when it is not queued any more."""
        taken = Run.objects.filter(pk=self.run.pk, state=State.QUEUED).update(
            state=State.RUNNING,
            started_at=timezone.now(),
            worker=worker,
            attempts=F("attempts") + 1,
            lease=F("lease") + 1,
            error=None,
        )
        if not taken:
            return False
        self.run.refresh_from_db(fields=["state", "started_at", "worker", "attempts", "lease", "error"])
        # what an earlier attempt left
        self._forget()
        self.leg.progress = {}
        self.leg.state = State.RUNNING
        self.leg.phases = [
            {"name": name, "state": "waiting", "started_at": None, "ended_at": None} for name in PHASES
        ]
        self.leg.save()
        self._event("state", {"state": State.RUNNING})
        return True

    def _forget(self) -> None:
        """Removes the rows that are listed of the leg."""
        self.leg.rejects.all().delete()
        self.leg.changes.all().delete()
        self.leg.rejected = 0

    def record(self, event: dict[str, Any]) -> None:
        """Stores one thing that the leg said, other than how it ended."""
        with self._leased():
            self._record(event)

    def _record(self, event: dict[str, Any]) -> None:
        data = {key: value for key, value in event.items() if key != "kind"}
        match event["kind"]:
            case "phase":
                self._phase(data["name"], data["state"])
            case "progress":
                if data.get("rows_read") and self.run.first_row_at is None:
                    self.run.first_row_at = timezone.now()
                    self.run.save(update_fields=["first_row_at"])
                self.leg.progress = data
                self.leg.save(update_fields=["progress"])
            case "planned":
                self.leg.plan = _storable(data["plan"])
                self.leg.strategy = data["plan"]["strategy"]["name"]
                self.leg.save(update_fields=["plan", "strategy"])
                data = {"strategy": data["plan"]["strategy"]}
            case "rejects":
                data = self._rejects(data["rejects"])
            case "changes":
                Change.objects.bulk_create(Change(leg=self.leg, **_storable(item)) for item in data["changes"])
                data = {"count": len(data["changes"])}
            case "read_again":
                self._forget()
                self.leg.save(update_fields=["rejected"])
            case "published":
                self._account(data)
                self.leg.save()
                self._outcome(Outcome.COMMITTED)
        self._event(event["kind"], data)

    def _outcome(self, outcome: Outcome) -> None:
        self.run.outcome = outcome
        self.run.save(update_fields=["outcome"])

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
        self.leg.save(update_fields=["phases"])

    def _rejects(self, rejects: list[dict[str, Any]]) -> dict[str, Any]:
        room = max(0, KEPT_REJECTS - self.leg.rejected)
        Reject.objects.bulk_create(Reject(leg=self.leg, **_storable(reject)) for reject in rejects[:room])
        self.leg.rejected += len(rejects)
        self.leg.save(update_fields=["rejected"])
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
        """Closes the run and its leg."""
        with self._leased():
            self._end(state, outcome, _storable(error), result or {})

    def _end(self, state: State, outcome: Outcome, error: dict[str, Any] | None, result: dict[str, Any]) -> None:
        self._end_phases(state, str(result.get("phase") or ""))
        self.leg.state = state
        if "tally" in result:
            self._account(result)
        for field in ("rows_after", "checksums", "comparison", "peak_memory", "strategy"):
            if result.get(field) not in (None, ""):
                setattr(self.leg, field, result[field])
        self.leg.save()
        self.run.state = state
        self.run.outcome = outcome
        self.run.error = error
        self.run.ended_at = timezone.now()
        self.run.outcome_asked_at = self.run.ended_at if outcome == Outcome.UNKNOWN else None
        self.run.save(update_fields=["state", "outcome", "outcome_asked_at", "error", "ended_at"])
        self._event("end", {"state": state, "outcome": outcome, "error": error})

    def _end_phases(self, state: State, name: str) -> None:
        """Only the phase in which it ended has that state: phases overlap, and others that ran were cut off by it."""
        now = timezone.now().isoformat()
        running = [phase for phase in self.leg.phases if phase["state"] == "running"]
        ended = next((phase for phase in running if phase["name"] == name), running[-1] if running else None)
        for phase in running:
            phase["state"] = str(state) if phase is ended else "cut off"
            phase["ended_at"] = now

    def settle(self, outcome: Outcome, result: dict[str, Any] | None, error: dict[str, Any] | None) -> None:
        """Stores what an ended run has left in its target, found out afterwards; its error says so then."""
        with self._leased():
            if outcome != Outcome.UNKNOWN:
                self.run.outcome = outcome
                self.run.error = error or self.run.error
            if result:
                self._account(result)
                self.leg.rows_after = result.get("rows_after")
                self.leg.save()
            self.run.outcome_asked_at = timezone.now()
            self.run.save(update_fields=["outcome", "outcome_asked_at", "error"])

    def may_be_taken_over(self) -> bool:
        """Whether another attempt is safe, since a receipt in the target says what was committed, and there is one left."""
        return self.has_receipts() and self.run.attempts < MAX_ATTEMPTS and not self.wants_stop()

    def has_receipts(self) -> bool:
        """Whether the target can be asked which attempt was committed."""
        connection = find_connection(self.run.revision.structure["into"]["connection"])
        into = self.run.revision.structure["into"]
        return connection is not None and bool(connection.settings.get("receipts", True)) and not into.get("folder")

    def release(self, why: str) -> None:
        """Gives the run back, so that it can be taken over; this lease ends with it."""
        with self._leased():
            self.run.state = State.QUEUED
            self.run.lease += 1
            self.run.save(update_fields=["state", "lease"])
            self.leg.state = State.QUEUED
            self.leg.save(update_fields=["state"])
            self._event("log", {"level": "warning", "text": f"{why}; the run is taken over"})
            self._event("state", {"state": State.QUEUED})

    def wants_stop(self) -> bool:
        """Whether someone asked the run to stop; LeaseLost where another worker has it."""
        row = Run.objects.filter(pk=self.run.pk).values_list("stop_requested", "lease").first()
        if row is None or row[1] != self.run.lease:
            raise LeaseLost(f"run {self.run.pk}")
        return bool(row[0])
