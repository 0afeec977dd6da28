"""The databases with a table of extreme values in each, and the matrix of copies from each to each and back."""

from __future__ import annotations

import os
import shutil
import sqlite3
import subprocess
import sys
import tempfile
from collections.abc import Callable, Mapping, Sequence
from contextlib import closing, nullcontext
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import duckdb
import psycopg
import pymssql

from devtools.legs import run_leg
from devtools.mariadb import MariadbServer
from devtools.postgres import PostgresServer
from devtools.torture import COLUMNS, Torture
from ultravect.core.contracts.changes import RowChange
from ultravect.core.contracts.receipt import Receipt
from ultravect.core.engine.objects.connections import ConnectionSpec
from ultravect.core.engine.plan.leg_plan import LegPlan
from ultravect.core.engine.run.leg import LegResult
from ultravect.core.engine.run.rejected.rejects import Reject
from ultravect.core.model.document import job_from_data
from ultravect.core.model.finding import Finding

# where moments lose their zone, which is said on the way back
_BACK = {"mariadb": ["*", "instant at time zone 'UTC' as instant"]}

KINDS = ("postgresql", "mariadb", "sqlite", "duckdb", "sqlserver")
REAL = KINDS[:-1]
"""Those that are no stand-ins, whose names of columns are all their own."""

_TSQL = "pairs_tsql"
_started: list[subprocess.Popen[str]] = []
"""Kept, for a process whose input is closed ends."""

_NULL_SAFE = {
    "postgresql": "IS NOT DISTINCT FROM",
    "mariadb": "<=>",
    "sqlite": "IS",
    "duckdb": "IS NOT DISTINCT FROM",
    "sqlserver": "",
}


@dataclass(frozen=True)
class Place:
    """A database of one kind, its connection and a way to ask it that is not ours."""

    kind: str
    spec: ConnectionSpec
    sql: Callable[[str], list[tuple[Any, ...]]]

    def drop(self, table: str) -> None:
        self.sql(f"DROP TABLE IF EXISTS {table}")

    def different(self, table: str) -> list[str]:
        """The columns of ``table`` that are not what they are in ``torture``, as this database itself sees it."""
        same = _NULL_SAFE[self.kind]
        found = []
        for name, _, _ in COLUMNS:
            left, right = f"a.{name}", f"b.{name}"
            if self.kind == "mariadb" and name in ("note", "essay", "code"):
                left, right = f"BINARY {left}", f"BINARY {right}"
            if self.kind == "postgresql" and name == "doc":
                left, right = f"{left}::jsonb", f"{right}::jsonb"
            if self.kind == "sqlserver" and name in ("note", "essay", "code", "doc"):
                left, right = f"CAST({left} AS varbinary(max))", f"CAST({right} AS varbinary(max))"
            equal = f"{left} {same} {right}"
            if self.kind == "sqlserver":
                equal = f"EXISTS (SELECT {left} INTERSECT SELECT {right})"
            ((count,),) = self.sql(f"SELECT count(*) FROM torture a JOIN {table} b ON a.n = b.n WHERE {equal}")
            if count != 3:
                found.append(name)
        return found


