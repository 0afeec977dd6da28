"""Every ledger keeps the same promises: see ``machine``."""

from __future__ import annotations

import csv
import importlib
import sqlite3
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import closing
from pathlib import Path
from typing import Any

import pyarrow as pa
import pytest
from devtools.pairs import Place
from tests.core.lake.lake import IcebergLake, Lake
from tests.core.ledger.machine import check_ledger

from ultravect.core.contracts.receipt import Receipt, ReceiptKey
from ultravect.core.contracts.target import Target
from ultravect.core.contracts.write_plan import Attempt, WritePlan
from ultravect.core.dialects.base import NewColumn, NewTable, TableName
from ultravect.core.engine.objects.connections import ConnectionSpec, database_of, storage_of
from ultravect.core.engine.write.driver import open_write
from ultravect.core.model.connection import DatabaseFileSettings
from ultravect.core.model.jobs.into import Target as Into
from ultravect.core.storage.files_target import FilesTarget
from ultravect.core.types.canonical import CanonicalType


class InDatabase:
    """A table of a database."""

    def __init__(self, place: Place, target: Target | None = None, *, concurrent: bool, alters: bool = True) -> None:
        self._place, self.concurrent, self.alters = place, concurrent, alters
        self.target: Target = target or database_of(place.spec)
        self.table = TableName(None, "")

    def fresh(self, name: str) -> None:
        if self.table.name:
            self._place.drop(self.table.name)
        self.table = TableName(None, name)

    def rows(self) -> Sequence[int]:
        return [row[0] for row in self._place.sql(f"SELECT k FROM {self.table.name}")]

    def insert(self, value: int) -> bool:
        self._place.sql(f"INSERT INTO {self.table.name} (k) VALUES ({value})")
        return True


# one session writes to such a file at a time
@pytest.mark.parametrize(
    ("kind", "concurrent"),
    [("postgresql", True), ("mariadb", True), ("sqlserver", False), ("sqlite", False), ("duckdb", False)],
)
def test_of_databases(places: dict[str, Place], kind: str, concurrent: bool) -> None:
    check_ledger(InDatabase(places[kind], concurrent=concurrent))


class InLake:
    concurrent = alters = True

    def __init__(self, lake: Lake) -> None:
        self._lake = lake
        self.target: Target = lake.database
        self.table = TableName(None, "")

    def fresh(self, name: str) -> None:
        self.table = TableName(None, name)

    def rows(self) -> Sequence[int]:
        return [row["k"] for row in self._lake.held(self.table.name)]

    def insert(self, value: int) -> bool:
        self._lake.insert({"k": value}, self.table.name)
        return True


@pytest.mark.parametrize("made", [Lake, IcebergLake])
def test_of_lakes(tmp_path: Path, made: Any) -> None:
    check_ledger(InLake(made(tmp_path)))


class InFiles:
    concurrent, alters = True, False

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self._spec = ConnectionSpec("out", "folder", {"path": str(folder)}, [str(folder)])

    def fresh(self, name: str) -> None:
        into = Into(connection="out", files=f"{name}.csv")
        self.target: Target = FilesTarget(storage_of(self._spec), into, f"{name}.csv")
        self.table = TableName(None, name)

    def rows(self) -> Sequence[int]:
        found: list[int] = []
        for path in sorted(self._folder.glob(f"{self.table.name}*.csv")):
            with path.open(newline="") as file:
                found += [int(row["k"]) for row in csv.DictReader(file)]
        return found

    def insert(self, value: int) -> bool:
        return False


def test_of_files(tmp_path: Path) -> None:
    check_ledger(InFiles(tmp_path))


def test_of_a_kind_of_another_package(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """The one that docs/write-a-kind.md leads through."""
    monkeypatch.syspath_prepend(str(Path(__file__).parents[2] / "sample_kind" / "src"))
    made = importlib.import_module("ultravect_tablebox.database")
    path = tmp_path / "box.db"
    path.touch()

    def sql(statement: str) -> list[tuple[Any, ...]]:
        with closing(sqlite3.connect(path, isolation_level=None)) as session:
            return session.execute(statement).fetchall()

    settings = DatabaseFileSettings(path=str(path))
    place = Place("tablebox", ConnectionSpec("box", "tablebox", {}), sql)
    check_ledger(InDatabase(place, made.TableboxDatabase("box", settings, [str(tmp_path)]), concurrent=False))


@pytest.mark.parametrize("kind", ["postgresql", "mariadb", "sqlserver"])
def test_many_first_loads_at_once_make_the_tables_of_the_ledger(places: dict[str, Place], kind: str) -> None:
    """As it was found by the demo, and by random jobs: one of them failed, since another was making the same table."""
    place = places[kind]
    database = database_of(place.spec)
    column = NewColumn("k", CanonicalType("bigint"))

    def load(number: int) -> None:
        plan = WritePlan(TableName(None, f"first_{number}"), (column,), create=NewTable([column]), marks=True)
        with open_write(database, Attempt(plan, ReceiptKey(f"first-{number}"))) as write:
            write.write(pa.record_batch([pa.array([number])], names=["k"]))
            write.finish()
            write.publish(Receipt(f"first_{number}", "append"))

    for _ in range(5):
        for table in ("ultravect_receipt", "ultravect_mark", *(f"first_{number}" for number in range(6))):
            place.drop(table)
        with ThreadPoolExecutor(6) as pool:
            list(pool.map(load, range(6)))
        assert place.sql("SELECT count(*) FROM ultravect_receipt") == [(6,)]
    for number in range(6):
        place.drop(f"first_{number}")
