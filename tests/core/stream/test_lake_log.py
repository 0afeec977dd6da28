"""Versions of lake tables that other programs write, followed into PostgreSQL."""

from __future__ import annotations

import random
from pathlib import Path
from typing import Any

import pyarrow as pa
import pytest
from deltalake import DeltaTable, write_deltalake
from tests.core.lake.lake import IcebergLake, lake_of
from tests.core.stream.conftest import Followed, Heard

from ultravect.core.engine.objects.connections import ConnectionSpec
from ultravect.core.engine.operate.marks import reset_mark
from ultravect.core.errors import UltravectError
from ultravect.core.model.document import job_from_data

SCHEMA = pa.schema([("id", pa.int64()), ("hut", pa.string()), ("beds", pa.int32())])


def _rows(*rows: tuple[int, str | None, int | None]) -> pa.Table:
    return pa.Table.from_pylist([dict(zip(SCHEMA.names, row, strict=True)) for row in rows], SCHEMA)


class LakeTables:
    """A lake in a folder, followed by a job of ``followed``; a turn reads all there is, and ends."""

    def __init__(self, followed: Followed, folder: Path, settings: dict[str, Any]) -> None:
        self.followed, self.folder = followed, folder
        self.spec = ConnectionSpec("here", "lake", {"path": str(folder), **settings}, [str(folder.parent)])

    def job(self, *tables: str, **changed: Any) -> dict[str, Any]:
        into = {"keys": ["id"], "carry": None} | changed.pop("into", {})
        return self.followed.job(*tables, into=into, **changed)

    def turn(self, job: dict[str, Any], accepted: list[str] | None = None) -> Heard:
        heard, turns = Heard(), 0
        idle = heard.idle

        def over(position: str, lag: float) -> None:
            nonlocal turns
            turns += 1
            idle(position, lag)

        heard.idle = over  # type: ignore[method-assign]
        self.followed.run(job, self.spec, heard, lambda: turns > 0, accepted or [])
        return heard

    def there(self, table: str) -> list[Any]:
        return self.followed.there(f"SELECT id, hut, beds FROM {table} ORDER BY id, beds")


@pytest.fixture
def delta(followed: Followed, tmp_path: Path) -> LakeTables:
    (tmp_path / "lake").mkdir()
    return LakeTables(followed, tmp_path / "lake", {})


def _state(path: Path) -> list[Any]:
    rows = pa.table(DeltaTable(path).to_pyarrow_table()).to_pylist()
    return sorted(((row["id"], row["hut"], row["beds"]) for row in rows), key=str)


def test_what_others_write_into_a_delta_table_is_followed(delta: LakeTables) -> None:
    path = delta.folder / "hut"
    write_deltalake(path, _rows((1, "Alm", 10), (2, "Fels", 20), (3, None, 30)))
    delta.turn(job := delta.job("hut"))
    assert delta.there("hut") == [(1, "Alm", 10), (2, "Fels", 20), (3, None, 30)]
    write_deltalake(path, _rows((4, "See", 40)), mode="append")
    DeltaTable(path).delete("id = 2")
    DeltaTable(path).update({"beds": "beds + 1"}, predicate="id = 1")
    heard = delta.turn(job)
    assert delta.there("hut") == [(1, "Alm", 11), (3, None, 30), (4, "See", 40)]
    (account,) = [window.tables["hut"] for window in heard.windows]
    assert (account.inserted, account.updated, account.deleted) == (1, 1, 1)
    # files that are joined change nothing, and rows that are written anew as they were are no changes
    DeltaTable(path).optimize.compact()
    write_deltalake(path, _rows((1, "Alm", 11), (3, None, 30), (5, "Grat", 50)), mode="overwrite")
    heard = delta.turn(job)
    assert delta.there("hut") == [(1, "Alm", 11), (3, None, 30), (5, "Grat", 50)]
    assert sum(window.changes for window in heard.windows) == 2
    assert not delta.turn(job).windows


@pytest.mark.parametrize("seed", range(3))
def test_each_commit_of_the_target_is_a_version_of_the_table(delta: LakeTables, seed: int) -> None:
    chance, path = random.Random(seed), delta.folder / "hut"
    write_deltalake(path, _rows(*((n, "Alm", n) for n in range(20))), partition_by=["hut"] if seed == 2 else None)
    delta.turn(job := delta.job("hut"))
    for _ in range(4):
        for _ in range(chance.randint(1, 4)):
            table, number = DeltaTable(path), chance.randint(0, 30)
            what = chance.choice(["append", "delete", "update", "compact", "overwrite"])
            if what == "append":
                write_deltalake(path, _rows((chance.randint(100, 10**6), "Fels", number)), mode="append")
            elif what == "delete":
                table.delete(f"id % 7 = {number % 7}")
            elif what == "update":
                table.update({"beds": f"beds + {number}"}, predicate=f"id % 3 = {number % 3}")
            elif what == "compact":
                table.optimize.compact()
            else:
                write_deltalake(path, _rows(*((n, "Alm", n) for n in range(number))), mode="overwrite")
        delta.turn(job)
        assert sorted(delta.there("hut"), key=str) == _state(path)


