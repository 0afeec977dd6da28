"""Object stores, SFTP and HTTP, against real servers: what is listed, opened and refused, and how a test says it."""

from __future__ import annotations

import functools
import gzip
import io
import os
import shutil
import subprocess
import threading
from collections.abc import Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.parquet as pq
import pytest
from demo.objectstore import ObjectStore
from devtools.sshd import SshServer
from tests.core.conftest import Certificates

from ultravect.core.contracts.storage import Listing
from ultravect.core.engine.look.browse import Wanted, preview
from ultravect.core.engine.objects.connections import ConnectionSpec, probe, storage_of
from ultravect.core.errors import UltravectError

NAMES = ["a.csv", "deep/b.csv", "deep/er/c ä.csv", "n.parquet", "z.csv.gz"]


def fill(folder: Path) -> None:
    (folder / "deep" / "er").mkdir(parents=True, exist_ok=True)
    for name in ("a.csv", "deep/b.csv", "deep/er/c ä.csv"):
        (folder / name).write_text("hut,beds\n001,12\n002,8\n")
    (folder / "z.csv.gz").write_bytes(gzip.compress(b"hut,beds\n003,5\n"))
    pq.write_table(pa.table({"n": range(50_000)}), folder / "n.parquet")


def code_of(spec: ConnectionSpec, *, write: bool = False) -> tuple[str | None, list[tuple[str, str]]]:
    """The code of a test's failure, and the state of each step."""
    result = probe(spec, write=write)
    assert result.error is None or result.error.hint
    return result.error and result.error.code, [(step.step, step.state) for step in result.steps]


def removes_only_what_is_known(spec: ConnectionSpec, folder: Path) -> None:
    storage = storage_of(spec)
    (known,) = storage.list(Listing(pattern="a.csv"))
    text = (folder / "a.csv").read_text()
    # of the same size and, where no store says more, of another second
    (folder / "a.csv").write_text(text.replace("001", "101"))
    os.utime(folder / "a.csv", (1_000_000_000, 1_000_000_000))
    with pytest.raises(UltravectError) as refused:
        storage.remove("a.csv", known)
    assert refused.value.code == "file-replaced"
    assert (folder / "a.csv").exists()
    (known,) = storage.list(Listing(pattern="a.csv"))
    storage.remove("a.csv", known)
    storage.remove("a.csv", known)
    assert not (folder / "a.csv").exists()


def reads_everything(spec: ConnectionSpec) -> None:
    storage = storage_of(spec)
    whole = storage.list(Listing())
    assert [info.path for info in whole] == NAMES
    assert all(info.size > 0 and info.modified for info in whole)
    paged: list[str] = []
    while page := storage.list(Listing(after=paged[-1] if paged else "", limit=2)):
        paged += [info.path for info in page]
    assert paged == NAMES
    assert [info.path for info in storage.list(Listing(pattern="deep/**"))] == NAMES[1:3]
    assert [info.path for info in storage.list(Listing(search="C Ä"))] == NAMES[2:3]
    with storage.open("n.parquet").stream as stream:
        assert stream.seekable()
        stream.seek(-4, io.SEEK_END)
        assert (stream.read(), stream.read()) == (b"PAR1", b"")
        stream.seek(0)
        assert stream.read(4) == b"PAR1"
    assert preview(spec, "n.parquet", Wanted(rows=2))["rows"] == [["0"], ["1"]]
    assert preview(spec, "z.csv.gz", Wanted())["rows"] == [["003", "5"]]
    seen = preview(spec, "**/*.csv", Wanted(rows=9, whole=True))
    assert (seen["rows_scanned"], [item["type"] for item in seen["columns"]]) == (6, ["text", "integer"])
    with pytest.raises(UltravectError) as raised:
        storage.open("a.cvs")
    assert (raised.value.code, raised.value.hint) == ("file-missing", "did you mean 'a.csv'?")


