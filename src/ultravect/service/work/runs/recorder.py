"""Begins, ends and hands over legs in the records."""

from __future__ import annotations

from typing import Any

from django.db import transaction
from django.db.models import F
from django.db.models.functions import Greatest
from django.utils import timezone

from ultravect.core.engine.run.leg import PHASES
from ultravect.service.records.lookup import find_connection
from ultravect.service.records.models import Connection, Event, Leg, Outcome, Run, State
from ultravect.service.records.register import enter_leg
from ultravect.service.work.runs.attempts import job_of
from ultravect.service.work.runs.leg_events import ACCOUNT, LeaseLost, LegEvents, storable
from ultravect.service.work.runs.legs import after_leg, locked_run, roll_up

MAX_ATTEMPTS = 3
_RESULT = ["rows_after", "rows_about", "checksums", "comparison", "peak_memory", "strategy", "gone", "mark", "guards"]


class Recorder(LegEvents):
    """The records of one leg, under the lease that ``leg`` has. Its methods block: call them from a thread.

    Each of them writes only while that lease is the newest, which the database decides; LeaseLost otherwise.
    """

    @classmethod
    def of(cls, run: int, number: int) -> Recorder:
        """Of a leg by the numbers of its run and its own."""
        legs = Leg.objects.defer(None).select_related("run__job", "run__revision", "run__origin")
        return cls(legs.get(run_id=run, number=number))

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
            self._end(state, outcome, storable(error), result or {})
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
            update_fields=[*ACCOUNT, *_RESULT, "state", "phases", "outcome", "outcome_asked_at", "error", "ended_at"]
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
            self.leg.save(update_fields=[*ACCOUNT, "rows_after", "outcome", "outcome_asked_at", "error"])
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
            self.leg.error = storable(error)
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
