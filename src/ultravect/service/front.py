"""What stands before Django: bodies are measured before they are read, health is answered without waiting for anyone.

Django reads a whole body before a view may refuse it. Here a body that is too large is refused by its announced size, or
as soon as it has grown too large, and an upload only begins when its sender may upload.
"""

from __future__ import annotations

import asyncio
import json
import time
from collections.abc import Awaitable, Callable, Iterator, MutableMapping
from contextlib import contextmanager
from io import BytesIO
from typing import Any

import psycopg
from asgiref.sync import sync_to_async
from django.conf import settings
from django.contrib.auth import get_user
from django.contrib.sessions.backends.db import SessionStore
from django.core.handlers.asgi import ASGIRequest
from django.db import connections
from rest_framework.exceptions import APIException

from ultravect.service.api.authentication import BearerToken
from ultravect.service.api.problems import problem_body
from ultravect.service.joining import join
from ultravect.service.records.direct import direct_connection
from ultravect.service.records.health import ALIVE_WORKERS, LIVE, health
from ultravect.service.records.models import Role, User

Scope = MutableMapping[str, Any]
Message = MutableMapping[str, Any]
Receive = Callable[[], Awaitable[Message]]
Send = Callable[[Message], Awaitable[None]]
Application = Callable[[Scope, Receive, Send], Awaitable[None]]

MAX_BODY = 1 << 20
"""Of all requests but uploads, in bytes. Declared files have a smaller limit of their own."""

_UPLOADS = "/api/v1/uploads/"
_HEALTH = "/api/v1/health"
_LIVE = "/api/v1/health/live"
_SIGN_INS = ("/api/v1/tokens", "/api/v1/session")
_MAX_SIGN_INS = 8
_PROBLEM = "application/problem+json"
_BODY_SECONDS = 30.0
_HEALTH_SECONDS = 0.08


class _Refused(Exception):
    def __init__(self, status: int, code: str, detail: str, hint: str = "") -> None:
        super().__init__(detail)
        self.status, self.body = status, problem_body(status, code, detail, hint)


class Front:
    """An ASGI application around another one."""

    def __init__(self, inner: Application) -> None:
        self._inner = inner
        self._health = Health()
        self._signing_in = 0

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] == "websocket":
            await join(scope, receive, send)
            return
        if scope["type"] != "http":
            await self._inner(scope, receive, send)
            return
        if scope["path"] == _HEALTH and scope["method"] in ("GET", "HEAD"):
            status, body = await self._health.now()
            await _answer(send, status, body, "application/json")
            return
        if scope["path"] == _LIVE and scope["method"] in ("GET", "HEAD"):
            await _answer(send, 200, LIVE, "application/json")
            return
        if b"\0" in scope["path"].encode() or b"%00" in scope["query_string"]:
            await _answer(send, 422, problem_body(422, "input-invalid", "an address has no NUL characters"), _PROBLEM)
            return
        started = False

        async def noted(message: Message) -> None:
            nonlocal started
            started = started or message["type"] == "http.response.start"
            await send(message)

        try:
            limit = await self._limit(scope)
            with self._counted(scope):
                await self._inner(scope, _measured(scope, receive, limit), noted)
        except _Refused as refused:
            if not started:
                await _answer(send, refused.status, refused.body, _PROBLEM, close=True)

    @contextmanager
    def _counted(self, scope: Scope) -> Iterator[None]:
        """Few sign-ins at once: each takes a thread and, for its hash, a processor."""
        if scope["method"] != "POST" or scope["path"] not in _SIGN_INS:
            yield
            return
        if self._signing_in >= _MAX_SIGN_INS:
            raise _Refused(
                429, "too-many-sign-ins", "too many are signing in at this moment", "try again in a moment"
            )
        self._signing_in += 1
        try:
            yield
        finally:
            self._signing_in -= 1

    async def _limit(self, scope: Scope) -> int:
        """The largest body that the request may have; _Refused where it announces a larger one, or may send none."""
        upload = scope["path"].startswith(_UPLOADS) and scope["method"] in ("PUT", "POST")
        limit = settings.UPLOAD_LIMIT_BYTES if upload else MAX_BODY
        announced = dict(scope["headers"]).get(b"content-length", b"")
        if announced.isdigit() and (len(announced) > 18 or int(announced) > limit):
            raise _too_large(limit)
        if upload and (refused := await sync_to_async(_upload_refusal, thread_sensitive=False)(scope)):
            raise refused
        return limit


