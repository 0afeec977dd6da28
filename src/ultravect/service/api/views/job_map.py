"""The map of jobs and objects."""

from __future__ import annotations

from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ultravect.service.api.problems import Problem
from ultravect.service.api.serializers.job_map import ColumnStepsSerializer, MapSerializer
from ultravect.service.records.job_map import column_steps, job_map


@extend_schema(tags=["jobs"])
class MapView(APIView):
    """Which job reads and writes which object."""

    @extend_schema(responses=MapSerializer, summary="Show which job reads and writes what")
    def get(self, request: Request) -> Response:
        return Response(MapSerializer(job_map()).data)


@extend_schema(tags=["jobs"])
class ColumnMapView(APIView):
    """Where a column comes from, and what is made of it, by the last successful run of each job."""

    @extend_schema(
        parameters=[OpenApiParameter(name, str, required=True) for name in ("connection", "object", "column")],
        responses=ColumnStepsSerializer,
        summary="Show where a column comes from, and what is made of it",
    )
    def get(self, request: Request) -> Response:
        asked = [request.query_params.get(name, "") for name in ("connection", "object", "column")]
        if not all(asked):
            raise Problem(422, "input-invalid", "connection, object and column: name all three")
        return Response(ColumnStepsSerializer({"steps": column_steps(*asked)}).data)
