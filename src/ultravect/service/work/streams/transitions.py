"""What can happen to a stream: each change of its state is a function here, and one transaction. Nothing else writes a state.

    start, resume ──▶ waiting ──claim──▶ waiting, with a worker ──▶ snapshot ──▶ following
                         ▲                                │
                         └── hand back, fail for a while ─┤
    pause, stop, fail ◀───────────────────────────────────┘

Who claims a stream gets a new lease number; whatever its worker records names the number, and is refused with LeaseLost once there is a newer
one. A command of a user makes a newer one, too: the worker then ends its process. A lease that is not renewed for ``LOST_AFTER_SECONDS`` is
claimed anew; where to go on is kept in the target, with the rows.
"""

from __future__ import annotations

import datetime as dt
import random
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from typing import Any

from django.db import transaction
from django.db.models import F, Q
from django.utils import timezone

from ultravect.core.errors import UltravectError
from ultravect.core.model.base import duration_seconds
from ultravect.service.records.models import (
    Job,
    Occasion,
    Revision,
    Stream,
    StreamEvent,
    StreamMinute,
    StreamReject,
    StreamState,
    User,
)
from ultravect.service.records.moments import last_sign, records_now
from ultravect.service.records.resolved import resolved
from ultravect.service.work.outgoing.notifying import cause_of, say_of_stream
from ultravect.service.work.runs.notes import storable
from ultravect.service.work.runs.transitions import Claimant, LeaseLost
from ultravect.service.work.wake_ups import STREAM, wake_workers
from ultravect.service.work.workers.sites import ANYWHERE, HOME, sites_of_job

UNDER_WAY = (StreamState.WAITING, StreamState.SNAPSHOT, StreamState.FOLLOWING)
_FIRST_PAUSE, _LONGEST_PAUSE = 2.0, 300.0
_VARIED = 0.2
_KEPT_EVENTS, _KEPT_REJECTS = 1000, 10_000
_KEPT_MINUTES = dt.timedelta(days=14)
_COUNTS = ("changes", "inserted", "updated", "unchanged", "deleted", "rejected")
_SUMMED = ("changes", "inserted", "updated", "deleted", "rejected")


def _locked(job: Job) -> Stream | None:
    return Stream.objects.select_for_update(of=("self",)).select_related("job", "revision").filter(job=job).first()


def _say(stream: Stream, level: str, text: str) -> None:
    StreamEvent.objects.create(stream=stream, level=level, text=text)


def _guard_lag(stream: Stream) -> None:
    """Says once that the lag of a stream is longer than its guard allows, and once that it is not any more."""
    most = (stream.revision.structure.get("guard") or {}).get("lag")
    if most is None or stream.lag is None or stream.is_late == (stream.lag > duration_seconds(most)):
        return
    stream.is_late = not stream.is_late
    text = (
        f"the lag of its target is {stream.lag:.0f} s; guard.lag is {most}"
        if stream.is_late
        else "its target has caught up"
    )
    _say(stream, "warning" if stream.is_late else "info", text)
    if stream.is_late:
        say_of_stream(stream, Occasion.GUARD, "guard", {"text": text})


def _set(stream: Stream, state: StreamState, **values: Any) -> None:
    """Gives it a state, and ends its lease."""
    changed = {
        "state": state,
        "changed_at": timezone.now(),
        "worker": "",
        "lease": F("lease") + 1,
        "seen_at": None,
        **values,
    }
    Stream.objects.filter(pk=stream.pk).update(**changed)


# what users ask for


@transaction.atomic
def start(job: Job, user: User | None) -> Stream:
    """Begins a stream, or has it go on, by the job as it is now."""
    revision: Revision = job.revision
    sites = sorted(sites_of_job(resolved(dict(revision.structure))))
    stream = _locked(job)
    if stream is None:
        stream = Stream.objects.create(job=job, revision=revision, started_by=user, sites=sites)
        _say(stream, "info", f"started by {_name(user)}")
    elif not StreamState(stream.state).is_under_way or stream.revision_id != revision.pk:
        _say(stream, "info", f"resumed by {_name(user)}, by revision {revision.number}")
        _set(
            stream,
            StreamState.WAITING,
            revision=revision,
            sites=sites,
            error=None,
            failures=0,
            not_before=None,
            started_by=user,
        )
    wake_workers(STREAM)
    return Stream.objects.get(pk=stream.pk)


