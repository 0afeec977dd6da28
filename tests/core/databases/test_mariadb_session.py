"""A MariaDB server that means harm: it asks for local files, or for a password that it can read."""

from __future__ import annotations

import socket
import struct
import threading
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path

import pytest
from devtools.mariadb import MariadbServer

from ultravect.core.engine.objects.connections import ConnectionSpec, probe
from ultravect.core.errors import UltravectError
from ultravect.core.kinds.mariadb.guard import cipher
from ultravect.core.kinds.mariadb.kind import MariadbSettings
from ultravect.core.kinds.mariadb.session import sign_in

_OK = b"\x00\x00\x00\x02\x00\x00\x00"


def _packet(number: int, data: bytes) -> bytes:
    return struct.pack("<I", len(data))[:3] + bytes([number]) + data


class Hostile:
    """Speaks just enough of the protocol; ``asks`` is the file that it wants in answer to every statement."""

    def __init__(self, asks: Path, plugin: str = "") -> None:
        self.asks, self.plugin = asks, plugin
        self.heard = b""
        self._server = socket.create_server(("127.0.0.1", 0))
        self.port: int = self._server.getsockname()[1]
        threading.Thread(target=self._serve, daemon=True).start()

    def _serve(self) -> None:
        with suppress(OSError):
            while True:
                client, _ = self._server.accept()
                threading.Thread(target=self._talk, args=(client,), daemon=True).start()

    def _read(self, client: socket.socket) -> tuple[int, bytes]:
        head = client.recv(4, socket.MSG_WAITALL)
        if len(head) < 4:
            raise OSError
        size = int.from_bytes(head[:3], "little")
        data = client.recv(size, socket.MSG_WAITALL) if size else b""
        self.heard += data
        return head[3], data

    def _talk(self, client: socket.socket) -> None:
        flags = 0x81FFF7FF & ~0x800  # everything but TLS
        greeting = b"\x0a10.11.0-MariaDB\0" + struct.pack("<I", 7) + b"12345678\0" + struct.pack("<H", flags & 0xFFFF)
        greeting += b"\x2d" + struct.pack("<H", 2) + struct.pack("<H", flags >> 16) + b"\x15" + b"\0" * 10
        greeting += b"123456789012\0mysql_native_password\0"
        with client, suppress(OSError):
            client.sendall(_packet(0, greeting))
            number, _ = self._read(client)
            if self.plugin:
                client.sendall(_packet(number + 1, b"\xfe" + self.plugin.encode() + b"\0\0"))
                number, _ = self._read(client)
            client.sendall(_packet(number + 1, _OK))
            while True:
                number, asked = self._read(client)
                if asked[:1] == b"\x01":
                    return
                client.sendall(_packet(number + 1, b"\xfb" + str(self.asks).encode()))
                number, data = self._read(client)
                while data:
                    number, data = self._read(client)
                client.sendall(_packet(number + 1, _OK))

    def close(self) -> None:
        self._server.close()


@pytest.fixture
def secret(tmp_path: Path) -> Path:
    path = tmp_path / "secret"
    path.write_text("only-for-this-machine")
    return path


@pytest.mark.parametrize("local_infile", [0, 1])
def test_a_server_gets_no_file_that_it_was_not_offered(secret: Path, local_infile: int) -> None:
    server = Hostile(secret)
    settings = MariadbSettings(host="127.0.0.1", port=server.port, database="d", user="u", password="p", tls="off")
    with pytest.raises(UltravectError):
        sign_in("hostile", settings, local_infile=local_infile)
    server.close()
    assert b"only-for-this-machine" not in server.heard


@pytest.mark.parametrize("plugin", ["mysql_clear_password", "dialog"])
@pytest.mark.parametrize("tls", ["off", "preferred", "required"])
def test_no_password_is_sent_as_it_is(secret: Path, plugin: str, tls: str) -> None:
    server = Hostile(secret, plugin)
    settings = MariadbSettings(
        host="127.0.0.1", port=server.port, database="d", user="u", password="never-in-clear", tls=tls
    )
    with pytest.raises(UltravectError) as raised:
        sign_in("hostile", settings)
    server.close()
    assert raised.value.code in ("sign-in-unsafe", "no-tls")
    assert b"never-in-clear" not in server.heard


@pytest.fixture(scope="module")
def without_tls() -> Iterator[MariadbServer]:
    server = MariadbServer.create(options=["--skip-ssl"])
    yield server
    server.remove()


@pytest.mark.parametrize(
    ("tls", "code"), [("off", None), ("preferred", None), ("required", "no-tls"), ("verified", "no-tls")]
)
def test_required_refuses_a_server_without_tls(tls: str, code: str | None, without_tls: MariadbServer) -> None:
    spec = ConnectionSpec("db", "mariadb", without_tls.settings("information_schema") | {"tls": tls})
    result = probe(spec)
    assert (result.error.code if result.error else None) == code


def test_the_cipher_is_that_of_the_client(without_tls: MariadbServer) -> None:
    settings = MariadbSettings(**without_tls.settings("information_schema"))
    session = sign_in("db", settings)
    assert cipher(session) == ""
    session.close()
