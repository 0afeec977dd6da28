"""Connections: kept, changed, tested, and given as files."""

from __future__ import annotations

from contextlib import suppress
from dataclasses import asdict
from typing import Any

from django.db import transaction
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiExample, extend_schema, extend_schema_view
from rest_framework import generics
from rest_framework.renderers import BaseRenderer
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ultravect.core.contracts.probe import ProbeResult
from ultravect.core.errors import UltravectError
from ultravect.core.kinds.registry import borrowed, kind_schemas, settings_of
from ultravect.core.model.connection import secret_keys
from ultravect.core.model.document import CONNECTION, write_file
from ultravect.service.api.files import FILE_PARSERS, FILE_REQUEST, given_file
from ultravect.service.api.problems import Problem, not_found
from ultravect.service.api.serializers.places import (
    ConnectionSerializer,
    ProbeRequestSerializer,
    ProbeSerializer,
    known_connection_hint,
)
from ultravect.service.records.audit import audit
from ultravect.service.records.lookup import find_connection
from ultravect.service.records.models import Connection, Job, Role
from ultravect.service.records.resolved import resolved, source_name
from ultravect.service.work.processes.look_pool import POOL

_EXAMPLE = OpenApiExample(
    "A PostgreSQL database",
    value={
        "name": "warehouse",
        "kind": "postgresql",
        "settings": {"host": "db.example.org", "database": "warehouse", "user": "loader", "password": "…"},
    },
    request_only=True,
)


def connection_named(name: str) -> Connection:
    connection = find_connection(name)
    if connection is None:
        raise not_found("connection", name, known_connection_hint(name))
    return connection


@extend_schema(tags=["connections"])
@extend_schema_view(
    get=extend_schema(summary="List connections"),
    post=extend_schema(summary="Add a connection", examples=[_EXAMPLE]),
)
class ConnectionsView(generics.ListCreateAPIView[Connection]):
    """All connections, without their secrets."""

    queryset = Connection.objects.all()
    serializer_class = ConnectionSerializer

    def perform_create(self, serializer: Any) -> None:
        with transaction.atomic():
            made = serializer.save()
            audit(self.request, "add", "connection", made.name, connection_kind=made.kind)


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
    http_method_names = ["get", "put", "patch", "delete", "head", "options"]
    parser_classes = FILE_PARSERS

    def get_object(self) -> Connection:
        return connection_named(self.kwargs["name"])

    @extend_schema(
        request=FILE_REQUEST,
        responses={200: ConnectionSerializer, 201: ConnectionSerializer},
        summary="Add or change a connection from its file; sealed secrets stay as they are",
    )
    def put(self, request: Request, name: str) -> Response:
        declared, _ = given_file(request, CONNECTION)
        if declared.connection != name:
            what = f"the file is of connection {declared.connection!r}, the address of {name!r}"
            raise Problem(422, "connection-name-differs", what)
        known = find_connection(name)
        if known:
            _refuse_managed(known)
        data = {
            "name": name,
            "kind": declared.kind,
            "settings": declared.settings,
            "site": declared.site or "",
            "at_most": declared.at_most,
        }
        serializer = ConnectionSerializer(known, data=data, context={"request": request})
        serializer.is_valid(raise_exception=True)
        with transaction.atomic():
            serializer.save()
            audit(request, "change" if known else "add", "connection", name, connection_kind=declared.kind)
        return Response(serializer.data, status=200 if known else 201)

    def perform_update(self, serializer: Any) -> None:
        _refuse_managed(serializer.instance)
        hidden = secret_keys(settings_of(serializer.instance.kind))
        old = {key: value for key, value in serializer.instance.settings.items() if key not in hidden}
        given = serializer.validated_data.get("settings", {})
        serializer.validated_data["settings"] = {**old, **given}
        with transaction.atomic():
            serializer.save()
            audit(self.request, "change", "connection", serializer.instance.name, settings=sorted(given))

    def perform_destroy(self, instance: Connection) -> None:
        _refuse_managed(instance)
        users = [
            job.name
            for job in Job.objects.filter(deleted_at=None)
            if instance.name in _connections_of(job.revision.structure)
        ]
        users += [
            f"connection {other.name}"
            for other in Connection.objects.exclude(pk=instance.pk)
            if instance.name in [other.settings.get(setting) for setting in borrowed(other.kind)]
        ]
        if users:
            raise Problem(
                409,
                "connection-in-use",
                f"connection {instance.name!r} is used by {', '.join(users)}",
                "remove or change these jobs first",
            )
        with transaction.atomic():
            audit(self.request, "remove", "connection", instance.name)
            instance.delete()


def _connections_of(structure: dict[str, Any]) -> set[str]:
    """The connections of a job; a feed or layout that it names, and that is removed at this moment, names none."""
    found = {structure["into"]["connection"], structure["from"].get("connection", "")}
    with suppress(UltravectError):
        found.add(source_name(resolved(structure)))
    return found


def _refuse_managed(connection: Connection) -> None:
    if connection.managed:
        raise Problem(
            409,
            "connection-managed",
            f"connection {connection.name!r} is kept by the service itself, for uploaded files",
            "add a connection of kind folder for other files",
        )


class YamlRenderer(BaseRenderer):
    """A file as text."""

    media_type = "application/yaml"
    format = "yaml"
    charset = "utf-8"

    def render(self, data: Any, media_type: Any = None, context: Any = None) -> str:
        return data if isinstance(data, str) else write_file(data)


@extend_schema(tags=["connections"])
class ConnectionFileView(APIView):
    """A connection as a file, without its sealed secrets."""

    renderer_classes = [YamlRenderer]

    @extend_schema(responses={(200, "application/yaml"): OpenApiTypes.ANY}, summary="A connection as a file")
    def get(self, request: Request, name: str) -> Response:
        connection = connection_named(name)
        shown = ConnectionSerializer(connection).data
        text = write_file(
            {
                "ultravect": 1,
                "connection": name,
                "kind": connection.kind,
                **({"site": connection.site} if connection.site else {}),
                **({"at_most": connection.at_most} if connection.at_most else {}),
                "settings": dict(shown["settings"]),
            }
        )
        for key in connection.secrets_set:
            text += f"# {key} is sealed in the service, and not in this file; a reference could stand here instead:\n"
            text += f"#   {key}: {{from_env: SECRET_{name.upper().replace('-', '_')}}}\n"
        return Response(text)


@extend_schema(tags=["connections"])
class ConnectionTestView(APIView):
    """Goes as far as a copy would, and says how far it came."""

    writing_role = Role.OPERATOR

    @extend_schema(request=ProbeRequestSerializer, responses=ProbeSerializer, summary="Test a connection")
    def post(self, request: Request, name: str) -> Response:
        connection = connection_named(name)
        given = ProbeRequestSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        write = given.validated_data["write"]
        if write is None:
            write = any(
                name == job.revision.structure["into"]["connection"] for job in Job.objects.filter(deleted_at=None)
            )
        try:
            spec = connection.spec()
        except UltravectError as error:
            return Response(ProbeResult.of_error("settings", error).as_dict())
        return Response(POOL.look("probe", spec=asdict(spec), write=write))


@extend_schema(tags=["connections"])
class KindsView(APIView):
    """The kinds of connection, and the settings of each."""

    @extend_schema(
        responses=OpenApiTypes.OBJECT, summary="Kinds of connection, with the JSON Schema of their settings"
    )
    def get(self, request: Request) -> Response:
        return Response(kind_schemas())
