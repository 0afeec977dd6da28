"""A whole service: its own database server, the service itself, an admin and a token."""

from __future__ import annotations

import json
import os
import secrets
import shutil
import signal
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field
from pathlib import Path
from typing import IO, Any

import httpx

from devtools.postgres import PostgresServer, free_port
from devtools.prepared import prepared_state
from ultravect.client import Client

USER = "warden"
_START_SECONDS = 60
_KEPT = "kept.json"
NEW_RECORDS = "new_records"
"""A database that is the template of records as a new service has them, in a stack of the tests."""


@dataclass
class Stack:
    """``state`` holds everything that the stack writes."""

    state: Path
    postgres: PostgresServer
    port: int
    password: str
    key: str
    roots: Sequence[str]
    settings: dict[str, str] = field(default_factory=dict)
    slots: int = 2
    process: subprocess.Popen[bytes] | None = None
    token: str = ""

    @classmethod
    def start(
        cls,
        state: Path,
        *,
        port: int | None = None,
        roots: Sequence[str] = (),
        durable: bool = True,
        settings: Mapping[str, str] | None = None,
        slots: int = 2,
    ) -> Stack:
        stack = cls.set_up(state, port=port, roots=roots, durable=durable, settings=settings, slots=slots)
        stack.start_service()
        with Client(stack.url) as client:
            stack.token = client.issue_token(USER, stack.password, "dev").token
        stack.write_facts()
        return stack

    @classmethod
    def set_up(
        cls,
        state: Path,
        *,
        port: int | None = None,
        roots: Sequence[str] = (),
        durable: bool = True,
        settings: Mapping[str, str] | None = None,
        slots: int = 2,
    ) -> Stack:
        """The database server, with the records and an admin in it; the service does not run yet."""
        state.mkdir(parents=True, exist_ok=True)
        state = state.resolve()
        for folder in ("files", "secrets"):
            (state / folder).mkdir(exist_ok=True)
        kept = _kept(state)
        stack = cls(
            state,
            _server(kept["postgres"]) if kept else PostgresServer.create(state / "postgres", durable=durable),
            port or free_port(),
            kept["password"] if kept else secrets.token_urlsafe(12),
            kept["key"] if kept else secrets.token_urlsafe(32),
            [str(state / "files"), *roots],
            dict(settings or {}),
            slots,
        )
        if not kept:
            for database in ("ultravect", "warehouse"):
                stack.postgres.execute(f"CREATE DATABASE {database}")
            for schema in ("raw", "archive", "closing"):
                stack.postgres.execute(f"CREATE SCHEMA {schema}", "warehouse")
            stack._service("user", "add", USER, "--role", "admin", wait=True)
            stack._keep()
        return stack

    def _keep(self) -> None:
        """What is needed to start the same state again."""
        server = {"folder": str(self.postgres.folder), "password": self.postgres.password, "port": self.postgres.port}
        text = json.dumps({"postgres": server, "password": self.password, "key": self.key})
        _private(self.state / _KEPT).write(text)

    @property
    def url(self) -> str:
        return f"http://127.0.0.1:{self.port}"

    @property
    def files(self) -> Path:
        return self.state / "files"

    @property
    def environment(self) -> dict[str, str]:
        """What a process of the service finds in its environment."""
        return os.environ | {
            "ULTRAVECT_DATABASE_URL": self.postgres.url("ultravect"),
            "ULTRAVECT_KEY": self.key,
            "ULTRAVECT_PASSWORD": self.password,
            "ULTRAVECT_ROOTS": ":".join(self.roots),
            "ULTRAVECT_UPLOADS": str(self.state / "uploads"),
            "ULTRAVECT_SECRET_FOLDER": str(self.state / "secrets"),
            **self.settings,
        }

    def _service(self, *arguments: str, wait: bool = False) -> subprocess.Popen[bytes]:
        log = _private(self.state / "service.log", "a")
        command = [sys.executable, "-m", "ultravect.service", *arguments]
        process = subprocess.Popen(
            command, env=self.environment, stdout=log, stderr=log, stdin=subprocess.DEVNULL, start_new_session=True
        )
        if wait and process.wait():
            raise SystemExit(f"{' '.join(arguments)} failed:\n{(self.state / 'service.log').read_text()}")
        return process

    def start_service(self) -> None:
        self.process = self._service("serve", "--port", str(self.port), "--slots", str(self.slots))
        until = time.monotonic() + _START_SECONDS
        with httpx.Client(verify=False, timeout=5) as asking:
            while time.monotonic() < until:
                with suppress(httpx.TransportError):
                    if asking.get(f"{self.url}/api/v1/health").json().get("database") == "ok":
                        return
                if self.process.poll() is not None:
                    break
                time.sleep(0.1)
        raise SystemExit(f"the service did not start:\n{(self.state / 'service.log').read_text()}")

    def start_worker(self, *options: str) -> subprocess.Popen[bytes]:
        """A worker with one slot that claims work by now."""
        process = self._service("worker", "--slots", "1", *options)
        self.until_seen(process.pid)
        return process

    def until_seen(self, pid: int) -> None:
        """Waits until a worker has given a sign of life, a minute and a half at most: RuntimeError."""
        for _ in range(900):
            if self.postgres.execute(f"SELECT 1 FROM records_workerseen WHERE name ~ ':{pid}(@|$)'", "ultravect"):
                return
            time.sleep(0.1)
        log = (self.state / "service.log").read_text()
        raise RuntimeError(f"the worker did not start; the service's log ends with\n{log[-4000:]}")

    def start_remote_worker(self, token: str, *options: str, service: str = "") -> subprocess.Popen[bytes]:
        """A worker that knows of the service nothing but its address, and a token; ``service``: the address of another."""
        known = {key: value for key, value in os.environ.items() if not key.startswith("ULTRAVECT_")}
        roots = [part for root in self.roots for part in ("--root", root)]
        return subprocess.Popen(
            [
                sys.executable,
                "-m",
                "ultravect.cli.main",
                "worker",
                "--slots",
                "1",
                "--service",
                service or self.url,
                *roots,
                *options,
            ],
            env=known | {"ULTRAVECT_WORKER_TOKEN": token},
            stdout=(log := _private(self.state / "service.log", "a")),
            stderr=log,
            stdin=subprocess.DEVNULL,
            start_new_session=True,
        )

    def stop_service(self) -> None:
        if self.process is not None:
            stop_process(self.process.pid)
            self.process.wait()

    def kill(self) -> None:
        """Ends the service without a word, as a lost machine would."""
        assert self.process is not None, "it was started"
        self.process.kill()
        self.process.wait()

    def close(self) -> None:
        self.stop_service()
        self.postgres.stop()

    def write_facts(self) -> None:
        facts = {
            "url": self.url,
            "token": self.token,
            "user": USER,
            "password": self.password,
            "files": str(self.files),
            "warehouse": self.warehouse,
            "pid": self.process.pid if self.process else None,
            "postgres": {"folder": str(self.postgres.folder), "port": self.postgres.port},
        }
        _private(self.state / "service.json").write(json.dumps(facts, indent=2))

    @property
    def pid(self) -> int:
        """The process of the service, which was started."""
        assert self.process is not None
        return self.process.pid

    @property
    def warehouse(self) -> dict[str, object]:
        """Settings of the connection to the warehouse."""
        return {
            "host": "127.0.0.1", "port": self.postgres.port, "database": "warehouse",
            "user": "postgres", "password": self.postgres.password,
        }  # fmt: skip


