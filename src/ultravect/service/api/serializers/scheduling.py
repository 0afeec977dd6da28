"""Schedules: what is given and taken."""

from __future__ import annotations

from typing import Any

from django.utils import timezone
from drf_spectacular.utils import extend_schema_field
from pydantic import ValidationError
from rest_framework import serializers

from ultravect.core.model.jobs.schedule import Schedule as Times
from ultravect.service.api.serializers.common import Text
from ultravect.service.api.serializers.declaring import last_runs
from ultravect.service.api.serializers.running import RunSummarySerializer
from ultravect.service.records.models import Run, Schedule
from ultravect.service.work.scheduling.schedules import next_times

_DAYS = 366


class PausedSerializer(serializers.Serializer[Any]):
    at = serializers.DateTimeField()
    by = Text()
    why = Text()


class ScheduleSerializer(serializers.Serializer[Schedule]):
    """A schedule of a job."""

    job = Text(source="job.name")
    place = serializers.IntegerField(help_text="Which of the job's schedules it is, from 0.")
    cron = Text(source="declared.cron")
    timezone = Text(source="declared.timezone")
    only_if = serializers.SerializerMethodField(
        help_text="new_files: a run is started only for files that were not copied yet."
    )
    missed = Text(source="declared.missed")
    overlap = Text(source="declared.overlap")
    next = serializers.SerializerMethodField(help_text="The next five times; none while it is paused.")
    paused = serializers.SerializerMethodField(help_text="Since when, by whom and why; null where it is not.")
    last_for = serializers.DateTimeField(
        allow_null=True, help_text="The last time for which a run was started, or was to be."
    )
    left_out = Text(help_text='Why no run was started for it; "" where one was.')
    last_run = serializers.SerializerMethodField(help_text="The last run of the job, however it was started.")

    @extend_schema_field(serializers.CharField(allow_null=True))
    def get_only_if(self, schedule: Schedule) -> str | None:
        return schedule.declared.get("only_if")

    @extend_schema_field(serializers.ListField(child=serializers.DateTimeField()))
    def get_next(self, schedule: Schedule) -> list[Any]:
        if schedule.paused_at is not None:
            return []
        times = Times.model_validate(schedule.declared)
        return [schedule.next_at, *next_times(times, max(schedule.next_at, timezone.now()), 4)]

    @extend_schema_field(PausedSerializer(allow_null=True))
    def get_paused(self, schedule: Schedule) -> dict[str, Any] | None:
        if schedule.paused_at is None:
            return None
        return {"at": schedule.paused_at, "by": schedule.paused_by, "why": schedule.paused_why}

    @extend_schema_field(RunSummarySerializer(allow_null=True))
    def get_last_run(self, schedule: Schedule) -> dict[str, Any] | None:
        listed: dict[int, Run] | None = self.context.get("last_runs")
        run = (listed if listed is not None else last_runs([schedule.job])).get(schedule.job_id)
        return dict(RunSummarySerializer(run).data) if run else None


class PauseSerializer(serializers.Serializer[Any]):
    why = serializers.CharField(max_length=500, help_text="For those who wonder.")


class TimesInputSerializer(serializers.Serializer[Any]):
    cron = serializers.CharField(max_length=200)
    timezone = serializers.CharField(max_length=100, default="UTC")

    def validate(self, given: dict[str, Any]) -> dict[str, Any]:
        try:
            Times.model_validate(dict(given))
        except ValidationError as error:
            # each names its field
            first = error.errors()[0]
            said = first["msg"].removeprefix("Value error, ")
            raise serializers.ValidationError({str(first["loc"][0]): said}) from None
        return given


class TimesSerializer(serializers.Serializer[Any]):
    next = serializers.ListField(child=serializers.DateTimeField(), help_text="The next five times.")


class FillSerializer(serializers.Serializer[Any]):
    to = serializers.DateField(help_text="The last day, included.")

    def get_fields(self) -> dict[str, Any]:
        # `from` is a word of the language
        return {"from": serializers.DateField(help_text="The first day."), **super().get_fields()}

    def validate(self, given: dict[str, Any]) -> dict[str, Any]:
        if given["to"] < given["from"]:
            raise serializers.ValidationError({"to": "it is before `from`"})
        if (given["to"] - given["from"]).days > _DAYS:
            raise serializers.ValidationError({"to": f"at most {_DAYS} days at a time"})
        return given
