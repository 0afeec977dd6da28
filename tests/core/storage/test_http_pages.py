"""Answers in pages, client credentials, and servers that want to be left alone for a while: over a web server on loopback."""

from __future__ import annotations

import json
import threading
from collections.abc import Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any
from urllib.parse import parse_qs, urlsplit

import pytest

from ultravect.core.engine.objects.connections import ConnectionSpec, probe, storage_of
from ultravect.core.errors import UltravectError
from ultravect.core.model.document import DeclarationError

ROWS = [{"id": number, "price": f"{number}.10"} for number in range(1, 8)]


class Server(ThreadingHTTPServer):
    """Seven rows, in pages of three, in each of the ways that the settings know; it notes what it was asked."""

    daemon_threads = True

    def __init__(self) -> None:
        super().__init__(("127.0.0.1", 0), _Handler)
        self.asked: list[str] = []
        self.busy = 0
        self.retry_after = "0"
        self.tokens: list[str] = []
        self.withdrawn: set[str] = set()
        threading.Thread(target=self.serve_forever, daemon=True).start()

    @property
    def url(self) -> str:
        return f"http://127.0.0.1:{self.server_address[1]}"


class _Handler(BaseHTTPRequestHandler):
    server: Server

    def log_message(self, *arguments: Any) -> None:
        pass

    def _say(self, status: int, body: Any, **headers: str) -> None:
        data = body.encode() if isinstance(body, str) else json.dumps(body).encode()
        self.send_response(status)
        self.send_header("Content-Length", str(len(data)))
        for name, value in headers.items():
            self.send_header(name.replace("_", "-"), value)
        self.end_headers()
        self.wfile.write(data)

    def do_POST(self) -> None:
        form = self.rfile.read(int(self.headers["Content-Length"])).decode()
        self.server.asked.append(f"{self.headers['Authorization']} {form}")
        if "d2FyZGVuOnNlY3JldA==" not in self.headers["Authorization"]:  # warden:secret
            return self._say(401, {"error": "invalid_client"})
        token = f"token-{len(self.server.tokens) + 1}"
        self.server.tokens.append(token)
        return self._say(200, {"access_token": token, "expires_in": 3600})

    def do_GET(self) -> None:
        address = urlsplit(self.path)
        asked = {name: values[0] for name, values in parse_qs(address.query).items()}
        self.server.asked.append(self.path)
        if self.server.busy:
            self.server.busy -= 1
            return self._say(429, "later", Retry_After=self.server.retry_after)
        first = int(asked.get("offset") or 3 * (int(asked.get("page", 1)) - 1) or asked.get("after") or 0)
        page, more = ROWS[first : first + 3], first + 3 < len(ROWS)
        match address.path.rsplit("/", 1)[-1]:
            case "plain":
                return self._say(200, page)
            case "header":
                link = (
                    f'<?after={first + 3}>; rel="next", <?after=0>; rel="first"'
                    if more
                    else '<?after=0>; rel="first"'
                )
                return self._say(200, page, Link=link)
            case "link":
                following = f"{self.server.url}/api/link?after={first + 3}" if more else None
                # as some servers write it: over several lines, with more digits than a float has
                rows = ",\n".join(
                    f'{{\n  "id": {row["id"]},\n  "price": {row["price"]}000000000000000001\n}}' for row in page
                )
                return self._say(
                    200, f'{{"meta": {{"next": {json.dumps(following)}}},\n"data": {{"items": [\n{rows}\n]}}}}'
                )
            case "cursor":
                return self._say(200, {"items": page, "next": str(first + 3) if more else ""})
            case "loop":
                return self._say(200, {"items": page, "next": "/api/loop?after=0"})
            case "away":
                return self._say(200, {"items": page, "next": "http://localhost:1/api/x"})
            case "up":
                return self._say(200, {"items": page, "next": "/other/x"})
            case "broken":
                return self._say(200, '{"items": [{"id": 1}, {"id": ')
            case "nested":
                return self._say(200, '{"items": ' + "[" * 100_000)
            case "secret":
                given = self.headers.get("Authorization", "").removeprefix("Bearer ")
                good = given in self.server.tokens and given not in self.server.withdrawn
                return self._say(200, page) if good else self._say(401, "who are you?")
        return self._say(404, "nothing")


@pytest.fixture
def server() -> Iterator[Server]:
    started = Server()
    yield started
    started.shutdown()
    started.server_close()


def _spec(server: Server, **settings: Any) -> ConnectionSpec:
    return ConnectionSpec("agency", "http", {"url": f"{server.url}/api", **settings})


def _read(server: Server, path: str, **settings: Any) -> list[Any]:
    with storage_of(_spec(server, **settings)).open(path).stream as stream:
        return [json.loads(line, parse_float=str) for line in stream.read().splitlines()]


