"""Whether the service works."""

from __future__ import annotations

from django.db import DatabaseError, connection
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ultravect.service.records.health import ALIVE_WORKERS, LIVE, health


@extend_schema(tags=["system"])
class HealthView(APIView):
    """For load balancers and for people: takes no sign-in, shows no secrets."""

    authentication_classes = []
    permission_classes = []

    @extend_schema(responses=OpenApiTypes.OBJECT, summary="Health of the service", auth=[])
    def get(self, request: Request) -> Response:
        try:
            with connection.cursor() as cursor:
                cursor.execute(ALIVE_WORKERS)
                row = cursor.fetchone()
        except DatabaseError:
            row = None
        status, body = health(row[0] if row else None)
        return Response(body, status=status)


@extend_schema(tags=["system"])
class LiveView(APIView):
    """For what starts processes anew: it answers without the records, so that a database that is away restarts nothing."""

    authentication_classes = []
    permission_classes = []

    @extend_schema(responses=OpenApiTypes.OBJECT, summary="Whether the process answers", auth=[])
    def get(self, request: Request) -> Response:
        return Response(LIVE)