class TestObjectStore:
    @pytest.fixture
    def bucket(self, store: ObjectStore) -> Iterator[Path]:
        folder = store.folder / "masts"
        fill(folder)
        store.forget(folder)
        yield folder
        shutil.rmtree(folder)
        store.forget(folder)

    def spec(self, store: ObjectStore, bucket: str = "masts", **changes: object) -> ConnectionSpec:
        return ConnectionSpec("masts", "objectstore", store.settings(bucket, **changes))

    @pytest.mark.usefixtures("bucket")
    def test_reads(self, store: ObjectStore) -> None:
        reads_everything(self.spec(store))
        below = storage_of(self.spec(store, prefix="deep/"))
        assert [info.path for info in below.list(Listing())] == ["b.csv", "er/c ä.csv"]

    def test_only_what_is_known_is_removed(self, store: ObjectStore, bucket: Path) -> None:
        removes_only_what_is_known(self.spec(store), bucket)

    @pytest.mark.usefixtures("bucket")
    def test_a_thousand_objects_and_more(self, store: ObjectStore, bucket: Path) -> None:
        for number in range(1005):
            (bucket / f"many-{number:04d}.csv").touch()
        store.forget(bucket)
        assert len(storage_of(self.spec(store)).list(Listing(pattern="many-*", limit=5000))) == 1005

    @pytest.mark.usefixtures("bucket")
    def test_steps(self, store: ObjectStore) -> None:
        steps = ["resolve", "reach", "sign in", "list", "read", "write"]
        assert code_of(self.spec(store), write=True) == (None, [(step, "passed") for step in steps])
        assert [info.path for info in storage_of(self.spec(store)).list(Listing())] == NAMES

    @pytest.mark.usefixtures("bucket")
    @pytest.mark.parametrize(
        ("changes", "code", "failed"),
        [
            ({"bucket": "mast"}, "bucket-missing", "sign in"),
            ({"secret_key": "wrong"}, "wrong-key", "sign in"),
            ({"access_key": "AKOTHER"}, "wrong-key", "sign in"),
            ({"endpoint": "http://127.0.0.1:1"}, "port-refused", "reach"),
            ({"endpoint": "http://no-such-host.invalid"}, "unknown-host", "resolve"),
        ],
    )
    def test_what_fails_is_reported(
        self, changes: dict[str, Any], code: str, failed: str, store: ObjectStore
    ) -> None:
        found, steps = code_of(ConnectionSpec("masts", "objectstore", store.settings("masts") | changes))
        assert (found, [step for step, state in steps if state == "failed"]) == (code, [failed])

    def test_denied(self, store: ObjectStore) -> None:
        (store.folder / "closed").mkdir(exist_ok=True)
        store.denied.add("closed")
        assert code_of(self.spec(store, "closed"))[0] == "bucket-denied"

    def test_replaced_while_it_is_read(self, store: ObjectStore, bucket: Path) -> None:
        (bucket / "a.csv").write_bytes(b"x" * (3 << 20))
        stream = storage_of(self.spec(store)).open("a.csv").stream
        (bucket / "a.csv").write_bytes(b"y" * (4 << 20))
        with stream, pytest.raises(UltravectError) as raised:
            stream.read()
        assert raised.value.code == "file-changed"

    def test_certificates(self, tmp_path: Path, certificates: Certificates) -> None:
        fill(tmp_path / "masts")
        tls = ObjectStore(tmp_path, "AK", "secret", tls=certificates.context()).run()
        assert code_of(self.spec(tls))[0] == "certificate-refused"
        assert code_of(self.spec(tls, tls_ca=certificates.authority))[0] is None
        assert code_of(self.spec(tls, tls="unchecked"))[0] is None
        tls.shutdown()


