"""What stands before the API: heads of requests that do not come, and streams whose token ends."""

from __future__ import annotations

import socket
import threading
import time
from collections.abc import Awaitable, Callable, Iterator
from typing import Any

import httpx
import pytest
import uvicorn
from devtools.stack import Stack
from tests.conftest import Place

from ultravect.client import Client
from ultravect.service import protocol


async def _application(scope: Any, receive: Any, send: Callable[[Any], Awaitable[None]]) -> None:
    await send({"type": "http.response.start", "status": 200, "headers": [(b"content-length", b"2")]})
    await send({"type": "http.response.body", "body": b"ok"})


@pytest.fixture
def port(monkeypatch: pytest.MonkeyPatch) -> Iterator[int]:
    """A web server that is as patient as for half a second."""
    monkeypatch.setattr(protocol, "HEAD_SECONDS", 0.5)
    listening = socket.create_server(("127.0.0.1", 0))
    config = uvicorn.Config(_application, http=protocol.PatientProtocol, lifespan="off", log_level="error")
    server = uvicorn.Server(config)
    thread = threading.Thread(target=server.run, kwargs={"sockets": [listening]}, daemon=True)
    thread.start()
    while not server.started:
        time.sleep(0.01)
    yield listening.getsockname()[1]
    server.should_exit = True
    thread.join()


@pytest.mark.parametrize("begun", [b"", b"GET / HTTP/1.1\r\nHost: a\r\nX-Slow: "])
def test_a_head_that_does_not_come_ends_its_connection(begun: bytes, port: int) -> None:
    with socket.create_connection(("127.0.0.1", port)) as slow:
        slow.sendall(begun)
        slow.settimeout(20)
        assert slow.recv(100) == b""
    # one that was answered, and then begins another request and does not go on
    with socket.create_connection(("127.0.0.1", port)) as kept:
        kept.settimeout(20)
        kept.sendall(b"GET / HTTP/1.1\r\nHost: a\r\n\r\n")
        assert kept.recv(1000).startswith(b"HTTP/1.1 200")
        kept.sendall(begun or b"G")
        while kept.recv(1000):
            pass
    assert httpx.get(f"http://127.0.0.1:{port}/").text == "ok"


def test_a_stream_of_events_ends_with_its_token(place: Place, stack: Stack, client: Client) -> None:
    place.file("a\n1\n").job()
    place.run()
    token = client.make_token("follows", role="viewer")
    with place.locked():
        run = place.until(place.start(), lambda run: run.state == "running")
        headers = {"Authorization": f"Bearer {token.token}", "Accept": "text/event-stream"}
        address = f"{stack.url}/api/v1/runs/{run.id}/events"
        with httpx.stream("GET", address, headers=headers, timeout=60) as stream:
            lines = stream.iter_lines()
            assert next(lines).startswith("retry")
            client.withdraw_token(token.id)
            heard = list(lines)
        assert not any(line == "event: end" for line in heard)
        assert httpx.get(address, headers=headers).status_code == 401
    assert client.wait(run.id).state == "succeeded"
