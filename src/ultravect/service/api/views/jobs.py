"""Jobs: saved as revisions, checked, and run."""

from __future__ import annotations

import json
from dataclasses import asdict
from typing import Any

from django.db import IntegrityError, transaction
from django.db.models import OuterRef, QuerySet, Subquery
from django.utils import timezone
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiExample, OpenApiParameter, extend_schema, extend_schema_view
from rest_framework import generics
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ultravect.core.kinds.registry import kind_named
from ultravect.core.kinds.translations import translations
from ultravect.core.model.document import JOB, LAYOUT, job_from_data
from ultravect.core.model.jobs.job import Job as JobModel
from ultravect.core.model.jobs.job import job_schema
from ultravect.core.model.problems import did_you_mean
from ultravect.core.patterns import has_pattern
from ultravect.service.api.files import FILE_PARSERS, FILE_REQUEST, given_file, structure_of
from ultravect.service.api.problems import Problem, not_found
from ultravect.service.api.serializers.declaring import (
    CheckSerializer,
    DraftInputSerializer,
    DraftSerializer,
    JobSerializer,
    JobSummarySerializer,
    RehearsalInputSerializer,
    RehearsalSerializer,
    RevisionSerializer,
    last_runs,
)
from ultravect.service.api.serializers.places import TranslationSerializer, TypesInputSerializer
from ultravect.service.api.serializers.running import (
    MarkInputSerializer,
    MarkSerializer,
    RunInputSerializer,
    RunSerializer,
    SetMarkSerializer,
)
from ultravect.service.api.views.connections import connection_named
from ultravect.service.records.audit import audit
from ultravect.service.records.lookup import find_job, layout_named_by, layout_version, names_of, usual_of_job
from ultravect.service.records.models import Job, Revision, Role, Run
from ultravect.service.records.resolved import resolved, source_name
from ultravect.service.work.processes.look_pool import POOL
from ultravect.service.work.runs.lay_out import known_objects_of
from ultravect.service.work.runs.start import start_run
from ultravect.service.work.scheduling.schedules import cycle_of, keep_in_step

_REHEARSE_ALL_SECONDS = 3600.0
_FILE_EXAMPLE = OpenApiExample(
    "A job",
    value={
        "ultravect": 1,
        "job": "bookings",
        "from": {"connection": "incoming", "files": "bookings.csv"},
        "into": {"connection": "warehouse", "table": "booking"},
    },
    request_only=True,
)