class TestSftp:
    @pytest.fixture
    def files(self, ssh: SshServer) -> Iterator[Path]:
        fill(ssh.files)
        yield ssh.files
        for path in ssh.files.iterdir():
            shutil.rmtree(path) if path.is_dir() else path.unlink()

    def spec(self, settings: dict[str, object]) -> ConnectionSpec:
        return ConnectionSpec("freight", "sftp", settings)

    @pytest.mark.usefixtures("files")
    def test_reads(self, ssh: SshServer) -> None:
        reads_everything(self.spec(ssh.settings()))
        fingerprint = subprocess.run(
            ["ssh-keygen", "-lf", ssh.folder / "host_key.pub"], capture_output=True, text=True
        )
        assert code_of(self.spec(ssh.settings(host_key=fingerprint.stdout.split()[1])))[0] is None

    def test_only_what_is_known_is_removed(self, ssh: SshServer, files: Path) -> None:
        removes_only_what_is_known(self.spec(ssh.settings()), files)

    @pytest.mark.usefixtures("files")
    def test_a_large_file_arrives_as_it_is(self, ssh: SshServer, files: Path) -> None:
        content = os.urandom((9 << 20) + 17)
        (files / "large.bin").write_bytes(content)
        with storage_of(self.spec(ssh.settings())).open("large.bin").stream as stream:
            assert stream.read() == content
            stream.seek(5 << 20)
            assert stream.read(1000) == content[5 << 20 :][:1000]

    @pytest.mark.usefixtures("files")
    def test_steps(self, ssh: SshServer) -> None:
        steps = ["resolve", "reach", "host key", "sign in", "list", "read", "write"]
        assert code_of(self.spec(ssh.settings()), write=True) == (None, [(step, "passed") for step in steps])

    @pytest.mark.skipif(os.geteuid() != 0, reason="only root can make a user with a password")
    def test_password(self, ssh: SshServer) -> None:
        ssh.allow_password()
        assert code_of(self.spec(ssh.password_settings()))[0] is None
        assert code_of(self.spec(ssh.password_settings(password="wrong")))[0] == "wrong-password"

    @pytest.mark.usefixtures("files")
    @pytest.mark.parametrize(
        ("changes", "code", "failed"),
        [
            ({"host_key": ""}, "host-key-unknown", "host key"),
            ({"host_key": "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIBADBADBADBADBADBADBADBADBADBADBADBADBADBADBA"}, "host-key-changed", "host key"),
            ({"private_key": "rubbish"}, "wrong-key", "sign in"),
            ({"user": "no-such-user"}, "wrong-password", "sign in"),
            ({"folder": "/no/such/folder"}, "folder-missing", "list"),
            ({"port": 1}, "port-refused", "reach"),
        ],
    )  # fmt: skip
    def test_what_fails_is_reported(self, changes: dict[str, Any], code: str, failed: str, ssh: SshServer) -> None:
        found, steps = code_of(self.spec(ssh.settings(**changes)))
        assert (found, [step for step, state in steps if state == "failed"]) == (code, [failed])

    def test_the_hint_has_the_key_to_be_confirmed(self, ssh: SshServer) -> None:
        error = probe(self.spec(ssh.settings(host_key=""))).error
        assert error is not None
        assert error.hint.endswith(ssh.host_key)

    @pytest.mark.usefixtures("files")
    @pytest.mark.parametrize("path", ["../user_key", "/etc/passwd", "deep/../../user_key"])
    def test_nothing_outside(self, path: str, ssh: SshServer) -> None:
        with pytest.raises(UltravectError) as raised:
            storage_of(self.spec(ssh.settings())).open(path)
        assert raised.value.code == "file-outside-folder"

    @pytest.mark.usefixtures("files")
    def test_links_that_lead_away_and_hidden_files(self, ssh: SshServer) -> None:
        (ssh.files / "out.csv").symlink_to(ssh.folder / "user_key")
        (ssh.files / "up").symlink_to(ssh.folder)
        (ssh.files / ".env").write_text("x")
        storage = storage_of(self.spec(ssh.settings(folder=str(ssh.files))))
        for path, code in (
            ("out.csv", "file-outside-folder"),
            ("up/user_key", "file-outside-folder"),
            (".env", "file-hidden"),
        ):
            with pytest.raises(UltravectError) as raised:
                storage.open(path)
            assert raised.value.code == code
        with pytest.raises(UltravectError) as raised:
            storage.put("up/new.csv", ssh.files / "a.csv")
        assert raised.value.code == "file-outside-folder"
        for path in ("out.csv", "up", ".env"):
            (ssh.files / path).unlink()

    def test_it_does_not_speak_ssh(self, store: ObjectStore, ssh: SshServer) -> None:
        found, _ = code_of(self.spec(ssh.settings(port=store.server_address[1])))
        assert found == "sign-in-failed"


class _Web(BaseHTTPRequestHandler):
    """Answers for the tests; ``other`` is the port of a second server."""

    protocol_version = "HTTP/1.1"

    def __init__(self, *arguments: Any, other: int = 0, seen: list[tuple[str, str | None]]) -> None:
        self.other, self.seen = other, seen
        super().__init__(*arguments)

    def log_message(self, *arguments: Any) -> None:
        pass

    def do_HEAD(self) -> None:
        self.do_GET()

    def do_GET(self) -> None:
        self.seen.append((self.path, self.headers.get("Authorization")))
        moved = {
            "/data/near": "/data/a.json",
            "/data/away": f"http://localhost:{self.other}/data/a.json",
            "/data/circle": "/data/circle",
            "/data/odd": "ftp://127.0.0.1/x",
        }
        if self.path in moved:
            return self._answer(302, b"", {"Location": moved[self.path]})
        if self.path == "/data/closed" and self.headers.get("Authorization") not in (
            "Bearer t0ken",
            "Basic aHV0OnNlc2FtZQ==",
        ):
            return self._answer(401, b"who?", {})
        if self.path == "/data/broken":
            return self._answer(500, b"", {})
        if self.path == "/data/short":
            self.send_response(200)
            self.send_header("Content-Length", "1000")
            self.end_headers()
            self.wfile.write(b'[{"a": 1}')
            self.close_connection = True
            return None
        if self.path in ("/data/", "/data/a.json", "/data/closed"):
            return self._answer(200, b'[{"a": 1}, {"a": 2}]', {"Last-Modified": "Wed, 01 Jul 2026 10:00:00 GMT"})
        return self._answer(404, b"", {})

    def _answer(self, status: int, body: bytes, headers: dict[str, str]) -> None:
        self.send_response(status)
        for name, value in {"Content-Length": str(len(body)), **headers}.items():
            self.send_header(name, value)
        self.end_headers()
        if self.command != "HEAD":
            self.wfile.write(body)


