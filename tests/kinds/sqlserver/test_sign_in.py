"""Signing in: what each refusal says, and TLS in all its modes."""

from __future__ import annotations

import socket
import subprocess
from pathlib import Path
from typing import Any

import pytest
from standins.sqlserver.server import SqlserverStandIn
from tests.kinds.sqlserver.conftest import Server

from ultravect.core.contracts.probe import run_steps
from ultravect.core.errors import UltravectError

REFUSED = [
    ({"password": "wrong"}, "wrong-password", "user 'postgres'"),
    ({"user": "no-such-user", "password": "x"}, "wrong-password", "user 'no-such-user'"),
    ({"database": "nowhere"}, "unknown-database", "no database 'nowhere'"),
    ({"port": 1}, "port-refused", "127.0.0.1:1"),
    ({"host": "no-such-host.invalid"}, "unknown-host", "no-such-host.invalid"),
    ({"instance": "NIGHT"}, "unknown-instance", "instance 'NIGHT'"),
]


@pytest.mark.parametrize(("changed", "code", "said"), REFUSED)
def test_a_refusal_says_what_is_wrong(
    server: Server, stand_in: SqlserverStandIn, changed: dict[str, Any], code: str, said: str
) -> None:
    with pytest.raises(UltravectError) as raised:
        server.database(**changed).ask("SELECT 1", 1, 5)
    assert (raised.value.code, said in raised.value.detail) == (code, True)
    assert raised.value.hint
    assert str(server.settings["password"]) not in raised.value.detail


def test_an_account_that_is_locked_and_a_database_that_is_offline(server: Server, stand_in: SqlserverStandIn) -> None:
    stand_in.locked.add("postgres")
    try:
        with pytest.raises(UltravectError) as raised:
            server.database().ask("SELECT 1", 1, 5)
        assert raised.value.code == "account-locked"
    finally:
        stand_in.locked.clear()
    stand_in.offline.add("ledger")
    try:
        with pytest.raises(UltravectError) as raised:
            server.database().ask("SELECT 1", 1, 5)
        assert raised.value.code == "database-offline"
    finally:
        stand_in.offline.clear()


def test_a_test_of_the_connection_goes_step_by_step(server: Server) -> None:
    database = server.database()
    result = run_steps([*database.steps(), *database.write_steps()])
    assert [step.state for step in result.steps] == ["passed"] * len(result.steps)
    assert [step.step for step in result.steps] == ["resolve", "reach", "sign in", "list", "read", "log", "write"]


@pytest.fixture(scope="module")
def certificates(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("tls")
    (folder / "server.ext").write_text("subjectAltName=IP:127.0.0.1\n")
    for command in (
        "openssl req -x509 -newkey rsa:2048 -nodes -keyout ca.key -out ca.pem -days 2 -subj /CN=test-authority",
        "openssl req -x509 -newkey rsa:2048 -nodes -keyout other.key -out other.pem -days 2 -subj /CN=another-authority",
        "openssl req -newkey rsa:2048 -nodes -keyout server.key -out server.csr -subj /CN=ledger",
        "openssl x509 -req -in server.csr -CA ca.pem -CAkey ca.key -CAcreateserial -out server.crt -days 2 -extfile server.ext",
    ):
        subprocess.run(command.split(), cwd=folder, check=True, capture_output=True)
    (folder / "server.pem").write_text((folder / "server.key").read_text() + (folder / "server.crt").read_text())
    return folder


MODES = [
    ("off", "off", "", "not encrypted"),
    ("off", "preferred", "", "not encrypted"),
    ("off", "required", "", "no-tls"),
    ("off", "verified", "ca", "no-tls"),
    ("on", "off", "", "not encrypted"),
    ("on", "preferred", "", "encrypted with"),
    ("on", "required", "", "encrypted with"),
    ("on", "verified", "ca", "encrypted with"),
    ("on", "verified", "other", "certificate-refused"),
    ("required", "off", "", "no-tls"),
    ("required", "preferred", "", "encrypted with"),
]


@pytest.mark.parametrize(("offered", "wanted", "authority", "outcome"), MODES)
def test_tls_is_as_both_sides_want_it(
    server: Server,
    stand_in: SqlserverStandIn,
    certificates: Path,
    offered: str,
    wanted: str,
    authority: str,
    outcome: str,
) -> None:
    assert server.start is not None
    other = server.start(certificate=str(certificates / "server.pem"), encryption=offered)
    trusted = (certificates / f"{authority}.pem").read_text() if authority else ""
    database = server.database(port=other.port, tls=wanted, tls_ca=trusted)
    try:
        step = next(step for step in database.steps() if step.name == "sign in")
        if outcome.startswith(("not ", "encrypted")):
            assert outcome in step.run()
            return
        with pytest.raises(UltravectError) as raised:
            step.run()
        assert raised.value.code == outcome
    finally:
        other.close()


def test_a_certificate_for_another_host_is_refused(
    server: Server, stand_in: SqlserverStandIn, certificates: Path
) -> None:
    assert server.start is not None
    other = server.start(certificate=str(certificates / "server.pem"), encryption="on")
    trusted = (certificates / "ca.pem").read_text()
    with pytest.raises(UltravectError) as raised:
        server.database(port=other.port, host="localhost", tls="verified", tls_ca=trusted).ask("SELECT 1", 1, 5)
    assert raised.value.code == "certificate-refused"
    other.close()


NONSENSE = [
    b"", b"\x12", b"GET / HTTP/1.1\r\n\r\n", bytes(64), b"\x12\x01\x00\x08\x00\x00\x00\x00", b"\x12\x01\xff\xff" + bytes(100),
]  # fmt: skip


@pytest.mark.parametrize("sent", NONSENSE)
def test_nonsense_does_not_end_the_stand_in(server: Server, stand_in: SqlserverStandIn, sent: bytes) -> None:
    with socket.create_connection(("127.0.0.1", stand_in.port)) as opened:
        opened.sendall(sent)
    assert server.sql("SELECT 1") == [(1,)]
