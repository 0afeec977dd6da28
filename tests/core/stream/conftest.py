"""A source whose log is followed, and a target, each a database of its own."""

from __future__ import annotations

import itertools
import threading
from collections.abc import Callable, Iterator, Sequence
from contextlib import nullcontext
from dataclasses import dataclass, field
from typing import Any

import MySQLdb
import psycopg
import pytest
from devtools.mariadb import MariadbServer
from devtools.postgres import PostgresServer
from devtools.stack import Stack

from ultravect.core.engine.objects.connections import ConnectionSpec
from ultravect.core.engine.run.rejected.rejects import Reject
from ultravect.core.engine.stream.follow import Following, drop_log, follow_log
from ultravect.core.engine.stream.windows import WindowAccount
from ultravect.core.kinds.mariadb.binlog import FILE
from ultravect.core.model.document import job_from_data
from ultravect.core.model.finding import Finding

_numbers = itertools.count(1)


@dataclass
class Heard:
    """A ``StreamListener`` that keeps what it is notified of; ``on_window`` is called with each window."""

    on_window: Callable[[WindowAccount], None] = lambda account: None
    windows: list[WindowAccount] = field(default_factory=list)
    rejected: list[Reject] = field(default_factory=list)
    said: list[str] = field(default_factory=list)
    findings: list[Finding] = field(default_factory=list)

    def table(self, name: str, state: str, rows: int) -> None: ...

    def following(self, position: str) -> None: ...

    def window(self, account: WindowAccount) -> None:
        self.windows.append(account)
        self.on_window(account)

    def idle(self, position: str, lag: float) -> None: ...

    def kept(self, size: int) -> None: ...

    def rejects(self, name: str, rejects: Sequence[Reject]) -> None:
        self.rejected += rejects

    def log(self, level: str, text: str) -> None:
        self.said.append(text)

    def finding(self, finding: Finding) -> None:
        self.findings.append(finding)


class Followed:
    """``source`` and ``target`` are sessions that commit each statement; the job's name is the databases'."""

    source: Any

    def __init__(self, server: PostgresServer) -> None:
        self.server, self.name = server, f"followed{next(_numbers)}"
        self._jobs: list[Any] = []
        server.execute(f"CREATE DATABASE {self.name}_into")
        self.target = psycopg.connect(server.url(f"{self.name}_into"), autocommit=True)
        self.into = ConnectionSpec(
            "there", "postgresql", self._settings(f"{self.name}_into", "postgres", server.password)
        )
        self._open()

    def _open(self) -> None:
        self.server.execute(f"CREATE DATABASE {self.name}")
        self.source = psycopg.connect(self.server.url(self.name), autocommit=True)

    def _settings(self, database: str, user: str, password: str) -> dict[str, Any]:
        where = {"host": "127.0.0.1", "port": self.server.port, "database": database}
        return {**where, "user": user, "password": password}

    @property
    def here(self) -> ConnectionSpec:
        """The source."""
        return self.spec("here", self.name)

    def end(self) -> int:
        """Where the log ends now."""
        ((end,),) = self.sql("SELECT (pg_current_wal_insert_lsn() - '0/0'::pg_lsn)::bigint")
        return int(end)

    def spec(self, name: str, database: str, user: str = "postgres", password: str = "") -> ConnectionSpec:
        return ConnectionSpec(name, "postgresql", self._settings(database, user, password or self.server.password))

    def sql(self, statement: str) -> list[Any]:
        """In the source."""
        cursor = self.source.execute(statement.encode())
        return cursor.fetchall() if cursor.description else []

    def there(self, statement: str) -> list[Any]:
        """In the target."""
        cursor = self.target.execute(statement.encode())
        return cursor.fetchall() if cursor.description else []

    def job(self, *tables: str, **changed: Any) -> dict[str, Any]:
        """A mirror of these tables; ``into`` and ``source`` are added to what it says there, other keys replace its own."""
        into = {"connection": "there", "table": "{table}", "mode": "upsert", "keys": "primary", "carry": ["keys"]}
        source = {"connection": "here", "tables": list(tables), "newer": "log"}
        base = {"ultravect": 1, "job": self.name, "run": {"follow": "1 ms"}}
        into |= changed.pop("into", {})
        source |= changed.pop("source", {})
        return {
            **base,
            "from": source,
            "into": {key: value for key, value in into.items() if value is not None},
            **changed,
        }

    def follow(
        self,
        job: dict[str, Any],
        heard: Heard | None = None,
        *,
        accepted: Sequence[str] = (),
        spec: ConnectionSpec | None = None,
        windows: int = 0,
    ) -> Heard:
        """Follows the log up to where it ends now, or so many windows long."""
        found = heard or Heard()
        end = self.end()

        def stops() -> bool:
            return bool(windows) and len(found.windows) >= windows

        self._jobs.append(job)
        self.run(job, spec or self.here, found, stops, accepted, None if windows else end)
        return found

    def run(
        self,
        job: dict[str, Any],
        spec: ConnectionSpec,
        heard: Heard,
        stops: Callable[[], bool],
        accepted: Sequence[str] = (),
        until: int | None = None,
    ) -> None:
        """Follows the log of any source into the target."""
        following = Following(heard, stops, nullcontext, "7", frozenset(accepted), until)
        follow_log(job_from_data(job), spec, self.into, following)

    def close(self) -> None:
        for job in self._jobs:
            drop_log(job_from_data(job), self.here, self.into)
        self.source.close()
        self.target.close()
        self._remove()
        self.server.execute(f"DROP DATABASE {self.name}_into WITH (FORCE)")

    def _remove(self) -> None:
        self.server.execute(f"DROP DATABASE {self.name} WITH (FORCE)")


