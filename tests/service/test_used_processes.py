"""A process that ended well takes the next leg with the same connections; one that did not is not used again."""

from __future__ import annotations

import sqlite3
import threading
from contextlib import closing

import pytest
from devtools.service_processes import leg_processes
from devtools.stack import Stack
from tests.conftest import Place

_LEGS = 12


@pytest.fixture
def many(place: Place) -> Place:
    """A job of twelve legs, one after the other: a table of a SQLite file for each of them, into a schema of the test's."""
    path = place.stack.files / f"{place.name}.sqlite"
    with closing(sqlite3.connect(path)) as session:
        for number in range(_LEGS):
            session.execute(f"CREATE TABLE hut_{number:02} (a integer)")
            session.execute(f"INSERT INTO hut_{number:02} VALUES ({number})")
        session.commit()
    place.client.add_connection(f"{place.name}-huts", "sqlite", {"path": str(path)})
    place.sql("CREATE SCHEMA {t}")
    text = (
        f"ultravect: 1\njob: {place.name}\nfrom: {{connection: {place.name}-huts, tables: ['*']}}\n"
        f"into: {{connection: warehouse, table: '{place.name}.{{table}}', mode: overwrite}}\nrun: {{at_once: 1}}\n"
    )
    place.client.save_job(place.name, text)
    return place


def _seen_until_ended(place: Place, stack: Stack) -> set[int]:
    """The processes that were there at some moment of a run."""
    run, seen = place.start(), set[int]()
    while not place.client.show(run.id).ended_at:
        seen |= set(leg_processes(stack.pid))
        threading.Event().wait(0.02)
    assert place.client.show(run.id).state == "succeeded"
    return seen


def test_the_legs_of_a_run_share_processes(many: Place, stack: Stack) -> None:
    assert len(_seen_until_ended(many, stack)) < _LEGS
    assert [many.sql(f"SELECT a FROM {{t}}.hut_{number:02}") for number in (0, 11)] == [[(0,)], [(11,)]]


def test_a_leg_in_a_used_process_is_stopped_and_those_after_it_are_not(many: Place) -> None:
    assert many.run().state == "succeeded"
    with many.locked("SHARE", f"{many.name}.hut_05"):
        run = many.until(many.start(), lambda run: len(run.legs) == _LEGS and run.legs[5].state == "running")
        many.client.stop(run.id, leg=6)
        ended = many.until(run, lambda run: run.legs[6].state == "succeeded")
        assert ended.legs[5].state == "stopped"
    ended = many.client.wait(run.id)
    assert [leg.state for leg in ended.legs] == ["succeeded"] * 5 + ["stopped"] + ["succeeded"] * 6


def test_a_leg_that_fails_harms_none_after_it(many: Place) -> None:
    assert many.run().state == "succeeded"
    many.sql("ALTER TABLE {t}.hut_03 ADD CHECK (a > 3) NOT VALID")
    ended = many.run()
    assert [leg.state for leg in ended.legs] == ["succeeded"] * 3 + ["failed"] + ["succeeded"] * 8
    assert [leg.tally["read"] for leg in ended.legs if leg.tally] == [1] * (_LEGS - 1)
