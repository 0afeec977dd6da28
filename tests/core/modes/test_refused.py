"""Rows that only the database can refuse are found one by one, and all others are written."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest
from devtools.pairs import Place
from tests.core.modes.writing import Writer

from ultravect.core.errors import UltravectError

# DuckDB has no savepoints: there, a refused row fails the load
KINDS = ("postgresql", "mariadb", "sqlite")
_TRIGGERS = {
    "postgresql": [
        "CREATE OR REPLACE FUNCTION no_cake() RETURNS trigger LANGUAGE plpgsql AS "
        "$$BEGIN IF NEW.v = 'cake' THEN RAISE 'no cake here'; END IF; RETURN NEW; END$$",
        "CREATE TRIGGER no_cake BEFORE INSERT OR UPDATE ON modes FOR EACH ROW EXECUTE FUNCTION no_cake()",
    ],
    "mariadb": [
        "CREATE TRIGGER no_cake BEFORE INSERT ON modes FOR EACH ROW IF NEW.v = 'cake' THEN "
        "SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = 'no cake here'; END IF"
    ],
    "sqlite": [
        "CREATE TRIGGER no_cake BEFORE INSERT ON modes WHEN NEW.v = 'cake' BEGIN SELECT RAISE(ABORT, 'no cake here'); END"
    ],
}


@pytest.fixture
def writer(places: dict[str, Place], tmp_path: Path, kind: str) -> Writer:
    for table in ("modes", "huts"):
        places[kind].drop(table)
    return Writer(places[kind], tmp_path)


def constrained(writer: Writer) -> None:
    place = writer.place
    place.sql("CREATE TABLE huts (k integer PRIMARY KEY)")
    place.sql("INSERT INTO huts VALUES (1), (2), (3), (4), (5)")
    place.sql("CREATE TABLE modes (k integer UNIQUE, v varchar(20) CHECK (v <> 'soup'))")
    for statement in _TRIGGERS[place.kind]:
        place.sql(statement)
    place.sql("INSERT INTO modes VALUES (100, 'stew')")


@pytest.mark.parametrize("mode", ["append", "overwrite", "upsert"])
@pytest.mark.parametrize("kind", KINDS)
def test_each_refused_row_is_told_and_the_others_are_written(writer: Writer, mode: str) -> None:
    constrained(writer)
    rows: list[tuple[Any, ...]] = [(number, f"dish {number}") for number in range(3000)]
    rows[7] = (7, "soup")
    rows[8] = ("eight", "not a number")
    rows[1500] = (1500, "cake")
    rows[2999] = (2999, "soup")
    if mode == "append":
        rows[200] = (199, "twice")
    if mode == "upsert":
        rows[100] = (100, "soup")
    into: dict[str, Any] = {"mode": mode, "rejects": 10, **({"keys": ["k"]} if mode == "upsert" else {})}
    result = writer.load(rows, **into)
    refused = {reject.row: reject for reject in writer.heard.rejected}
    wanted = {8, 9, 1501, 3000} | ({201, 101} if mode == "append" else {101} if mode == "upsert" else set())
    assert set(refused) == wanted
    assert result.tally.rejected == len(wanted)
    assert result.tally.inserted == 3000 - len(wanted)
    assert "check" in refused[8].reason.lower() or "constraint" in refused[8].reason.lower()
    assert "no cake here" in refused[1501].reason
    assert json.loads(refused[8].record) == {"k": 7, "v": "soup"}
    assert refused[9].column == "k"
    held = writer.place.sql("SELECT count(*), max(k) FROM modes")
    assert held == [(3000 - len(wanted) + (0 if mode == "overwrite" else 1), 2998)]
    assert writer.left_behind() == []


@pytest.mark.parametrize("kind", KINDS)
def test_no_more_are_refused_than_the_job_tolerates(writer: Writer) -> None:
    constrained(writer)
    rows = [(number, "soup" if number % 2 else "bread") for number in range(1, 3000)]
    for rejects in (0, 3):
        with pytest.raises(UltravectError) as raised:
            writer.load(rows, rejects=rejects)
        # MariaDB makes warnings of what it refuses in a bulk load
        refused = ("constraint-refused", "value-refused")
        assert raised.value.code in (refused if rejects == 0 else ("too-many-rejects",))
        assert writer.rows() == [(100, "stew")]
    assert len(writer.heard.rejected) == 4
    assert writer.left_behind() == []


@pytest.mark.parametrize("kind", ["postgresql"])
def test_constraints_that_are_deferred_are_looked_at_before_the_end(writer: Writer) -> None:
    writer.place.sql("CREATE TABLE huts (k integer PRIMARY KEY)")
    writer.place.sql("INSERT INTO huts VALUES (1), (2)")
    writer.place.sql("CREATE TABLE modes (k integer REFERENCES huts DEFERRABLE INITIALLY DEFERRED, v varchar(20))")
    with pytest.raises(UltravectError) as raised:
        writer.load([(1, "soup"), (9, "lost")])
    assert raised.value.code == "constraint-refused"
    result = writer.load([(1, "soup"), (9, "lost"), (2, "stew")], rejects=1)
    assert (result.tally.inserted, result.tally.rejected) == (2, 1)
    assert writer.rows() == [(1, "soup"), (2, "stew")]


@pytest.mark.parametrize("kind", ["duckdb"])
def test_where_a_row_cannot_be_isolated_the_load_fails(writer: Writer) -> None:
    writer.place.sql("CREATE TABLE modes (k integer UNIQUE, v varchar)")
    with pytest.raises(UltravectError) as raised:
        writer.load([(1, "soup"), (1, "stew")], rejects=5)
    assert raised.value.code == "constraint-refused"
    assert writer.rows() == []


@pytest.mark.parametrize("kind", KINDS)
def test_a_key_that_the_table_has_twice_is_told_beside_refused_rows(writer: Writer) -> None:
    writer.place.sql("CREATE TABLE modes (k integer, v varchar(20) CHECK (v <> 'soup'))")
    writer.place.sql("INSERT INTO modes VALUES (1, 'stew'), (1, 'cake')")
    with pytest.raises(UltravectError) as raised:
        writer.load([(1, "tart"), (2, "soup")], mode="upsert", keys=["k"], rejects=5)
    assert raised.value.code == "key-not-unique"
    assert sorted(writer.rows()) == [(1, "cake"), (1, "stew")]
