"""Where workers join that speak HTTPS alone: a WebSocket connection, by a token that is for workers of named sites.

For as long as it lasts, this process works for the machine at the other end: see ``work.remote`` and ``work.remote_worker``.
"""

from __future__ import annotations

import asyncio
import json
import re
from collections import Counter
from collections.abc import Awaitable, Callable, MutableMapping
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from typing import Any

import structlog
from django.db import DatabaseError
from rest_framework.exceptions import AuthenticationFailed

from ultravect import __version__ as VERSION
from ultravect.core.errors import UltravectError
from ultravect.service.api.authentication import token_in
from ultravect.service.api.problems import problem_body
from ultravect.service.records.models import Token
from ultravect.service.work.recorded import apart
from ultravect.service.work.workers.remote import RemoteProcesses
from ultravect.service.work.workers.remote_worker import PATH
from ultravect.service.work.workers.sites import SITE_PATTERN
from ultravect.service.work.workers.wire import Hello, Pace
from ultravect.service.work.workers.worker import run_worker

Message = MutableMapping[str, Any]
Receive = Callable[[], Awaitable[Message]]
Send = Callable[[Message], Awaitable[None]]

log = structlog.get_logger()
_HELLO_SECONDS = 20.0
_ASK_TOKEN_SECONDS = 5.0
_MAX_SLOTS = 64
_MESSAGES, _CHARACTERS = 1_000, 32 << 20  # a second
_MOST_OF_TOKEN = 32
_THREADS = ThreadPoolExecutor(2, thread_name_prefix="joining")
"""Workers join, and are turned away, however long the records keep other work waiting."""

_joined: Counter[int] = Counter()
"""How many workers are connected to this process by each token."""


async def join(scope: MutableMapping[str, Any], receive: Receive, send: Send) -> None:
    """Serves a WebSocket connection from its begin to its end."""
    await receive()
    try:
        token = await _token(scope)
    except UltravectError as error:
        await _turn_away(scope, send, error)
        return
    await send({"type": "websocket.accept"})
    try:
        name, slots, sites = await _hello(receive, token)
    except UltravectError as error:
        await _say(send, {"refused": error.as_dict()})
        await send({"type": "websocket.close", "code": 4403})
        return
    except (TimeoutError, ValueError, KeyError, TypeError):
        with suppress(Exception):  # it may have gone by itself
            await send({"type": "websocket.close", "code": 4400})
        return
    if _joined[token.pk] >= _MOST_OF_TOKEN:
        refused = UltravectError(
            "too-many-workers",
            f"{_MOST_OF_TOKEN} workers have joined by this token",
            hint="start fewer with more slots; or make another token",
        )
        await _say(send, {"refused": refused.as_dict()})
        await send({"type": "websocket.close", "code": 4403})
        return
    log.info("a worker joins", worker=name, sites=sites, slots=slots, token=token.label)
    # counted before anything is waited for: several may join at once
    _joined[token.pk] += 1
    try:
        await _say(send, {"welcome": name})
        await _serve(receive, send, token, name, slots, sites)
    finally:
        _joined[token.pk] -= 1
    log.info("a worker has left", worker=name)


async def _token(scope: MutableMapping[str, Any]) -> Token:
    """The token by which a worker may join; UltravectError where it has none."""
    if scope["path"] != PATH:
        raise UltravectError("not-found", "there is nothing at this address", hint=f"workers join at {PATH}")
    header = dict(scope["headers"]).get(b"authorization", b"")
    try:
        token = await apart(token_in, _THREADS)(header)
    except AuthenticationFailed as error:
        raise UltravectError("not-signed-in", str(error.detail), hint="an admin makes another one") from None
    if token is None or not token.sites:
        raise UltravectError(
            "not-signed-in",
            "a worker that joins by HTTPS takes a token that was made for it",
            hint="an admin makes one: ultravect token add LABEL --site SITE",
        )
    return token


