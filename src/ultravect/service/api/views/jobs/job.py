"""Jobs: saved as revisions, checked, and run."""

from __future__ import annotations

from typing import Any

from django.db import transaction
from django.db.models import OuterRef, Q, QuerySet, Subquery
from django.utils import timezone
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiExample, OpenApiParameter, extend_schema, extend_schema_view
from rest_framework import generics
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ultravect.core.model.document import JOB
from ultravect.core.model.jobs.job import Job as JobModel
from ultravect.core.model.jobs.job import job_schema
from ultravect.core.model.problems import did_you_mean
from ultravect.service.api.files import FILE_PARSERS, FILE_REQUEST, given_file, structure_of
from ultravect.service.api.problems import Problem, not_found
from ultravect.service.api.serializers.declaring import (
    JobSerializer,
    JobSummarySerializer,
    RevisionSerializer,
    last_runs,
)
from ultravect.service.api.views.connections import connection_named
from ultravect.service.records.audit import audit
from ultravect.service.records.lookup import find_job, layout_named_by, names_of
from ultravect.service.records.models import Job, Revision, Stream
from ultravect.service.records.resolved import resolved, source_name
from ultravect.service.work.scheduling.schedules import cycle_of, keep_in_step

FILE_EXAMPLE = OpenApiExample(
    "A job",
    value={
        "ultravect": 1,
        "job": "bookings",
        "from": {"connection": "incoming", "files": "bookings.csv"},
        "into": {"connection": "warehouse", "table": "booking"},
    },
    request_only=True,
)


class JobInput(APIView):
    parser_classes = FILE_PARSERS

    def given_job(self, request: Request) -> tuple[JobModel, str]:
        """The job in the request's body, and its text."""
        return given_file(request, JOB)


def job_named(name: str) -> Job:
    job = find_job(name)
    if job is None:
        names = names_of(Job)
        raise not_found("job", name, did_you_mean(name, names))
    return job


def _require_no_cycle(model: JobModel) -> None:
    """Jobs that wait for each other would never be run."""
    names = names_of(Job)
    for name in model.run.after:
        if name != model.job and name not in names:
            hint = did_you_mean(name, names) or "save that job first"
            raise Problem(422, "job-unknown", f"run.after names {name!r}, and there is no such job", hint)
    if way := cycle_of(model.job, model.run.after):
        shown = " after ".join(way)
        raise Problem(422, "jobs-in-circle", f"run.after leads in a circle: {shown}", "take one of them out")


def _etag(job: Job) -> str:
    return f'"{job.revision.number}"'


def _job_response(job: Job, status: int = 200) -> Response:
    job.listed = job.revision  # asked once, and shown in many fields
    return Response(JobSerializer(job).data, status=status, headers={"ETag": _etag(job)})


@extend_schema(tags=["jobs"])
@extend_schema_view(
    get=extend_schema(
        summary="List jobs",
        parameters=[
            OpenApiParameter("search", str, description="Only jobs whose name or file has this text, in any case")
        ],
    )
)
class JobsView(generics.ListAPIView[Job]):
    """All jobs, with the last run of each."""

    serializer_class = JobSummarySerializer

    def get_queryset(self) -> QuerySet[Job]:
        listed = Job.objects.filter(deleted_at=None).select_related("stream")
        if search := self.request.query_params.get("search", "").strip():
            file = Revision.objects.filter(job_id=OuterRef("pk")).order_by("-number").values("text")[:1]
            listed = listed.annotate(file=Subquery(file)).filter(
                Q(name__icontains=search) | Q(file__icontains=search)
            )
        return listed

    def paginate_queryset(self, queryset: Any) -> Any:
        # what is shown of all jobs of a page is asked at once
        self.shown: list[Job] = list(super().paginate_queryset(queryset) or [])
        newest = Revision.objects.filter(job_id=OuterRef("pk")).order_by("-number").values("pk")[:1]
        wanted = Job.objects.filter(pk__in=[job.pk for job in self.shown]).annotate(newest=Subquery(newest))
        revisions = Revision.objects.select_related("saved_by").in_bulk(list(wanted.values_list("newest", flat=True)))
        by_job = {revision.job_id: revision for revision in revisions.values()}
        for job in self.shown:
            job.listed = by_job.get(job.pk)
        return self.shown

    def get_serializer_context(self) -> dict[str, Any]:
        return {**super().get_serializer_context(), "last_runs": last_runs(getattr(self, "shown", []))}