def make_places(postgres: PostgresServer, database: str, mariadb: MariadbServer, folder: Path) -> dict[str, Place]:
    """The databases by kind, the table ``torture`` in each; those that are files in ``folder``."""
    mariadb.execute("CREATE DATABASE pairs")
    settings = {
        "host": "127.0.0.1",
        "port": postgres.port,
        "database": database,
        "user": "postgres",
        "password": postgres.password,
    }
    lite, duck = str(folder / "huts.sqlite"), str(folder / "huts.duckdb")

    def postgresql(statement: str) -> list[tuple[Any, ...]]:
        with psycopg.connect(postgres.url(database), autocommit=True, options="-c timezone=UTC") as session:
            cursor = session.execute(statement.encode())
            return cursor.fetchall() if cursor.description else []

    def sqlite(statement: str) -> list[tuple[Any, ...]]:
        with closing(sqlite3.connect(lite, isolation_level=None)) as session:
            return session.execute(statement).fetchall()

    # opening a database takes forty milliseconds, and attaching one to a session three
    session_of_files = duckdb.connect()

    def duck_db(statement: str) -> list[tuple[Any, ...]]:
        session_of_files.execute(f"ATTACH '{duck}' AS attached")
        try:
            session_of_files.execute("USE attached")
            return session_of_files.execute(statement).fetchall()
        finally:
            session_of_files.execute("USE memory")
            session_of_files.execute("DETACH attached")

    def maria(statement: str) -> list[tuple[Any, ...]]:
        return mariadb.execute(statement, database="pairs")

    # TLS has tests of its own: with it, each sign-in takes a tenth of a second of computing
    plain = mariadb.settings("pairs") | {"tls": "off"}
    roots = [str(folder)]
    made = {
        "postgresql": Place("postgresql", ConnectionSpec("pg", "postgresql", settings), postgresql),
        "mariadb": Place("mariadb", ConnectionSpec("maria", "mariadb", plain), maria),
        "sqlite": Place("sqlite", ConnectionSpec("lite", "sqlite", {"path": lite}, roots), sqlite),
        "duckdb": Place("duckdb", ConnectionSpec("duck", "duckdb", {"path": duck}, roots), duck_db),
        "sqlserver": sqlserver_place(postgres),
    }
    for kind, place in made.items():
        torture = Torture(kind)
        place.drop("torture")
        for statement in (torture.create, *torture.inserts):
            place.sql(statement)
    return made


def lake_place(folder: Path, form: str = "delta") -> Place:
    """A lake, which runs no statements: of them, only the drop of a table is done here, with all others of its lake."""

    def sql(statement: str) -> list[tuple[Any, ...]]:
        shutil.rmtree(folder, ignore_errors=True)
        folder.mkdir()
        return []

    folder.mkdir(exist_ok=True)
    settings = {"path": str(folder), "format": form}
    return Place("lake" if form == "delta" else form, ConnectionSpec("lake", "lake", settings, [str(folder)]), sql)


def sqlserver_place(postgres: PostgresServer) -> Place:
    """A stand-in for SQL Server, which keeps its rows in this PostgreSQL."""
    port = _sqlserver(postgres)

    def sqlserver(statement: str) -> list[tuple[Any, ...]]:
        # by another driver than ours
        with closing(
            pymssql.connect("127.0.0.1", "postgres", postgres.password, _TSQL, port=port, autocommit=True)
        ) as session:
            cursor = session.cursor()
            cursor.execute(statement)
            return cursor.fetchall() if cursor.description else []

    settings = {
        "host": "127.0.0.1", "port": port, "database": _TSQL, "user": "postgres", "password": postgres.password, "tls": "off",
    }  # fmt: skip
    return Place("sqlserver", ConnectionSpec("ms", "sqlserver", settings), sqlserver)


def _sqlserver(postgres: PostgresServer) -> int:
    """The port of a stand-in for SQL Server, in a process of its own, which ends with this one."""
    command = [sys.executable, "-m", "standins.sqlserver.server", "--postgres", postgres.url("postgres")]
    process = subprocess.Popen(
        [*command, "--database", _TSQL, "--until-input-ends"],
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        text=True,
        cwd=Path(__file__).parent.parent,
    )
    _started.append(process)
    assert process.stdout is not None
    return int(process.stdout.readline())