def _too_large(limit: int) -> _Refused:
    size = f"{limit >> 20:,} MiB" if limit >= 1 << 20 else f"{limit >> 10:,} KiB"
    return _Refused(
        413, "body-too-large", f"the request's body is larger than {size}", "send less, or upload it as a file"
    )


def _measured(scope: Scope, receive: Receive, limit: int) -> Receive:
    """``receive`` that refuses what goes beyond the limit, or comes too slowly."""
    size, complete = 0, False

    async def measured() -> Message:
        nonlocal size, complete
        if complete:
            return await receive()  # only the end of the connection is still to come
        try:
            async with asyncio.timeout(_BODY_SECONDS):
                message = await receive()
        except TimeoutError:
            raise _Refused(408, "body-too-slow", f"nothing of the body came for {_BODY_SECONDS:g} s") from None
        if message["type"] == "http.request":
            size += len(message.get("body", b""))
            complete = not message.get("more_body", False)
            if size > limit:
                raise _too_large(limit)
        return message

    return measured


def _upload_refusal(scope: Scope) -> _Refused | None:
    """Why the sender of a request may not upload; None where that is allowed."""
    try:
        request = ASGIRequest(dict(scope), BytesIO())
        signed_in = BearerToken().authenticate(request)  # type: ignore[arg-type]
        user: Any = signed_in[0] if signed_in else None
        if user is None:
            request.session = SessionStore(request.COOKIES.get(settings.SESSION_COOKIE_NAME))
            user = get_user(request)
        if isinstance(user, User) and user.may(Role.OPERATOR):
            return None
        if isinstance(user, User):
            return _Refused(403, "not-allowed", "uploads take the role operator", "ask an admin for the role")
    except APIException:
        pass
    finally:
        connections.close_all()
    return _Refused(401, "not-signed-in", "uploads take the role operator", "sign in, or send a token that may")


async def _answer(send: Send, status: int, body: Any, media_type: str, *, close: bool = False) -> None:
    data = json.dumps(body).encode()
    headers = [(b"content-type", media_type.encode()), (b"content-length", str(len(data)).encode())]
    headers += [(b"x-content-type-options", b"nosniff"), (b"cache-control", b"no-store")]
    if close:
        headers.append((b"connection", b"close"))
    await send({"type": "http.response.start", "status": status, "headers": headers})
    await send({"type": "http.response.body", "body": data})


class Health:
    """What load balancers ask: answered at once, with what was seen last where the database takes its time."""

    def __init__(self) -> None:
        self._connection: psycopg.AsyncConnection[Any] | None = None
        self._asking: asyncio.Task[None] | None = None
        self._seen: tuple[int, dict[str, Any]] | None = None
        self._asked_at = 0.0

    async def now(self) -> tuple[int, dict[str, Any]]:
        """Failing once a question has waited too long: the answer before it may be old only because there was none since."""
        if self._asking is None or self._asking.done():
            self._asking, self._asked_at = asyncio.create_task(self._ask()), time.monotonic()
        lost_after = settings.LOST_AFTER_SECONDS
        seconds = _HEALTH_SECONDS if self._seen else lost_after  # there is nothing to say before the first answer
        await asyncio.wait([self._asking], timeout=seconds)
        if not self._asking.done() and time.monotonic() - self._asked_at > lost_after:
            return health(None)
        return self._seen or health(None)

    async def _ask(self) -> None:
        """By a connection of its own: those of the pool may all be busy. That a kept one has ended says nothing of the records yet."""
        kept = self._connection is not None
        try:
            if self._connection is None:
                self._connection = await direct_connection()
            row = await (await self._connection.execute(ALIVE_WORKERS)).fetchone()
        except (psycopg.Error, OSError):
            if self._connection is not None:
                await self._connection.close()
            self._connection = None
            if kept:
                await self._ask()
            else:
                self._seen = health(None)
            return
        self._seen = health(row[0] if row else 0)