@transaction.atomic
def begin_again(job: Job, why: str) -> None:
    """Has a stream that is under way look anew at how far its tables were copied."""
    stream = _locked(job)
    if stream is not None and StreamState(stream.state).is_under_way:
        _say(stream, "info", why)
        _set(stream, StreamState.WAITING, not_before=None)
        wake_workers(STREAM)


@transaction.atomic
def halt(job: Job, state: StreamState, user: User | None, why: str = "") -> Stream | None:
    """Pauses or stops it; what the source keeps for it stays there. None where there is no stream."""
    stream = _locked(job)
    if stream is None:
        return None
    if stream.state != state:
        done = "paused" if state == StreamState.PAUSED else "stopped"
        _say(stream, "info", f"{done} by {_name(user)}" + (f": {why}" if why else ""))
        _set(stream, state, not_before=None, error=None)
        wake_workers(STREAM)
    return Stream.objects.get(pk=stream.pk)


def _name(user: User | None) -> str:
    return user.get_username() if user is not None else "the service"


@transaction.atomic
def give_up(stream: Stream, error: UltravectError) -> None:
    """What its source kept for it while it was at rest was too much, and is gone."""
    found = _locked(stream.job)
    if found is None or found.lease != stream.lease:
        return  # it goes on, and finds that out itself
    _say(found, "error", f"{error.code}: {error.detail}")
    say_of_stream(found, Occasion.FAILED, cause_of(error.as_dict(), stream.job.name), _described(error))
    _set(found, StreamState.FAILED, error=storable(error.as_dict()), log_kept=0)


@transaction.atomic
def forget(job: Job) -> bool:
    """Removes the records of a stream; whether there were any."""
    return bool(Stream.objects.filter(job=job).delete()[0])


# what workers do


@transaction.atomic
def claim_stream(claimant: Claimant) -> StreamRecord | None:
    """A stream that no worker has, now this worker's; None where there is none that it may have."""
    if claimant.joined:
        return None
    served = [*claimant.sites, *([ANYWHERE] if HOME in claimant.sites else [])]
    free = Q(worker="") | Q(seen_at__lt=last_sign())
    due = Q(not_before=None) | Q(not_before__lte=records_now())
    found = (
        Stream.objects.select_for_update(skip_locked=True, of=("self",))
        .filter(free, due, state__in=UNDER_WAY, sites__contained_by=served)
        .order_by("changed_at")
        .first()
    )
    if found is None:
        return None
    if found.worker:
        _say(found, "warning", "its worker is lost: another one takes it over")
    Stream.objects.filter(pk=found.pk).update(worker=claimant.worker, lease=F("lease") + 1, seen_at=records_now())
    return StreamRecord(Stream.objects.select_related("job", "revision").get(pk=found.pk))


def held_leases(leases: Mapping[int, int], *, renew: bool) -> set[int]:
    """Which of these streams still have these leases, which are renewed then."""
    found = {
        number
        for number, lease in Stream.objects.filter(pk__in=leases).values_list("pk", "lease")
        if leases[number] == lease
    }
    if renew and found:
        held = Q()
        for number in found:
            held |= Q(pk=number, lease=leases[number])
        Stream.objects.filter(held).update(seen_at=records_now())
    return found


