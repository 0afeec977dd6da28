"""What tests share: one service with its own database server, and names that do not collide."""

from __future__ import annotations

import itertools
import os
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

import httpx
import psycopg
import pytest
from devtools.postgres import free_port
from devtools.stack import Stack, temporary_stack
from hypothesis import settings

from ultravect.client import Client, Run

# in CI the same examples each time: a new find must not fail someone else's change
settings.register_profile("ci", derandomize=True, deadline=None, max_examples=14)
# how long an example takes says more of the machine than of the code
settings.register_profile("here", deadline=None)
settings.load_profile("ci" if os.environ.get("CI") else "here")

# of a machine that tests several things at once, an answer after five seconds is no fault
for _part in ("connect", "read", "write", "pool"):
    setattr(httpx._config.DEFAULT_TIMEOUT_CONFIG, _part, 60)

_numbers = itertools.count(1)
LOST_AFTER = 4


@pytest.fixture(scope="session")
def stack() -> Iterator[Stack]:
    settings = {
        "ULTRAVECT_LOST_AFTER": str(LOST_AFTER),
        "ULTRAVECT_MAIL_SERVER": f"smtp://127.0.0.1:{free_port()}",
        "ULTRAVECT_GATHER_SECONDS": "2",
        "ULTRAVECT_WATCH_SECONDS": "1",
    }
    with temporary_stack("test", settings=settings) as started:
        yield started


@pytest.fixture(scope="session")
def client(stack: Stack) -> Iterator[Client]:
    with Client(stack.url, token=stack.token) as connected:
        yield connected


# files of tests that take minutes, the longest first: begun late, all but one processor would wait for them
_LONG = (
    "test_fuzzed",
    "test_faults",
    "test_demo",
    "test_cli",
    "test_pages",
    "test_workers",
    "test_access",
    "test_console",
    "test_undo",
    "test_sliced_runs",
    "test_sites",
    "test_cluster",
    "test_together",
    "test_remote_workers",
    "test_lake",
)


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """What takes long begins first; the order within a file stays."""
    items.sort(key=lambda item: _LONG.index(item.path.stem) if item.path.stem in _LONG else len(_LONG))


class Place:
    """A table, a file and a job of one test's own, all called the same."""

    def __init__(self, stack: Stack, client: Client) -> None:
        self.name = f"t{next(_numbers)}"
        self.stack = stack
        self.client = client

    @property
    def path(self) -> Path:
        return self.stack.files / f"{self.name}.csv"

    def file(self, content: str | bytes) -> Place:
        self.path.write_bytes(content.encode() if isinstance(content, str) else content)
        return self

    def job(self, *, into: str = "", source: str = "", columns: str = "", run: str = "", name: str = "") -> str:
        """Saves the test's job with extra keys, and gives its text."""
        text = (
            f"ultravect: 1\njob: {name or self.name}\n"
            f"from: {{connection: incoming, files: {self.name}.csv{source and ', ' + source}}}\n"
            + (f"columns: {columns}\n" if columns else "")
            + f"into: {{connection: warehouse, table: {self.name}{into and ', ' + into}}}\n"
            + (f"run: {{{run}}}\n" if run else "")
        )
        self.client.save_job(name or self.name, text)
        return text

    def start(self) -> Run:
        return self.client.run(self.name)

    def run(self) -> Run:
        """Runs the job to its end."""
        return self.client.wait(self.client.run(self.name).id)

    def sql(self, statement: str) -> list[tuple[object, ...]]:
        """Runs a statement in the warehouse; {t} is the test's table."""
        return self.stack.postgres.execute(statement.replace("{t}", self.name), "warehouse")

    def rows(self, order: str = "1") -> list[tuple[object, ...]]:
        return self.sql(f"SELECT * FROM {{t}} ORDER BY {order}")

    def exists(self) -> bool:
        return self.sql("SELECT to_regclass('{t}') IS NOT NULL")[0][0] is True

    @contextmanager
    def locked(self, mode: str = "SHARE", table: str = "") -> Iterator[None]:
        """Holds a lock on the table, or on another one: rows cannot be written for as long as the context lasts."""
        with psycopg.connect(self.stack.postgres.url("warehouse")) as connection:
            connection.execute(f"LOCK TABLE {table or self.name} IN {mode} MODE".encode())
            yield

    def until(self, run: Run, reached: Callable[[Run], bool]) -> Run:
        """Waits until a run has come so far; fails after a minute."""
        for _ in range(600):
            found = self.client.show(run.id)
            if reached(found):
                return found
            threading.Event().wait(0.1)
        raise AssertionError(f"run {run.id} did not come so far: {found}")


@pytest.fixture
def place(stack: Stack, client: Client) -> Place:
    return Place(stack, client)


@pytest.fixture
def database_url(stack: Stack) -> str:
    """The warehouse, for tests of the core."""
    return stack.postgres.url("warehouse")


@pytest.fixture(autouse=True)
def no_login(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    """Commands must not find a login that is stored on this machine."""
    monkeypatch.setenv("XDG_CONFIG_HOME", str(tmp_path))
    for name in [key for key in os.environ if key.startswith("ULTRAVECT_")]:
        monkeypatch.delenv(name)
