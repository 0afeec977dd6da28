"""Runs: followed, stopped, and their rejects."""

from __future__ import annotations

import asyncio
import csv
import io
import json
import time
from collections.abc import AsyncIterator
from typing import Any

from asgiref.sync import sync_to_async
from django.contrib.auth import aget_user
from django.db import connection
from django.db.models import QuerySet
from django.http import HttpRequest, HttpResponse, JsonResponse, StreamingHttpResponse
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter, extend_schema, extend_schema_view
from rest_framework import generics
from rest_framework.exceptions import APIException
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ultravect.service.api.authentication import BearerToken
from ultravect.service.api.problems import Problem, not_found, problem_body
from ultravect.service.api.serializers import RejectSerializer, RunLineSerializer, RunSerializer
from ultravect.service.records.models import Event, Reject, Role, Run, State
from ultravect.service.work.recorder import Recorder

_POLL_SECONDS = 0.1
_KEEP_ALIVE_SECONDS = 15.0


def run_numbered(number: int) -> Run:
    run = Run.objects.select_related("job", "revision", "started_by").filter(pk=number).first()
    if run is None:
        raise not_found("run", number)
    return run


@extend_schema(tags=["runs"])
@extend_schema_view(
    get=extend_schema(
        summary="List runs, the newest first",
        parameters=[OpenApiParameter("job", str), OpenApiParameter("state", str, enum=list(State))],
    )
)
class RunsView(generics.ListAPIView[Run]):
    """Runs of all jobs, or of one, or in one state."""

    serializer_class = RunLineSerializer

    def get_queryset(self) -> QuerySet[Run]:
        runs = Run.objects.select_related("job", "revision", "started_by").prefetch_related("legs")
        if job := self.request.query_params.get("job"):
            runs = runs.filter(job__name=job)
        if state := self.request.query_params.get("state"):
            if state not in list(State):
                raise Problem(422, "input-invalid", f"state: one of {', '.join(State)}, not {state!r}")
            runs = runs.filter(state=state)
        return runs


@extend_schema(tags=["runs"])
class RunView(APIView):
    """One run."""

    @extend_schema(responses=RunSerializer, summary="Show a run")
    def get(self, request: Request, number: int) -> Response:
        return Response(RunSerializer(run_numbered(number)).data)


@extend_schema(tags=["runs"])
class StopRunView(APIView):
    """Asks a run to stop; what it has not published is rolled back."""

    writing_role = Role.OPERATOR

    @extend_schema(request=None, responses={202: RunSerializer}, summary="Stop a run")
    def post(self, request: Request, number: int) -> Response:
        run = run_numbered(number)
        # a run that was not begun is ended here; its task will find it so
        if Run.objects.filter(pk=number, state=State.QUEUED).update(state=State.STOPPED, stop_requested=True):
            run.refresh_from_db()
            Recorder(run).end(State.STOPPED)
        elif State(run.state).ended:
            raise Problem(409, "run-ended", f"run {number} has already ended: {run.state}")
        else:
            Run.objects.filter(pk=number).update(stop_requested=True)
        return Response(RunSerializer(run_numbered(number)).data, status=202)


@extend_schema(tags=["runs"])
@extend_schema_view(get=extend_schema(summary="List a run's rejects"))
class RejectsView(generics.ListAPIView[Reject]):
    """Rows that could not be converted or written, with the reasons."""

    serializer_class = RejectSerializer

    def get_queryset(self) -> QuerySet[Reject]:
        run_numbered(self.kwargs["number"])
        return Reject.objects.filter(leg__run_id=self.kwargs["number"]).select_related("leg")


@extend_schema(tags=["runs"])
class RejectsFileView(APIView):
    """All rejects as a CSV file."""

    @extend_schema(responses={(200, "text/csv"): OpenApiTypes.STR}, summary="Download a run's rejects")
    def get(self, request: Request, number: int) -> HttpResponse:
        run_numbered(number)
        text = io.StringIO()
        writer = csv.writer(text)
        names = ["object", "row", "line", "column", "value", "reason", "record"]
        writer.writerow(names)
        writer.writerows(Reject.objects.filter(leg__run_id=number).values_list(*names))
        headers = {"Content-Disposition": f'attachment; filename="rejects-of-run-{number}.csv"'}
        return HttpResponse(text.getvalue(), content_type="text/csv; charset=utf-8", headers=headers)


def _event(event: Event) -> dict[str, Any]:
    return {"id": event.pk, "kind": event.kind, "at": event.at.isoformat(), "data": event.data}


def _events_after(number: int, last: int) -> list[dict[str, Any]]:
    try:
        return [_event(event) for event in Event.objects.filter(run_id=number, id__gt=last).order_by("id")[:1000]]
    finally:
        # a follower must not hold a connection of the pool between two looks
        connection.close()


async def _stream(number: int, last: int) -> AsyncIterator[str]:
    """Server-Sent Events from ``last`` on, until the run ends."""
    spoken = time.monotonic()
    yield "retry: 1000\n\n"
    while True:
        events = await sync_to_async(_events_after)(number, last)
        for event in events:
            last = event["id"]
            yield f"id: {last}\nevent: {event['kind']}\ndata: {json.dumps(event)}\n\n"
            spoken = time.monotonic()
            if event["kind"] == "end":
                return
        if not events:
            if time.monotonic() - spoken > _KEEP_ALIVE_SECONDS:
                spoken = time.monotonic()
                yield ": still here\n\n"
            await asyncio.sleep(_POLL_SECONDS)


def _problem(status: int, code: str, detail: str) -> JsonResponse:
    return JsonResponse(problem_body(status, code, detail), status=status, content_type="application/problem+json")


async def run_events(request: HttpRequest, number: int) -> HttpResponse | StreamingHttpResponse:
    """A run's events: as a stream when ``Accept: text/event-stream`` asks for it, otherwise those there are."""
    try:
        signed_in = await sync_to_async(BearerToken().authenticate)(request)  # type: ignore[arg-type]
    except APIException as error:
        return _problem(401, "not-signed-in", str(error.detail))
    user = signed_in[0] if signed_in else await aget_user(request)
    if not user.is_authenticated:
        return _problem(401, "not-signed-in", "sign in first")
    if not await Run.objects.filter(pk=number).aexists():
        return _problem(404, "run-unknown", f"there is no run {number}")
    given = request.headers.get("Last-Event-ID", request.GET.get("after", "0"))
    last = int(given) if given.isdigit() else 0
    if "text/event-stream" in request.headers.get("Accept", ""):
        headers = {"Cache-Control": "no-cache", "X-Accel-Buffering": "no"}
        return StreamingHttpResponse(_stream(number, last), content_type="text/event-stream", headers=headers)
    return JsonResponse({"items": await sync_to_async(_events_after)(number, last)})
