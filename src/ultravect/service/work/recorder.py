"""Writes what happens in a run into the records."""

from __future__ import annotations

from typing import Any

from django.db import transaction
from django.utils import timezone

from ultravect.core.engine.leg import PHASES
from ultravect.service.records.lookup import find_connection
from ultravect.service.records.models import Change, Event, Leg, Reject, Run, State

KEPT_REJECTS = 10_000
MAX_ATTEMPTS = 3


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
    """The records of one run with its one leg. Its methods block: call them from a thread."""

    def __init__(self, run: Run) -> None:
        self.run = run
        self.leg: Leg = run.legs.get(number=1)

    def _event(self, kind: str, data: dict[str, Any]) -> None:
        Event.objects.create(run=self.run, kind=kind, data=_storable(data))

    @transaction.atomic
    def begin(self, worker: str) -> None:
        self.run.state = State.RUNNING
        self.run.started_at = timezone.now()
        self.run.worker = worker
        self.run.attempts += 1
        self.run.save(update_fields=["state", "started_at", "worker", "attempts"])
        # what an earlier attempt left
        self.leg.rejects.all().delete()
        self.leg.changes.all().delete()
        self.leg.rejected, self.leg.progress = 0, {}
        self.leg.state = State.RUNNING
        self.leg.phases = [
            {"name": name, "state": "waiting", "started_at": None, "ended_at": None} for name in PHASES
        ]
        self.leg.save()
        self._event("state", {"state": State.RUNNING})

    @transaction.atomic
    def record(self, event: dict[str, Any]) -> None:
        """Stores one thing that the leg said, other than how it ended."""
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
            case "rejects":
                data = self._rejects(data["rejects"])
            case "changes":
                Change.objects.bulk_create(Change(leg=self.leg, **_storable(one)) for one in data["changes"])
                data = {"count": len(data["changes"])}
        self._event(event["kind"], data)

    def _phase(self, name: str, state: str) -> None:
        now = timezone.now().isoformat()
        for phase in self.leg.phases:
            if phase["name"] == name:
                phase["state"] = state
                phase["started_at" if state == "running" else "ended_at"] = now
        self.leg.save(update_fields=["phases"])

    def _rejects(self, rejects: list[dict[str, Any]]) -> dict[str, Any]:
        room = max(0, KEPT_REJECTS - self.leg.rejected)
        Reject.objects.bulk_create(Reject(leg=self.leg, **_storable(one)) for one in rejects[:room])
        self.leg.rejected += len(rejects)
        self.leg.save(update_fields=["rejected"])
        return {
            "count": len(rejects),
            "total": self.leg.rejected,
            "kept": min(self.leg.rejected, KEPT_REJECTS),
        }

    @transaction.atomic
    def end(self, state: State, *, error: dict[str, Any] | None = None, result: dict[str, Any] | None = None) -> None:
        """Closes the run and its leg."""
        result = result or {}
        error = _storable(error)
        for phase in self.leg.phases:
            if phase["state"] == "running":
                phase["state"] = str(state)
                phase["ended_at"] = timezone.now().isoformat()
        self.leg.state = state
        self.leg.tally = result.get("tally")
        self.leg.rows_before = result.get("rows_before")
        self.leg.rows_after = result.get("rows_after")
        self.leg.checksums = result.get("checksums")
        self.leg.comparison = result.get("comparison")
        self.leg.created_target = bool(result.get("created"))
        self.leg.peak_memory = result.get("peak_memory")
        self.leg.save()
        self.run.state = state
        self.run.error = error
        self.run.ended_at = timezone.now()
        self.run.save(update_fields=["state", "error", "ended_at"])
        self._event("end", {"state": state, "error": error})

    def may_be_taken_over(self) -> bool:
        """Whether another attempt is safe, since a receipt in the target tells what was committed, and there is one left."""
        connection = find_connection(self.run.revision.structure["into"]["connection"])
        receipts = connection is not None and connection.settings.get("receipts", True)
        return bool(receipts) and self.run.attempts < MAX_ATTEMPTS and not self.wants_stop()

    @transaction.atomic
    def release(self, why: str) -> None:
        """Gives the run back, so that it can be taken over."""
        self.run.state = State.QUEUED
        self.run.save(update_fields=["state"])
        self.leg.state = State.QUEUED
        self.leg.save(update_fields=["state"])
        self._event("log", {"level": "warning", "text": f"{why}; the run is taken over"})
        self._event("state", {"state": State.QUEUED})

    def wants_stop(self) -> bool:
        return Run.objects.filter(pk=self.run.pk, stop_requested=True).exists()
