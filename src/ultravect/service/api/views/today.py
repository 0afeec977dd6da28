"""What there is to know this morning, and how a job went lately."""

from __future__ import annotations

import datetime as dt
from typing import Any
from zoneinfo import ZoneInfo

from django.db import connection
from django.db.models import Max, Sum
from django.utils import timezone
from drf_spectacular.utils import extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ultravect.service.api.serializers.today import HistorySerializer, TodaySerializer, lines_of
from ultravect.service.api.views.jobs.job import job_named
from ultravect.service.records.models import DueJob, Job, Leg, Run, RunKind, Schedule, State, Stream, StreamState
from ultravect.service.work.outgoing.notifying import cause_of, has_succeeded

_HOURS = 24
_MOST_RUNS = 1000
_NEXT = 10
_SHOWN = 50
_USUAL = 10
_MOST_STREAMS = 50
_FIRST = (StreamState.FAILED, StreamState.PAUSED)
# jobs that others keep from running for a time of theirs, unless they have succeeded since
_WAITING = """
SELECT k.name, r.scheduled_for, array_agg(DISTINCT j.name ORDER BY j.name)
FROM records_run r JOIN records_job j ON j.id = r.job_id JOIN records_awaitedjob a ON a.name = j.name
  JOIN records_job k ON k.id = a.job_id AND k.deleted_at IS NULL
WHERE r.queued_at > %(since)s AND r.scheduled_for IS NOT NULL AND r.kind = 'load' AND r.state IN ('failed', 'stopped')
  AND r.queued_at > (SELECT max(d.since) FROM records_awaitedjob d WHERE d.job_id = a.job_id)
  AND NOT EXISTS (
    SELECT 1 FROM records_run s
    WHERE s.job_id = r.job_id AND s.scheduled_for = r.scheduled_for AND s.kind = 'load' AND s.state = 'succeeded')
  AND NOT EXISTS (SELECT 1 FROM records_run o WHERE o.job_id = k.id AND o.id > r.id AND o.kind = 'load' AND o.state = 'succeeded')
GROUP BY 1, 2 ORDER BY 2 DESC, 1 LIMIT 50
"""


@extend_schema(tags=["system"])
class TodayView(APIView):
    """What failed and why, what is late, what runs now, what comes next, and what was rejected, within a day."""

    @extend_schema(responses=TodaySerializer, summary="What there is to know now")
    def get(self, request: Request) -> Response:
        now = timezone.now()
        runs = lines_of(
            Run.objects.filter(queued_at__gte=now - dt.timedelta(hours=_HOURS)).order_by("-id")[:_MOST_RUNS]
        )
        rejected = dict(
            Leg.objects.filter(run_id__gte=runs[-1]["id"] if runs else 0, rejected__gt=0)
            .values_list("run_id")
            .annotate(Sum("rejected"))
            .order_by()
        )
        under_way = lines_of(Run.objects.filter(state__in=[State.QUEUED, State.RUNNING]).order_by("id")[:_SHOWN])
        return Response(
            TodaySerializer(
                {
                    "at": now,
                    "failed": _failed(runs),
                    "late": _late(now),
                    "waiting": _waiting(now),
                    "under_way": under_way,
                    "next": _next(),
                    "rejected": [
                        {"job": run["job"], "run": run["id"], "rows": rejected[run["id"]]}
                        for run in runs
                        if run["id"] in rejected and run["state"] == State.SUCCEEDED
                    ][:_SHOWN],
                    "streams": _streams(),
                    "runs": runs,
                    "more": len(runs) == _MOST_RUNS,
                }
            ).data
        )


