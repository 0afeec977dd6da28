"""What there is to say of runs that have ended, and of jobs that are late: messages, by the rules that want them."""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Sequence
from typing import Any
from zoneinfo import ZoneInfo

import structlog
from django.conf import settings
from django.db import OperationalError, transaction
from django.db.models import Q, Sum
from django.utils import timezone

from ultravect.core.engine.run.counting.guards import Decided
from ultravect.core.model.feed import expected_time
from ultravect.core.words import counted
from ultravect.service.records.feed_days import feed_days
from ultravect.service.records.models import (
    DueJob,
    Feed,
    FileState,
    Job,
    Message,
    NotifyRule,
    Occasion,
    Run,
    RunKind,
    State,
    Stream,
    StreamState,
)
from ultravect.service.records.resolved import feed_name, find_feed, jobs_of_feed
from ultravect.service.work.scheduling.schedules import next_due

log = structlog.get_logger()
_AT_ONCE = 100
_MOST_ITEMS = 200
_NAMED = 5
_STILL = "still so: "
_NEVER = dt.datetime(9999, 1, 1, tzinfo=dt.UTC)
# later messages of the same cause become part of one that is not sent yet
_DETAIL = 500
_CONNECTION = re.compile(r"connection ([a-z0-9_-]+)")


def note_ended(now: dt.datetime) -> list[int]:
    """Looks at runs that have ended since; their numbers, none where there are none."""
    with transaction.atomic():
        runs = list(
            Run.objects.select_for_update(skip_locked=True, of=("self",))
            .select_related("job", "revision")
            .filter(noted=False, state__in=[State.SUCCEEDED, State.FAILED, State.STOPPED])
            .order_by("id")[:_AT_ONCE]
        )
        rules = list(NotifyRule.objects.all()) if runs else []
        for run in runs:
            if rules:
                _note(run, rules, now)
        numbers = [run.pk for run in runs]
        Run.objects.filter(pk__in=numbers).update(noted=True)
    return numbers


def _note(run: Run, rules: list[NotifyRule], now: dt.datetime) -> None:
    # one of which nothing can be said must not keep others from being said
    try:
        with transaction.atomic():
            for occasion, cause, item in _said_of(run):
                _say_to(rules, occasion, cause, run.job, run.revision.structure, item, now)
    except OperationalError:
        raise
    except Exception:
        log.exception("a run's messages could not be written", run=run.pk)


def say_of_stream(stream: Stream, occasion: Occasion, cause: str, item: dict[str, Any]) -> None:
    """Says something of a stream, in the transaction in which it came up."""
    shortened = {name: str(value)[:_DETAIL] for name, value in item.items()}
    said = {"job": stream.job.name, "stream": True, **shortened}
    _say_to(
        list(NotifyRule.objects.all()), occasion, cause, stream.job, stream.revision.structure, said, timezone.now()
    )


def note_late(now: dt.datetime) -> bool:
    """Looks at one job that should have succeeded by now; False where there is none."""
    with transaction.atomic():
        due = (
            DueJob.objects.select_for_update(skip_locked=True, of=("self",))
            .select_related("job")
            .filter(next_at__lte=now, job__deleted_at=None)
            .order_by("next_at")
            .first()
        )
        if due is None:
            return False
        moment = due.next_at
        due.next_at = next_due(due.time, due.timezone, now)
        due.save(update_fields=["next_at"])
        if not has_succeeded(due.job, moment, due.timezone):
            structure = due.job.revision.structure
            day = moment.astimezone(ZoneInfo(due.timezone)).date()
            item = {
                "job": due.job.name,
                "text": f"it has not succeeded for {day} by {due.time} ({due.timezone})",
                "due": moment.isoformat(),
            }
            _say_to(list(NotifyRule.objects.all()), Occasion.LATE, f"late/{day}", due.job, structure, item, now)
    return True


@transaction.atomic
def note_missing(now: dt.datetime) -> bool:
    """Looks whether the providers of one feed have sent what was expected of them by now; False where there is none to look at."""
    looked_at = Q(expected_at=None) | Q(expected_at__lte=now)
    feed = Feed.objects.select_for_update(skip_locked=True).filter(looked_at, deleted_at=None).order_by("pk").first()
    if feed is None:
        return False
    structure = feed.revision.structure
    zone, expected = structure.get("timezone", "UTC"), structure.get("expected")
    moment, feed.expected_at = feed.expected_at, _NEVER
    if expected is not None:
        time = f"{expected_time(expected):%H:%M}"
        feed.expected_at = next_due(time, zone, now)
        if moment is not None:
            days = feed_days(feed, 1, moment)
            missing = [provider["name"] for provider in days["providers"] if provider["days"][0]["missing"]]
            if missing:
                _say_missing(feed, missing, f"by {time} ({zone}) on {days['days'][0]}", now)
    feed.save(update_fields=["expected_at"])
    return True


