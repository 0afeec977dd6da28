"""Writes what a leg says into the records."""

from __future__ import annotations

import datetime as dt
import time
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

from django.conf import settings
from django.db import transaction
from django.db.models import F
from django.db.models.functions import Coalesce
from django.utils import timezone

from ultravect.core.errors import UltravectError
from ultravect.core.model.document import job_from_data
from ultravect.service.records.models import Change, Event, Leg, Outcome, Reject, Run, RunKind, Slice, State
from ultravect.service.records.run_signals import notify_run
from ultravect.service.work.queueing import queue_slice
from ultravect.service.work.runs.attempts import job_of
from ultravect.service.work.runs.legs import add_event

KEPT_REJECTS = 10_000
_OF_THE_PLACE = ("connection", "table", "files")
_OF_THE_JOB = ("mode", "before", "after", *_OF_THE_PLACE)
_AGO_SECONDS = 0.5
ACCOUNT = ["tally", "rows_before", "created_target"]


class LeaseLost(Exception):
    """Another worker has the leg by now: what this one records is refused."""


def storable(value: Any) -> Any:
    """PostgreSQL keeps no NUL characters; they are shown as their symbol."""
    if isinstance(value, str):
        return value.replace("\0", "\N{SYMBOL FOR NULL}")
    if isinstance(value, dict):
        return {key: storable(item) for key, item in value.items()}
    if isinstance(value, list):
        return [storable(item) for item in value]
    return value


def _reject_of(leg: Leg, slice_number: int | None, said: dict[str, Any]) -> Reject:
    known = storable(said)
    return Reject(
        leg=leg,
        slice=slice_number,
        object=known["object"][:500],
        row=known["row"],
        line=known["line"],
        column=known["column"][:500],
        value=known["value"],
        reason=known["reason"],
        record=known["record"],
        key=known.get("key", ""),
    )


def _change_of(leg: Leg, said: dict[str, Any]) -> Change:
    known = storable(said)
    return Change(leg=leg, kind=known["kind"], columns=known["columns"], before=known["before"], after=known["after"])


def require_plan_of(leg: Leg, plan: dict[str, Any]) -> None:
    """UltravectError where a plan is of another job than the leg's: what is copied, and how, says the stored job alone."""
    own, planned = job_from_data(job_of(leg)).as_file(), plan.get("job") or {}
    same = own.get("parameters") == planned.get("parameters") and own["from"].get("connection") == (
        planned.get("from") or {}
    ).get("connection")
    into = planned.get("into") or {}
    # rejected rows that are loaded again are added to what is there, whatever the job's mode
    stays = _OF_THE_JOB if leg.run.kind == RunKind.LOAD else _OF_THE_PLACE
    if not same or any(own["into"].get(name) != into.get(name) for name in stays):
        raise UltravectError(
            "plan-refused",
            "the worker has planned another job than the one that is stored",
            hint="see which worker has the leg, and what it runs",
        )


class LegEvents:
    """The records of one leg, under the lease that ``leg`` has: each write is refused with LeaseLost once another lease is newer."""

    def __init__(self, leg: Leg) -> None:
        self.leg = leg
        self.run = leg.run
        self._unsaved: set[str] = set()
        self._of_run: dict[str, Any] = {}
        self._unsent: list[Event] | None = None
        """Events of the transaction under way, None where each is stored by itself."""

    @contextmanager
    def _leased(self) -> Iterator[None]:
        """A transaction in which no worker can take the leg over."""
        with transaction.atomic():
            if not Leg.objects.select_for_update().filter(pk=self.leg.pk, lease=self.leg.lease).exists():
                raise LeaseLost(f"leg {self.leg.number} of run {self.run.pk}")
            yield

    def _event(self, kind: str, data: dict[str, Any]) -> None:
        if self._unsent is None:
            add_event(self.run, kind, storable(data), self.leg.number)
        else:
            self._unsent.append(Event(run=self.run, leg=self.leg.number, kind=kind, data=storable(data)))

    @property
    def _is_one_of_many(self) -> bool:
        return bool(self.leg.object)

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
                require_plan_of(self.leg, data["plan"])
                self.leg.plan = storable(data["plan"])
                self.leg.strategy = str(data["plan"]["strategy"]["name"])[:40]
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
                self.leg.statements = storable(data["statements"])
                self._changed("statements")
                return
            case "changes":
                Change.objects.bulk_create(_change_of(self.leg, item) for item in data["changes"])
                data = {"count": len(data["changes"])}
            case "read_again":
                self._forget()
                self._changed("rejected")
            case "published":
                self._account(data)
                self._changed(*ACCOUNT)
                self._outcome(Outcome.COMMITTED)
        self._event(event["kind"], data)

    def _offer_slices(self, order: dict[str, Any], labels: list[str], *, queued: bool) -> None:
        """Lets every worker take slices of the leg; its own does so without being asked."""
        self.leg.slice_order = order
        self._changed("slice_order")
        Slice.objects.bulk_create(
            Slice(leg=self.leg, number=number, label=storable(label)[:500]) for number, label in enumerate(labels, 1)
        )
        for _ in labels[1:] if queued else ():
            queue_slice(self.run.pk, self.leg.number)

    def _slice_elsewhere(self, number: int, known: dict[str, Any]) -> None:
        """Notes what has become of a slice that a cluster copies."""
        piece = self.leg.slices.filter(number=number).first()
        if piece is None or not settings.SLICES_CLUSTER:
            return
        now = timezone.now()
        known = storable(known)
        piece.state, piece.worker = known.get("state", piece.state), known.get("worker", piece.worker)
        piece.progress, piece.error = known.get("progress", piece.progress), known.get("error", piece.error)
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
        Reject.objects.bulk_create(_reject_of(self.leg, slice_number, reject) for reject in rejects[:room])
        self.leg.rejected += len(rejects)
        self._changed("rejected")
        return {
            "count": len(rejects),
            "total": self.leg.rejected,
            "kept": min(self.leg.rejected, KEPT_REJECTS),
        }
