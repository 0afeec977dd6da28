"""Change tracking of SQL Server (its stand-in), followed into PostgreSQL."""

from __future__ import annotations

import random
from collections.abc import Iterator
from contextlib import suppress
from typing import Any

import pytest
from devtools.pairs import Place
from tests.core.stream.conftest import Followed, Heard

from ultravect.core.engine.look.check import check_job
from ultravect.core.engine.operate.marks import reset_mark
from ultravect.core.engine.stream.follow import StreamPaused
from ultravect.core.errors import UltravectError
from ultravect.core.model.document import job_from_data

TRACKED = "ALTER DATABASE CURRENT SET CHANGE_TRACKING = ON (CHANGE_RETENTION = 2 DAYS, AUTO_CLEANUP = ON)"


class Tracked:
    """Tables of SQL Server, followed by a job of ``followed``; a turn reads all there is, and ends."""

    def __init__(self, followed: Followed, place: Place) -> None:
        self.followed, self.place, self.sql = followed, place, place.sql
        self.made: list[str] = []

    def table(self, name: str, columns: str, *, tracked: bool = True) -> None:
        self.made.append(name)
        self.place.drop(name)
        self.sql(f"CREATE TABLE {name} ({columns})")
        if tracked:
            self.sql(TRACKED)
            self.sql(f"ALTER TABLE {name} ENABLE CHANGE_TRACKING")

    def job(self, *tables: str, **changed: Any) -> dict[str, Any]:
        return self.followed.job(
            *tables,
            source={"connection": self.place.spec.name},
            into={"carry": None} | changed.pop("into", {}),
            **changed,
        )

    def turn(self, job: dict[str, Any], heard: Heard | None = None, accepted: tuple[str, ...] = ()) -> Heard:
        found, turns = heard or Heard(), 0
        on_window = found.on_window

        def over(position: str, lag: float) -> None:
            nonlocal turns
            turns += 1

        def again(account: Any) -> None:
            nonlocal turns
            turns = 0
            on_window(account)

        found.idle, found.on_window = over, again  # type: ignore[method-assign]
        # some looks are done ahead of what is dealt with
        self.followed.run(job, self.place.spec, found, lambda: turns > 5, accepted)
        return found

    def same(self, table: str) -> bool:
        asked = f"SELECT id, hut, beds FROM {table} ORDER BY id"
        return [tuple(row) for row in self.sql(asked)] == self.followed.there(asked)


@pytest.fixture
def tracked(followed: Followed, places: dict[str, Place]) -> Iterator[Tracked]:
    made = Tracked(followed, places["sqlserver"])
    yield made
    for table in made.made:
        made.place.drop(table)


COLUMNS = "id int PRIMARY KEY, hut nvarchar(20) UNIQUE, beds int"


@pytest.mark.parametrize("seed", range(2))
def test_random_changes_of_two_tables_are_followed(tracked: Tracked, seed: int) -> None:
    chance, tables = random.Random(seed), ("tracked_a", "tracked_b")
    for table in tables:
        tracked.table(table, COLUMNS)
        tracked.sql(f"INSERT INTO {table} VALUES (1, N'Alm', 1), (2, N'Fels', 2)")
    tracked.turn(job := tracked.job(*tables))
    for _ in range(5):
        for _ in range(chance.randint(0, 12)):
            table, one, other = chance.choice(tables), chance.randint(1, 9), chance.randint(1, 9)
            with suppress(Exception):
                tracked.sql(
                    chance.choice(
                        [
                            f"INSERT INTO {table} VALUES ({one}, N'h{other}', {other})",
                            f"DELETE FROM {table} WHERE id = {one}",
                            f"UPDATE {table} SET id = {one} WHERE id = {other}",
                            f"UPDATE {table} SET hut = N'h{one}' WHERE id = {other}",
                            f"UPDATE {table} SET beds = beds + 1",
                            f"BEGIN TRANSACTION; DELETE FROM {table} WHERE id = {one}; INSERT INTO {table} VALUES ({one}, N'again{one}', 0); COMMIT",
                            f"BEGIN TRANSACTION; DELETE FROM {table}; ROLLBACK",
                        ]
                    )
                )
        tracked.turn(job)
        assert all(tracked.same(table) for table in tables)


