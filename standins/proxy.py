"""What stands between a client and a PostgreSQL server, and passes on what they say: stand-ins change some of it."""

from __future__ import annotations

import socket
import struct
import threading
from abc import ABC, abstractmethod
from collections.abc import Iterator
from select import select
from urllib.parse import urlsplit


class ProxyServer(ABC):
    """Listens on loopback; ``postgres`` is the URL of the server that it passes on to."""

    def __init__(self, postgres: str, *, port: int = 0) -> None:
        self._postgres = urlsplit(postgres)
        self._listener = socket.create_server(("127.0.0.1", port), backlog=32)
        self.port = int(self._listener.getsockname()[1])
        threading.Thread(target=self._accept, name=f"stand-in at {self.port}", daemon=True).start()

    @abstractmethod
    def serve(self, client: socket.socket, backend: socket.socket) -> None:
        """Passes on what both say, until one of them has gone."""

    def close(self) -> None:
        self._listener.close()

    def _accept(self) -> None:
        while True:
            try:
                client, _ = self._listener.accept()
            except OSError:
                return
            threading.Thread(target=self._begin, args=(client,), daemon=True).start()

    def _begin(self, client: socket.socket) -> None:
        with client:
            try:
                startup = self._startup(client)
                with socket.create_connection((self._postgres.hostname, self._postgres.port)) as backend:
                    backend.sendall(startup)
                    self.serve(client, backend)
            except (OSError, EOFError, struct.error):
                pass  # one side has gone

    @staticmethod
    def _startup(client: socket.socket) -> bytes:
        while True:
            (length,) = struct.unpack(">I", exactly(client, 4))
            body = exactly(client, length - 4)
            if struct.unpack(">I", body[:4])[0] not in (80877103, 80877104):
                return struct.pack(">I", length) + body
            client.sendall(b"N")  # no TLS


class Proxy(ABC):
    """One client's session."""

    def __init__(self, client: socket.socket, backend: socket.socket) -> None:
        self.client, self.backend = client, backend
        self._pending = b""

    @abstractmethod
    def pass_on(self, kind: bytes, body: bytes) -> None:
        """Sends a message of the client on, or does with it what else is to be done."""

    def run(self) -> None:
        while True:
            ready, _, _ = select([self.client, self.backend], [], [])
            if self.backend in ready:
                data = self.backend.recv(65536)
                if not data:
                    return
                self.client.sendall(data)
            if self.client in ready:
                data = self.client.recv(65536)
                if not data:
                    return
                self._pending += data
                for kind, body in self._messages():
                    self.pass_on(kind, body)

    def _messages(self) -> Iterator[tuple[bytes, bytes]]:
        while len(self._pending) >= 5:
            (length,) = struct.unpack(">I", self._pending[1:5])
            if len(self._pending) < length + 1:
                return
            kind, body = self._pending[:1], self._pending[5 : length + 1]
            self._pending = self._pending[length + 1 :]
            yield kind, body


def exactly(source: socket.socket, count: int) -> bytes:
    data = b""
    while len(data) < count:
        part = source.recv(count - len(data))
        if not part:
            raise EOFError
        data += part
    return data


def message(kind: bytes, body: bytes) -> bytes:
    return kind + struct.pack(">I", len(body) + 4) + body
