"""Writes what a leg says into the records, other than what becomes of it: see ``transitions``."""

from __future__ import annotations

import datetime as dt
import time
from abc import ABC, abstractmethod
from collections.abc import Collection, Mapping, Sequence
from contextlib import AbstractContextManager
from typing import Any

from django.db.models import F
from django.db.models.functions import Coalesce
from django.utils import timezone

from ultravect.core.errors import UltravectError
from ultravect.core.model.document import job_from_data
from ultravect.service.records.models import Change, Event, Leg, Reject, Run, RunKind, Slice
from ultravect.service.records.run_signals import notify_run
from ultravect.service.work.runs.attempts import job_of

KEPT_REJECTS = 10_000
_KEPT_EVENTS = 2000
_COUNTED = ("log", "finding", "rejects", "changes", "slice")
"""Kinds of events of which a leg may have any number."""

_POINTS = 200
_OF_THE_PLACE = ("connection", "table", "files")
_OF_THE_JOB = ("mode", "before", "after", *_OF_THE_PLACE)
_AGO_SECONDS = 0.5
ACCOUNT = ["tally", "rows_before", "created_target"]


def add_event(run: Run, kind: str, data: dict[str, Any], leg: int | None = None) -> None:
    Event.objects.create(run=run, leg=leg, kind=kind, data=data)
    notify_run(run.pk, ended=kind == "end")


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


