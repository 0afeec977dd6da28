"""Looking at what connections hold: browsed, previewed, asked, and read as bytes."""

from __future__ import annotations

from dataclasses import asdict, astuple
from typing import Any

from django.conf import settings
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiExample, OpenApiParameter, extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ultravect.core.contracts.storage import Listing
from ultravect.core.engine.look.browse import Wanted
from ultravect.core.engine.look.raw import MAX_BYTES
from ultravect.core.model.document import LAYOUT
from ultravect.service.api.problems import Problem
from ultravect.service.api.serializers.places import (
    AnswerSerializer,
    ObjectsSerializer,
    PreviewRequestSerializer,
    PreviewSerializer,
    QuestionSerializer,
    RawBytesSerializer,
)
from ultravect.service.api.views.connections import connection_named
from ultravect.service.records.lookup import layout_version
from ultravect.service.records.models import Role
from ultravect.service.work.processes.look_pool import POOL

_MOST_NAMES = 10_000
_WHOLE_SECONDS = 600.0  # all of a file is read
_ASK_GRACE_SECONDS = 10.0  # for signing in

_ROWS = {"type": "integer", "minimum": 0, "maximum": 1000}
_SIZE = {"type": "integer", "minimum": 1, "maximum": MAX_BYTES}
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
            OpenApiParameter("after", str, description="Only names after this one: the `next` of the page before"),
            OpenApiParameter(
                "limit", int, description="At most this many names, up to 10,000; default 200, with `alike` 10,000"
            ),
            OpenApiParameter(
                "alike", bool, description="Files whose names differ in numbers alone are one item: their pattern"
            ),
        ],
        responses=ObjectsSerializer,
        summary="List files, tables, members or sheets",
    )
    def get(self, request: Request, name: str) -> Response:
        spec = connection_named(name).spec()
        alike = yes_or_no(request, "alike")
        limit = whole_number(request, "limit", _MOST_NAMES if alike else 200, 1, _MOST_NAMES)
        asked = request.query_params
        listing = Listing(asked.get("search", ""), asked.get("pattern", ""), asked.get("after", ""), limit + 1)
        inside = asked.get("inside", "")
        return Response(POOL.look("objects", spec=asdict(spec), inside=inside, listing=asdict(listing), alike=alike))


@extend_schema(tags=["look"])
class PreviewView(APIView):
    """Rows of an object, and its columns with the evidence for their types. A query takes an operator."""

    writing_role = Role.VIEWER  # a layout of one's own changes nothing

    @extend_schema(
        parameters=[
            _OBJECT,
            OpenApiParameter("rows", _ROWS, description="How many rows to show, up to 1,000; default 20"),
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
            *(yes_or_no(request, key) for key in ("random", "whole", "counts")),
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
            spec = connection_named(name).spec()
            return Response(POOL.look("query", spec=asdict(spec), query=data["query"], shown=list(astuple(shown))))
        return _preview(name, data["object"], shown, data.get("layout"))


def _preview(name: str, wanted: str, shown: Wanted, layout: Any) -> Response:
    spec = connection_named(name).spec()
    own = saved = None
    if isinstance(layout, str):
        saved = layout_version(layout).structure
    elif layout is not None:
        LAYOUT.read(layout)
        own = layout
    seconds = max(_WHOLE_SECONDS, settings.LOOK_SECONDS) if shown.whole else None
    seen = POOL.look(
        "preview", seconds=seconds, spec=asdict(spec), wanted=wanted, shown=list(astuple(shown)), own=own, saved=saved
    )
    return Response(seen)


@extend_schema(tags=["look"])
class RawBytesView(APIView):
    """The start of a file as it is, for someone who describes how it is cut."""

    @extend_schema(
        parameters=[
            _OBJECT,
            OpenApiParameter("size", _SIZE, description=f"How many bytes, up to {MAX_BYTES:,}; default 16,384"),
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
        spec = connection_named(name).spec()
        return Response(POOL.look("bytes", spec=asdict(spec), wanted=wanted, size=size, encoding=encoding))


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
        asked = {"sql": data["sql"], "limit": data["limit"], "limit_seconds": data["seconds"]}
        spec = connection_named(name).spec()
        return Response(POOL.look("ask", seconds=data["seconds"] + _ASK_GRACE_SECONDS, spec=asdict(spec), **asked))


_WORDS = {"true": True, "1": True, "yes": True, "false": False, "0": False, "no": False}


def yes_or_no(request: Request, name: str) -> bool:
    """A truth value from the query, False where it is left out; Problem when it is none."""
    text = request.query_params.get(name)
    if text is not None and text not in _WORDS:
        raise Problem(422, "input-invalid", f"{name}: true or false, not {text[:50]!r}")
    return _WORDS[text] if text is not None else False


def whole_number(request: Request, name: str, default: int, low: int, high: int) -> int:
    """A number from the query; Problem when it is none, or out of its bounds."""
    text = request.query_params.get(name, str(default))
    # isdigit alone takes ² as well, and thousands of digits take their time
    if not (text.isascii() and text.isdigit() and len(text) < 19) or not low <= int(text) <= high:
        raise Problem(422, "input-invalid", f"{name}: a whole number from {low} to {high}, not {text[:50]!r}")
    return int(text)
