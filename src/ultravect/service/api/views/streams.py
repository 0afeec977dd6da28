"""Streams: jobs that follow the log of their source."""

from __future__ import annotations

import datetime as dt
from dataclasses import asdict
from typing import Any

from django.db import transaction
from django.db.models import QuerySet
from django.utils import timezone
from drf_spectacular.utils import OpenApiParameter, extend_schema, extend_schema_view
from rest_framework import generics
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ultravect.service.api.problems import Problem
from ultravect.service.api.serializers.streaming import (
    HaltSerializer,
    MinutesInputSerializer,
    RemoveStreamSerializer,
    StreamLineSerializer,
    StreamMinuteSerializer,
    StreamRejectSerializer,
    StreamSerializer,
)
from ultravect.service.api.views.connections import connection_named
from ultravect.service.api.views.jobs.job import job_named
from ultravect.service.records.audit import audit
from ultravect.service.records.models import Job, Role, Stream, StreamMinute, StreamReject, StreamState
from ultravect.service.records.resolved import follows_log, resolved, source_name
from ultravect.service.work.processes.look_pool import POOL
from ultravect.service.work.streams.transitions import forget, halt, start


def stream_of(name: str) -> Stream:
    """The stream of a job; a problem where it has none."""
    job = job_named(name)
    found = Stream.objects.select_related("job", "revision", "started_by").filter(job=job).first()
    if found is None:
        raise Problem(
            404, "stream-missing", f"job {name!r} has no stream", f"start it: ultravect stream start {name}"
        )
    return found


def require_stream_job(job: Job) -> None:
    """A problem where a job is none that follows a log."""
    if not follows_log(job.revision.structure):
        raise Problem(
            409,
            "job-not-stream",
            f"job {job.name!r} does not follow a log: it is run",
            f"write from.newer: log to have it followed; or run it: ultravect run {job.name}",
        )


def drop_log(stream: Stream) -> None:
    """Has the source give up what it keeps for a stream."""
    structure = resolved(dict(stream.revision.structure))
    source = asdict(connection_named(source_name(structure)).spec(structure))
    target = asdict(connection_named(structure["into"]["connection"]).spec())
    POOL.look("drop_log", job=structure, source=source, target=target)


@extend_schema(tags=["streams"])
@extend_schema_view(get=extend_schema(summary="List streams, by the names of their jobs"))
class StreamsView(generics.ListAPIView[Stream]):
    """Jobs that follow the log of their source."""

    serializer_class = StreamLineSerializer

    def get_queryset(self) -> QuerySet[Stream]:
        found = Stream.objects.select_related("job", "revision", "started_by").filter(job__deleted_at=None)
        return found.order_by("job__name")


@extend_schema(tags=["streams"])
class StreamView(APIView):
    """The stream of a job."""

    writing_role = Role.OPERATOR

    @extend_schema(responses=StreamSerializer, summary="Show the stream of a job")
    def get(self, request: Request, name: str) -> Response:
        return Response(StreamSerializer(stream_of(name)).data)

    @extend_schema(
        request=None,
        responses={200: StreamSerializer},
        summary="Start a stream, or resume it",
        description="By the job as it is now. One that is under way goes on; if the job was changed since, by its newest revision.",
    )
    def post(self, request: Request, name: str) -> Response:
        job = job_named(name)
        require_stream_job(job)
        with transaction.atomic():
            start(job, request.user)  # type: ignore[arg-type]
            audit(request, "start stream", "job", name)
        return Response(StreamSerializer(stream_of(name)).data)

    @extend_schema(
        parameters=[RemoveStreamSerializer],
        responses={204: None},
        summary="Remove a stream",
        description="Stops it, and has the source give up what it keeps for it. What was copied stays in the target.",
    )
    def delete(self, request: Request, name: str) -> Response:
        given = RemoveStreamSerializer(data=request.query_params.dict())
        given.is_valid(raise_exception=True)
        remove_stream(request, stream_of(name), leave=given.validated_data["leave"])
        return Response(status=204)


def remove_stream(request: Request, stream: Stream, *, leave: bool) -> None:
    """Stops a stream, drops what its source keeps for it, and removes its records."""
    name = stream.job.name
    halt(stream.job, StreamState.STOPPED, request.user)  # type: ignore[arg-type]
    if not leave:
        drop_log(stream)
    with transaction.atomic():
        forget(stream.job)
        audit(request, "remove stream", "job", name, leave=leave)


class _HaltView(APIView):
    writing_role = Role.OPERATOR
    state = StreamState.PAUSED
    done = "pause stream"

    @extend_schema(tags=["streams"], request=HaltSerializer, responses=StreamSerializer)
    def post(self, request: Request, name: str) -> Response:
        given = HaltSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        why = given.validated_data["why"]
        stream = stream_of(name)
        with transaction.atomic():
            halt(stream.job, self.state, request.user, why)  # type: ignore[arg-type]
            audit(request, self.done, "job", name, why=why)
        return Response(StreamSerializer(stream_of(name)).data)


@extend_schema_view(post=extend_schema(summary="Pause a stream", operation_id="streams_pause_create"))
class PauseStreamView(_HaltView):
    """Lets it rest for a while; the source keeps its log until it is resumed."""


@extend_schema_view(post=extend_schema(summary="Stop a stream", operation_id="streams_stop_create"))
class StopStreamView(_HaltView):
    """Ends it; the source keeps its log, so that it can be started again, until the stream is removed."""

    state = StreamState.STOPPED
    done = "stop stream"


@extend_schema(tags=["streams"])
class StreamMinutesView(APIView):
    """What a stream did, minute by minute."""

    @extend_schema(
        parameters=[MinutesInputSerializer],
        responses=StreamMinuteSerializer(many=True),
        summary="Show what a stream did, minute by minute, the oldest first",
    )
    def get(self, request: Request, name: str) -> Response:
        given = MinutesInputSerializer(data=request.query_params.dict())
        given.is_valid(raise_exception=True)
        since = timezone.now() - dt.timedelta(hours=given.validated_data["hours"])
        found = StreamMinute.objects.filter(stream=stream_of(name), minute__gte=since).order_by("minute")
        return Response(StreamMinuteSerializer(found, many=True).data)


@extend_schema(tags=["streams"])
@extend_schema_view(
    get=extend_schema(
        summary="List the changes that did not fit the target, the newest first",
        parameters=[OpenApiParameter("object", str)],
    )
)
class StreamRejectsView(generics.ListAPIView[StreamReject]):
    """The last 10,000."""

    serializer_class = StreamRejectSerializer

    def get_queryset(self) -> QuerySet[StreamReject]:
        found = StreamReject.objects.filter(stream=stream_of(self.kwargs["name"]))
        name: Any = self.request.query_params.get("object")
        return found.filter(object=name) if name else found