class TestHttp:
    @pytest.fixture
    def seen(self) -> list[tuple[str, str | None]]:
        return []

    @pytest.fixture
    def url(self, seen: list[tuple[str, str | None]]) -> Iterator[str]:
        second = ThreadingHTTPServer(("127.0.0.1", 0), functools.partial(_Web, seen=seen))
        first = ThreadingHTTPServer(
            ("127.0.0.1", 0), functools.partial(_Web, seen=seen, other=second.server_address[1])
        )
        for server in (first, second):
            threading.Thread(target=server.serve_forever, daemon=True).start()
        yield f"http://127.0.0.1:{first.server_address[1]}/data"
        for server in (first, second):
            server.shutdown()

    def spec(self, url: str, **settings: object) -> ConnectionSpec:
        return ConnectionSpec("forecast", "http", {"url": url, **settings})

    def test_reads(self, url: str) -> None:
        spec = self.spec(url, paths=["a.json", "near"])
        assert [(info.path, info.size) for info in storage_of(spec).list(Listing())] == [("a.json", 20), ("near", 20)]
        assert preview(spec, "near", Wanted())["rows"] == [["1"], ["2"]]
        steps = ["resolve", "reach", "sign in", "list", "read"]
        assert code_of(spec) == (None, [(step, "passed") for step in steps])

    @pytest.mark.parametrize("settings", [{"token": "t0ken"}, {"user": "hut", "password": "sesame"}])
    def test_signs_in(self, settings: dict[str, Any], url: str) -> None:
        assert preview(self.spec(url, **settings), "closed", Wanted())["rows"] == [["1"], ["2"]]

    @pytest.mark.parametrize(
        ("path", "code"),
        [
            ("closed", "wrong-password"),
            ("none", "file-missing"),
            ("broken", "server-refused"),
            ("short", "connection-lost"),
            ("away", "redirect-refused"),
            ("circle", "redirect-refused"),
            ("odd", "redirect-refused"),
            ("../secret", "file-outside-folder"),
            ("http://example.org/x", "file-outside-folder"),
        ],
    )
    def test_what_fails_is_reported(self, path: str, code: str, url: str) -> None:
        with pytest.raises(UltravectError) as raised:
            preview(self.spec(url), path, Wanted())
        assert (raised.value.code, bool(raised.value.hint)) == (code, True)

    def test_a_redirect_into_a_private_network_is_followed_only_when_allowed(
        self, url: str, seen: list[tuple[str, str | None]]
    ) -> None:
        spec = self.spec(url, private_redirects=True, token="t0ken")
        assert preview(spec, "away", Wanted())["rows"] == [["1"], ["2"]]
        # the token stays with the server it is for
        assert {token for path, token in seen if path == "/data/away"} == {"Bearer t0ken"}
        assert {token for path, token in seen if path == "/data/a.json"} == {None}

    def test_certificates(self, certificates: Certificates) -> None:
        server = ThreadingHTTPServer(("127.0.0.1", 0), functools.partial(_Web, seen=[]))
        server.socket = certificates.context().wrap_socket(server.socket, server_side=True)
        threading.Thread(target=server.serve_forever, daemon=True).start()
        url = f"https://127.0.0.1:{server.server_address[1]}/data"
        assert code_of(self.spec(url))[0] == "certificate-refused"
        assert code_of(self.spec(url, tls_ca=certificates.authority))[0] is None
        assert code_of(self.spec(url, tls="unchecked"))[0] is None
        broken = "-----BEGIN CERTIFICATE-----\nrubbish\n-----END CERTIFICATE-----\n"
        assert code_of(self.spec(url, tls_ca=broken))[0] == "certificate-unusable"
        server.shutdown()