def _say_missing(feed: Feed, providers: Sequence[str], by: str, now: dt.datetime) -> None:
    text = f"no run has seen a file of {', '.join(providers)} {by}, which feed {feed.name} expects"
    jobs = jobs_of_feed(feed.name)
    for rule in NotifyRule.objects.all():
        if Occasion.MISSING not in rule.occasions:
            continue
        wanted = [job for job in jobs if _wants(rule, job.name, job.revision.structure.get("labels") or [])]
        if wanted or not (rule.jobs or rule.labels):
            item = {"job": wanted[0].name if wanted else "", "feed": feed.name, "text": text[:_DETAIL]}
            add_item(rule, Occasion.MISSING, f"missing/{feed.name}", item, now)


@transaction.atomic
def remind(now: dt.datetime) -> bool:
    """Says again what lasts of one message; False where there is none to look at."""
    message = (
        Message.objects.select_for_update(skip_locked=True, of=("self",))
        .select_related("rule")
        .filter(remind_at__lte=now)
        .order_by("remind_at")
        .first()
    )
    if message is None:
        return False
    for item in message.items:
        if _lasts(Occasion(message.occasion), item):
            text = str(item.get("text", "")).removeprefix(_STILL)
            add_item(message.rule, Occasion(message.occasion), message.cause, {**item, "text": _STILL + text}, now)
    message.remind_at = None
    message.save(update_fields=["remind_at"])
    return True


def _lasts(occasion: Occasion, item: dict[str, Any]) -> bool:
    """Whether what was said of a job is still so: nothing has succeeded since."""
    job = Job.objects.filter(name=item.get("job"), deleted_at=None).first()
    if job is None:
        return False
    if item.get("stream"):
        states = [StreamState.FAILED, StreamState.PAUSED]
        return Stream.objects.filter(job=job).filter(Q(state__in=states) | Q(is_late=True)).exists()
    if occasion == Occasion.LATE:
        due = DueJob.objects.filter(job=job).first()
        return due is not None and not has_succeeded(job, dt.datetime.fromisoformat(item["due"]), due.timezone)
    return not job.runs.filter(pk__gt=item.get("run") or 0, state=State.SUCCEEDED, kind=RunKind.LOAD).exists()


def has_succeeded(job: Job, moment: dt.datetime, zone: str) -> bool:
    """Whether a run of the job has succeeded for the day of a moment, in a zone."""
    day = moment.astimezone(ZoneInfo(zone)).date()
    begins = dt.datetime.combine(day, dt.time(), ZoneInfo(zone))
    since = Q(run_date=day) | Q(run_date=None, queued_at__gte=begins, queued_at__lte=moment)
    return job.runs.filter(since, state=State.SUCCEEDED, kind=RunKind.LOAD).exists()


def cause_of(error: dict[str, Any], job: str) -> str:
    """What failures have in common that are said together: those by one server have one cause, whatever table they were of."""
    named = _CONNECTION.match(str(error.get("detail", "")))
    place = str((error.get("where") or {}).get("connection") or (named[1] if named else ""))
    return f"{error.get('code', 'unknown')}/{place or job}"[:200]


def _said_of(run: Run) -> list[tuple[Occasion, str, dict[str, Any]]]:
    """What a run that has ended is an occasion for: each with its cause, and what is said of it."""
    item: dict[str, Any] = {"job": run.job.name, "run": run.pk, "state": run.state, "outcome": run.outcome}
    found = []
    if run.state == State.FAILED:
        error = run.error or {}
        code = str(error.get("code", "unknown"))
        text = {
            "code": code,
            "text": str(error.get("detail", ""))[:_DETAIL],
            "hint": str(error.get("hint", ""))[:_DETAIL],
        }
        found.append((Occasion.FAILED, cause_of(error, run.job.name), {**item, **text}))
        if code == "file-missing":
            found.append((Occasion.MISSING, "missing", {**item, **text}))
    elif run.state == State.SUCCEEDED:
        before = (
            run.job.runs.filter(pk__lt=run.pk, kind=run.kind).exclude(state=State.STOPPED).order_by("-id").first()
        )
        if before is not None and before.state == State.FAILED:
            text = {"text": f"it succeeded again; run {before.pk} had failed"}
            found.append((Occasion.RECOVERED, "recovered", {**item, **text}))
        rejected = run.legs.aggregate(all=Sum("rejected"))["all"] or 0
        if rejected:
            text = {"text": f"{rejected:,} of its rows were rejected", "rejected": rejected}
            found.append((Occasion.REJECTS, "rejects", {**item, **text}))
        found += [(Occasion.GUARD, "guard", {**item, "text": said}) for said in _broken_guards(run)]
        found += [(Occasion.CHANGED, "changed", {**item, "text": said}) for said in _changed_targets(run)]
    if said := _unmatched_files(run):
        found.append((Occasion.UNMATCHED, "unmatched", {**item, "text": said}))
    return found


