"""Schedules: listed, paused, and made up for."""

from __future__ import annotations

from typing import Any

from django.db import transaction
from django.db.models import QuerySet
from django.utils import timezone
from drf_spectacular.utils import OpenApiParameter, extend_schema, extend_schema_view
from rest_framework import generics
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ultravect.core.model.jobs.schedule import Schedule as Times
from ultravect.service.api.problems import Problem
from ultravect.service.api.serializers.declaring import last_runs
from ultravect.service.api.serializers.running import RunSummarySerializer
from ultravect.service.api.serializers.scheduling import (
    FillSerializer,
    PauseSerializer,
    ScheduleSerializer,
    TimesInputSerializer,
    TimesSerializer,
)
from ultravect.service.api.views.jobs.job import job_named
from ultravect.service.records.audit import audit
from ultravect.service.records.models import Role, Schedule, Trigger
from ultravect.service.work.scheduling.schedules import next_times, run_for, times_between

_MOST_RUNS = 1000


@extend_schema(tags=["schedules"])
@extend_schema_view(
    get=extend_schema(summary="List schedules", parameters=[OpenApiParameter("job", str, description="Of one job")])
)
class SchedulesView(generics.ListAPIView[Schedule]):
    """When jobs are run by themselves, those that come next first."""

    serializer_class = ScheduleSerializer

    def get_queryset(self) -> QuerySet[Schedule]:
        found = Schedule.objects.select_related("job").filter(job__deleted_at=None)
        if job := self.request.query_params.get("job"):
            found = found.filter(job__name=job)
        return found.order_by("next_at", "pk")

    def paginate_queryset(self, queryset: Any) -> Any:
        self.shown: list[Schedule] = list(super().paginate_queryset(queryset) or [])
        return self.shown

    def get_serializer_context(self) -> dict[str, Any]:
        jobs = [schedule.job for schedule in getattr(self, "shown", [])]
        return {**super().get_serializer_context(), "last_runs": last_runs(jobs)}


@extend_schema(tags=["schedules"])
class TimesView(APIView):
    """When a schedule would come: for those who write one."""

    writing_role = Role.VIEWER

    @extend_schema(
        request=TimesInputSerializer, responses=TimesSerializer, summary="Show the next times of a schedule"
    )
    def post(self, request: Request) -> Response:
        given = TimesInputSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        times = Times.model_validate(given.validated_data)
        return Response(TimesSerializer({"next": next_times(times, timezone.now())}).data)


def _schedules_of(name: str) -> QuerySet[Schedule]:
    found = Schedule.objects.filter(job=job_named(name)).select_related("job")
    if not found.exists():
        hint = "run.schedule in its file says when it is run by itself"
        raise Problem(409, "job-without-schedule", f"job {name!r} has no schedule", hint)
    return found


@extend_schema(tags=["schedules"])
class PauseView(APIView):
    """Stops a job from being run by its schedules, until someone resumes them."""

    writing_role = Role.OPERATOR

    @extend_schema(
        request=PauseSerializer, responses=ScheduleSerializer(many=True), summary="Pause a job's schedules"
    )
    def post(self, request: Request, name: str) -> Response:
        given = PauseSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        why = given.validated_data["why"]
        with transaction.atomic():
            found = _schedules_of(name)
            found.filter(paused_at=None).update(
                paused_at=timezone.now(), paused_by=request.user.get_username(), paused_why=why
            )
            audit(request, "pause", "job", name, why=why)
        return Response(ScheduleSerializer(found.all(), many=True).data)


@extend_schema(tags=["schedules"])
class ResumeView(APIView):
    """Lets a job be run by its schedules again; times that came meanwhile are not made up for."""

    writing_role = Role.OPERATOR

    @extend_schema(request=None, responses=ScheduleSerializer(many=True), summary="Resume a job's schedules")
    def post(self, request: Request, name: str) -> Response:
        now = timezone.now()
        with transaction.atomic():
            found = _schedules_of(name)
            for schedule in found.select_for_update(of=("self",)).exclude(paused_at=None):
                schedule.next_at = next_times(Times.model_validate(schedule.declared), now, 1)[0]
                schedule.paused_at, schedule.paused_by, schedule.paused_why = None, "", ""
                schedule.save(update_fields=["next_at", "paused_at", "paused_by", "paused_why"])
            audit(request, "resume", "job", name)
        return Response(ScheduleSerializer(found.all(), many=True).data)


@extend_schema(tags=["schedules"])
class FillView(APIView):
    """Runs a job for past times of its schedules: one run a time, the oldest first."""

    writing_role = Role.OPERATOR

    @extend_schema(
        request=FillSerializer,
        responses={201: RunSummarySerializer(many=True)},
        summary="Run a job for past days of its schedules",
    )
    def post(self, request: Request, name: str) -> Response:
        given = FillSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        first, last = given.validated_data["from"], given.validated_data["to"]
        now = timezone.now()
        moments: dict[Any, str] = {}
        for schedule in _schedules_of(name):
            times = Times.model_validate(schedule.declared)
            moments |= {
                moment: times.timezone
                for moment in times_between(times, first, last, _MOST_RUNS + 1)
                if moment <= now
            }
            if len(moments) > _MOST_RUNS:
                what = f"more than {_MOST_RUNS:,} times of the schedules are in {first} to {last}"
                raise Problem(422, "too-many-runs", what, "name fewer days")
        if not moments:
            what = f"no past time of the schedules of {name!r} is in {first} to {last}"
            raise Problem(422, "range-empty", what, "name other days")
        job, user = job_named(name), request.user
        with transaction.atomic():
            runs = [
                run_for(job, moment, moments[moment], Trigger.FILL, f"fill/{job.pk}/{moment}/{now}", user)
                for moment in sorted(moments)
            ]
            audit(request, "run", "job", name, runs=len(runs), first=str(first), last=str(last))
        return Response(RunSummarySerializer(runs, many=True).data, status=201)