def _failed(runs: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """Failures that no later run of the job has made good, those of one cause together."""
    numbers = [run["id"] for run in runs if run["state"] == State.FAILED]
    if not numbers:
        return []
    failed = list(
        Run.objects.filter(pk__in=numbers)
        .select_related("job")
        .only("error", "ended_at", "job__name")
        .order_by("-id")
    )
    newest = dict(
        Run.objects.filter(
            id__gt=min(numbers),
            job_id__in={run.job_id for run in failed},
            kind=RunKind.LOAD,
            state=State.SUCCEEDED,
        )
        .values_list("job_id")
        .annotate(Max("id"))
        .order_by()
    )
    causes: dict[str, dict[str, Any]] = {}
    for run in failed:
        if newest.get(run.job_id, 0) > run.pk:
            continue
        error = run.error or {}
        cause = causes.setdefault(
            cause_of(error, run.job.name),
            {
                "code": error.get("code", "unknown"),
                "detail": error.get("detail", ""),
                "hint": error.get("hint", ""),
                "jobs": [],
                "runs": [],
                "at": run.ended_at,
            },
        )
        if run.job.name not in cause["jobs"]:
            cause["jobs"].append(run.job.name)
        cause["runs"].append(run.pk)
    return sorted(causes.values(), key=lambda cause: -len(cause["jobs"]))


def _streams() -> list[Stream]:
    """Those that need a look first, and then those with the longest lag."""
    found = Stream.objects.select_related("job", "revision", "started_by").filter(job__deleted_at=None)
    return sorted(found[:_MOST_RUNS], key=lambda one: (one.state not in _FIRST, -(one.lag or 0), one.job.name))[
        :_MOST_STREAMS
    ]


def _late(now: dt.datetime) -> list[dict[str, Any]]:
    """Jobs that should have succeeded for their day by now."""
    found = []
    for due in DueJob.objects.filter(job__deleted_at=None).select_related("job")[:_MOST_RUNS]:
        zone = ZoneInfo(due.timezone)
        local = now.astimezone(zone)
        hour, minute = map(int, due.time.split(":"))
        moment = local.replace(hour=hour, minute=minute, second=0, microsecond=0)
        if moment <= local and not has_succeeded(due.job, now, due.timezone):
            found.append({"job": due.job.name, "due": due.time, "timezone": due.timezone, "since": moment})
    return found


def _waiting(now: dt.datetime) -> list[dict[str, Any]]:
    """Jobs that were not run for a time, since others that they wait for have not succeeded for it."""
    with connection.cursor() as cursor:
        cursor.execute(_WAITING, {"since": now - dt.timedelta(hours=_HOURS)})
        return [{"job": job, "scheduled_for": moment, "waits_for": names} for job, moment, names in cursor.fetchall()]


def _next() -> list[dict[str, Any]]:
    found = (
        Schedule.objects.filter(paused_at=None, job__deleted_at=None)
        .select_related("job")
        .order_by("next_at")[:_NEXT]
    )
    return [{"job": item.job.name, "at": item.next_at, "timezone": item.declared["timezone"]} for item in found]


@extend_schema(tags=["jobs"])
class HistoryView(APIView):
    """How the last runs of a job went: rows and seconds, with what is usual."""

    @extend_schema(responses=HistorySerializer, summary="Show how a job's last runs went")
    def get(self, request: Request, name: str) -> Response:
        job: Job = job_named(name)
        ended = [State.SUCCEEDED, State.FAILED, State.STOPPED]
        runs = list(job.runs.filter(kind=RunKind.LOAD, state__in=ended).order_by("-id")[:_SHOWN])[::-1]
        rows: dict[int, int] = {}
        guards: dict[int, list[dict[str, Any]]] = {}
        legs = Leg.objects.filter(run_id__in=[run.pk for run in runs]).order_by("run_id", "number")
        for run_id, tally, decided in legs.values_list("run_id", "tally", "guards"):
            guards.setdefault(run_id, []).extend(decided or [])
            written = sum((tally or {}).get(key, 0) for key in ("inserted", "updated"))
            rows[run_id] = rows.get(run_id, 0) + written
        shown = [
            {
                "run": run.pk,
                "state": run.state,
                "at": run.ended_at,
                "rows": rows.get(run.pk, 0),
                "guards": guards.get(run.pk, []),
                "seconds": (run.ended_at - run.started_at).total_seconds()
                if run.ended_at and run.started_at
                else None,
            }
            for run in runs
        ]
        good = [item for item in shown if item["state"] == State.SUCCEEDED][-_USUAL:]
        usual = {key: _middle([item[key] for item in good if item[key] is not None]) for key in ("rows", "seconds")}
        return Response(
            HistorySerializer({"runs": shown, **{f"usual_{key}": value for key, value in usual.items()}}).data
        )


def _middle(values: list[Any]) -> list[float] | None:
    """The range in which the middle half of some values is; None of fewer than four."""
    if len(values) < 4:
        return None
    ordered = sorted(float(value) for value in values)
    return [ordered[len(ordered) // 4], ordered[-1 - len(ordered) // 4]]
