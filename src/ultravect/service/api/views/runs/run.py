"""Runs: followed, stopped, and their rejects."""

from __future__ import annotations

from django.db.models import QuerySet
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter, extend_schema, extend_schema_view
from rest_framework import generics
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ultravect.service.api.problems import Problem, not_found
from ultravect.service.api.serializers.running import (
    ChangeSerializer,
    DifferencesInputSerializer,
    DifferencesSerializer,
    LegInputSerializer,
    RunLineSerializer,
    RunSerializer,
)
from ultravect.service.records.differences import changed_lines, differences
from ultravect.service.records.models import (
    Change,
    Role,
    Run,
    State,
)
from ultravect.service.work.runs.transitions import stop_leg, stop_run


def run_numbered(number: int) -> Run:
    run = Run.objects.select_related("job", "revision", "started_by").filter(pk=number).first()
    if run is None:
        raise not_found("run", number)
    return run


@extend_schema(tags=["runs"])
@extend_schema_view(
    get=extend_schema(
        summary="List runs, the newest first",
        parameters=[OpenApiParameter("job", str), OpenApiParameter("state", str, enum=list(State))],
    )
)
class RunsView(generics.ListAPIView[Run]):
    """Runs of all jobs, or of one, or in one state."""

    serializer_class = RunLineSerializer

    def get_queryset(self) -> QuerySet[Run]:
        runs = Run.objects.select_related("job", "revision", "started_by").prefetch_related("legs__slices")
        if job := self.request.query_params.get("job"):
            runs = runs.filter(job__name=job)
        if state := self.request.query_params.get("state"):
            if state not in list(State):
                raise Problem(422, "input-invalid", f"state: one of {', '.join(State)}, not {state!r}")
            runs = runs.filter(state=state)
        return runs


@extend_schema(tags=["runs"])
class RunView(APIView):
    """One run."""

    shows_run = True

    @extend_schema(responses=RunSerializer, summary="Show a run")
    def get(self, request: Request, number: int) -> Response:
        return Response(RunSerializer(run_numbered(number)).data)


@extend_schema(tags=["runs"])
class DifferencesView(APIView):
    """How a run differs from an earlier one of its job: what it was started with, its plan, what came of it, and how long it took."""

    @extend_schema(
        responses=DifferencesSerializer,
        parameters=[DifferencesInputSerializer],
        summary="Compare a run with an earlier one of its job",
    )
    def get(self, request: Request, number: int) -> Response:
        run = run_numbered(number)
        given = DifferencesInputSerializer(data=request.query_params)
        given.is_valid(raise_exception=True)
        wanted = given.validated_data.get("earlier")
        if wanted is None:
            before = run.job.runs.filter(pk__lt=run.pk, kind=run.kind).order_by("-pk").first()
            if before is None:
                raise Problem(
                    404,
                    "run-alone",
                    f"there is no run of {run.job.name!r} before run {number}",
                    "name another one: earlier=N",
                )
        else:
            before = run_numbered(wanted)
        if before.job_id != run.job_id:
            what = f"run {before.pk} is of {before.job.name!r}, and run {number} of {run.job.name!r}"
            raise Problem(422, "runs-of-two-jobs", what, "compare runs of one job")
        shown = {
            "before": before,
            "after": run,
            "file": changed_lines(before, run),
            "items": differences(before, run),
        }
        return Response(DifferencesSerializer(shown).data)


@extend_schema(tags=["runs"])
class RunPlanView(APIView):
    """What a leg of a run does, as it was planned: strategy, columns with their types, statements, findings."""

    @extend_schema(
        responses={200: OpenApiTypes.OBJECT},
        parameters=[OpenApiParameter("leg", int, description="The leg's number; 1 where it is left out")],
        summary="Show a run's plan",
        description="As any worker would execute it; there are no secrets in it. It is there once planning is done.",
    )
    def get(self, request: Request, number: int) -> Response:
        given = LegInputSerializer(data=request.query_params)
        given.is_valid(raise_exception=True)
        wanted = given.validated_data.get("leg", 1)
        leg = run_numbered(number).legs.filter(number=wanted).first()
        if leg is None or leg.plan is None:
            raise Problem(
                404,
                "plan-missing",
                f"run {number} has no plan" if wanted == 1 else f"run {number} has no plan of a leg {wanted}",
                "a leg has one once its source and target were looked at",
            )
        return Response(leg.plan)


@extend_schema(tags=["runs"])
class StopRunView(APIView):
    """Asks a run to stop; what it has not published is rolled back."""

    writing_role = Role.OPERATOR

    @extend_schema(request=None, responses={202: RunSerializer}, summary="Stop a run")
    def post(self, request: Request, number: int) -> Response:
        run = run_numbered(number)
        if State(run.state).ended:
            raise Problem(409, "run-ended", f"run {number} has already ended: {run.state}")
        stop_run(number)
        return Response(RunSerializer(run_numbered(number)).data, status=202)


@extend_schema(tags=["runs"])
class StopLegView(APIView):
    """Asks one leg of a run to stop; the others go on."""

    writing_role = Role.OPERATOR

    @extend_schema(request=None, responses={202: RunSerializer}, summary="Stop one leg of a run")
    def post(self, request: Request, number: int, leg: int) -> Response:
        found = run_numbered(number).legs.filter(number=leg).first()
        if found is None:
            raise Problem(404, "leg-unknown", f"run {number} has no leg {leg}", "see its legs: GET runs/N")
        if State(found.state).ended:
            raise Problem(409, "leg-ended", f"leg {leg} of run {number} has already ended: {found.state}")
        stop_leg(number, leg)
        return Response(RunSerializer(run_numbered(number)).data, status=202)


@extend_schema(tags=["runs"])
@extend_schema_view(
    get=extend_schema(
        summary="List rows that a run changed",
        parameters=[
            OpenApiParameter("kind", str, enum=["updated", "added", "gone", "repeated"]),
            OpenApiParameter("leg", int, description="Only of this leg"),
        ],
    )
)
class ChangesView(generics.ListAPIView[Change]):
    """Rows before and after, as many of a kind as the job keeps; the tally has the whole number."""

    serializer_class = ChangeSerializer

    def get_queryset(self) -> QuerySet[Change]:
        run_numbered(self.kwargs["number"])
        changes = Change.objects.filter(leg__run_id=self.kwargs["number"])
        kind = self.request.query_params.get("kind")
        changes = changes.filter(kind=kind) if kind else changes
        given = LegInputSerializer(data=self.request.query_params)
        given.is_valid(raise_exception=True)
        wanted = given.validated_data.get("leg")
        return changes.filter(leg__number=wanted) if wanted is not None else changes
