"""What the first page shows."""

from __future__ import annotations

from typing import Any

from django.db.models import F, QuerySet
from rest_framework import serializers

from ultravect.service.api.serializers.common import Text
from ultravect.service.api.serializers.running import GuardSerializer
from ultravect.service.api.serializers.streaming import StreamLineSerializer
from ultravect.service.records.models import Run, State, Trigger


class CauseSerializer(serializers.Serializer[Any]):
    """Failures of one cause, which no later run has made good."""

    code = Text()
    detail = Text(help_text="What the newest of them said.")
    hint = Text()
    jobs = serializers.ListField(child=Text())
    runs = serializers.ListField(child=serializers.IntegerField(), help_text="The newest first.")
    at = serializers.DateTimeField(allow_null=True, help_text="When the newest of them ended.")


class LateSerializer(serializers.Serializer[Any]):
    job = Text()
    due = Text()
    timezone = Text()
    since = serializers.DateTimeField()


class WaitingSerializer(serializers.Serializer[Any]):
    """A job that was not run for a time, since others have not succeeded for it."""

    job = Text()
    scheduled_for = serializers.DateTimeField()
    waits_for = serializers.ListField(child=Text(), help_text="Those that have not succeeded.")


class UpcomingSerializer(serializers.Serializer[Any]):
    job = Text()
    at = serializers.DateTimeField()
    timezone = Text()


class RejectedSerializer(serializers.Serializer[Any]):
    job = Text()
    run = serializers.IntegerField()
    rows = serializers.IntegerField()


class RunBarSerializer(serializers.ModelSerializer[Run]):
    """A run on a time axis."""

    job = Text(source="job.name")
    state = serializers.ChoiceField(choices=State.choices)
    trigger = serializers.ChoiceField(choices=Trigger.choices)

    class Meta:
        model = Run
        fields = ["id", "job", "state", "trigger", "queued_at", "started_at", "ended_at"]

    def to_representation(self, run: Any) -> dict[str, Any]:
        """``run``: a line of ``lines_of``. A page has a thousand of them, and asking each field would take ten times as long."""
        return dict(run)


def lines_of(runs: QuerySet[Run]) -> list[dict[str, Any]]:
    """What is shown of each run on a time axis."""
    names = ["id", "state", "trigger", "queued_at", "started_at", "ended_at"]
    return [{"job": run.pop("of"), **run} for run in runs.values(*names, of=F("job__name"))]


class TodaySerializer(serializers.Serializer[Any]):
    at = serializers.DateTimeField()
    failed = CauseSerializer(many=True)
    late = LateSerializer(many=True)
    waiting = WaitingSerializer(many=True)
    under_way = RunBarSerializer(many=True)
    next = UpcomingSerializer(many=True)
    rejected = RejectedSerializer(many=True)
    streams = StreamLineSerializer(many=True, help_text="Streams; those that need a look first.")
    runs = RunBarSerializer(many=True, help_text="Those that were queued within the last 24 hours, the newest first.")
    more = serializers.BooleanField(help_text="Whether there are more of them than are listed.")


class HistoryRunSerializer(serializers.Serializer[Any]):
    run = serializers.IntegerField()
    state = serializers.ChoiceField(choices=State.choices)
    at = serializers.DateTimeField(allow_null=True)
    rows = serializers.IntegerField(help_text="Inserted and updated.")
    seconds = serializers.FloatField(allow_null=True)
    guards = GuardSerializer(many=True, help_text="What was found, of all legs one after the other.")


class HistorySerializer(serializers.Serializer[Any]):
    runs = HistoryRunSerializer(many=True, help_text="The last 50 that have ended, the oldest first.")
    usual_rows = serializers.ListField(
        child=serializers.FloatField(),
        allow_null=True,
        help_text="Between which the middle half of the last ten good runs is.",
    )
    usual_seconds = serializers.ListField(child=serializers.FloatField(), allow_null=True)
