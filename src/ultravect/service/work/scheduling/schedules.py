"""The schedules of jobs: the records follow what jobs declare, and each time starts one run, even where several processes look."""

from __future__ import annotations

import datetime as dt
import itertools
from collections.abc import Callable, Sequence
from typing import Any
from zoneinfo import ZoneInfo

import structlog
from django.conf import settings
from django.db import connection, transaction
from django.utils import timezone

from ultravect.core.model.jobs.job import Job as JobModel
from ultravect.core.model.jobs.schedule import Schedule as Times
from ultravect.core.model.jobs.schedule import times_after
from ultravect.service.records.lookup import model_of
from ultravect.service.records.models import (
    AwaitedJob,
    Connection,
    DueJob,
    Job,
    Revision,
    Run,
    Schedule,
    State,
    Trigger,
)
from ultravect.service.work.runs.start import start_run

log = structlog.get_logger()
# a run that begins this much late was not missed
_LATE = dt.timedelta(minutes=1)
_AFTER_DAYS = 7
_MOST_MISSED = 100_000
_AT_ONCE = 20
# runs after others that could not be started: tried again each time, said once
_FAILED: set[tuple[int, dt.datetime]] = set()
# jobs that are run after one which has succeeded for a time, and have no run for it yet
_READY = """
SELECT DISTINCT a.job_id, r.scheduled_for, r.run_date FROM records_run r
  JOIN records_job j ON j.id = r.job_id JOIN records_awaitedjob a ON a.name = j.name
  JOIN records_job w ON w.id = a.job_id AND w.deleted_at IS NULL
WHERE r.state = 'succeeded' AND r.kind = 'load' AND r.scheduled_for IS NOT NULL AND r.ended_at > %(since)s
  AND r.ended_at > (SELECT max(d.since) FROM records_awaitedjob d WHERE d.job_id = a.job_id)
  AND NOT EXISTS (SELECT 1 FROM records_run o WHERE o.job_id = a.job_id AND o.scheduled_for = r.scheduled_for AND o.trigger = 'after')
  AND NOT EXISTS (
    SELECT 1 FROM records_awaitedjob b WHERE b.job_id = a.job_id AND NOT EXISTS (
      SELECT 1 FROM records_run s JOIN records_job k ON k.id = s.job_id
      WHERE k.name = b.name AND s.state = 'succeeded' AND s.kind = 'load' AND s.scheduled_for = r.scheduled_for))
ORDER BY r.scheduled_for LIMIT 50
"""


def keep_in_step(job: Job, model: JobModel | None) -> None:
    """Makes the schedules of a job those that it declares; None: it is removed. To be called in the transaction that saves it."""
    wanted = model.run.schedule if model else []
    known = {held.place: held for held in job.schedules.select_for_update()}
    now = timezone.now()
    for place, times in enumerate(wanted):
        declared = times.model_dump(mode="json")
        held = known.pop(place, None)
        if held is not None and held.declared == declared:
            continue
        moved = held is None or any(held.declared[key] != declared[key] for key in ("cron", "timezone"))
        values: dict[str, Any] = {"declared": declared}
        if moved:
            values |= {"next_at": next(times_after(times, now)), "left_out": ""}
        Schedule.objects.update_or_create(job=job, place=place, defaults=values)
    job.schedules.filter(place__in=list(known)).delete()
    _keep_due(job, model, now)
    names = set(model.run.after) if model else set()
    job.awaited.exclude(name__in=names).delete()
    held_names = set(job.awaited.values_list("name", flat=True))
    AwaitedJob.objects.bulk_create(AwaitedJob(job=job, name=name) for name in sorted(names - held_names))


def _keep_due(job: Job, model: JobModel | None, now: dt.datetime) -> None:
    if model is None or model.run.due is None:
        DueJob.objects.filter(job=job).delete()
        return
    zone = model.run.schedule[0].timezone
    values = {"time": model.run.due, "timezone": zone, "next_at": next_due(model.run.due, zone, now)}
    if not DueJob.objects.filter(job=job, time=model.run.due, timezone=zone).exists():
        DueJob.objects.update_or_create(job=job, defaults=values)


