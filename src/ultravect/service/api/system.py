"""Whether the service works."""

from __future__ import annotations

from django.db import DatabaseError, connection
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ultravect import __version__


@extend_schema(tags=["system"])
class HealthView(APIView):
    """For load balancers and for people: takes no sign-in, shows no secrets."""

    authentication_classes = []
    permission_classes = []

    @extend_schema(responses=OpenApiTypes.OBJECT, summary="Health of the service", auth=[])
    def get(self, request: Request) -> Response:
        try:
            with connection.cursor() as cursor:
                cursor.execute(
                    "SELECT count(*) FROM procrastinate_workers WHERE last_heartbeat > now() - interval '30 seconds'"
                )
                row = cursor.fetchone()
        except DatabaseError:
            return Response({"status": "failing", "version": __version__, "database": "unreachable"}, status=503)
        workers = row[0] if row else 0
        status = "ok" if workers else "idle: no worker gives a sign of life"
        return Response({"status": status, "version": __version__, "database": "ok", "workers": workers})