class StreamRecord:
    """The records of a stream under the lease that ``stream`` has. Methods block; LeaseLost where there is a newer lease."""

    def __init__(self, stream: Stream) -> None:
        self.stream = stream

    @contextmanager
    def _leased(self) -> Iterator[Stream]:
        with transaction.atomic():
            mine = (
                Stream.objects.select_for_update(of=("self",))
                .filter(pk=self.stream.pk, lease=self.stream.lease)
                .first()
            )
            if mine is None:
                raise LeaseLost(f"the stream of {self.stream.job.name}")
            yield mine

    def note(self, events: Sequence[Mapping[str, Any]]) -> None:
        """Records what the process said."""
        with self._leased() as stream:
            for event in events:
                self._note(stream, event)
            stream.save()

    def _note(self, stream: Stream, event: Mapping[str, Any]) -> None:
        match event["kind"]:
            case "stream_table":
                table = stream.tables.setdefault(event["name"], {})
                table["state"] = event["state"]
                table["rows"] = (
                    max(int(event["rows"]), int(table.get("rows") or 0)) if event["state"] != "waiting" else 0
                )
                self._now(stream, StreamState.SNAPSHOT)
            case "following":
                stream.position = event["position"]
                for table in stream.tables.values():
                    table["state"] = "following"
                self._now(stream, StreamState.FOLLOWING)
            case "window":
                self._window(stream, event)
            case "idle":
                stream.position, stream.lag, stream.lag_at = event["position"], event["lag"], timezone.now()
                _guard_lag(stream)
            case "kept":
                stream.log_kept = event["bytes"]
            case "stream_rejects":
                for item in event["rejects"]:
                    kept = {name: item[name] for name in ("object", "column", "value", "reason", "record", "key")}
                    StreamReject.objects.create(stream=stream, **{**storable(kept), "object": event["name"]})
                self._prune(StreamReject, _KEPT_REJECTS)
            case "log":
                _say(stream, event["level"], storable(event["text"]))
                self._prune(StreamEvent, _KEPT_EVENTS)
            case "finding":
                if event["severity"] != "note":
                    _say(stream, event["severity"], storable(event["message"]))

    @staticmethod
    def _now(stream: Stream, state: StreamState) -> None:
        if stream.state != state:
            stream.state, stream.changed_at = state, timezone.now()
        stream.error = None

    def _window(self, stream: Stream, event: Mapping[str, Any]) -> None:
        stream.position, stream.lag, stream.lag_at, stream.failures = (
            event["position"],
            event["lag"],
            timezone.now(),
            0,
        )
        _guard_lag(stream)
        summed = dict.fromkeys(_SUMMED, 0)
        for name, counts in event["tables"].items():
            table = stream.tables.setdefault(name, {"state": "following", "rows": 0})
            for count in _COUNTS:
                table[count] = int(table.get(count) or 0) + counts[count]
            for count in _SUMMED:
                summed[count] += counts[count]
        minute = timezone.now().replace(second=0, microsecond=0)
        line, made = StreamMinute.objects.get_or_create(stream=stream, minute=minute)
        for count, number in summed.items():
            setattr(line, count, getattr(line, count) + number)
        line.windows, line.lag = line.windows + 1, max(line.lag, event["lag"])
        line.save()
        if made:
            StreamMinute.objects.filter(stream=stream, minute__lt=timezone.now() - _KEPT_MINUTES).delete()

    def _prune(self, model: type[StreamReject] | type[StreamEvent], most: int) -> None:
        kept = (
            model._default_manager.filter(stream=self.stream)
            .order_by("-id")
            .values_list("id", flat=True)[most : most + 1]
        )
        for number in kept:
            model._default_manager.filter(stream=self.stream, id__lte=number).delete()

    def pause(self, what: str, error: UltravectError) -> None:
        """It has come to a change of a table that it does not follow by itself."""
        with self._leased() as stream:
            _say(stream, "warning", error.detail)
            say_of_stream(stream, Occasion.FAILED, cause_of(error.as_dict(), stream.job.name), _described(error))
            accepted = sorted({*stream.accepted, what})
            _set(stream, StreamState.PAUSED, error=storable(error.as_dict()), accepted=accepted)

    def fail(self, error: UltravectError, *, passes: bool) -> None:
        """It has failed; where the reason ``passes`` by itself, it is tried again, after ever longer pauses."""
        with self._leased() as stream:
            if not passes:
                _say(stream, "error", f"{error.code}: {error.detail}")
                say_of_stream(stream, Occasion.FAILED, cause_of(error.as_dict(), stream.job.name), _described(error))
                _set(stream, StreamState.FAILED, error=storable(error.as_dict()))
                return
            pause = min(_LONGEST_PAUSE, _FIRST_PAUSE * 2 ** min(stream.failures, 10)) * random.uniform(
                1 - _VARIED, 1 + _VARIED
            )
            _say(stream, "warning", f"{error.code}: {error.detail}; it is tried again in {pause:.0f} s")
            again = records_now(dt.timedelta(seconds=pause))
            _set(
                stream,
                StreamState.WAITING,
                error=storable(error.as_dict()),
                failures=stream.failures + 1,
                not_before=again,
            )

    def hand_back(self, why: str) -> None:
        """Lets any worker go on with it."""
        with self._leased() as stream:
            _say(stream, "info", why)
            _set(stream, StreamState.WAITING)
            wake_workers(STREAM)


def _described(error: UltravectError) -> dict[str, Any]:
    return {"code": error.code, "text": error.detail, "hint": error.hint}
