"""Runs: followed, stopped, and their rejects."""

from __future__ import annotations

import asyncio
import csv
import io
import json
import time
from abc import abstractmethod
from collections import Counter
from collections.abc import AsyncIterator, Callable
from contextlib import suppress
from dataclasses import asdict
from functools import partial
from typing import Any

from asgiref.sync import sync_to_async
from django.conf import settings
from django.contrib.auth import aget_user
from django.contrib.sessions.backends.db import SessionStore
from django.db import connection, transaction
from django.db.models import Q, QuerySet
from django.http import HttpRequest, HttpResponse, JsonResponse, StreamingHttpResponse
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter, extend_schema, extend_schema_view
from rest_framework import generics
from rest_framework.exceptions import APIException
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from ultravect.core.model.document import job_from_data
from ultravect.service.api.authentication import BearerToken
from ultravect.service.api.problems import Problem, not_found, problem_body
from ultravect.service.api.serializers.running import (
    ChangeSerializer,
    DifferencesInputSerializer,
    DifferencesSerializer,
    LegInputSerializer,
    RejectSerializer,
    RejectsInputSerializer,
    RunLineSerializer,
    RunSerializer,
)
from ultravect.service.api.views.connections import connection_named
from ultravect.service.records.differences import changed_lines, differences
from ultravect.service.records.lookup import selected_keys
from ultravect.service.records.models import (
    Change,
    Event,
    Outcome,
    Reject,
    Revision,
    Role,
    Run,
    RunKind,
    State,
    Token,
    User,
)
from ultravect.service.records.run_signals import SIGNALS
from ultravect.service.work.processes.look_pool import POOL
from ultravect.service.work.runs.attempts import attempt_names, job_of, run_facts
from ultravect.service.work.runs.start import start_run
from ultravect.service.work.runs.stop import stop_leg, stop_run

_KEEP_ALIVE_SECONDS = 15.0
_GATHER_SECONDS = 0.1
_STILL_ALLOWED_SECONDS = 5.0
_MAX_STREAMS, _MAX_STREAMS_OF_ONE = 200, 20
_streams: Counter[str] = Counter()


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
        runs = Run.objects.select_related("job", "revision", "started_by").prefetch_related("legs__slices")
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

    shows_run = True

    @extend_schema(responses=RunSerializer, summary="Show a run")
    def get(self, request: Request, number: int) -> Response:
        return Response(RunSerializer(run_numbered(number)).data)


@extend_schema(tags=["runs"])
class DifferencesView(APIView):
    """How a run differs from an earlier one of its job: what it was started with, its plan, what came of it, and how long it took."""

    @extend_schema(
        responses=DifferencesSerializer,
        parameters=[DifferencesInputSerializer],
        summary="Compare a run with an earlier one of its job",
    )
    def get(self, request: Request, number: int) -> Response:
        run = run_numbered(number)
        given = DifferencesInputSerializer(data=request.query_params)
        given.is_valid(raise_exception=True)
        wanted = given.validated_data.get("earlier")
        if wanted is None:
            before = run.job.runs.filter(pk__lt=run.pk, kind=run.kind).order_by("-pk").first()
            if before is None:
                raise Problem(
                    404,
                    "run-alone",
                    f"there is no run of {run.job.name!r} before run {number}",
                    "name another one: earlier=N",
                )
        else:
            before = run_numbered(wanted)
        if before.job_id != run.job_id:
            what = f"run {before.pk} is of {before.job.name!r}, and run {number} of {run.job.name!r}"
            raise Problem(422, "runs-of-two-jobs", what, "compare runs of one job")
        shown = {
            "before": before,
            "after": run,
            "file": changed_lines(before, run),
            "items": differences(before, run),
        }
        return Response(DifferencesSerializer(shown).data)


@extend_schema(tags=["runs"])
class RunPlanView(APIView):
    """What a leg of a run does, as it was planned: strategy, columns with their types, statements, findings."""

    @extend_schema(
        responses={200: OpenApiTypes.OBJECT},
        parameters=[OpenApiParameter("leg", int, description="The leg's number; 1 where it is left out")],
        summary="Show a run's plan",
        description="As any worker would execute it; there are no secrets in it. It is there once planning is done.",
    )
    def get(self, request: Request, number: int) -> Response:
        given = LegInputSerializer(data=request.query_params)
        given.is_valid(raise_exception=True)
        wanted = given.validated_data.get("leg", 1)
        leg = run_numbered(number).legs.filter(number=wanted).first()
        if leg is None or leg.plan is None:
            raise Problem(
                404,
                "plan-missing",
                f"run {number} has no plan" if wanted == 1 else f"run {number} has no plan of a leg {wanted}",
                "a leg has one once its source and target were looked at",
            )
        return Response(leg.plan)


@extend_schema(tags=["runs"])
class StopRunView(APIView):
    """Asks a run to stop; what it has not published is rolled back."""

    writing_role = Role.OPERATOR

    @extend_schema(request=None, responses={202: RunSerializer}, summary="Stop a run")
    def post(self, request: Request, number: int) -> Response:
        run = run_numbered(number)
        if State(run.state).ended:
            raise Problem(409, "run-ended", f"run {number} has already ended: {run.state}")
        stop_run(number)
        return Response(RunSerializer(run_numbered(number)).data, status=202)


