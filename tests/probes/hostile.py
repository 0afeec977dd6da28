"""Servers that say what no honest one says, on loopback."""

from __future__ import annotations

import json
import socket
import struct
import threading
from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager, suppress
from dataclasses import dataclass, field
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any


@dataclass
class Asked:
    """A request that came: its path, headers and body."""

    method: str
    path: str
    headers: dict[str, str]
    body: bytes


Answer = tuple[int, dict[str, str], bytes]


@dataclass
class HttpServer:
    """What it was asked is kept."""

    port: int
    asked: list[Asked] = field(default_factory=list)

    @property
    def url(self) -> str:
        return f"http://127.0.0.1:{self.port}"


@contextmanager
def http_server(answer: Callable[[HttpServer, Asked], Answer]) -> Iterator[HttpServer]:
    """A web server that answers as ``answer`` says."""

    class Handler(BaseHTTPRequestHandler):
        protocol_version = "HTTP/1.1"

        def _any(self) -> None:
            body = self.rfile.read(int(self.headers.get("Content-Length") or 0))
            asked = Asked(self.command, self.path, {key.lower(): value for key, value in self.headers.items()}, body)
            known.asked.append(asked)
            status, headers, said = answer(known, asked)
            lines = [f"HTTP/1.1 {status} Status", *(f"{name}: {value}" for name, value in headers.items())]
            lines += [f"Content-Length: {len(said)}", "Connection: close", "", ""]
            with suppress(OSError):
                self.wfile.write("\r\n".join(lines).encode("latin-1") + (b"" if self.command == "HEAD" else said))
            self.close_connection = True

        do_GET = do_POST = do_HEAD = do_PUT = do_DELETE = _any

        def log_message(self, *_: Any) -> None:
            return

    server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    known = HttpServer(server.server_address[1])
    threading.Thread(target=server.serve_forever, daemon=True).start()
    try:
        yield known
    finally:
        server.shutdown()
        server.server_close()


def as_json(value: Any, status: int = 200, **headers: str) -> Answer:
    return status, {"Content-Type": "application/json", **headers}, json.dumps(value).encode()


@contextmanager
def listening(serve: Callable[[socket.socket], None]) -> Iterator[int]:
    """A server that deals with each connection by ``serve``; gives its port."""
    with closing(socket.create_server(("127.0.0.1", 0))) as server:

        def accept() -> None:
            while True:
                try:
                    opened, _ = server.accept()
                except OSError:
                    return
                threading.Thread(target=_served, args=(serve, opened), daemon=True).start()

        threading.Thread(target=accept, daemon=True).start()
        yield server.getsockname()[1]


def _served(serve: Callable[[socket.socket], None], opened: socket.socket) -> None:
    with closing(opened), suppress(OSError, struct.error):
        opened.settimeout(10)
        serve(opened)


class PasswordThief:
    """A server of PostgreSQL's protocol that has no TLS, and asks for the password as it is."""

    def __init__(self) -> None:
        self.heard: list[bytes] = []

    def __call__(self, opened: socket.socket) -> None:
        while True:
            (size,) = struct.unpack("!I", _exactly(opened, 4))
            (code,) = struct.unpack("!I", _exactly(opened, 4))
            rest = _exactly(opened, size - 8)
            if code in (80877103, 80877104):  # TLS, or GSS
                opened.sendall(b"N")
                continue
            break
        self.heard.append(rest)
        opened.sendall(b"R" + struct.pack("!II", 8, 3))
        kind = opened.recv(1)
        if kind:
            (size,) = struct.unpack("!I", _exactly(opened, 4))
            self.heard.append(_exactly(opened, size - 4))


def _exactly(opened: socket.socket, size: int) -> bytes:
    found = b""
    while len(found) < size:
        part = opened.recv(size - len(found))
        if not part:
            raise OSError("closed")
        found += part
    return found
