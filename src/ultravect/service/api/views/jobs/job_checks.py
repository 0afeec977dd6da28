"""Jobs that are looked at before they run: checked, rehearsed, drafted."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any

from drf_spectacular.utils import extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ultravect.core.kinds.registry import kind_named
from ultravect.core.kinds.translations import translations
from ultravect.core.model.document import LAYOUT, job_from_data
from ultravect.core.model.jobs.job import Job as JobModel
from ultravect.core.patterns import has_pattern
from ultravect.service.api.files import FILE_REQUEST, structure_of
from ultravect.service.api.serializers.comparing import (
    CompareJobInputSerializer,
    CompareObjectsInputSerializer,
    ComparisonSerializer,
    JobComparisonSerializer,
)
from ultravect.service.api.serializers.declaring import (
    CheckSerializer,
    DraftInputSerializer,
    DraftSerializer,
    RehearsalInputSerializer,
    RehearsalSerializer,
)
from ultravect.service.api.serializers.places import TranslationSerializer, TypesInputSerializer
from ultravect.service.api.views.connections import connection_named
from ultravect.service.api.views.jobs.job import FILE_EXAMPLE, JobInput, job_named
from ultravect.service.api.views.jobs.job_runs import require_no_reader
from ultravect.service.records.audit import audit
from ultravect.service.records.lookup import layout_version, usual_of_job
from ultravect.service.records.models import Role, RunKind
from ultravect.service.records.resolved import resolved, source_name
from ultravect.service.work.processes.look_pool import POOL
from ultravect.service.work.runs.lay_out import known_objects_of
from ultravect.service.work.runs.start import start_run

_REHEARSE_ALL_SECONDS = _COMPARE_SECONDS = 3600.0


def _looked(name: str, model: JobModel, **arguments: Any) -> Response:
    """A look at a job, its source and its target."""
    return Response(_found(name, model, **arguments))


def _found(name: str, model: JobModel, **arguments: Any) -> Any:
    job = resolved(structure_of(model))
    source = asdict(connection_named(source_name(job)).spec(job))
    target = asdict(connection_named(model.into.connection).spec())
    layout = model.source.layout
    saved = layout_version(layout).structure if isinstance(layout, str) else None
    return POOL.look(name, job=job, source=source, target=target, saved=saved, **arguments)


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
class CheckFileView(JobInput):
    """The same for a job that is not saved."""

    writing_role = Role.OPERATOR

    @extend_schema(
        request=FILE_REQUEST, examples=[FILE_EXAMPLE], responses=CheckSerializer, summary="Check a job file"
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
class RehearseFileView(JobInput):
    """The same for a job that is not saved."""

    writing_role = Role.OPERATOR

    @extend_schema(
        request=FILE_REQUEST, examples=[FILE_EXAMPLE], responses=RehearsalSerializer, summary="Rehearse a job file"
    )
    def post(self, request: Request) -> Response:
        return _rehearse(self.given_job(request)[0], request)


@extend_schema(tags=["jobs"])
class CompareJobView(APIView):
    """Says which rows differ between what a saved job would load now and its target; has them loaded where that is asked for."""

    writing_role = Role.OPERATOR

    @extend_schema(
        request=CompareJobInputSerializer,
        responses=JobComparisonSerializer,
        summary="Compare a job's source and target",
    )
    def post(self, request: Request, name: str) -> Response:
        given = CompareJobInputSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        asked = dict(given.validated_data)
        chosen = asked.pop("object")
        job = job_named(name)
        if asked["repair"]:
            require_no_reader(job)
        revision = job.revision
        found = _found(
            "compare", job_from_data(revision.structure), chosen=chosen, asked=asked, seconds=_COMPARE_SECONDS
        )
        number = None
        if found["repair"] is not None:
            run = start_run(revision, request.user, {}, kind=RunKind.REPAIR, structure=found["repair"])
            audit(request, "repair", "job", name, run=run.pk)
            number = run.pk
        return Response({**found["comparison"], "run": number})


@extend_schema(tags=["jobs"])
class CompareObjectsView(APIView):
    """Says which rows differ between two objects, tables or files; nothing is written."""

    writing_role = Role.OPERATOR

    @extend_schema(
        request=CompareObjectsInputSerializer, responses=ComparisonSerializer, summary="Compare two objects"
    )
    def post(self, request: Request) -> Response:
        given = CompareObjectsInputSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        asked = dict(given.validated_data)
        sides: dict[str, Any] = {}
        for side in ("source", "target"):
            sides[side] = asdict(connection_named(asked.pop(f"{side}_connection")).spec())
            sides[f"{side}_object"] = asked.pop(f"{side}_object")
        return Response(POOL.look("compare_objects", **sides, asked=asked, seconds=_COMPARE_SECONDS))


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