@extend_schema(tags=["runs"])
class StopLegView(APIView):
    """Asks one leg of a run to stop; the others go on."""

    writing_role = Role.OPERATOR

    @extend_schema(request=None, responses={202: RunSerializer}, summary="Stop one leg of a run")
    def post(self, request: Request, number: int, leg: int) -> Response:
        found = run_numbered(number).legs.filter(number=leg).first()
        if found is None:
            raise Problem(404, "leg-unknown", f"run {number} has no leg {leg}", "see its legs: GET runs/N")
        if State(found.state).ended:
            raise Problem(409, "leg-ended", f"leg {leg} of run {number} has already ended: {found.state}")
        stop_leg(number, leg)
        return Response(RunSerializer(run_numbered(number)).data, status=202)


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
    writer.writerows(rejects.values_list(*_REJECT_FIELDS))
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


@extend_schema(tags=["runs"])
@extend_schema_view(
    get=extend_schema(
        summary="List rows that a run changed",
        parameters=[
            OpenApiParameter("kind", str, enum=["updated", "added", "gone", "repeated"]),
            OpenApiParameter("leg", int, description="Only of this leg"),
        ],
    )
)
class ChangesView(generics.ListAPIView[Change]):
    """Rows before and after, as many of a kind as the job keeps; the tally has the whole number."""

    serializer_class = ChangeSerializer

    def get_queryset(self) -> QuerySet[Change]:
        run_numbered(self.kwargs["number"])
        changes = Change.objects.filter(leg__run_id=self.kwargs["number"])
        kind = self.request.query_params.get("kind")
        changes = changes.filter(kind=kind) if kind else changes
        given = LegInputSerializer(data=self.request.query_params)
        given.is_valid(raise_exception=True)
        wanted = given.validated_data.get("leg")
        return changes.filter(leg__number=wanted) if wanted is not None else changes


def _follower(run: Run, kind: RunKind) -> Run | None:
    """The run that did this to ``run``, or is about to."""
    return run.followed_by.filter(kind=kind).exclude(state__in=[State.FAILED, State.STOPPED]).first()


class _FollowUp(APIView):
    """Starts a run that follows another one."""

    writing_role = Role.OPERATOR
    kind: RunKind

    def _start(self, request: Request, number: int) -> Response:
        run = run_numbered(number)
        self._require(run)
        with transaction.atomic():
            Run.objects.select_for_update().get(pk=number)
            self._require_first(run)
            made = start_run(self._revision(run), request.user, run.parameters, kind=self.kind, origin=run)
        return Response(RunSerializer(made).data, status=201)

    def _require_first(self, run: Run) -> None:
        """Raises where another run has followed it so already."""
        done = _follower(run, self.kind)
        if done is not None:
            what = "loaded the rejects of" if self.kind == RunKind.REJECTS else "undid"
            hint = (
                f"see run {done.pk}"
                if self.kind == RunKind.UNDO
                else f"what run {done.pk} rejected is its own to retry"
            )
            raise Problem(409, "run-followed", f"run {done.pk} already {what} run {run.pk}, or is about to", hint)

    def _require(self, run: Run) -> None:
        """Raises where the run cannot be followed so."""
        self._require_first(run)
        if run.outcome == Outcome.UNKNOWN:
            raise Problem(
                409,
                "outcome-unknown",
                f"whether the rows of run {run.pk} of {run.job.name} are in the target is not known yet",
                "try again when its outcome is known: the target is asked",
            )
        if run.outcome != Outcome.COMMITTED or not State(run.state).ended:
            raise Problem(
                409,
                "nothing-written",
                f"run {run.pk} of {run.job.name} has written nothing: it is {run.state}",
                f"run the job: ultravect run {run.job.name}",
            )

    @abstractmethod
    def _revision(self, run: Run) -> Revision:
        """The job as it is run now."""


@extend_schema(tags=["runs"])
class RetryRejectsView(_FollowUp):
    """Loads the rows that a run rejected, read again at their places in files or by their keys in a table, by the job as it is now."""

    kind = RunKind.REJECTS

    @extend_schema(request=None, responses={201: RunSerializer}, summary="Load a run's rejects again")
    def post(self, request: Request, number: int) -> Response:
        return self._start(request, number)

    def _require(self, run: Run) -> None:
        super()._require(run)
        undone = _follower(run, RunKind.UNDO)
        if undone is not None:
            raise Problem(409, "run-undone", f"run {undone.pk} undid run {run.pk}", "run the job again")
        rejected = sum(leg.rejected for leg in run.legs.all())
        kept = Reject.objects.filter(leg__run=run).count()
        if not rejected:
            raise Problem(409, "no-rejects", f"run {run.pk} rejected no rows", "nothing is left to be loaded")
        if kept < rejected:
            raise Problem(
                409,
                "rejects-not-kept",
                f"run {run.pk} rejected {rejected:,} rows, of which {kept:,} are kept",
                f"run the whole job again: ultravect run {run.job.name}",
            )
        model = job_from_data(self._revision(run).structure)
        legs = [leg for leg in run.legs.all() if leg.rejected]
        if model.into.folder is not None or (model.source.files is None and not all(map(selected_keys, legs))):
            raise Problem(
                409,
                "rejects-not-found",
                f"run {run.pk} read a query, a view or a table without a primary key: nothing says which rows they were",
                "fix the rows and run the job with mode: upsert, or with a where that finds them",
            )

    def _revision(self, run: Run) -> Revision:
        return run.job.revision