def next_due(time: str, zone: str, after: dt.datetime) -> dt.datetime:
    """The next moment at which clocks of the zone show a time of day."""
    hour, minute = time.split(":")
    return next(times_after(Times(cron=f"{int(minute)} {int(hour)} * * *", timezone=zone), after))


def cycle_of(name: str, after: Sequence[str]) -> list[str]:
    """The jobs by which ``name`` would be run after itself, with itself at both ends; none where there is no such way."""
    waits: dict[str, list[str]] = {}
    for waiting, awaited in AwaitedJob.objects.filter(job__deleted_at=None).values_list("job__name", "name"):
        waits.setdefault(waiting, []).append(awaited)
    waits[name] = list(after)
    before: dict[str, str] = {}
    found = [name]
    while found:
        current = found.pop()
        for awaited in waits.get(current, []):
            if awaited == name:
                way = [name, current]
                while current != name:
                    current = before[current]
                    way.append(current)
                return way[::-1] if len(way) > 2 else [name, name]
            if awaited not in before:
                before[awaited] = current
                found.append(awaited)
    return []


def next_times(times: Times, after: dt.datetime, count: int = 5) -> list[dt.datetime]:
    return list(itertools.islice(times_after(times, after), count))


def times_between(times: Times, first: dt.date, last: dt.date, most: int) -> list[dt.datetime]:
    """The first ``most`` times of some days, both ends included, in the schedule's zone."""
    zone = ZoneInfo(times.timezone)
    start = dt.datetime.combine(first, dt.time(), zone).astimezone(dt.UTC)
    end = dt.datetime.combine(last + dt.timedelta(days=1), dt.time(), zone).astimezone(dt.UTC)
    moments = itertools.takewhile(lambda moment: moment < end, times_after(times, start - dt.timedelta(seconds=1)))
    return list(itertools.islice(moments, most))


def run_for(
    job: Job,
    moment: dt.datetime,
    zone: str,
    trigger: Trigger,
    key: str,
    user: Any = None,
    connections: dict[str, Connection | None] | None = None,
) -> Run:
    """Starts a run for a scheduled time; ``connections``: see ``start_run``."""
    local = moment.astimezone(ZoneInfo(zone))
    return _start(job, local, local.date(), trigger, key, user, connections)


def _start(
    job: Job,
    moment: dt.datetime,
    date: dt.date,
    trigger: Trigger,
    key: str,
    user: Any = None,
    connections: dict[str, Connection | None] | None = None,
) -> Run:
    """The job is given the moment as it is here, in its zone."""
    revision = job.revision
    parameters = dict(model_of(revision).parameters)
    if "scheduled_at" in parameters:
        parameters["scheduled_at"] = moment.isoformat()
    return start_run(
        revision,
        user,
        parameters,
        key=key,
        trigger=trigger,
        scheduled_for=moment,
        run_date=date,
        connections=connections,
    )


@transaction.atomic
def start_due(now: dt.datetime, look: Callable[[int, dt.datetime], None]) -> bool:
    """Starts the runs of some schedules whose time has come, or leaves them out; False where there are no more.

    ``look`` is given those that are run only for new files, with their time: it has them looked for, which may take long.
    """
    due = list(
        Schedule.objects.select_for_update(skip_locked=True, of=("self",))
        .select_related("job")
        .filter(next_at__lte=now, paused_at=None, job__deleted_at=None)
        .order_by("next_at", "pk")[:_AT_ONCE]
    )
    newest = Revision.objects.filter(job_id__in={schedule.job_id for schedule in due}).order_by("job_id", "-number")
    revisions = {revision.job_id: revision for revision in newest.distinct("job_id")}
    connections: dict[str, Connection | None] = {}
    for schedule in due:
        schedule.job.listed = revisions.get(schedule.job_id)
        _start_one(schedule, now, look, connections)
    Schedule.objects.bulk_update(due, ["last_for", "next_at", "left_out"])
    return len(due) == _AT_ONCE


