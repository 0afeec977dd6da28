"""The events of a run, as a stream."""

from __future__ import annotations

import asyncio
import json
import time
from collections import Counter
from collections.abc import AsyncIterator, Callable, Iterator
from contextlib import contextmanager, suppress
from functools import partial
from typing import Any

from asgiref.sync import sync_to_async
from django.conf import settings
from django.contrib.auth import aget_user
from django.contrib.sessions.backends.db import SessionStore
from django.db import connection
from django.http import HttpRequest, HttpResponse, JsonResponse, StreamingHttpResponse
from django.utils import timezone
from rest_framework.exceptions import APIException

from ultravect.service.api.authentication import BearerToken
from ultravect.service.api.problems import problem_body
from ultravect.service.records.models import (
    Event,
    Leg,
    Run,
    State,
    Token,
    User,
)
from ultravect.service.records.run_signals import SIGNALS

_MAX_STREAMS, _MAX_STREAMS_OF_ONE = 200, 20
_KEEP_ALIVE_SECONDS = 15.0
_GATHER_SECONDS = 0.1
_STILL_ALLOWED_SECONDS = 5.0
_streams: Counter[str] = Counter()


def _event(event: Event) -> dict[str, Any]:
    return {"id": event.pk, "kind": event.kind, "at": event.at.isoformat(), "leg": event.leg, "data": event.data}


@contextmanager
def _let_go() -> Iterator[None]:
    """A follower must not hold a connection of the pool between two looks."""
    try:
        yield
    finally:
        connection.close()


@_let_go()
def _events_after(number: int, last: int) -> list[dict[str, Any]]:
    return [_event(event) for event in Event.objects.filter(run_id=number, id__gt=last).order_by("id")[:1000]]


@_let_go()
def _followed(number: int, last: int, shown: dict[int, Any]) -> tuple[list[dict[str, Any]], list[dict[str, Any]]]:
    """The events after ``last``, and how far legs are that are further than ``shown``, which is set to it: of that only the last is kept."""
    progress = []
    for leg, figures in Leg.objects.filter(run_id=number, state=State.RUNNING).values_list("number", "progress"):
        if figures and shown.get(leg) != figures:
            shown[leg] = figures
            now = timezone.now().isoformat()
            progress.append({"id": None, "kind": "progress", "at": now, "leg": leg, "data": figures})
    return _events_after(number, last), progress


async def _counted(name: str, stream: AsyncIterator[str]) -> AsyncIterator[str]:
    _streams[name] += 1
    try:
        async for text in stream:
            yield text
    finally:
        _streams[name] -= 1


@_let_go()
def _still_allowed(token: Token | None, user: User, session: str | None) -> bool:
    """Whether what a stream was opened with is still good."""
    if token is not None:
        known = Token.objects.filter(pk=token.pk, user__is_active=True).first()
        return known is not None and not known.expired
    there = session is not None and SessionStore().exists(session)
    return there and User.objects.filter(pk=user.pk, is_active=True).exists()


async def _stream(number: int, last: int, allowed: Callable[[], bool]) -> AsyncIterator[str]:
    """Server-Sent Events from ``last`` on, until the run ends, or the one who asked is signed in no more."""
    spoken = asked = time.monotonic()
    shown: dict[int, Any] = {}
    yield "retry: 1000\n\n"
    with SIGNALS.follow(number) as happened:
        while True:
            happened.clear()
            looked = time.monotonic()
            events, progress = await sync_to_async(_followed)(number, last, shown)
            for event in progress:
                yield f"event: progress\ndata: {json.dumps(event)}\n\n"
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
                # much happens at once: it is asked for at once, too, but for the end
                with suppress(TimeoutError):
                    async with asyncio.timeout(looked + _GATHER_SECONDS - time.monotonic()):
                        await happened.over.wait()


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