async def _turn_away(scope: MutableMapping[str, Any], send: Send, error: UltravectError) -> None:
    if "websocket.http.response" not in scope.get("extensions", {}):
        await send({"type": "websocket.close", "code": 1008})
        return
    status = 404 if error.code == "not-found" else 401
    body = json.dumps(problem_body(status, error.code, error.detail, error.hint)).encode()
    headers = [(b"content-type", b"application/problem+json"), (b"content-length", str(len(body)).encode())]
    await send({"type": "websocket.http.response.start", "status": status, "headers": headers})
    await send({"type": "websocket.http.response.body", "body": body})


async def _say(send: Send, message: dict[str, Any]) -> None:
    await send({"type": "websocket.send", "text": json.dumps(message)})


async def _hello(receive: Receive, token: Token) -> tuple[str, int, list[str]]:
    """Name, slots and sites of the worker; UltravectError where it may not join, ValueError and the like where it says nonsense."""
    async with asyncio.timeout(_HELLO_SECONDS):
        first = await receive()
    said = Hello.model_validate_json(first["text"] or "")
    sites, slots = said.sites, said.slots
    if said.hello != VERSION:
        raise UltravectError(
            "worker-version",
            f"the worker has version {said.hello[:40]} of ultravect, and the service {VERSION}",
            hint="install the same version there",
        )
    if isinstance(slots, bool) or not 1 <= slots <= _MAX_SLOTS:
        raise UltravectError("worker-slots", f"a worker has 1 to {_MAX_SLOTS} slots", hint="--slots 2")
    if not all(re.fullmatch(SITE_PATTERN, site) for site in sites):
        raise ValueError("sites are names")
    if other := sorted(set(sites) - set(token.sites)):
        raise UltravectError(
            "worker-site",
            f"the token is for workers of {', '.join(token.sites)}, and not of {', '.join(other)}",
            hint=f"an admin makes one: ultravect token add LABEL {' '.join(f'--site {site}' for site in sites)}",
        )
    return f"{said.host}@{'+'.join(sorted(set(sites)))}", slots, sorted(set(sites))


async def _serve(receive: Receive, send: Send, token: Token, name: str, slots: int, sites: list[str]) -> None:
    closed = False

    async def say(message: dict[str, Any]) -> None:
        if closed:
            return
        with suppress(Exception):  # what is wrong with the connection, the receiving side finds out
            await _say(send, message)

    processes = RemoteProcesses(sites, say)
    working = asyncio.create_task(
        run_worker(slots, sites, name=name, processes=processes, look_here=processes.look_here)
    )
    tasks = [working, asyncio.create_task(_hear(receive, processes)), asyncio.create_task(_until_withdrawn(token.pk))]
    try:
        done, _ = await asyncio.wait(tasks, return_when=asyncio.FIRST_COMPLETED)
        for task in done:
            if not task.cancelled() and (error := task.exception()):
                log.warning("the connection to a worker is given up", worker=name, reason=repr(error)[:300])
    finally:
        # first the work, which is handed over, and only then what it works with
        for task in tasks:
            task.cancel()
            with suppress(asyncio.CancelledError, Exception):
                await task
        closed = True
        with suppress(Exception):
            await send({"type": "websocket.close", "code": 1001})


async def _hear(receive: Receive, processes: RemoteProcesses) -> None:
    """Passes on what the worker says, until it leaves, or says what no worker says. Who says much is read slowly."""
    messages, characters = Pace(_MESSAGES, 5 * _MESSAGES), Pace(_CHARACTERS, 2 * _CHARACTERS)
    while (message := await receive())["type"] == "websocket.receive":
        text = message.get("text") or ""
        await messages.spend(1)
        await characters.spend(len(text))
        await processes.heard(text)


async def _until_withdrawn(token: int) -> None:
    valid = True
    while valid:
        await asyncio.sleep(_ASK_TOKEN_SECONDS)
        # records that do not answer at this moment withdraw nothing
        with suppress(DatabaseError):
            valid = await apart(_still_valid, _THREADS)(token)


def _still_valid(number: int) -> bool:
    token = Token.objects.select_related("user").filter(pk=number, user__is_active=True).first()
    return token is not None and not token.expired
