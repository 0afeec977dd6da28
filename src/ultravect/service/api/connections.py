"""Connections: kept, tested, browsed and asked."""

from __future__ import annotations

import datetime as dt
import decimal
import uuid
from typing import Any

from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiExample, OpenApiParameter, extend_schema, extend_schema_view
from rest_framework import generics
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ultravect.core.engine.connections import database_of, probe
from ultravect.core.engine.look import list_objects, preview
from ultravect.core.errors import UltravectError
from ultravect.core.model.connection import kind_schemas
from ultravect.service.api.problems import Problem, not_found
from ultravect.service.api.serializers import (
    AnswerSerializer,
    ConnectionSerializer,
    ProbeSerializer,
    QuestionSerializer,
    known_connection_hint,
)
from ultravect.service.records.lookup import find_connection
from ultravect.service.records.models import Connection, Job, Role

_EXAMPLE = OpenApiExample(
    "A PostgreSQL database",
    value={
        "name": "warehouse",
        "kind": "postgresql",
        "settings": {"host": "db.example.org", "database": "warehouse", "user": "loader", "password": "…"},
    },
    request_only=True,
)
_NAME = OpenApiParameter("object", OpenApiTypes.STR, required=True, description="A file or table of the connection")


def connection_named(name: str) -> Connection:
    connection = find_connection(name)
    if connection is None:
        raise not_found("connection", name, known_connection_hint(name))
    return connection


def plain(value: Any) -> Any:
    """A database value as JSON: numbers that JSON would round, and everything without a form there, as text."""
    match value:
        case None | bool() | str():
            return value
        case int():
            return value if -(2**53) < value < 2**53 else str(value)
        case float():
            return value if value == value and abs(value) != float("inf") else str(value)
        case decimal.Decimal():
            return format(value, "f")
        case dt.datetime():
            return value.isoformat(" ")
        case dt.date() | dt.time():
            return value.isoformat()
        case bytes() | memoryview():
            return "\\x" + bytes(value).hex()
        case uuid.UUID():
            return str(value)
        case list() | tuple():
            return [plain(item) for item in value]
        case dict():
            return {str(key): plain(item) for key, item in value.items()}
    return str(value)


@extend_schema(tags=["connections"])
@extend_schema_view(
    get=extend_schema(summary="List connections"),
    post=extend_schema(summary="Add a connection", examples=[_EXAMPLE]),
)
class ConnectionsView(generics.ListCreateAPIView[Connection]):
    """All connections, without their secrets."""

    queryset = Connection.objects.all()
    serializer_class = ConnectionSerializer


@extend_schema(tags=["connections"])
@extend_schema_view(
    get=extend_schema(summary="Show a connection"),
    patch=extend_schema(summary="Change a connection's settings"),
    delete=extend_schema(summary="Remove a connection"),
)
class ConnectionView(generics.RetrieveUpdateDestroyAPIView[Connection]):
    """One connection."""

    queryset = Connection.objects.all()
    serializer_class = ConnectionSerializer
    http_method_names = ["get", "patch", "delete", "head", "options"]

    def get_object(self) -> Connection:
        return connection_named(self.kwargs["name"])

    def perform_update(self, serializer: Any) -> None:
        old = dict(serializer.instance.settings)
        given = serializer.validated_data.get("settings", {})
        serializer.validated_data["settings"] = {**old, **given}
        serializer.save()

    def perform_destroy(self, instance: Connection) -> None:
        users = [
            job.name
            for job in Job.objects.filter(deleted_at=None)
            if instance.name
            in (job.revision.structure["from"]["connection"], job.revision.structure["into"]["connection"])
        ]
        if users:
            raise Problem(
                409,
                "connection-in-use",
                f"connection {instance.name!r} is used by {', '.join(users)}",
                "remove or change these jobs first",
            )
        instance.delete()


@extend_schema(tags=["connections"])
class ConnectionTestView(APIView):
    """Goes as far as a copy would, and says how far it came."""

    writing_role = Role.OPERATOR

    @extend_schema(request=None, responses=ProbeSerializer, summary="Test a connection")
    def post(self, request: Request, name: str) -> Response:
        spec = connection_named(name).spec()
        try:
            return Response({"passed": True, "steps": probe(spec), "error": None})
        except UltravectError as error:
            return Response({"passed": False, "steps": [], "error": error.as_dict()})


@extend_schema(tags=["connections"])
class ObjectsView(APIView):
    """What a connection holds."""

    @extend_schema(
        parameters=[OpenApiParameter("search", str), OpenApiParameter("limit", int)],
        responses=OpenApiTypes.OBJECT,
        summary="List files or tables",
    )
    def get(self, request: Request, name: str) -> Response:
        limit = _whole_number(request, "limit", 200, 1, 10_000)
        found = list_objects(connection_named(name).spec(), request.query_params.get("search", ""), limit + 1)
        return Response({"items": found[:limit], "more": len(found) > limit})


@extend_schema(tags=["connections"])
class PreviewView(APIView):
    """The first rows of an object, and its columns with the evidence for their types."""

    @extend_schema(
        parameters=[
            _NAME,
            OpenApiParameter("rows", int, description="How many rows to show; default 20"),
            OpenApiParameter("whole", bool, description="Types from the whole file, not from its first part"),
        ],
        responses=OpenApiTypes.OBJECT,
        summary="Look at an object",
    )
    def get(self, request: Request, name: str) -> Response:
        wanted = request.query_params.get("object")
        if not wanted:
            raise Problem(422, "input-invalid", "object: say which file or table to look at")
        rows = _whole_number(request, "rows", 20, 0, 1000)
        whole = request.query_params.get("whole", "") in ("true", "1", "yes")
        seen = preview(connection_named(name).spec(), wanted, rows=rows, whole=whole)
        seen["rows"] = plain(seen["rows"])
        return Response(seen)


@extend_schema(tags=["connections"])
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


@extend_schema(tags=["connections"])
class KindsView(APIView):
    """The kinds of connection, and the settings of each."""

    @extend_schema(
        responses=OpenApiTypes.OBJECT, summary="Kinds of connection, with the JSON Schema of their settings"
    )
    def get(self, request: Request) -> Response:
        return Response(kind_schemas())


def _whole_number(request: Request, name: str, default: int, low: int, high: int) -> int:
    text = request.query_params.get(name, str(default))
    if not text.isdigit() or not low <= int(text) <= high:
        raise Problem(422, "input-invalid", f"{name}: a whole number from {low} to {high}, not {text!r}")
    return int(text)
