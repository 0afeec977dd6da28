"""Rejected rows of tables are found again by their primary key, wherever they stand and whatever was read of them."""

from __future__ import annotations

import json
from collections.abc import Iterator
from typing import Any

import pytest
from devtools.legs import run_leg
from devtools.pairs import KINDS, Copied, Place
from tests.core.modes.test_bad_targets import Hooked

from ultravect.core.engine.run.leg import LegResult
from ultravect.core.engine.run.rejected.row_selection import SelectionByKeys
from ultravect.core.errors import UltravectError
from ultravect.core.model.document import job_from_data

HUTS = ['O\'Neil \\ "x"', "%_; --", "Hütte 7", "plain"]


@pytest.fixture
def place(places: dict[str, Place], kind: str) -> Iterator[Place]:
    place = places[kind]
    for table in ("notes", "noted"):
        place.drop(table)
    yield place
    for table in ("notes", "noted"):
        place.drop(table)


def run(place: Place, heard: Copied, pick: SelectionByKeys | None = None, **changes: Any) -> LegResult:
    source: dict[str, Any] = {"connection": place.spec.name, "table": "notes", **changes.pop("source", {})}
    into = {"connection": place.spec.name, "table": "noted", "rejects": 10, **changes.pop("into", {})}
    job = {"ultravect": 1, "job": "notes", "from": source, "into": into, "columns": ["n integer"], **changes}
    return run_leg(job_from_data(job), place.spec, place.spec, heard, selection=pick)


def filled(place: Place, key: str) -> None:
    place.sql(f"CREATE TABLE notes (hut varchar(40), day date, n varchar(20), PRIMARY KEY ({key}))")
    for number, hut in enumerate(HUTS):
        shown = hut.replace("'", "''")
        shown = shown.replace("\\", "\\\\") if place.kind == "mariadb" else shown
        place.sql(f"INSERT INTO notes VALUES ('{shown}', '2026-07-0{number + 1}', '{'x' if number % 2 else number}')")


@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.parametrize("key", ["hut", "hut, day"])
@pytest.mark.parametrize("bad", [0, 1])
def test_rows_are_found_by_a_key_that_is_not_copied(place: Place, key: str, bad: int) -> None:
    filled(place, key)
    place.sql(f"UPDATE notes SET n = CASE WHEN n = 'x' THEN '{bad}' ELSE 'x' END") if bad == 0 else None
    wrong = [HUTS[0], HUTS[2]] if bad == 0 else [HUTS[1], HUTS[3]]
    heard = Copied()
    first = run(place, heard)
    keys = [json.loads(item.key) for item in heard.rejected]
    assert sorted(item["hut"] for item in keys) == sorted(wrong)
    assert all(set(item) == set(key.split(", ")) for item in keys)
    assert first.tally.inserted == 2
    # one is fixed, and the table has grown in front of it
    place.sql("UPDATE notes SET n = '11' WHERE n = 'x' AND day > '2026-07-02'")
    place.sql("INSERT INTO notes VALUES ('a new one', '2026-01-01', '99')")
    again = Copied()
    second = run(place, again, SelectionByKeys([item.key for item in heard.rejected]))
    assert (second.tally.read, second.tally.inserted, second.tally.rejected) == (2, 1, 1)
    assert [json.loads(item.key)["hut"] for item in again.rejected] == [wrong[0]]
    assert max(place.sql("SELECT n FROM noted")) == (11,)


@pytest.mark.parametrize("kind", KINDS)
def test_a_row_that_the_target_refused_has_its_key(place: Place) -> None:
    filled(place, "hut")
    place.sql("CREATE TABLE noted (n varchar(20) UNIQUE)")
    heard = Copied()
    assert run(place, heard, columns=["n"]).tally.inserted == 3
    (twice,) = heard.rejected
    assert json.loads(twice.key)["hut"] in (HUTS[1], HUTS[3])
    place.sql("DELETE FROM noted WHERE n = 'x'")
    assert run(place, Copied(), SelectionByKeys([twice.key]), columns=["n"]).tally.inserted == 1


@pytest.mark.parametrize("kind", ["postgresql", "sqlite"])
def test_rows_that_are_gone_are_reported(place: Place) -> None:
    filled(place, "hut")
    heard = Hooked("", lambda: None)
    run(place, heard)
    keys = [item.key for item in heard.rejected]
    place.sql("UPDATE notes SET n = '5' WHERE n = 'x'")
    place.sql("DELETE FROM notes WHERE hut = 'plain'")
    assert run(place, heard, SelectionByKeys(keys)).tally.inserted == 1
    assert "1 of the 2 rejected rows are no longer there, or left out" in heard.lines
    for source, shown in (
        ({"where": "day < parse_date('2026-01-01')"}, "none of the 2 rejected rows"),
        ({"table": "noted"}, "known by hut, which is not the primary key"),
        ({"table": None, "query": "select * from notes"}, "known by hut, which is not the primary key"),
    ):
        with pytest.raises(UltravectError, match=shown) as raised:
            run(place, Copied(), SelectionByKeys(keys), source=source)
        assert raised.value.code == "rejects-gone"


@pytest.mark.parametrize("kind", KINDS)
def test_thousands_of_rows_are_found_by_two_columns(place: Place) -> None:
    place.sql("CREATE TABLE notes (hut integer, day integer, n varchar(20), PRIMARY KEY (hut, day))")
    values = ", ".join(f"({number % 50}, {number // 50}, 'x{number}')" for number in range(2000))
    place.sql(f"INSERT INTO notes VALUES {values}")
    heard = Copied()
    run(place, heard, into={"rejects": 2000})
    place.sql("UPDATE notes SET n = substr(n, 2)")
    result = run(place, Copied(), SelectionByKeys([item.key for item in heard.rejected]), into={"rejects": 2000})
    assert (result.tally.read, result.tally.inserted) == (2000, 2000)


@pytest.mark.parametrize("kind", ["postgresql"])
def test_without_a_key_there_is_none(place: Place) -> None:
    place.sql("CREATE TABLE notes (hut bytea PRIMARY KEY, n varchar(20))")
    place.sql("INSERT INTO notes VALUES ('a', 'x')")
    heard = Copied()
    run(place, heard)
    assert [item.key for item in heard.rejected] == [""]