def test_a_history_says_what_each_row_became(tracked: Tracked) -> None:
    tracked.table("tracked_c", COLUMNS)
    tracked.sql("INSERT INTO tracked_c VALUES (1, N'Alm', 1), (2, N'Fels', 2)")
    columns = ["id", "beds", "change() as done", "log_position() as place"]
    tracked.turn(job := tracked.job("tracked_c", columns=columns, into={"mode": "append", "keys": None}))
    tracked.sql("UPDATE tracked_c SET beds = 9 WHERE id = 1")
    tracked.sql("DELETE FROM tracked_c WHERE id = 2")
    tracked.sql("INSERT INTO tracked_c VALUES (3, N'See', 3)")
    tracked.turn(job)
    assert sorted(tracked.followed.there("SELECT id, beds, done FROM tracked_c"), key=str) == [
        (1, 1, "snapshot"), (1, 9, "update"), (2, 2, "snapshot"), (2, None, "delete"), (3, 3, "insert"),
    ]  # fmt: skip


def test_new_columns_are_followed_and_a_table_that_was_emptied_at_once_is_copied_anew(tracked: Tracked) -> None:
    tracked.table("tracked_d", COLUMNS)
    tracked.sql("INSERT INTO tracked_d VALUES (1, N'Alm', 1)")
    tracked.turn(job := tracked.job("tracked_d", into={"if_different": "widen"}))

    def widen(account: Any) -> None:
        if not tracked.sql("SELECT 1 FROM sys.columns WHERE object_id = OBJECT_ID('tracked_d') AND name = 'snow'"):
            tracked.sql("ALTER TABLE tracked_d ADD snow int")
            tracked.sql("UPDATE tracked_d SET snow = 7")

    tracked.sql("UPDATE tracked_d SET beds = 2")
    tracked.turn(job, Heard(widen))
    assert tracked.followed.there("SELECT id, beds, snow FROM tracked_d") == [(1, 2, 7)]
    plain = tracked.job("tracked_d", job=f"{tracked.followed.name}-plain", into={"table": "plain_{table}"})
    tracked.turn(plain)

    def add(account: Any) -> None:
        tracked.sql("ALTER TABLE tracked_d ADD wind int")
        tracked.sql("UPDATE tracked_d SET wind = 7")

    tracked.sql("UPDATE tracked_d SET beds = 3")
    with pytest.raises(StreamPaused, match="a new column, wind"):
        tracked.turn(plain, Heard(add))
    tracked.sql("TRUNCATE TABLE tracked_d")
    tracked.sql("INSERT INTO tracked_d (id, hut, beds) VALUES (9, N'Neu', 9)")
    with pytest.raises(UltravectError, match="TRUNCATE") as lost:
        tracked.turn(job)
    assert (lost.value.code, "--object dbo.tracked_d" in lost.value.hint) == ("log-lost", True)
    reset_mark(job_from_data(job), tracked.place.spec, tracked.followed.into, "")
    tracked.turn({**job, "into": {**job["into"], "gone_limit": "100%"}})
    assert tracked.same("tracked_d")


@pytest.mark.parametrize(
    ("columns", "code"),
    [(COLUMNS, "log-of-unlogged"), ("id int NOT NULL, hut nvarchar(20), beds int", "log-identity")],
)
def test_a_check_says_what_is_missing(tracked: Tracked, columns: str, code: str) -> None:
    tracked.table("tracked_e", columns, tracked=False)
    tracked.sql("ALTER DATABASE CURRENT SET CHANGE_TRACKING = OFF")
    job = tracked.job(into={"keys": ["id"]})
    job["from"] = {**job["from"], "table": "tracked_e"}
    job["from"].pop("tables")

    def lacks() -> list[Any]:
        found = check_job(job_from_data(job), tracked.place.spec, tracked.followed.into)
        return [finding for finding in found.findings if finding.severity == "error"]

    assert [finding.code for finding in lacks()] == ["log-level", code]
    tracked.sql(lacks()[0].fix)
    assert [finding.code for finding in lacks()] == [code]
    if code == "log-of-unlogged":
        tracked.sql(lacks()[0].fix)
        assert lacks() == []