class FollowedMaria(Followed):
    """The same, of a source in MariaDB; a statement may be several, with ``;`` between them."""

    def __init__(self, server: PostgresServer, mariadb: MariadbServer) -> None:
        self.mariadb = mariadb
        super().__init__(server)

    def _open(self) -> None:
        self.mariadb.execute(f"CREATE DATABASE {self.name}")
        self.source = self.connected()

    def connected(self) -> Any:
        """A session that commits each statement."""
        return MySQLdb.connect(
            host="127.0.0.1", port=self.mariadb.port, user="demo", password=self.mariadb.password, database=self.name, charset="utf8mb4",
            autocommit=True,
        )  # fmt: skip

    def spec(self, name: str, database: str, user: str = "demo", password: str = "") -> ConnectionSpec:
        settings = {**self.mariadb.settings(database), "tls": "off", "user": user}
        return ConnectionSpec(name, "mariadb", {**settings, "password": password or self.mariadb.password})

    def sql(self, statement: str) -> list[Any]:
        rows: list[Any] = []
        with self.source.cursor() as cursor:
            for one in filter(str.strip, statement.split(";")):
                cursor.execute(one)
                rows = list(cursor.fetchall() or ())
        return rows

    def end(self) -> int:
        file, place, *_ = self.sql("SHOW MASTER STATUS")[0]
        return int(file.rpartition(".")[2]) * FILE + int(place)

    def _remove(self) -> None:
        self.mariadb.execute(f"DROP DATABASE IF EXISTS {self.name}")


def require_joined(
    followed: Followed, job: dict[str, Any], write: Callable[[int], None], over: threading.Event
) -> None:
    """A history of ``stamp``, which four writers count up meanwhile, has each number of a row once, from that of its snapshot on."""
    writers = [threading.Thread(target=write, args=(part,)) for part in range(4)]
    for writer in writers:
        writer.start()
    try:
        for _ in range(3):
            followed.follow(job)
    finally:
        over.set()
        for writer in writers:
            writer.join()
    followed.follow(job)
    numbers: dict[int, list[int]] = {}
    for row, number in followed.there("SELECT id, n FROM stamp ORDER BY id, n"):
        numbers.setdefault(row, []).append(number)
    last = dict(followed.sql("SELECT id, n FROM stamp"))
    assert {row: list(range(found[0], last[row] + 1)) for row, found in numbers.items()} == numbers
    assert len(numbers) == 200
    assert followed.there("SELECT count(*) FROM stamp WHERE done = 'snapshot'") == [(200,)]


@pytest.fixture
def followed(stack: Stack) -> Iterator[Followed]:
    made = Followed(stack.postgres)
    yield made
    made.close()


@pytest.fixture
def followed_maria(stack: Stack, mariadb: MariadbServer) -> Iterator[FollowedMaria]:
    made = FollowedMaria(stack.postgres, mariadb)
    yield made
    made.close()
