"""The four databases, with the same table of extreme values in each."""

from __future__ import annotations

import sqlite3
from collections.abc import Callable
from contextlib import closing
from dataclasses import dataclass
from typing import Any

import duckdb
import psycopg
import pytest
from devtools.mariadb import MariadbServer
from devtools.stack import Stack
from tests.core.pairs.torture import COLUMNS, Torture

from ultravect.core.engine.connections import ConnectionSpec

KINDS = ("postgresql", "mariadb", "sqlite", "duckdb")
_NULL_SAFE = {
    "postgresql": "IS NOT DISTINCT FROM",
    "mariadb": "<=>",
    "sqlite": "IS",
    "duckdb": "IS NOT DISTINCT FROM",
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
            ((count,),) = self.sql(
                f"SELECT count(*) FROM torture a JOIN {table} b ON a.n = b.n WHERE {left} {same} {right}"
            )
            if count != 3:
                found.append(name)
        return found


@pytest.fixture(scope="session")
def places(stack: Stack, mariadb: MariadbServer, tmp_path_factory: pytest.TempPathFactory) -> dict[str, Place]:
    folder = tmp_path_factory.mktemp("pairs")
    mariadb.execute("CREATE DATABASE pairs")
    lite, duck = str(folder / "huts.sqlite"), str(folder / "huts.duckdb")

    def postgresql(statement: str) -> list[tuple[Any, ...]]:
        with psycopg.connect(stack.postgres.url("warehouse"), autocommit=True, options="-c timezone=UTC") as session:
            cursor = session.execute(statement.encode())
            return cursor.fetchall() if cursor.description else []

    def sqlite(statement: str) -> list[tuple[Any, ...]]:
        with closing(sqlite3.connect(lite, isolation_level=None)) as session:
            return session.execute(statement).fetchall()

    def duck_db(statement: str) -> list[tuple[Any, ...]]:
        with closing(duckdb.connect(duck)) as session:
            return session.execute(statement).fetchall()

    def maria(statement: str) -> list[tuple[Any, ...]]:
        return mariadb.execute(statement, database="pairs")

    roots = [str(folder)]
    made = {
        "postgresql": Place("postgresql", ConnectionSpec("pg", "postgresql", dict(stack.warehouse)), postgresql),
        "mariadb": Place("mariadb", ConnectionSpec("maria", "mariadb", mariadb.settings("pairs")), maria),
        "sqlite": Place("sqlite", ConnectionSpec("lite", "sqlite", {"path": lite}, roots), sqlite),
        "duckdb": Place("duckdb", ConnectionSpec("duck", "duckdb", {"path": duck}, roots), duck_db),
    }
    for kind, place in made.items():
        torture = Torture(kind)
        place.drop("torture")
        for statement in (torture.create, *torture.inserts):
            place.sql(statement)
    return made