@contextmanager
def temporary_stack(
    name: str, *, settings: Mapping[str, str] | None = None, slots: int = 2, roots: Sequence[str] = ()
) -> Iterator[Stack]:
    """A stack in a folder of its own, with connections ``incoming`` and ``warehouse``; it is removed at the end."""
    folder = Path(tempfile.mkdtemp(prefix=f"ultravect-{name}-", dir="/var/tmp"))
    folder.chmod(0o755)
    _copy_prepared(folder)
    stack = Stack.start(folder, roots=roots, durable=False, settings=settings, slots=slots)
    try:
        with Client(stack.url, token=stack.token) as client:
            client.add_connection("incoming", "folder", {"path": str(stack.files)})
            client.add_connection("warehouse", "postgresql", stack.warehouse)
        yield stack
    finally:
        stack.close()
        stack.postgres.remove()
        shutil.rmtree(folder, ignore_errors=True)


def _prepare(state: Path) -> None:
    """Makes the records of a new service, and stops their server again."""
    # the connection of uploads is of a folder that is known later
    postgres = Stack.set_up(state, durable=False, settings={"ULTRAVECT_UPLOADS": ""}).postgres
    # for tests that look at records which no service works on
    postgres.execute(f"CREATE DATABASE {NEW_RECORDS} TEMPLATE ultravect")
    postgres.stop()


def _copy_prepared(state: Path) -> None:
    """Makes ``state`` that of a service which was set up and has run nothing: records take seconds to make, and less to copy."""
    with prepared_state(_prepare) as prepared:
        subprocess.run(["cp", "-a", f"{prepared}/.", str(state)], check=True)
    kept = json.loads((state / _KEPT).read_text())
    kept["postgres"] |= {"folder": str(state / "postgres"), "port": free_port()}
    _private(state / _KEPT).write(json.dumps(kept))


def _private(path: Path, mode: str = "w") -> IO[str]:
    """A file that only its owner may read."""
    return open(path, mode, opener=lambda name, flags: os.open(name, flags, 0o600), buffering=1)


def _kept(state: Path) -> dict[str, Any] | None:
    try:
        kept: dict[str, Any] = json.loads((state / _KEPT).read_text())
    except FileNotFoundError:
        return None
    return kept


def _server(kept: Mapping[str, Any]) -> PostgresServer:
    # at the same port, which connections to it have in their settings
    server = PostgresServer(Path(kept["folder"]), kept["port"], kept["password"])
    server.stop()  # one that was left running, if there is one
    server.start()
    return server


def stop_process(pid: int) -> None:
    """Asks a process to end, and makes it after ten seconds."""
    with suppress(ProcessLookupError):
        os.kill(pid, signal.SIGTERM)
        for _ in range(100):
            with suppress(ChildProcessError):
                os.waitpid(pid, os.WNOHANG)
            os.kill(pid, 0)
            time.sleep(0.1)
        os.kill(pid, signal.SIGKILL)


def stop_state(state: Path) -> str:
    """Stops what `./dev serve --detach` started."""
    path = state / "service.json"
    if not path.exists():
        return f"nothing was started in {state}"
    facts = json.loads(path.read_text())
    if facts["pid"]:
        stop_process(facts["pid"])
    PostgresServer(Path(facts["postgres"]["folder"]), facts["postgres"]["port"], "").stop()
    path.unlink()
    return f"stopped the service of {state}"
