"""Looking at what connections hold: browsed, previewed, asked, and read as bytes."""

from __future__ import annotations

from typing import Any

from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiExample, OpenApiParameter, extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ultravect.core.engine.connections import database_of
from ultravect.core.engine.look import Wanted, list_inside, list_objects, preview, preview_query
from ultravect.core.engine.raw import MAX_BYTES, raw_start
from ultravect.core.model.document import LAYOUT
from ultravect.core.model.files import LayoutFile
from ultravect.core.model.layout import AnyLayout
from ultravect.core.storage.base import Listing
from ultravect.service.api.connections import connection_named
from ultravect.service.api.plain import plain
from ultravect.service.api.problems import Problem
from ultravect.service.api.serializers import (
    AnswerSerializer,
    ObjectsSerializer,
    PreviewRequestSerializer,
    PreviewSerializer,
    QuestionSerializer,
    RawBytesSerializer,
)
from ultravect.service.records.lookup import saved_layout
from ultravect.service.records.models import Role

_OBJECT = OpenApiParameter(
    "object", OpenApiTypes.STR, required=True, description="A table, a file, a member of a zip, or a pattern of files"
)


@extend_schema(tags=["look"])
class ObjectsView(APIView):
    """What a connection holds, sorted by name, page by page."""

    @extend_schema(
        parameters=[
            OpenApiParameter("search", str, description="Only names that contain this, in any case"),
            OpenApiParameter(
                "pattern", str, description="Only files that match: * stays in a folder, ** crosses folders"
            ),
            OpenApiParameter("inside", str, description="A zip or a workbook: list its members or sheets"),
            OpenApiParameter("after", str, description="Only names behind this one: the `next` of the page before"),
            OpenApiParameter("limit", int, description="At most this many, up to 10,000; default 200"),
        ],
        responses=ObjectsSerializer,
        summary="List files, tables, members or sheets",
    )
    def get(self, request: Request, name: str) -> Response:
        spec = connection_named(name).spec()
        limit = whole_number(request, "limit", 200, 1, 10_000)
        asked = request.query_params
        listing = Listing(asked.get("search", ""), asked.get("pattern", ""), asked.get("after", ""), limit + 1)
        inside = asked.get("inside", "")
        found = list_inside(spec, inside, listing) if inside else list_objects(spec, listing)
        more = len(found) > limit
        items = found[:limit]
        return Response({"items": items, "more": more, "next": items[-1]["name"] if more else None})


@extend_schema(tags=["look"])
class PreviewView(APIView):
    """Rows of an object, and its columns with the evidence for their types. A query takes an operator."""

    writing_role = Role.VIEWER  # a layout of one's own changes nothing

    @extend_schema(
        parameters=[
            _OBJECT,
            OpenApiParameter("rows", int, description="How many rows to show, up to 1,000; default 20"),
            OpenApiParameter("random", bool, description="Rows picked at random, not the first ones"),
            OpenApiParameter(
                "whole", bool, description="Types and counts from the whole file, not from its first part"
            ),
            OpenApiParameter("counts", bool, description="With value counts of each column"),
            OpenApiParameter(
                "layout", str, description="Name of a saved layout, such as weigh-slips or weigh-slips@2"
            ),
        ],
        responses=PreviewSerializer,
        summary="Look at an object",
    )
    def get(self, request: Request, name: str) -> Response:
        wanted = request.query_params.get("object")
        if not wanted:
            raise Problem(422, "input-invalid", "object: say which file or table to look at")
        shown = Wanted(
            whole_number(request, "rows", 20, 0, 1000),
            *(request.query_params.get(key, "") in ("true", "1", "yes") for key in ("random", "whole", "counts")),
        )
        return _preview(name, wanted, shown, request.query_params.get("layout") or None)

    @extend_schema(
        request=PreviewRequestSerializer,
        responses=PreviewSerializer,
        summary="Look at an object with a layout of one's own, or at a query",
        examples=[
            OpenApiExample(
                "A layout that is not saved",
                value={"object": "slips/june.txt", "layout": {"format": "fixed", "record": 60}, "rows": 50},
                request_only=True,
            ),
            OpenApiExample(
                "A query", value={"query": "select * from booking where season = 2026"}, request_only=True
            ),
        ],
    )
    def post(self, request: Request, name: str) -> Response:
        given = PreviewRequestSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        data = given.validated_data
        shown = Wanted(data["rows"], data["random"], data["whole"], data["counts"])
        if data.get("query"):
            if not request.user.may(Role.OPERATOR):
                raise Problem(
                    403,
                    "not-allowed",
                    f"a query takes the role operator; {request.user.username} is {request.user.role}",
                )
            seen = preview_query(connection_named(name).spec(), data["query"], shown)
            return Response({**seen, "rows": plain(seen["rows"])})
        return _preview(name, data["object"], shown, data.get("layout"))


def _preview(name: str, wanted: str, shown: Wanted, layout: Any) -> Response:
    spec = connection_named(name).spec()
    own: AnyLayout | None = None
    saved: LayoutFile | None = None
    if isinstance(layout, str):
        saved = saved_layout(layout)
    elif layout is not None:
        own = LAYOUT.read(layout)
    seen = preview(spec, wanted, shown, own, saved)
    return Response({**seen, "rows": plain(seen["rows"]), "columns": plain(seen["columns"])})


@extend_schema(tags=["look"])
class RawBytesView(APIView):
    """The start of a file as it is, for whoever tells how it is cut."""

    @extend_schema(
        parameters=[
            _OBJECT,
            OpenApiParameter("size", int, description=f"How many bytes, up to {MAX_BYTES:,}; default 16,384"),
            OpenApiParameter("encoding", str, description="Left out: the one detected"),
        ],
        responses=RawBytesSerializer,
        summary="The first bytes of a file",
    )
    def get(self, request: Request, name: str) -> Response:
        wanted = request.query_params.get("object")
        if not wanted:
            raise Problem(422, "input-invalid", "object: say which file to read")
        encoding = request.query_params.get("encoding") or None
        if encoding:
            LAYOUT.read({"format": "delimited", "encoding": encoding})
        size = whole_number(request, "size", 16 << 10, 1, MAX_BYTES)
        return Response(raw_start(connection_named(name).spec(), wanted, size, encoding))


@extend_schema(tags=["look"])
class AskView(APIView):
    """A question to the database, in a transaction that cannot write."""

    writing_role = Role.OPERATOR

    @extend_schema(
        request=QuestionSerializer,
        responses=AnswerSerializer,
        summary="Ask a database",
        examples=[OpenApiExample("Count", value={"sql": "select count(*) from booking"}, request_only=True)],
    )
    def post(self, request: Request, name: str) -> Response:
        given = QuestionSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        data = given.validated_data
        answer = database_of(connection_named(name).spec()).ask(data["sql"], data["limit"], data["seconds"])
        return Response({"columns": answer.columns, "rows": plain(answer.rows), "more": answer.more})


def whole_number(request: Request, name: str, default: int, low: int, high: int) -> int:
    """A number from the query; Problem when it is none, or out of its bounds."""
    text = request.query_params.get(name, str(default))
    if not text.isdigit() or not low <= int(text) <= high:
        raise Problem(422, "input-invalid", f"{name}: a whole number from {low} to {high}, not {text!r}")
    return int(text)