@pytest.mark.parametrize(
    ("path", "settings", "requests"),
    [
        ("header", {"pages": "link_header"}, 3),
        ("cursor", {"pages": "cursor", "page_field": "next", "page_parameter": "after", "rows_at": "items"}, 3),
        ("plain", {"pages": "offset", "page_size": 3}, 3),
        ("plain", {"pages": "offset"}, 4),
        ("plain", {"pages": "number", "page_size": 3}, 3),
        ("plain?hut=7", {"pages": "number", "page_size": 3}, 3),
    ],
)
def test_all_pages_are_one_file(server: Server, path: str, settings: dict[str, Any], requests: int) -> None:
    assert _read(server, path, **settings) == ROWS
    assert len(server.asked) == requests
    if "?" in path:
        assert all("hut=7" in asked for asked in server.asked)


def test_rows_stay_as_the_server_wrote_them(server: Server) -> None:
    rows = _read(server, "link", pages="next_link", page_field="meta.next", rows_at="data.items")
    assert [row["price"] for row in rows] == [f"{row['price']}000000000000000001" for row in ROWS]


@pytest.mark.parametrize(
    ("path", "settings", "code"),
    [
        ("loop", {"pages": "next_link", "page_field": "next", "rows_at": "items"}, "pages-repeat"),
        ("away", {"pages": "next_link", "page_field": "next", "rows_at": "items"}, "page-elsewhere"),
        ("up", {"pages": "next_link", "page_field": "next", "rows_at": "items"}, "page-elsewhere"),
        ("broken", {"pages": "next_link", "page_field": "next", "rows_at": "items"}, "json-broken"),
        ("nested", {"pages": "next_link", "page_field": "next", "rows_at": "items"}, "json-broken"),
        ("cursor", {"pages": "cursor", "page_field": "items", "rows_at": "items"}, "pages-field"),
        ("cursor", {"pages": "cursor", "page_field": "next"}, "no-rows-found"),
        ("cursor", {"pages": "cursor", "page_field": "next", "rows_at": "items.deeper"}, "no-rows-found"),
        ("nothing", {"pages": "offset"}, "file-missing"),
    ],
)
def test_what_is_wrong_with_pages_is_said(server: Server, path: str, settings: dict[str, Any], code: str) -> None:
    with pytest.raises(UltravectError) as refused:
        _read(server, path, **settings)
    assert refused.value.code == code
    assert refused.value.hint


def test_a_server_that_is_busy_is_left_alone_and_asked_again(server: Server) -> None:
    server.busy = 2
    assert len(_read(server, "plain", pages="offset", page_size=3)) == 7
    server.busy, server.retry_after = 1, "7200"
    with pytest.raises(UltravectError) as refused:
        _read(server, "plain", pages="offset", page_size=3)
    assert refused.value.code == "server-full"
    server.busy, server.retry_after = 1, "Wed, 21 Oct 2015 07:28:00 GMT"
    assert len(_read(server, "plain", pages="offset", page_size=3)) == 7
    for odd in ("soon", "-5", "1e3"):
        server.busy, server.retry_after = 1, odd
        with pytest.raises(UltravectError) as refused:
            _read(server, "plain", pages="offset", page_size=3)
        assert refused.value.code == "server-full"


def test_client_credentials_are_changed_for_a_token(server: Server) -> None:
    given = {"token_url": f"{server.url}/token", "client_id": "warden", "client_secret": "secret", "scope": "read"}
    storage = storage_of(_spec(server, **given))
    for _ in range(2):
        storage.open("secret").stream.close()
    assert server.tokens == ["token-1"]
    assert "grant_type=client_credentials&scope=read" in server.asked[0]
    # one that was withdrawn before its time is asked for anew
    server.withdrawn.add("token-1")
    storage.open("secret").stream.close()
    assert server.tokens == ["token-1", "token-2"]
    for changes, code in (
        ({"client_secret": "wrong"}, "wrong-password"),
        ({"token_url": f"{server.url}/api/plain"}, None),
    ):
        result = probe(_spec(server, **{**given, "paths": ["secret"], **changes}))
        assert (result.error.code if result.error else None) == code
        assert "wrong" not in str(result.as_dict()).replace("wrong-password", "")


@pytest.mark.parametrize(
    "settings",
    [
        {"token": "t", "client_id": "c", "token_url": "https://example.org/t"},
        {"client_id": "c"},
        {"token_url": "https://example.org/t"},
        {"pages": "cursor"},
        {"pages": "next_link"},
        {"pages": "sometimes"},
        {"page_size": -1},
    ],
)
def test_settings_that_do_not_go_together(server: Server, settings: dict[str, Any]) -> None:
    with pytest.raises((UltravectError, DeclarationError, ValueError)):
        storage_of(_spec(server, **settings))
