"""Databases and file servers that speak no protocol, or too much of it: each is an error that says so, and takes no memory or time."""

from __future__ import annotations

import resource
import socket
import struct
from collections.abc import Callable
from pathlib import Path
from types import SimpleNamespace

import paramiko
import pytest

from tests.probes.hostile import as_json, http_server, listening
from ultravect.core.contracts.storage import Listing
from ultravect.core.engine.objects.connections import ConnectionSpec, probe, storage_of
from ultravect.core.kinds.sftp.storage import SftpStorage
from ultravect.service.telemetry import direct_session

SECRET = "hut-secret-of-some-length"


def _closes(opened: socket.socket) -> None:
    opened.recv(1)


def _garbage(opened: socket.socket) -> None:
    opened.sendall(bytes(range(256)) * 40)
    opened.recv(1 << 16)


def _huge(opened: socket.socket) -> None:
    """A packet that says to have two gigabytes, in the forms of all three."""
    opened.recv(1 << 16)
    opened.sendall(
        b"R" + struct.pack("!I", 0x7FFFFFF0) + b"\xff\xff\xff\x00\x0a" + b"\x04\x01\xff\xff" + b"\0" * 60_000
    )
    opened.recv(1 << 16)


def _endless(opened: socket.socket) -> None:
    for _ in range(2_000):
        opened.sendall(b"\x04\x00\xff\xff\x00\x00\x01\x00" + b"E\x00\x00\x00" * 16_000)


SERVERS: list[Callable[[socket.socket], None]] = [_closes, _garbage, _huge, _endless]


@pytest.mark.parametrize("serve", SERVERS)
@pytest.mark.parametrize("kind", ["postgresql", "mariadb", "sqlserver", "sftp"])
def test_what_is_no_server_is_an_error_that_says_so(kind: str, serve: Callable[[socket.socket], None]) -> None:
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    with listening(serve) as port:
        settings = {"host": "127.0.0.1", "port": port, "user": "u", "password": SECRET}
        more = {"host_key": "ssh-ed25519 AAAA"} if kind == "sftp" else {"database": "d", "tls": "preferred"}
        result = probe(ConnectionSpec("x", kind, {**settings, **more}))
    assert result.error is not None
    assert result.error.hint
    assert SECRET not in str(result.as_dict())
    # KiB: what a server says is not kept as long as it likes
    assert resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before < 400_000


def test_names_that_an_sftp_server_gives_lead_nowhere(monkeypatch: pytest.MonkeyPatch) -> None:
    names = ["plain.csv", "../secret.csv", "a/../../b.csv", "..", "..%2fx.csv", "/etc/passwd", "x\0y"]

    def entry(name: str) -> paramiko.SFTPAttributes:
        found = paramiko.SFTPAttributes()
        found.filename, found.st_mode, found.st_size, found.st_mtime = name, 0o100644, 1, 1
        return found

    client = SimpleNamespace(listdir_attr=lambda _: [entry(name) for name in names])
    storage = storage_of(ConnectionSpec("x", "sftp", {"host": "127.0.0.1", "user": "u"}))
    assert isinstance(storage, SftpStorage)
    found = list(storage._walk(client, "", Listing(limit=99), {}))  # type: ignore[arg-type]
    assert found == ["plain.csv"]


def test_a_collector_that_redirects_gets_nothing_at_the_other_address(tmp_path: Path) -> None:
    with (
        http_server(lambda *_: as_json({})) as elsewhere,
        http_server(lambda *_: (307, {"Location": elsewhere.url}, b"")) as collector,
    ):
        answer = direct_session().post(f"{collector.url}/v1/traces", data=b"spans", headers={"X-Key": SECRET})
        assert answer.status_code == 307
        assert len(collector.asked) == 1
        assert elsewhere.asked == []