def _start_one(
    due: Schedule,
    now: dt.datetime,
    look: Callable[[int, dt.datetime], None],
    connections: dict[str, Connection | None],
) -> None:
    """Starts the run of a schedule for the newest of its times that has come; the schedule is not saved."""
    times = Times.model_validate(due.declared)
    moment, missed = due.next_at, 0
    following = times_after(times, moment)
    upcoming = next(following)
    while upcoming <= now and missed < _MOST_MISSED:
        moment, upcoming, missed = upcoming, next(following), missed + 1
    if upcoming <= now:
        upcoming = next(times_after(times, now))
    due.last_for, due.next_at = moment, upcoming
    due.left_out = _why_left_out(due, times, moment, now)
    if missed:
        log.warning("scheduled times came while no scheduler was running", job=due.job.name, times=missed)
    if due.left_out:
        return
    if times.only_if is not None:
        transaction.on_commit(lambda: look(due.pk, moment))
        return
    # a run that cannot be started must not keep other schedules from theirs
    try:
        with transaction.atomic():
            key = f"schedule/{due.pk}/{moment.isoformat()}"
            run_for(due.job, moment, times.timezone, Trigger.SCHEDULE, key, connections=connections)
    except Exception as error:
        log.exception("a scheduled run could not be started", job=due.job.name)
        due.left_out = f"the run could not be started: {type(error).__name__}; the service's log has the details"


def _why_left_out(due: Schedule, times: Times, moment: dt.datetime, now: dt.datetime) -> str:
    if times.missed == "none" and now - moment > _LATE:
        return "no scheduler was running at that time, and missed times are not made up for"
    if times.overlap == "skip" or times.only_if is not None:
        return not_over(due.job)
    return ""


def not_over(job: Job) -> str:
    """Which run of a job is not over yet, "" where none is."""
    running = job.runs.filter(state__in=[State.QUEUED, State.RUNNING]).order_by("id").first()
    return f"run {running.pk} of the job was not over yet" if running is not None else ""


def start_after(now: dt.datetime) -> None:
    """Starts runs of jobs that wait for others, all of which have succeeded for one time."""
    # no longer than runs are kept: one whose record is removed would be started again
    days = min(_AFTER_DAYS, settings.KEEP_RUNS_DAYS or _AFTER_DAYS)
    with connection.cursor() as cursor:
        cursor.execute(_READY, {"since": now - dt.timedelta(days=days)})
        found = cursor.fetchall()
    for job, moment, date in found:
        # a run that cannot be started must not keep others from theirs
        try:
            _start_one_after(job, moment, date)
        except Exception:
            if (job, moment) not in _FAILED:
                log.exception("a run after others could not be started", job=job, scheduled_for=str(moment))
            _FAILED.add((job, moment))


@transaction.atomic
def _start_one_after(job: int, moment: dt.datetime, date: dt.date) -> None:
    held = Job.objects.select_for_update(skip_locked=True).filter(pk=job, deleted_at=None).first()
    if held is None or held.runs.filter(trigger=Trigger.AFTER, scheduled_for=moment).exists():
        return
    local = moment.astimezone(ZoneInfo(_zone_of(held, moment)))
    _start(held, local, date, Trigger.AFTER, f"after/{job}/{moment.isoformat()}")


def _zone_of(job: Job, moment: dt.datetime) -> str:
    """The zone of the schedule with which a time began, after which this job is run: its own, or that of one that it comes after."""
    seen, waiting = {job.name}, [job]
    while waiting:
        one = waiting.pop(0)
        for held in one.schedules.order_by("place"):
            times = Times.model_validate(held.declared)
            if next(times_after(times, moment - dt.timedelta(seconds=1))) == moment:
                return times.timezone
        names = set(one.awaited.values_list("name", flat=True)) - seen
        seen |= names
        waiting += Job.objects.filter(name__in=names, deleted_at=None).order_by("name")
    return "UTC"
