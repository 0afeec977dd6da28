"""Saved layouts: versions, and whether a file still fits."""

from __future__ import annotations

from dataclasses import asdict, astuple
from typing import Any

from django.db.models import QuerySet
from django.utils import timezone
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiExample, OpenApiParameter, extend_schema, extend_schema_view
from rest_framework import generics
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ultravect.core.engine.look.browse import Wanted
from ultravect.core.model.document import LAYOUT_FILE
from ultravect.core.model.layout import layout_schemas
from ultravect.core.model.problems import did_you_mean
from ultravect.service.api.files import FILE_PARSERS, FILE_REQUEST, given_file, structure_of
from ultravect.service.api.problems import Problem, not_found
from ultravect.service.api.serializers.declaring import RevisionSerializer
from ultravect.service.api.serializers.places import FitRequestSerializer, FitSerializer, LayoutSerializer
from ultravect.service.api.views.connections import connection_named
from ultravect.service.records.lookup import find_layout, layout_version, names_of
from ultravect.service.records.models import Job, LayoutVersion, Role, SavedLayout
from ultravect.service.records.versions import save_version
from ultravect.service.work.processes.look_pool import POOL

_EXAMPLE = OpenApiExample(
    "Fixed-width slips",
    value={
        "ultravect": 1,
        "layout": "weigh-slips",
        "reads": {
            "format": "fixed",
            "record": 20,
            "fields": [{"name": "slip", "width": 8}, {"name": "kg", "width": 12}],
        },
        "expects": [{"name": "slip", "type": "text"}, {"name": "kg", "type": "integer"}],
    },
    request_only=True,
)


def layout_named(name: str) -> SavedLayout:
    layout = find_layout(name)
    if layout is None:
        names = names_of(SavedLayout)
        raise not_found("layout", name, did_you_mean(name, names))
    return layout


@extend_schema(tags=["layouts"])
@extend_schema_view(get=extend_schema(summary="List saved layouts", parameters=[OpenApiParameter("search", str)]))
class LayoutsView(generics.ListAPIView[SavedLayout]):
    """All saved layouts."""

    serializer_class = LayoutSerializer

    def get_queryset(self) -> QuerySet[SavedLayout]:
        return SavedLayout.objects.filter(
            deleted_at=None, name__icontains=self.request.query_params.get("search", "")
        )


@extend_schema(tags=["layouts"])
class LayoutView(APIView):
    """One saved layout, by its name."""

    parser_classes = FILE_PARSERS

    @extend_schema(responses=LayoutSerializer, summary="Show a saved layout")
    def get(self, request: Request, name: str) -> Response:
        return Response(LayoutSerializer(layout_named(name)).data)

    @extend_schema(
        request=FILE_REQUEST,
        examples=[_EXAMPLE],
        responses={200: LayoutSerializer, 201: LayoutSerializer},
        summary="Save a layout as a new version; jobs that name the old one by @ keep it",
    )
    def put(self, request: Request, name: str) -> Response:
        declared, text = given_file(request, LAYOUT_FILE)
        if declared.layout != name:
            raise Problem(
                422, "layout-name-differs", f"the file is of layout {declared.layout!r}, the address of {name!r}"
            )
        layout, new, _ = save_version(
            SavedLayout, LayoutVersion, "layout", name, text, structure_of(declared), request.user
        )
        return Response(LayoutSerializer(layout).data, status=201 if new else 200)

    @extend_schema(responses={204: None}, summary="Remove a layout that no job names")
    def delete(self, request: Request, name: str) -> Response:
        layout = layout_named(name)
        users = [job.name for job in Job.objects.filter(deleted_at=None) if _names(job, name)]
        if users:
            shown = f"layout {name!r} is named by {', '.join(users)}"
            raise Problem(409, "layout-in-use", shown, "remove or change these jobs first")
        layout.deleted_at = timezone.now()
        layout.save(update_fields=["deleted_at"])
        return Response(status=204)


def _names(job: Job, layout: str) -> bool:
    given = job.revision.structure["from"].get("layout")
    return isinstance(given, str) and given.partition("@")[0] == layout


@extend_schema(tags=["layouts"])
class LayoutVersionsView(generics.ListAPIView[LayoutVersion]):
    """All versions of a layout, the newest first."""

    serializer_class = RevisionSerializer

    @extend_schema(summary="List a layout's versions")
    def get(self, *args: Any, **kwargs: Any) -> Response:
        return super().get(*args, **kwargs)

    def get_queryset(self) -> QuerySet[LayoutVersion]:
        return layout_named(self.kwargs["name"]).versions.select_related("saved_by").order_by("-number")


@extend_schema(tags=["layouts"])
class FitView(APIView):
    """Whether a file has the columns that a saved layout expects."""

    writing_role = Role.OPERATOR

    @extend_schema(request=FitRequestSerializer, responses=FitSerializer, summary="Hold a file against a layout")
    def post(self, request: Request, name: str) -> Response:
        given = FitRequestSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        saved = layout_version(name).structure
        spec = asdict(connection_named(given.validated_data["connection"]).spec())
        wanted, shown = given.validated_data["object"], list(astuple(Wanted(rows=0)))
        seen = POOL.look("preview", spec=spec, wanted=wanted, shown=shown, own=None, saved=saved)
        findings = [item for item in seen["findings"] if item["code"] == "layout-outgrown"]
        return Response({"fits": not findings, "findings": findings})


@extend_schema(tags=["layouts"])
class FormatsView(APIView):
    """The formats, and what a layout of each can say."""

    @extend_schema(responses=OpenApiTypes.OBJECT, summary="Formats, with the JSON Schema of their layouts")
    def get(self, request: Request) -> Response:
        return Response(layout_schemas())