@dataclass
class Copied:
    """What a leg said: its result, its rejects and the findings that announced changes of values."""

    result: LegResult | None = None
    rejected: list[Reject] = field(default_factory=list)
    findings: list[Finding] = field(default_factory=list)
    changed: list[RowChange] = field(default_factory=list)
    receipt: Receipt | None = None

    def phase(self, name: str, state: str) -> None: ...

    def progress(self, figures: dict[str, Any]) -> None: ...

    def log(self, level: str, text: str) -> None: ...

    def finding(self, finding: Finding) -> None:
        self.findings.append(finding)

    def rejects(self, rejects: Sequence[Reject]) -> None:
        self.rejected += rejects

    def planned(self, plan: LegPlan) -> None: ...

    def read_again(self) -> None:
        self.rejected.clear()

    def published(self, receipt: Receipt) -> None:
        self.receipt = receipt

    def changes(self, changes: Sequence[RowChange]) -> None:
        self.changed += changes

    @property
    def announced(self) -> list[str]:
        """The warnings that name a change of the values."""
        return [
            finding.message
            for finding in self.findings
            if finding.code in ("type-narrower", "type-different") and finding.severity == "warning"
        ]


def copy(
    source: Place, target: Place, table: str, into: str, columns: Sequence[str] = ("*",), **settings: Any
) -> Copied:
    structure = {
        "ultravect": 1,
        "job": "leg",
        "from": {"connection": source.spec.name, "table": table},
        "columns": list(columns),
        "into": {"connection": target.spec.name, "table": into, **settings},
    }
    copied = Copied()
    copied.result = run_leg(job_from_data(structure), source.spec, target.spec, copied, nullcontext)
    return copied


@dataclass(frozen=True)
class Trip:
    """A copy of ``torture`` to a new table and back: ``different`` are the columns that did not come back as they were."""

    there: Copied
    back: Copied
    different: Sequence[str]


def there_and_back(a: Place, b: Place) -> Trip:
    """Back into a table with the types of the first, so that only values can differ."""
    there, back = f"torture_from_{a.kind}", f"torture_by_{b.kind}"
    b.drop(there)
    first = copy(a, b, "torture", there)
    a.drop(back)
    a.sql(Torture(a.kind).create.replace("torture", back))
    second = copy(b, a, there, back, _BACK.get(b.kind, ["*"]))
    return Trip(first, second, a.different(back))


def _matrix(places: Mapping[str, Place], lakes: Sequence[Place]) -> str:
    lines = [
        "# Every pair of databases, there and back",
        "",
        "Made by `./dev matrix`, on real servers (SQL Server by its [stand-in](stand-ins.md)), and into lakes (Delta Lake and Iceberg): a",
        f"table with {len(COLUMNS)} types and their extreme values",
        "(64-bit limits, 38 digits, a text of a million characters, emoji, empty texts, years 1 and 9999, microseconds, NULL",
        "everywhere) is copied from each database into a new table of each, and back into a table like the first. The first",
        "database itself compares. What a copy changes, it announces; on the way back from MariaDB the zone of moments is said",
        "(`instant at time zone 'UTC'`). A test does the same.",
        "",
        "| from | into | equal after the way back | announced on the way there |",
        "|---|---|---|---|",
    ]
    for a in places.values():
        for b in (*places.values(), *lakes):
            trip = there_and_back(a, b)
            equal = f"{len(COLUMNS) - len(trip.different)} of {len(COLUMNS)}"
            shown = "; ".join(trip.there.announced) or "nothing"
            lines.append(
                f"| {a.kind} | {b.kind} | {equal}{''.join(f', not {item}' for item in trip.different)} | {shown} |"
            )
    return "\n".join(lines) + "\n"


def matrix(*sections: Callable[[Mapping[str, Place]], str]) -> str:
    """The matrix as a page, from servers that are started for it, with other ``sections`` after it."""
    folder = Path(tempfile.mkdtemp(prefix="ultravect-pairs-", dir="/var/tmp"))
    os.chmod(folder, 0o755)
    postgres = PostgresServer.create(folder / "pg")
    mariadb = MariadbServer.create()
    try:
        postgres.execute("CREATE DATABASE pairs")
        places = make_places(postgres, "pairs", mariadb, folder)
        return _matrix(places, [lake_place(folder / form, form) for form in ("delta", "iceberg")]) + "".join(
            more(places) for more in sections
        )
    finally:
        mariadb.remove()
        postgres.remove()
        shutil.rmtree(folder, ignore_errors=True)
