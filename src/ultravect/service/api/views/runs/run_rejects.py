"""The rejects of a run: a list, and as a file."""

from __future__ import annotations

import csv
import io
import json

from django.db.models import Q, QuerySet
from django.http import HttpResponse
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import extend_schema, extend_schema_view
from rest_framework import generics
from rest_framework.request import Request
from rest_framework.views import APIView

from ultravect.core.layouts.writers.formulas import guarded_text
from ultravect.service.api.serializers.running import (
    RejectSerializer,
    RejectsInputSerializer,
)
from ultravect.service.api.views.runs.run import run_numbered
from ultravect.service.records.models import (
    Reject,
)


@extend_schema(tags=["runs"])
@extend_schema_view(get=extend_schema(summary="List a run's rejects", parameters=[RejectsInputSerializer]))
class RejectsView(generics.ListAPIView[Reject]):
    """Rows that could not be converted or written, with the reasons."""

    serializer_class = RejectSerializer

    def get_queryset(self) -> QuerySet[Reject]:
        return _rejects(self.request, self.kwargs["number"]).select_related("leg")


def _rejects(request: Request, number: int) -> QuerySet[Reject]:
    """The rejects of a run that the request asks for."""
    run_numbered(number)
    given = RejectsInputSerializer(data=request.query_params)
    given.is_valid(raise_exception=True)
    asked = given.validated_data
    rejects = Reject.objects.filter(leg__run_id=number)
    for field, name in {"column": "column", "object": "object", "leg": "leg__number"}.items():
        if field in asked:
            rejects = rejects.filter(**{name: asked[field]})
    if search := asked.get("search"):
        found = Q(reason__icontains=search) | Q(value__icontains=search) | Q(record__icontains=search)
        rejects = rejects.filter(found)
    return rejects


def _as_csv(rejects: QuerySet[Reject]) -> str:
    text = io.StringIO()
    writer = csv.writer(text)
    writer.writerow(_REJECT_FIELDS)
    # what is in it comes from others, and a person opens it in a spreadsheet
    writer.writerows(
        [guarded_text(value) if isinstance(value, str) else value for value in row]
        for row in rejects.values_list(*_REJECT_FIELDS)
    )
    return text.getvalue()


def _as_jsonl(rejects: QuerySet[Reject]) -> str:
    return "".join(json.dumps(row, ensure_ascii=False) + "\n" for row in rejects.values(*_REJECT_FIELDS))


_REJECT_FIELDS = ("object", "row", "line", "column", "value", "reason", "record", "key")
_FORMS = {"csv": (_as_csv, "text/csv"), "jsonl": (_as_jsonl, "application/jsonl")}


@extend_schema(tags=["runs"], parameters=[RejectsInputSerializer])
class RejectsFileView(APIView):
    """All rejects as a file: CSV, or JSON lines."""

    form = "csv"

    @extend_schema(
        responses={(200, "text/csv"): OpenApiTypes.STR, (200, "application/jsonl"): OpenApiTypes.STR},
        summary="Download a run's rejects",
    )
    def get(self, request: Request, number: int) -> HttpResponse:
        written, media_type = _FORMS[self.form]
        headers = {"Content-Disposition": f'attachment; filename="rejects-of-run-{number}.{self.form}"'}
        content = written(_rejects(request, number))
        return HttpResponse(content, content_type=f"{media_type}; charset=utf-8", headers=headers)
