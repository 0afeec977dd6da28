"""The other servers, for tests of the core: one of each a session, started when first needed."""

from __future__ import annotations

import secrets
import shutil
import ssl
import subprocess
import tempfile
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import pytest
from demo.objectstore import ObjectStore
from devtools.mariadb import MariadbServer
from devtools.pairs import Place, make_places
from devtools.sshd import SshServer
from devtools.stack import Stack


@dataclass(frozen=True)
class Certificates:
    """An authority and a server certificate of its own for 127.0.0.1; files in ``folder``."""

    folder: Path

    @property
    def authority(self) -> str:
        return (self.folder / "ca.pem").read_text()

    def context(self) -> ssl.SSLContext:
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        context.load_cert_chain(self.folder / "server.pem", self.folder / "server.key")
        return context


@pytest.fixture(scope="session")
def certificates() -> Iterator[Certificates]:
    # the database server runs as someone else, who must get there
    folder = Path(tempfile.mkdtemp(prefix="ultravect-tls-", dir="/var/tmp"))
    folder.chmod(0o755)
    (folder / "server.ext").write_text("subjectAltName=IP:127.0.0.1\n")
    for command in (
        "openssl req -x509 -newkey rsa:2048 -nodes -keyout ca.key -out ca.pem -days 2 -subj /CN=test-authority",
        "openssl req -newkey rsa:2048 -nodes -keyout server.key -out server.csr -subj /CN=127.0.0.1",
        "openssl x509 -req -in server.csr -CA ca.pem -CAkey ca.key -CAcreateserial -out server.pem -days 2 -extfile server.ext",
    ):
        subprocess.run(command.split(), cwd=folder, check=True, capture_output=True)
    for path in folder.iterdir():
        path.chmod(0o644)
    yield Certificates(folder)
    shutil.rmtree(folder)


@pytest.fixture(scope="session")
def mariadb(certificates: Certificates) -> Iterator[MariadbServer]:
    folder = certificates.folder
    options = [f"--ssl-ca={folder}/ca.pem", f"--ssl-cert={folder}/server.pem", f"--ssl-key={folder}/server.key"]
    server = MariadbServer.create(options=options, logged=True)
    server.execute("CREATE DATABASE huts")
    yield server
    server.remove()


@pytest.fixture(scope="session")
def ssh() -> Iterator[SshServer]:
    server = SshServer.create()
    yield server
    server.remove()


@pytest.fixture(scope="session")
def store(tmp_path_factory: pytest.TempPathFactory) -> Iterator[ObjectStore]:
    folder = tmp_path_factory.mktemp("buckets")
    server = ObjectStore(folder, "AKTEST", secrets.token_urlsafe(20)).run()
    yield server
    server.shutdown()


@pytest.fixture(scope="session")
def places(stack: Stack, mariadb: MariadbServer, tmp_path_factory: pytest.TempPathFactory) -> dict[str, Place]:
    """The four databases, with the same table of extreme values in each."""
    return make_places(stack.postgres, "warehouse", mariadb, tmp_path_factory.mktemp("pairs"))
