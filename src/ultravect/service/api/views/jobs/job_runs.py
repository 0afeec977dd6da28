"""Runs of a job are started, and its marks are set."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any

from django.db import IntegrityError
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ultravect.core.model.document import job_from_data
from ultravect.core.model.jobs.job import Job as JobModel
from ultravect.service.api.problems import Problem
from ultravect.service.api.serializers.running import (
    MarkInputSerializer,
    MarkSerializer,
    RunInputSerializer,
    RunSerializer,
    SetMarkSerializer,
)
from ultravect.service.api.views.connections import connection_named
from ultravect.service.api.views.jobs.job import job_named
from ultravect.service.records.audit import audit
from ultravect.service.records.models import Job, Role, Run
from ultravect.service.records.models.streams import StreamState
from ultravect.service.records.resolved import follows_log, resolved, source_name
from ultravect.service.work.processes.look_pool import POOL
from ultravect.service.work.runs.start import start_run
from ultravect.service.work.streams.transitions import begin_again


def _only(model: JobModel, given: RunInputSerializer) -> list[str] | None:
    """The objects that a run is to copy; None for all."""
    only: list[str] | None = given.validated_data.get("only")
    if only and not model.has_many:
        raise Problem(
            422,
            "objects-not-many",
            f"job {model.job!r} copies one object: there are no others to choose from",
            "leave out `only`",
        )
    return only


def _again(model: JobModel, given: RunInputSerializer) -> dict[str, str] | None:
    """The range that a run is to copy anew; None for what is new."""
    again: dict[str, str] | None = given.validated_data.get("again")
    own = [options.source.get("newer") for options in model.objects.values()]
    newer = [
        model.source.newer and model.source.newer.by,
        *(item.get("by") for item in own if isinstance(item, dict)),
    ]
    if again and not any(newer):
        raise Problem(
            422,
            "job-without-mark",
            f"job {model.job!r} does not copy what is new by a column: there is no range to copy anew",
            "from.newer: {by: COLUMN} has one",
        )
    return dict(again) if again else None


def require_run_job(job: Job) -> None:
    """A problem where a job follows a log, and is not run."""
    if follows_log(job.revision.structure):
        raise Problem(
            409,
            "job-is-stream",
            f"job {job.name!r} follows the log of its source all the time: it is not run",
            f"start its stream: ultravect stream start {job.name}",
        )


def require_no_reader(job: Job) -> None:
    """A problem where a stream writes into the job's target."""
    stream = getattr(job, "stream", None)
    if stream is not None and StreamState(stream.state).is_under_way:
        raise Problem(
            409,
            "stream-writes",
            f"the stream of job {job.name!r} writes into the same target: rows are not repaired meanwhile",
            f"pause it: ultravect stream pause {job.name}; repair, and resume it",
        )


@extend_schema(tags=["jobs"])
class MarksView(APIView):
    """How far a job has copied what it copies; the target is asked."""

    writing_role = Role.OPERATOR

    @extend_schema(responses=MarkSerializer(many=True), summary="Show the marks of a job")
    def get(self, request: Request, name: str) -> Response:
        return self._asked("marks", name)

    @extend_schema(request=SetMarkSerializer, responses=MarkSerializer(many=True), summary="Set a job's mark")
    def put(self, request: Request, name: str) -> Response:
        given = SetMarkSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        value, item = given.validated_data["value"], given.validated_data.get("object", "")
        answer = self._asked("set_mark", name, chosen=item, value=value)
        audit(request, "set mark", "job", name, object=item, value=value)
        return answer

    @extend_schema(
        parameters=[MarkInputSerializer],
        responses={200: MarkSerializer(many=True)},
        summary="Reset a job's mark: the next run copies all there is",
    )
    def delete(self, request: Request, name: str) -> Response:
        given = MarkInputSerializer(data=request.query_params.dict())
        given.is_valid(raise_exception=True)
        item = given.validated_data.get("object", "")
        answer = self._asked("reset_mark", name, chosen=item)
        audit(request, "reset mark", "job", name, object=item)
        begin_again(job_named(name), f"the mark of {item or 'all tables'} was reset by {request.user.get_username()}")
        return answer

    @staticmethod
    def _asked(look: str, job: str, **arguments: Any) -> Response:
        structure = resolved(job_named(job).revision.structure)
        source = asdict(connection_named(source_name(structure)).spec(structure))
        target = asdict(connection_named(structure["into"]["connection"]).spec())
        return Response(POOL.look(look, job=structure, source=source, target=target, **arguments))


@extend_schema(tags=["jobs"])
class JobRunsView(APIView):
    """Starts runs of a job."""

    writing_role = Role.OPERATOR
    starts_runs = True

    @extend_schema(
        request=RunInputSerializer,
        responses={200: RunSerializer, 201: RunSerializer},
        parameters=[
            OpenApiParameter(
                "Idempotency-Key",
                str,
                OpenApiParameter.HEADER,
                description="Sent again, the key gives the run it started",
            )
        ],
        summary="Run a job",
    )
    def post(self, request: Request, name: str) -> Response:
        job = job_named(name)
        require_run_job(job)
        key = request.headers.get("Idempotency-Key")
        if key is not None and not 1 <= len(key) <= 200:
            raise Problem(422, "input-invalid", "Idempotency-Key: 1 to 200 characters")
        given = RunInputSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        try:
            revision = job.revision
            model = job_from_data(revision.structure).with_parameters(given.validated_data["parameters"])
        except ValueError as error:
            raise Problem(422, "parameter-unknown", str(error), "see the job's parameters") from None
        known = Run.objects.filter(idempotency_key=key).first() if key else None
        if known is None:
            try:
                run = start_run(
                    revision,
                    request.user,
                    model.parameters,
                    key=key,
                    only=_only(model, given),
                    again=_again(model, given),
                )
                audit(request, "run", "job", name, run=run.pk)
                return Response(RunSerializer(run).data, status=201)
            except IntegrityError:
                known = Run.objects.get(idempotency_key=key)
        if known.job_id != job.pk:
            raise Problem(
                422,
                "key-reused",
                f"this Idempotency-Key started a run of job {known.job.name!r}",
                "use another",
            )
        return Response(RunSerializer(known).data)