@extend_schema(tags=["runs"])
class UndoRunView(_FollowUp):
    """Undoes a run's load, where its receipt and the job allow it."""

    kind = RunKind.UNDO

    @extend_schema(request=None, responses={201: RunSerializer}, summary="Undo a run's load")
    def post(self, request: Request, number: int) -> Response:
        return self._start(request, number)

    def _require(self, run: Run) -> None:
        super()._require(run)
        if run.kind == RunKind.UNDO:
            raise Problem(409, "undo-refused", f"run {run.pk} is itself an undo", f"run the job: {run.job.name}")
        for leg in run.legs.filter(outcome=Outcome.COMMITTED).defer("plan"):
            leg.run = run
            structure = job_of(leg)
            connection = connection_named(structure["into"]["connection"])
            POOL.look(
                "undoable",
                job=structure,
                target=asdict(connection.spec(run.revision.text)),
                run=str(run.pk),
                leg=leg.number,
                date=run_facts(run).date.isoformat(),
                loads=attempt_names(leg),
            )

    def _revision(self, run: Run) -> Revision:
        return run.revision


def _event(event: Event) -> dict[str, Any]:
    return {"id": event.pk, "kind": event.kind, "at": event.at.isoformat(), "leg": event.leg, "data": event.data}


def _events_after(number: int, last: int) -> list[dict[str, Any]]:
    try:
        return [_event(event) for event in Event.objects.filter(run_id=number, id__gt=last).order_by("id")[:1000]]
    finally:
        # a follower must not hold a connection of the pool between two looks
        connection.close()


async def _counted(name: str, stream: AsyncIterator[str]) -> AsyncIterator[str]:
    _streams[name] += 1
    try:
        async for text in stream:
            yield text
    finally:
        _streams[name] -= 1


def _still_allowed(token: Token | None, user: User, session: str | None) -> bool:
    """Whether what a stream was opened with is still good."""
    try:
        if token is not None:
            known = Token.objects.filter(pk=token.pk, user__is_active=True).first()
            return known is not None and not known.expired
        there = session is not None and SessionStore().exists(session)
        return there and User.objects.filter(pk=user.pk, is_active=True).exists()
    finally:
        connection.close()


async def _stream(number: int, last: int, allowed: Callable[[], bool]) -> AsyncIterator[str]:
    """Server-Sent Events from ``last`` on, until the run ends, or the one who asked is signed in no more."""
    spoken = asked = time.monotonic()
    yield "retry: 1000\n\n"
    with SIGNALS.follow(number) as happened:
        while True:
            happened.clear()
            events = await sync_to_async(_events_after)(number, last)
            for event in events:
                last = event["id"]
                yield f"id: {last}\nevent: {event['kind']}\ndata: {json.dumps(event)}\n\n"
                spoken = time.monotonic()
                if event["kind"] == "end":
                    return
            if time.monotonic() - asked > _STILL_ALLOWED_SECONDS:
                asked = time.monotonic()
                if not await sync_to_async(allowed)():
                    return
            if not events:
                if time.monotonic() - spoken > _KEEP_ALIVE_SECONDS:
                    spoken = time.monotonic()
                    yield ": still here\n\n"
                with suppress(TimeoutError):
                    async with asyncio.timeout(_STILL_ALLOWED_SECONDS):
                        await happened.wait()
                # much happens at once: it is asked for at once, too
                await asyncio.sleep(_GATHER_SECONDS)


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
    if (jobs := user.only_jobs) and not await Run.objects.filter(pk=number, job__name__in=jobs).aexists():
        return _problem(403, "not-allowed", f"this token may only start and see runs of {', '.join(jobs)}")
    given = request.headers.get("Last-Event-ID", request.GET.get("after", "0"))
    last = int(given) if given.isascii() and given.isdigit() and len(given) < 19 else 0
    if "text/event-stream" in request.headers.get("Accept", ""):
        name = user.get_username()
        if _streams[name] >= _MAX_STREAMS_OF_ONE or _streams.total() >= _MAX_STREAMS:
            return _problem(429, "too-many-streams", "too many streams of events are open; close some of them")
        headers = {"Cache-Control": "no-cache", "X-Accel-Buffering": "no"}
        session = request.COOKIES.get(settings.SESSION_COOKIE_NAME)
        allowed = partial(_still_allowed, signed_in[1] if signed_in else None, user, session)
        stream = _counted(name, _stream(number, last, allowed))
        return StreamingHttpResponse(stream, content_type="text/event-stream", headers=headers)
    return JsonResponse({"items": await sync_to_async(_events_after)(number, last)})
