"""Figures for Prometheus: of the queue, the workers, and what ran lately. No name of a job, table or person is among them."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterator

from django.db import connection
from django.db.models import Count, Max, Min, Sum
from django.http import HttpResponse
from django.utils import timezone
from drf_spectacular.utils import extend_schema
from prometheus_client import CollectorRegistry
from prometheus_client.core import CounterMetricFamily, GaugeMetricFamily, Metric
from prometheus_client.exposition import CONTENT_TYPE_LATEST, generate_latest
from prometheus_client.registry import Collector
from rest_framework.request import Request
from rest_framework.views import APIView

from ultravect import __version__
from ultravect.service.records.models import Leg, Message, Run, Schedule, State, Stream, StreamMinute, StreamState
from ultravect.service.work.workers.sites import live_workers

_WINDOW = dt.timedelta(hours=1)
_ROWS = """
SELECT coalesce(sum((tally->>'read')::bigint), 0), coalesce(sum((tally->>'inserted')::bigint + (tally->>'updated')::bigint), 0)
FROM records_leg WHERE ended_at > %s AND tally IS NOT NULL
"""


class _Figures(Collector):
    def collect(self) -> Iterator[Metric]:
        now = timezone.now()
        yield GaugeMetricFamily("ultravect_up", "1, where the records can be asked.", value=1)
        version = GaugeMetricFamily("ultravect_info", "The version.", labels=["version"])
        version.add_metric([__version__], 1)
        yield version
        waiting = Run.objects.filter(state=State.QUEUED).aggregate(count=Count("id"), oldest=Min("queued_at"))
        yield GaugeMetricFamily("ultravect_runs_queued", "Runs that wait.", value=waiting["count"])
        age = (now - waiting["oldest"]).total_seconds() if waiting["oldest"] else 0
        yield GaugeMetricFamily("ultravect_queue_age_seconds", "How long the oldest of them waits.", value=age)
        running = Run.objects.filter(state=State.RUNNING).count()
        yield GaugeMetricFamily("ultravect_runs_running", "Runs under way.", value=running)
        ended = GaugeMetricFamily(
            "ultravect_runs_ended_last_hour", "Runs that ended within an hour.", labels=["state"]
        )
        counted = dict(
            Run.objects.filter(ended_at__gt=now - _WINDOW).values_list("state").annotate(Count("id")).order_by()
        )
        for state in (State.SUCCEEDED, State.FAILED, State.STOPPED):
            ended.add_metric([str(state)], counted.get(str(state), 0))
        yield ended
        with connection.cursor() as cursor:
            cursor.execute(_ROWS, [now - _WINDOW])
            read, written = cursor.fetchone()
        yield GaugeMetricFamily(
            "ultravect_rows_read_last_hour", "Rows that legs read which ended within an hour.", value=read
        )
        yield GaugeMetricFamily(
            "ultravect_rows_written_last_hour", "Rows that they inserted and updated.", value=written
        )
        rejected = Leg.objects.filter(ended_at__gt=now - _WINDOW).aggregate(all=Sum("rejected"))["all"] or 0
        yield GaugeMetricFamily("ultravect_rows_rejected_last_hour", "Rows that they rejected.", value=rejected)
        workers = live_workers()
        yield GaugeMetricFamily("ultravect_workers", "Workers that give a sign of life.", value=len(workers))
        slots = sum(worker.slots for worker in workers)
        yield GaugeMetricFamily("ultravect_slots", "How many legs they can copy at once.", value=slots)
        legs = Leg.objects.filter(state=State.RUNNING).count()
        yield GaugeMetricFamily(
            "ultravect_legs_running", "Legs under way, each with a lease of a worker.", value=legs
        )
        late = Schedule.objects.filter(paused_at=None, next_at__lt=now, job__deleted_at=None).aggregate(
            first=Min("next_at")
        )
        lag = (now - late["first"]).total_seconds() if late["first"] else 0
        yield GaugeMetricFamily(
            "ultravect_schedule_lag_seconds", "How late the latest scheduled start is.", value=lag
        )
        yield GaugeMetricFamily(
            "ultravect_messages_unsent",
            "Messages that are to be sent.",
            value=Message.objects.filter(sent_at=None).count(),
        )
        yield from _streams()
        newest = Run.objects.order_by("-id").values_list("id", flat=True).first() or 0
        yield CounterMetricFamily("ultravect_runs", "The number of the newest run.", value=newest)


def _streams() -> Iterator[Metric]:
    """Of all streams together: no name of a job is among the labels."""
    states = GaugeMetricFamily("ultravect_streams", "Streams, by their state.", labels=["state"])
    counted = dict(Stream.objects.values_list("state").annotate(Count("id")).order_by())
    for state in StreamState:
        states.add_metric([str(state)], counted.get(str(state), 0))
    yield states
    followed = Stream.objects.filter(state=StreamState.FOLLOWING)
    figures = followed.aggregate(lag=Max("lag"), kept=Max("log_kept"))
    yield GaugeMetricFamily(
        "ultravect_stream_lag_seconds",
        "The longest lag of a target that follows its source.",
        value=figures["lag"] or 0,
    )
    yield GaugeMetricFamily(
        "ultravect_stream_log_kept_bytes",
        "The most that a source keeps of its log for a stream.",
        value=figures["kept"] or 0,
    )
    minutes = StreamMinute.objects.filter(minute__gt=timezone.now() - _WINDOW).aggregate(
        changes=Sum("changes"), rejected=Sum("rejected")
    )
    yield GaugeMetricFamily(
        "ultravect_stream_changes_last_hour",
        "Changes that streams have written within an hour.",
        value=minutes["changes"] or 0,
    )
    yield GaugeMetricFamily(
        "ultravect_stream_rejected_last_hour",
        "Changes that did not fit their targets.",
        value=minutes["rejected"] or 0,
    )


@extend_schema(exclude=True)
class MetricsView(APIView):
    """For Prometheus, which signs in with a token of a viewer."""

    def get(self, request: Request) -> HttpResponse:
        registry = CollectorRegistry(auto_describe=False)
        registry.register(_Figures())
        return HttpResponse(generate_latest(registry), content_type=CONTENT_TYPE_LATEST)