@extend_schema(tags=["jobs"])
class JobView(JobInput):
    """One job, by its name."""

    @extend_schema(responses=JobSerializer, summary="Show a job")
    def get(self, request: Request, name: str) -> Response:
        return _job_response(job_named(name))

    @extend_schema(
        request=FILE_REQUEST,
        examples=[FILE_EXAMPLE],
        responses={200: JobSerializer, 201: JobSerializer},
        parameters=[
            OpenApiParameter("If-Match", str, OpenApiParameter.HEADER, description="The ETag of what is replaced")
        ],
        summary="Save a job as a new revision",
    )
    def put(self, request: Request, name: str) -> Response:
        model, text = self.given_job(request)
        if model.job != name:
            raise Problem(422, "job-name-differs", f"the file is of job {model.job!r}, the address of {name!r}")
        structure = resolved(structure_of(model))
        for connection in (source_name(structure), model.into.connection):
            connection_named(connection)
        layout_named_by(model)
        _require_no_cycle(model)
        with transaction.atomic():
            job, created = Job.objects.select_for_update().get_or_create(name=name)
            revived = job.deleted_at is not None
            if revived:
                job.deleted_at = None
                job.save()
            if not created and not revived:
                self._must_match(request, job)
            newest = job.revisions.order_by("-number").first()
            if newest is None or newest.text != text:
                number = newest.number + 1 if newest else 1
                structure = model.as_file()
                Revision.objects.create(job=job, number=number, text=text, structure=structure, saved_by=request.user)
                audit(request, "save", "job", name, revision=number)
            keep_in_step(job, model)
        return _job_response(job, 201 if created or revived else 200)

    @staticmethod
    def _must_match(request: Request, job: Job) -> None:
        given = request.headers.get("If-Match")
        if given is None:
            hint = f"send If-Match with the ETag you started from; it is {_etag(job)} now"
            raise Problem(
                428, "precondition-required", f"job {job.name!r} exists; say which revision you replace", hint
            )
        if given not in (_etag(job), "*"):
            raise Problem(
                412,
                "job-changed",
                f"job {job.name!r} was saved by someone else since you opened it: it is at "
                f"revision {job.revision.number}",
                "open it again and repeat your change",
            )

    @extend_schema(responses={204: None}, summary="Remove a job; its runs are kept")
    def delete(self, request: Request, name: str) -> Response:
        job = job_named(name)
        if Stream.objects.filter(job=job).exists():
            raise Problem(
                409,
                "job-has-stream",
                f"job {name!r} has a stream, for which its source keeps its log",
                f"remove it first: ultravect stream remove {name}",
            )
        job.deleted_at = timezone.now()
        with transaction.atomic():
            job.save(update_fields=["deleted_at"])
            keep_in_step(job, None)
            audit(request, "remove", "job", name)
        return Response(status=204)


@extend_schema(tags=["jobs"])
class RevisionsView(generics.ListAPIView[Revision]):
    """All revisions of a job, the newest first."""

    serializer_class = RevisionSerializer

    @extend_schema(summary="List a job's revisions")
    def get(self, *args: Any, **kwargs: Any) -> Response:
        return super().get(*args, **kwargs)

    def get_queryset(self) -> QuerySet[Revision]:
        return job_named(self.kwargs["name"]).revisions.select_related("saved_by").order_by("-number")


@extend_schema(tags=["jobs"])
class JobSchemaView(APIView):
    """For editors."""

    permission_classes = []

    @extend_schema(responses=OpenApiTypes.OBJECT, summary="JSON Schema of a job file", auth=[])
    def get(self, request: Request) -> Response:
        return Response(job_schema())
