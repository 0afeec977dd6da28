"""A worker that reaches the service by HTTPS alone: for networks in which not even the service's database can be reached.

It opens one WebSocket connection to the service, and has neither the records nor the service's key.
See ``wire`` for the messages, which are JSON objects.

To the service, first: ``{"hello": VERSION, "host": …, "sites": […], "slots": …}``, answered by ``{"welcome": name}`` or
``{"refused": error}``. Then the service asks for processes, numbered by it, and for looks:

- ``{"process": n, "do": "start" | "greet" | "stop" | "kill" | "close"}``; in parts, what is sent to the process; ``{"process": n, "taken":
  characters}`` of what it has said
- in parts, ``{"name": …, "arguments": …, "seconds": …, "memory": …}`` for look n

and this side answers:

- ``{"process": n, "state": "started" | "ended"}``; in parts, each line that the process says
- in parts, the answer of look n; ``{"look": n, "state": "late" | "died"}`` where there is none

When the connection ends, so do the processes: another worker may have their work by then.
"""

from __future__ import annotations

import asyncio
import json
import os
import random
import socket
import ssl
from collections.abc import Sequence
from contextlib import suppress
from typing import Any
from urllib.parse import urlsplit

import structlog
from websockets.asyncio.client import ClientConnection, connect
from websockets.exceptions import ConnectionClosed, InvalidHandshake, InvalidStatus, InvalidURI

from ultravect import __version__ as VERSION
from ultravect.core.errors import UltravectError
from ultravect.service.work.processes.forks import ForkServer
from ultravect.service.work.processes.look_process import TOO_LARGE, error_as_dict
from ultravect.service.work.processes.look_processes import LookProcesses
from ultravect.service.work.processes.pool import LegPool, LegProcess
from ultravect.service.work.workers.wire import MAX_ANSWER, MAX_MESSAGE, Joined, Window, parts_of

log = structlog.get_logger()
PATH = "/api/v1/worker"
PING_SECONDS = 60.0
_WELCOME_SECONDS = 20.0
_LOOKS_AT_ONCE = 4
_LONGEST_PAUSE_SECONDS = 30.0
_LOOPBACK = ("127.0.0.1", "localhost", "::1")


def address_of(service: str) -> str:
    """The WebSocket address for a service's; UltravectError where secrets would travel in the clear."""
    parts = urlsplit(service if "://" in service else f"https://{service}")
    if parts.scheme not in ("https", "http") or not parts.hostname:
        raise UltravectError("service-address", f"{service!r} is not the address of a service", hint="https://HOST")
    if parts.scheme == "http" and parts.hostname not in _LOOPBACK:
        raise UltravectError(
            "service-address",
            f"{service} is not encrypted, and a worker is sent the secrets of connections",
            hint="give the service a certificate, by a proxy in front of it, and an address that begins with https://",
        )
    scheme = "wss" if parts.scheme == "https" else "ws"
    return f"{scheme}://{parts.netloc}{parts.path.rstrip('/')}{PATH}"


async def work_remotely(service: str, token: str, slots: int, sites: Sequence[str], roots: Sequence[str]) -> None:
    """Works until cancelled, and joins again whenever the connection breaks; UltravectError where the service refuses it."""
    address = address_of(service)
    forks = ForkServer(roots)
    pool = LegPool(forks)
    looks = LookProcesses(_LOOKS_AT_ONCE, forks)
    await pool.warm()
    hello = {"hello": VERSION, "host": f"{socket.gethostname()}:{os.getpid()}", "sites": list(sites), "slots": slots}
    context = ssl.create_default_context() if address.startswith("wss:") else None
    pause = 1.0
    try:
        while True:
            try:
                async with connect(
                    address,
                    additional_headers={"Authorization": f"Bearer {token}"},
                    max_size=MAX_MESSAGE,
                    ssl=context,
                    open_timeout=20,
                    # as patient with a busy machine as the service is
                    ping_timeout=PING_SECONDS,
                ) as line:
                    await line.send(json.dumps(hello))
                    # a service that is too busy to answer is asked anew; wait_for would lose a stop that comes with the answer
                    async with asyncio.timeout(_WELCOME_SECONDS):
                        answer = await line.recv()
                    name = _welcome(json.loads(answer), service)
                    log.info("joined", service=service, worker=name, sites=list(sites), slots=slots)
                    pause = 1.0
                    await _Session(line, pool, looks, roots).run()
            except InvalidStatus as error:
                _refuse(service, error.response.status_code, error.response.body)
                log.warning("the service does not answer", service=service, status=error.response.status_code)
            except InvalidURI as error:
                raise UltravectError("service-address", f"{service}: {error}", hint="https://HOST") from None
            except ssl.SSLCertVerificationError as error:
                raise UltravectError(
                    "certificate-refused",
                    f"the certificate of {service} is not trusted: {error.verify_message}",
                    hint="name a file of certificates to be trusted in SSL_CERT_FILE",
                ) from None
            except (ConnectionClosed, InvalidHandshake, OSError, TimeoutError, ValueError) as error:
                log.warning("the connection ended", service=service, reason=str(error)[:200] or type(error).__name__)
            # many workers must not come back at the same moment
            await asyncio.sleep(pause * random.uniform(0.5, 1.0))
            pause = min(pause * 2, _LONGEST_PAUSE_SECONDS)
    finally:
        await pool.close()
        await asyncio.to_thread(forks.close)


