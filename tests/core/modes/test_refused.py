"""Rows that only the database can refuse are found one by one, and all others are written."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest
from devtools.pairs import Place
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from tests.core.modes.writing import Writer

from ultravect.core.errors import UltravectError

KINDS = ("postgresql", "mariadb", "sqlite", "duckdb")
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
    "duckdb": [],  # it has none
}


@pytest.fixture
def writer(places: dict[str, Place], tmp_path: Path, kind: str) -> Writer:
    for table in ("modes", "dishes", "huts"):
        places[kind].drop(table)
    return Writer(places[kind], tmp_path)


def constrained(writer: Writer) -> None:
    place = writer.place
    place.sql("CREATE TABLE huts (k integer PRIMARY KEY)")
    place.sql("INSERT INTO huts VALUES (1), (2), (3), (4), (5)")
    place.sql("CREATE TABLE modes (k integer UNIQUE, v varchar(20) CHECK (lower(v) <> 'soup'))")
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
    wanted = {8, 9, 3000} | ({1501} if _TRIGGERS[writer.place.kind] else set())
    wanted |= {201, 101} if mode == "append" else {101} if mode == "upsert" else set()
    assert set(refused) == wanted
    assert result.tally.rejected == len(wanted)
    assert result.tally.inserted == 3000 - len(wanted)
    assert "check" in refused[8].reason.lower() or "constraint" in refused[8].reason.lower()
    assert 1501 not in wanted or "no cake here" in refused[1501].reason
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
def test_a_constraint_that_cannot_be_foreseen_fails_the_load(writer: Writer) -> None:
    # its column is not among those that rows bring
    writer.place.sql("CREATE TABLE modes (k integer, v varchar, w integer DEFAULT 1 UNIQUE)")
    with pytest.raises(UltravectError) as raised:
        writer.load([(1, "soup"), (2, "stew")], rejects=5)
    assert raised.value.code == "constraint-refused"
    assert writer.rows() == []


_WORDS = st.sampled_from([None, "soup", "stew", "tart", "Tart"])
_NUMBERS = st.none() | st.integers(0, 4)
_ODD_KEYS = {
    "postgresql": "CREATE UNIQUE INDEX dishes_lower ON dishes (lower(v), hut)",
    "sqlite": "CREATE UNIQUE INDEX dishes_lower ON dishes (lower(v), hut)",
    "duckdb": "CREATE UNIQUE INDEX dishes_lower ON dishes (lower(v), hut)",
    "mariadb": "CREATE UNIQUE INDEX dishes_lower ON dishes (v, hut)",  # it compares without case by itself
}


@pytest.mark.parametrize("kind", KINDS)
@settings(max_examples=6, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(
    held=st.lists(st.tuples(_NUMBERS, _WORDS, _NUMBERS, _NUMBERS), max_size=3),
    rows=st.lists(st.tuples(_NUMBERS, _WORDS, _NUMBERS, _NUMBERS), min_size=1, max_size=12),
)
def test_what_is_refused_is_in_the_way_of_what_is_there(writer: Writer, held: list[Any], rows: list[Any]) -> None:
    """Whatever is in the way of what: no row is lost, none is refused that could have been written."""
    sql = writer.place.sql
    for table in ("dishes", "huts"):
        writer.place.drop(table)
    sql("CREATE TABLE huts (hut integer PRIMARY KEY)")
    sql("INSERT INTO huts VALUES (1), (2), (3)")
    sql(
        "CREATE TABLE dishes (k integer UNIQUE, v varchar(20), w integer, hut integer, CHECK (w > 0), "
        "UNIQUE (w, hut), FOREIGN KEY (hut) REFERENCES huts (hut))"
    )
    sql(_ODD_KEYS[writer.place.kind])
    there: list[Any] = []
    for row in held:
        if not _in_the_way(row, there):
            there.append(row)
            sql(f"INSERT INTO dishes VALUES ({', '.join('NULL' if item is None else repr(item) for item in row)})")
    loader = Writer(writer.place, writer.folder, "dishes")
    result = loader.load(rows, ("k", "v", "w", "hut"), rejects=12)
    found = sql("SELECT k, v, w, hut FROM dishes")
    refused = [rows[reject.row - 1] for reject in loader.heard.rejected]
    assert sorted(map(repr, [*found, *refused])) == sorted(map(repr, [*there, *rows]))
    assert result.tally.rejected == len(refused)
    for row in refused:
        assert _in_the_way(row, found), (row, found)


def _in_the_way(row: Any, others: list[Any]) -> bool:
    """Whether a constraint of ``dishes`` refuses ``row`` next to ``others``."""

    def keys(item: Any) -> list[Any]:
        k, v, w, hut = item
        return [(k,), (v and v.lower(), hut), (w, hut)]

    _, _, w, hut = row
    if (w is not None and w <= 0) or hut not in (None, 1, 2, 3):
        return True
    return any(
        None not in mine and mine == theirs
        for other in others
        for mine, theirs in zip(keys(row), keys(other), strict=True)
    )


@pytest.mark.parametrize("kind", KINDS)
def test_a_key_that_the_table_has_twice_is_told_beside_refused_rows(writer: Writer) -> None:
    writer.place.sql("CREATE TABLE modes (k integer, v varchar(20) CHECK (lower(v) <> 'soup'))")
    writer.place.sql("INSERT INTO modes VALUES (1, 'stew'), (1, 'cake')")
    with pytest.raises(UltravectError) as raised:
        writer.load([(1, "tart"), (2, "soup")], mode="upsert", keys=["k"], rejects=5)
    assert raised.value.code == "key-not-unique"
    assert sorted(writer.rows()) == [(1, "cake"), (1, "stew")]