class LegNotes(ABC):
    """The records of one leg, under the lease that ``leg`` has."""

    def __init__(self, leg: Leg) -> None:
        self.leg = leg
        self.run = leg.run
        self._unsaved: set[str] = set()
        self._first_row: dt.datetime | None = None
        self._unsent: list[Event] | None = None
        """Events of the transaction under way, None where each is stored by itself."""

    @abstractmethod
    def leased(self) -> AbstractContextManager[None]:
        """A transaction in which no worker can take the leg over; LeaseLost where one has."""

    def event(self, kind: str, data: dict[str, Any]) -> None:
        """Adds an event, in the transaction that is open: of those of which there may be any number, the first ones are kept."""
        if kind in _COUNTED:
            kept = self.leg.events_kept < _KEPT_EVENTS
            field = "events_kept" if kept else "events_left_out"
            setattr(self.leg, field, getattr(self.leg, field) + 1)
            if self._unsent is not None:
                self.changed(field)
            else:
                Leg.objects.filter(pk=self.leg.pk).update(**{field: getattr(self.leg, field)})
            if not kept:
                return
        if self._unsent is None:
            add_event(self.run, kind, storable(data), self.leg.number)
        else:
            self._unsent.append(Event(run=self.run, leg=self.leg.number, kind=kind, data=storable(data)))

    def say_left_out(self) -> None:
        """Says how many events of the leg were not kept."""
        if self.leg.events_left_out:
            text = f"and {self.leg.events_left_out:,} more lines of this leg, which are not kept"
            add_event(self.run, "log", {"level": "info", "text": text}, self.leg.number)

    @property
    def is_one_of_many(self) -> bool:
        return bool(self.leg.object)

    def forget(self) -> None:
        """Removes the rows that are listed of the leg."""
        self.leg.rejects.all().delete()
        self.leg.changes.all().delete()
        self.leg.slices.all().delete()
        self.leg.rejected = 0

    def record(self, *events: dict[str, Any], number: int | None = None) -> None:
        """Stores what the leg said, other than how it ended, in one transaction. ``number`` of the list: one that is stored already, of which
        only the answer was lost, is not stored again."""
        with self.leased():
            if number is not None:
                if self.leg.noted >= number:
                    return
                self.leg.noted = number
            self.store(events, {"noted"} if number is not None else set())
            notify_run(self.run.pk)

    def store(self, events: Sequence[dict[str, Any]], unsaved: Collection[str] = ()) -> None:
        """Stores what the leg said, in the transaction that is open, with fields of it that were changed before."""
        self._unsaved, self._unsent, self._first_row = set(unsaved), [], None
        try:
            for event in events:
                self.note(event)
            if self._unsaved:
                self.leg.save(update_fields=sorted(self._unsaved))
            if self._first_row is not None:
                # another leg of the run may have been first
                first = Coalesce(F("first_row_at"), self._first_row)
                Run.objects.filter(pk=self.run.pk).update(first_row_at=first)
            if self._unsent:
                Event.objects.bulk_create(self._unsent)
        finally:
            self._unsent = None

    def changed(self, *fields: str) -> None:
        """Has fields of the leg be saved with all that is recorded at once."""
        self._unsaved.update(fields)

    def note(self, event: dict[str, Any]) -> None:
        """Stores one thing that the leg said, in the transaction that is open."""
        data = {key: value for key, value in event.items() if key not in ("kind", "leg")}
        match event["kind"]:
            case "progress":
                # how far it is, is one value: those who follow the run look at it
                self._progress(data)
                return
            case "phase":
                self._phase(data["name"], data["state"])
            case "planned":
                require_plan_of(self.leg, data["plan"])
                self.leg.plan = storable(data["plan"])
                self.leg.strategy = str(data["plan"]["strategy"]["name"])[:40]
                self.changed("plan", "strategy")
                data = {"strategy": data["plan"]["strategy"]}
            case "rejects":
                data = self.keep_rejects(data["rejects"])
            case "slices":
                # a cluster copies its slices itself, and workers take none of them
                self._offer_slices({**data["order"], "cluster": bool(data.get("cluster"))}, data["labels"])
                data = {"count": len(data["labels"])}
            case "statements":
                self.leg.statements = storable(data["statements"])
                self.changed("statements")
                return
            case "changes":
                Change.objects.bulk_create(_change_of(self.leg, item) for item in data["changes"])
                data = {"count": len(data["changes"])}
            case "read_again":
                self.forget()
                self.changed("rejected")
        self.event(event["kind"], data)

    def _progress(self, data: dict[str, Any]) -> None:
        now = timezone.now()
        ago = time.time() - data.pop("said", time.time())
        if data.get("rows_read") and self.run.first_row_at is None:
            # it was said a moment ago; another machine's clock may show anything
            self._first_row = now - dt.timedelta(seconds=min(max(ago, 0.0), _AGO_SECONDS))
            self.run.first_row_at = self._first_row
        if self.leg.started_at is not None:
            point = [round((now - self.leg.started_at).total_seconds(), 2), int(data.get("rows_read") or 0)]
            if len(self.leg.pace) >= _POINTS:
                self.leg.pace = self.leg.pace[::2]
            self.leg.pace = [*self.leg.pace, point]
        self.leg.progress = data
        self.changed("progress", "pace")

    def _offer_slices(self, order: dict[str, Any], labels: list[str]) -> None:
        """Lets every worker take slices of the leg."""
        self.leg.slice_order = order
        self.changed("slice_order")
        Slice.objects.bulk_create(
            Slice(leg=self.leg, number=number, label=storable(label)[:500]) for number, label in enumerate(labels, 1)
        )

    def set_account(self, result: Mapping[str, Any]) -> None:
        """What a leg, or its receipt in the target, says of its rows."""
        self.leg.tally = result.get("tally")
        self.leg.rows_before = result.get("rows_before")
        self.leg.created_target = bool(result.get("created"))

    def _phase(self, name: str, state: str) -> None:
        now = timezone.now().isoformat()
        for phase in self.leg.phases:
            if phase["name"] == name:
                phase["state"] = state
                phase["started_at" if state == "running" else "ended_at"] = now
        self.changed("phases")

    def keep_rejects(self, rejects: list[dict[str, Any]], slice_number: int | None = None) -> dict[str, Any]:
        """Keeps rejected rows, as many as there is room for; what is said of them."""
        room = max(0, KEPT_REJECTS - self.leg.rejected)
        Reject.objects.bulk_create(_reject_of(self.leg, slice_number, reject) for reject in rejects[:room])
        self.leg.rejected += len(rejects)
        Leg.objects.filter(pk=self.leg.pk).update(rejected=self.leg.rejected)
        return {
            "count": len(rejects),
            "total": self.leg.rejected,
            "kept": min(self.leg.rejected, KEPT_REJECTS),
        }