def _unmatched_files(run: Run) -> str:
    """Which files of a feed the run has seen first, and no provider's description fits."""
    name = feed_name(run.revision.structure)
    feed = find_feed(name) if name else None
    if feed is None:
        return ""
    states = [FileState.UNMATCHED, FileState.DISPUTED]
    seen = feed.entries.filter(state__in=states, found_at__gte=run.queued_at).order_by("path")
    count, paths = seen.count(), list(seen.values_list("path", flat=True)[:_NAMED])
    if not count:
        return ""
    more = f" and {count - _NAMED} more" if count > _NAMED else ""
    return f"{counted(count, 'file')} of feed {name} fit no provider: {', '.join(paths)}{more}"[:_DETAIL]


def _broken_guards(run: Run) -> list[str]:
    """What guards were not met that only warn, by leg."""
    legs = run.legs.exclude(guards=None).values_list("guards", flat=True)
    broken = ([Decided(**item) for item in guards if item["passed"] is False] for guards in legs)
    return ["; ".join(item.text for item in items)[:_DETAIL] for items in broken if items]


def _changed_targets(run: Run) -> list[str]:
    """Which tables the run has given other columns or types; not those that it made."""
    changed = Q(plan__write__changes__0__isnull=False) | Q(plan__write__rebuild=True)
    legs = run.legs.filter(changed).values_list("target", "plan__write__changes", "plan__write__create")
    found = []
    for target, changes, create in legs:
        columns = [change["column"]["name"] for change in changes or []] or [
            column["name"] for column in (create or {}).get("columns", [])
        ]
        does = "added or enlarged" if changes else "the table was made anew with"
        found.append(f"{target}: {does} {', '.join(columns)}"[:_DETAIL])
    return found


def _say_to(
    rules: Sequence[NotifyRule],
    occasion: Occasion,
    cause: str,
    job: Job,
    structure: dict[str, Any],
    item: dict[str, Any],
    now: dt.datetime,
) -> None:
    for rule in rules:
        if occasion in rule.occasions and _wants(rule, job.name, structure.get("labels") or []):
            add_item(rule, occasion, cause, item, now)


def _wants(rule: NotifyRule, job: str, labels: Sequence[str]) -> bool:
    return not (rule.jobs or rule.labels) or job in rule.jobs or bool(set(rule.labels) & set(labels))


def add_item(rule: NotifyRule, occasion: Occasion, cause: str, item: dict[str, Any], now: dt.datetime) -> Message:
    """Adds to a message of the same cause that is not sent yet, or begins one."""
    message = (
        Message.objects.select_for_update()
        .filter(rule=rule, occasion=occasion, cause=cause, sent_at=None, attempts=0)
        .first()
    )
    if message is None:
        wait = dt.timedelta(seconds=0 if occasion == Occasion.TEST else settings.GATHER_SECONDS)
        return Message.objects.create(
            rule=rule, occasion=occasion, cause=cause, items=[item], send_at=_awake(rule, now + wait)
        )
    if len(message.items) < _MOST_ITEMS:
        message.items = [*message.items, item]
        message.save(update_fields=["items"])
    return message


def _awake(rule: NotifyRule, moment: dt.datetime) -> dt.datetime:
    """The moment itself, or the end of the quiet hours that it is in."""
    if not (rule.quiet_from and rule.quiet_to):
        return moment
    zone = ZoneInfo(rule.quiet_zone)
    clock = moment.astimezone(zone).strftime("%H:%M")
    over_night = rule.quiet_from > rule.quiet_to
    quiet = (
        clock >= rule.quiet_from or clock < rule.quiet_to if over_night else rule.quiet_from <= clock < rule.quiet_to
    )
    return next_due(rule.quiet_to, rule.quiet_zone, moment) if quiet else moment