class _JobInput(APIView):
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
@extend_schema_view(get=extend_schema(summary="List jobs", parameters=[OpenApiParameter("search", str)]))
class JobsView(generics.ListAPIView[Job]):
    """All jobs, with the last run of each."""

    serializer_class = JobSummarySerializer

    def get_queryset(self) -> QuerySet[Job]:
        return Job.objects.filter(deleted_at=None, name__icontains=self.request.query_params.get("search", ""))

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
class JobView(_JobInput):
    """One job, by its name."""

    @extend_schema(responses=JobSerializer, summary="Show a job")
    def get(self, request: Request, name: str) -> Response:
        return _job_response(job_named(name))

    @extend_schema(
        request=FILE_REQUEST,
        examples=[_FILE_EXAMPLE],
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


def _looked(name: str, model: JobModel, **arguments: Any) -> Response:
    """A look at a job, its source and its target."""
    job = resolved(structure_of(model))
    text = json.dumps(job)
    source = asdict(connection_named(source_name(job)).spec(text))
    target = asdict(connection_named(model.into.connection).spec(text))
    layout = model.source.layout
    saved = layout_version(layout).structure if isinstance(layout, str) else None
    return Response(POOL.look(name, job=job, source=source, target=target, saved=saved, **arguments))


def _check(model: JobModel, text: str) -> Response:
    known = known_objects_of(model.job) if model.has_many and model.source.feed is None else None
    return _looked("check", model, text=text, known=known, usual=usual_of_job(model.job))


@extend_schema(tags=["jobs"])
class CheckJobView(APIView):
    """Looks at a saved job, its live source and its live target; moves nothing."""

    writing_role = Role.OPERATOR

    @extend_schema(request=None, responses=CheckSerializer, summary="Check a saved job")
    def post(self, request: Request, name: str) -> Response:
        revision = job_named(name).revision
        return _check(job_from_data(revision.structure), revision.text)


@extend_schema(tags=["jobs"])
class CheckFileView(_JobInput):
    """The same for a job that is not saved."""

    writing_role = Role.OPERATOR

    @extend_schema(
        request=FILE_REQUEST, examples=[_FILE_EXAMPLE], responses=CheckSerializer, summary="Check a job file"
    )
    def post(self, request: Request) -> Response:
        return _check(*self.given_job(request))


def _rehearse(model: JobModel, request: Request) -> Response:
    given = RehearsalInputSerializer(data=request.query_params.dict())
    given.is_valid(raise_exception=True)
    rows = None if given.validated_data["all"] else given.validated_data["rows"]
    name = given.validated_data.get("object", "")
    seconds = _REHEARSE_ALL_SECONDS if rows is None else None
    usual = usual_of_job(model.job, name)
    return _looked("rehearse", model, rows=rows, chosen=name, usual=usual, seconds=seconds)


@extend_schema(tags=["jobs"], parameters=[RehearsalInputSerializer])
class RehearseJobView(APIView):
    """Takes the first rows of a saved job through read and shape; nothing is written."""

    writing_role = Role.OPERATOR

    @extend_schema(request=None, responses=RehearsalSerializer, summary="Rehearse a saved job")
    def post(self, request: Request, name: str) -> Response:
        return _rehearse(job_from_data(job_named(name).revision.structure), request)


@extend_schema(tags=["jobs"], parameters=[RehearsalInputSerializer])
class RehearseFileView(_JobInput):
    """The same for a job that is not saved."""

    writing_role = Role.OPERATOR

    @extend_schema(
        request=FILE_REQUEST, examples=[_FILE_EXAMPLE], responses=RehearsalSerializer, summary="Rehearse a job file"
    )
    def post(self, request: Request) -> Response:
        return _rehearse(self.given_job(request)[0], request)


def _is_many(source: dict[str, Any], name: str) -> bool:
    """Whether a name is a pattern of tables: such a job copies each of them."""
    return kind_named(source["kind"]).holds == "tables" and has_pattern(name) and not set(name) & {'"', "`"}


@extend_schema(tags=["jobs"])
class DraftView(APIView):
    """A job file with every column mapped, its type, its fit and what there is to mind."""

    writing_role = Role.OPERATOR

    @extend_schema(request=DraftInputSerializer, responses=DraftSerializer, summary="Draft a job file")
    def post(self, request: Request) -> Response:
        given = DraftInputSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        asked = given.validated_data
        source = asdict(connection_named(asked["from_connection"]).spec())
        target = asdict(connection_named(asked["into_connection"]).spec())
        layout = asked.get("layout")
        saved = None
        if isinstance(layout, str):
            saved = layout_version(layout).structure
        elif layout is not None:
            LAYOUT.read(layout)
        drafted = {
            "source_object": asked.get("from_object", ""),
            "target_object": asked["into_object"],
            "query": asked.get("query", ""),
            "layout": layout,
            "mode": asked["mode"],
            "keys": asked["keys"],
        }
        objects = asked["from_objects"] or [name for name in [drafted["source_object"]] if _is_many(source, name)]
        looked = POOL.look("draft", source=source, target=target, drafted=drafted, saved=saved, objects=objects)
        return Response({"file": looked})


@extend_schema(tags=["types"], parameters=[TypesInputSerializer])
class TypesView(APIView):
    """Every native type of a dialect, the canonical type it is read as, and what it becomes in the others."""

    @extend_schema(responses=TranslationSerializer(many=True), summary="Show how types translate")
    def get(self, request: Request) -> Response:
        given = TypesInputSerializer(data=request.query_params.dict())
        given.is_valid(raise_exception=True)
        asked = given.validated_data
        return Response([row.as_dict() for row in translations(asked.get("source"), asked.get("target"))])


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
        return answer

    @staticmethod
    def _asked(look: str, job: str, **arguments: Any) -> Response:
        structure = resolved(job_named(job).revision.structure)
        source = asdict(connection_named(source_name(structure)).spec())
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
        key = request.headers.get("Idempotency-Key")
        if key is not None and not 1 <= len(key) <= 200:
            raise Problem(422, "input-invalid", "Idempotency-Key: 1 to 200 characters")
        given = RunInputSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        try:
            model = job_from_data(job.revision.structure).with_parameters(given.validated_data["parameters"])
        except ValueError as error:
            raise Problem(422, "parameter-unknown", str(error), "see the job's parameters") from None
        known = Run.objects.filter(idempotency_key=key).first() if key else None
        if known is None:
            try:
                run = start_run(
                    job.revision,
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


@extend_schema(tags=["jobs"])
class JobSchemaView(APIView):
    """For editors."""

    permission_classes = []

    @extend_schema(responses=OpenApiTypes.OBJECT, summary="JSON Schema of a job file", auth=[])
    def get(self, request: Request) -> Response:
        return Response(job_schema())