def _welcome(answer: dict[str, Any], service: str) -> str:
    if refused := answer.get("refused"):
        raise UltravectError.from_dict(refused)
    return str(answer["welcome"])


def _refuse(service: str, status: int, body: bytes) -> None:
    """UltravectError for answers that will not change."""
    if status not in (401, 403, 404):
        return
    try:
        said = json.loads(body or b"{}")
    except ValueError:
        said = {}
    raise UltravectError(
        said.get("code", "service-refused"),
        said.get("detail") or f"{service} answers {status}",
        hint=said.get("hint") or "is that the address of the service, of this version?",
    )


class _Session:
    """One connection, with the processes that work through it."""

    def __init__(self, line: ClientConnection, pool: LegPool, looks: LookProcesses, roots: Sequence[str]) -> None:
        self._line, self._pool, self._looks, self._roots = line, pool, looks, list(roots)
        self._processes: dict[int, _Carried] = {}
        self._questions: dict[int, Joined] = {}
        self._tasks: set[asyncio.Task[None]] = set()

    async def run(self) -> None:
        try:
            async for text in self._line:
                await self._heard(json.loads(text))
        finally:
            for task in self._tasks:
                task.cancel()
            for carried in self._processes.values():
                carried.process.close()

    def _begin(self, work: Any) -> None:
        task = asyncio.create_task(work)
        self._tasks.add(task)
        task.add_done_callback(self._tasks.discard)

    async def _say(self, **message: Any) -> None:
        await self._line.send(json.dumps(message))

    async def _heard(self, message: dict[str, Any]) -> None:
        if "look" in message:
            number = message["look"]
            whole = self._questions.setdefault(number, Joined(MAX_ANSWER)).add(message["part"], message["last"])
            if whole is not None:
                del self._questions[number]
                self._begin(self._look(number, json.loads(whole)))
            return
        number = message["process"]
        if message.get("do") == "start":
            self._begin(self._carry_out(number))
            return
        carried = self._processes.get(number)
        if carried is None:
            return
        if "taken" in message:
            await carried.window.taken(message["taken"])
        elif "part" in message:
            if (whole := carried.joined.add(message["part"], message["last"])) is not None:
                carried.tell(self._at_home(json.loads(whole)))
        elif message["do"] == "greet":
            carried.tell(None)
        elif message["do"] == "stop":
            carried.process.stop()
        elif message["do"] == "kill":
            carried.process.kill()
        elif message["do"] == "close":
            carried.process.close()

    def _at_home(self, task: dict[str, Any]) -> dict[str, Any]:
        """A task whose connections are confined to the folders of this machine that its operator has named."""
        return {
            name: {**value, "roots": self._roots} if isinstance(value, dict) and "roots" in value else value
            for name, value in task.items()
        }

    async def _carry_out(self, number: int) -> None:
        """Starts a process, and passes on what it says until it ends."""
        with suppress(ConnectionClosed):
            try:
                process = await self._pool.take()
            except (OSError, RuntimeError, asyncio.IncompleteReadError):
                log.exception("a process could not be started")
                await self._say(process=number, state="ended")
                return
            carried = self._processes[number] = _Carried(process)
            feeding = asyncio.create_task(carried.feed())
            try:
                await self._say(process=number, state="started")
                async for event in process.events():
                    text = json.dumps(event)
                    # what the service has not taken yet is little, and holds up this process alone
                    await carried.window.reserve(len(text))
                    for part in parts_of(text):
                        await self._say(process=number, **part)
                await self._say(process=number, state="ended")
            finally:
                feeding.cancel()
                del self._processes[number]
                process.close()

    async def _look(self, number: int, question: dict[str, Any]) -> None:
        arguments = self._at_home(question["arguments"])
        try:
            said = await asyncio.to_thread(
                self._looks.ask, question["name"], question["seconds"], arguments, question["memory"]
            )
            answer = None if said is None else said.decode()
        except UltravectError as error:
            answer = json.dumps({"error": error_as_dict(error)})
        except Exception as error:
            log.exception("a look failed")
            answer = json.dumps({"unexpected": f"{type(error).__name__}; see the log of the site's worker"})
        if answer and len(answer) > MAX_ANSWER:
            answer = json.dumps({"error": error_as_dict(TOO_LARGE)})
        with suppress(ConnectionClosed):
            if not answer:
                await self._say(look=number, state="late" if answer is None else "died")
                return
            for part in parts_of(answer):
                await self._say(look=number, **part)


class _Carried:
    """A process, with what is sent to it: by a task of its own, since one that does not listen must not hold up the others."""

    def __init__(self, process: LegProcess) -> None:
        self.process, self.window, self.joined = process, Window(), Joined()
        self._sent: asyncio.Queue[dict[str, Any] | None] = asyncio.Queue()

    def tell(self, task: dict[str, Any] | None) -> None:
        """``task`` None: that its worker is still there."""
        self._sent.put_nowait(task)

    async def feed(self) -> None:
        with suppress(ConnectionError):
            while True:
                task = await self._sent.get()
                await (self.process.greet() if task is None else self.process.send(task))