def test_a_history_and_several_tables_of_a_lake(delta: LakeTables) -> None:
    for name in ("hut", "guest"):
        write_deltalake(delta.folder / name, _rows((1, name, 1)))
    history = delta.job(
        "hut",
        "guest",
        columns=["*", "change() as done", "committed_at() as at"],
        into={"mode": "append", "keys": None},
    )
    delta.turn(history)
    DeltaTable(delta.folder / "hut").update({"beds": "5"})
    write_deltalake(delta.folder / "guest", _rows((2, "guest", 2)), mode="append")
    DeltaTable(delta.folder / "guest").delete("id = 1")
    delta.turn(history)
    done = "SELECT id, beds, done FROM {} ORDER BY at, done DESC, id"
    assert delta.followed.there(done.format("hut")) in (
        [(1, 1, "snapshot"), (1, 5, "insert"), (1, 1, "delete")],
        [(1, 5, "insert"), (1, 1, "delete"), (1, 1, "snapshot")],
    )
    assert sorted(delta.followed.there(done.format("guest"))) == [
        (1, 1, "delete"),
        (1, 1, "snapshot"),
        (2, 2, "insert"),
    ]


def test_columns_and_versions_that_are_gone(delta: LakeTables) -> None:
    path = delta.folder / "hut"
    write_deltalake(path, _rows((1, "Alm", 10)))
    delta.turn(job := delta.job("hut", into={"if_different": "widen"}))
    wide = pa.table({"id": [2], "hut": ["Fels"], "beds": pa.array([20], pa.int32()), "snow": [5]})
    write_deltalake(path, wide, mode="append", schema_mode="merge")
    delta.turn(job)
    assert delta.followed.there("SELECT id, snow FROM hut ORDER BY id") == [(1, None), (2, 5)]
    plain = delta.job("hut", job=f"{delta.followed.name}-plain", into={"table": "plain_{table}"})
    delta.turn(plain)
    write_deltalake(path, wide.append_column("wind", pa.array([1])), mode="append", schema_mode="merge")
    with pytest.raises(UltravectError, match="column 'wind' of the source"):
        delta.turn(plain)
    # the table is made anew by others: its versions begin again
    for file in sorted(path.rglob("*"), reverse=True):
        file.unlink() if file.is_file() else file.rmdir()
    write_deltalake(path, _rows((9, "Neu", 9)))
    with pytest.raises(UltravectError) as lost:
        delta.turn(job)
    assert lost.value.code == "log-lost"
    reset_mark(job_from_data(job), delta.spec, delta.followed.into, "")
    delta.turn({**job, "into": {**job["into"], "gone_limit": "100%"}})
    assert delta.there("hut") == [(9, "Neu", 9)]


def test_an_iceberg_table_is_followed(followed: Followed, tmp_path: Path) -> None:
    folder = IcebergLake(tmp_path).folder
    lake = LakeTables(followed, folder, {"format": "iceberg"})
    catalogue = IcebergLake(tmp_path).catalogue()
    catalogue.create_namespace_if_not_exists("main")
    table = catalogue.create_table(("main", "hut"), SCHEMA)
    table.append(_rows((1, "Alm", 10), (2, "Fels", 20), (3, None, 30)))
    lake.turn(job := lake.job("hut"))
    table.append(_rows((4, "See", 40)))
    table.delete("id = 2")
    table.overwrite(_rows((3, "Neu", 31)), overwrite_filter="id = 3")
    lake.turn(job)
    assert lake.there("hut") == [(1, "Alm", 10), (3, "Neu", 31), (4, "See", 40)]
    table.delete("id > 3")
    lake.turn(job)
    assert lake.there("hut") == [(1, "Alm", 10), (3, "Neu", 31)]


@pytest.mark.parametrize("form", ["delta", "iceberg"])
@pytest.mark.parametrize("gone", ["delete", {"flag": "is_gone"}])
def test_a_lake_follows_a_log_with_deletes(followed: Followed, tmp_path: Path, form: str, gone: Any) -> None:
    lake = lake_of(form, tmp_path)
    followed.into = lake.spec
    followed.sql("CREATE TABLE hut (id int PRIMARY KEY, hut text, beds int)")
    followed.sql("INSERT INTO hut SELECT g, 'H' || g % 3, g FROM generate_series(1, 40) g")
    into = {"connection": lake.spec.name, "carry": None, "keys": ["id"], "gone": gone}
    followed.follow(job := followed.job("hut", into=into))

    def same() -> bool:
        rows = lake.held("hut")
        there = sorted((row["id"], row["hut"], row["beds"]) for row in rows if not row.get("is_gone"))
        return there == sorted(followed.sql("SELECT id, hut, beds FROM hut"))

    assert same()
    for statements in (
        "DELETE FROM hut WHERE id = 7; UPDATE hut SET beds = 90 WHERE id = 8; INSERT INTO hut VALUES (100, 'Neu', 1)",
        "UPDATE hut SET id = 200 WHERE id = 9; DELETE FROM hut WHERE id < 4; INSERT INTO hut VALUES (7, 'again', 7)",
        "TRUNCATE hut; INSERT INTO hut VALUES (8, 'last', 8)",
    ):
        followed.sql(statements)
        followed.follow(job)
        assert same(), statements
    if gone != "delete":
        assert len(lake.held("hut")) > 40, "rows that are gone are flagged, and stay"
