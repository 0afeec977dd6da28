"""A run of many legs: each is recorded, fails, is stopped and done again on its own."""

from __future__ import annotations

import json
import sqlite3
import subprocess
import sys
from contextlib import closing
from pathlib import Path

import psycopg
import pytest
from devtools.stack import Stack
from tests.conftest import Place

from ultravect.client import ApiError, Leg, Run


class Many:
    """A database of some tables, and a job that copies them into a schema of its own."""

    def __init__(self, place: Place) -> None:
        self.place, self.client = place, place.client
        self.path = place.stack.files / f"{place.name}.sqlite"
        self.client.add_connection(f"{place.name}-huts", "sqlite", {"path": str(self.path)})
        place.sql("CREATE SCHEMA {t}")

    def tables(self, *names: str, rows: int = 3) -> Many:
        with closing(sqlite3.connect(self.path)) as session:
            for name in names:
                session.execute(f"CREATE TABLE {name} (id integer primary key, v text)")
                session.executemany(f"INSERT INTO {name} VALUES (?, ?)", [(n, f"v{n}") for n in range(rows)])
            session.commit()
        return self

    def job(self, *, source: str = "tables: ['*']", into: str = "", more: str = "") -> str:
        text = (
            f"ultravect: 1\njob: {self.place.name}\n"
            f"from: {{connection: {self.place.name}-huts, {source}}}\n"
            f"into: {{connection: warehouse, table: '{self.place.name}.{{table}}'{into and ', ' + into}}}\n{more}"
        )
        self.client.save_job(self.place.name, text)
        return text

    def run(self, **asked: object) -> Run:
        return self.client.wait(self.client.run(self.place.name, **asked).id)  # type: ignore[arg-type]

    def count(self, table: str) -> object:
        return self.place.sql(f"SELECT count(*) FROM {{t}}.{table}")[0][0]


@pytest.fixture
def many(place: Place) -> Many:
    return Many(place)


def _states(run: Run) -> dict[str, str]:
    return {leg.object: leg.state for leg in run.legs}


def _leg(run: Run, name: str) -> Leg:
    return next(leg for leg in run.legs if leg.object == name)


def test_every_table_is_a_leg_of_its_own(many: Many) -> None:
    many.tables("booking", "guest", "payment").job(into="mode: upsert, keys: primary")
    run = many.run()
    assert (run.state, run.outcome) == ("succeeded", "committed")
    assert [(leg.number, leg.object, leg.outcome) for leg in run.legs] == [
        (1, "booking", "committed"),
        (2, "guest", "committed"),
        (3, "payment", "committed"),
    ]
    assert all(leg.tally and leg.tally["inserted"] == 3 for leg in run.legs)
    plan = many.client.plan(run.id, 2)
    assert plan["write"]["table"]["name"] == "guest"
    events = many.client.events(run.id)
    assert {event.leg for event in events if event.kind == "published"} == {1, 2, 3}
    assert [event.kind for event in events if event.leg is None] == ["state", "legs", "end"]
    again = many.run()
    assert all(leg.tally and leg.tally["unchanged"] == 3 for leg in again.legs)
    line = next(item for item in many.client.runs(job=many.place.name).items if item.id == run.id)
    assert (line.legs, line.tally and line.tally["read"]) == ({"succeeded": 3}, 9)


def test_a_leg_that_fails_leaves_the_others_and_is_done_again_alone(many: Many) -> None:
    many.tables("booking", "guest", "payment").job()
    many.place.sql("CREATE TABLE {t}.guest (id date)")
    run = many.run()
    assert _states(run) == {"booking": "succeeded", "guest": "failed", "payment": "succeeded"}
    assert (run.state, run.outcome) == ("failed", "committed")
    assert run.error is not None
    assert run.error["code"] == "legs-failed"
    assert run.error["detail"].startswith("1 of 3 legs failed: guest (")
    error = _leg(run, "guest").error
    assert error is not None
    many.place.sql("DROP TABLE {t}.guest")
    environment = {"ULTRAVECT_URL": many.place.stack.url, "ULTRAVECT_TOKEN": many.place.stack.token}
    done = subprocess.run(
        [str(Path(sys.executable).parent / "ultravect"), "rerun", str(run.id), "--json"],
        env=environment,
        capture_output=True,
        text=True,
    )
    assert done.returncode == 0, done.stderr + done.stdout
    again = Run.model_validate(json.loads(done.stdout[done.stdout.index("{") :]))
    assert _states(again) == {"guest": "succeeded"}
    assert (many.count("booking"), many.count("guest")) == (3, 3)


def test_no_more_legs_are_begun_when_the_job_says_so(many: Many) -> None:
    many.tables("a", "b", "c").job(more="run: {at_once: 1, on_error: stop}\n")
    many.place.sql("CREATE TABLE {t}.a (id date)")
    run = many.run()
    assert _states(run) == {"a": "failed", "b": "stopped", "c": "stopped"}
    error = _leg(run, "b").error
    assert error is not None
    assert error["code"] == "leg-not-begun"
    assert run.state == "failed"


def test_only_so_many_legs_are_at_once_and_one_is_stopped_alone(many: Many) -> None:
    many.tables("a", "b", "c").job(more="run: {at_once: 1}\n")
    many.place.sql("CREATE TABLE {t}.a (id bigint, v text)")
    run = many.client.run(many.place.name)
    with psycopg.connect(many.place.stack.postgres.url("warehouse")) as session:
        session.execute(f"LOCK TABLE {many.place.name}.a IN SHARE MODE".encode())
        found = many.place.until(run, lambda run: any(leg.state == "running" for leg in run.legs))
        assert _states(found) == {"a": "running", "b": "queued", "c": "queued"}
        many.client.stop(run.id, 2)
        many.client.stop(run.id, 1)
        many.place.until(run, lambda run: _leg(run, "a").state == "stopped")
    ended = many.client.wait(run.id)
    assert _states(ended) == {"a": "stopped", "b": "stopped", "c": "succeeded"}
    with pytest.raises(ApiError) as refused:
        many.client.stop(run.id, 1)
    assert refused.value.code == "leg-ended"


def test_a_run_is_stopped_with_all_its_legs(many: Many) -> None:
    many.tables("a", "b", "c").job(more="run: {at_once: 1}\n")
    many.place.sql("CREATE TABLE {t}.a (id bigint, v text)")
    run = many.client.run(many.place.name)
    with psycopg.connect(many.place.stack.postgres.url("warehouse")) as session:
        session.execute(f"LOCK TABLE {many.place.name}.a IN SHARE MODE".encode())
        many.place.until(run, lambda run: any(leg.state == "running" for leg in run.legs))
        many.client.stop(run.id)
        ended = many.client.wait(run.id)
    assert (ended.state, set(_states(ended).values())) == ("stopped", {"stopped"})


def test_nothing_to_copy_is_an_error_or_a_note(many: Many) -> None:
    many.tables("a").job(source="tables: ['none*']")
    run = many.run()
    assert run.error is not None
    assert (run.state, run.error["code"], run.legs) == ("failed", "nothing-found", [])
    many.job(source="tables: ['none*'], allow_none: true")
    assert many.run().state == "succeeded"


def test_a_table_that_vanishes_is_named_by_check_and_run(many: Many) -> None:
    many.tables("a", "b").job()
    many.run()
    with closing(sqlite3.connect(many.path)) as session:
        session.execute("DROP TABLE b")
    many.tables("c")
    checked = many.client.check_job(many.place.name)
    assert [item.code for item in checked.findings] == ["objects-gone", "objects-new"]
    assert [leg.object for leg in checked.legs] == ["a", "c"]
    events = [
        event.data["code"] for event in many.client.events(many.run().id) if event.kind == "finding" and not event.leg
    ]
    assert events == ["objects-new", "objects-gone"]


def test_check_shows_the_worst_leg_first_and_rehearses_one(many: Many) -> None:
    many.tables("a", "b", "c").job(into="rename: upper_case")
    many.place.sql('CREATE TABLE {t}."B" (id date)')
    checked = many.client.check_job(many.place.name)
    assert not checked.passed
    assert [leg.object for leg in checked.legs] == ["b", "a", "c"]
    assert checked.legs[0].findings
    rehearsed = many.client.rehearse_job(many.place.name, object="c")
    assert [column["name"] for column in rehearsed.target_columns] == ["ID", "V"]
    with pytest.raises(ApiError, match="none of the objects"):
        many.client.rehearse_job(many.place.name, object="none")


def test_a_run_of_some_objects(many: Many) -> None:
    many.tables("a", "b", "c").job()
    assert _states(many.run(only=["b"])) == {"b": "succeeded"}
    refused = many.run(only=["none"])
    assert refused.error is not None
    assert (refused.state, refused.error["code"]) == ("failed", "object-unknown")


def test_the_load_of_all_legs_is_undone(many: Many) -> None:
    many.tables("a", "b").job(more='columns: ["*", "run_id() as load_run text(20)"]\n')
    many.run()
    run = many.run()
    assert many.count("a") == 6
    undone = many.client.wait(many.client.undo(run.id).id)
    assert (undone.state, _states(undone)) == ("succeeded", {"a": "succeeded", "b": "succeeded"})
    assert (many.count("a"), many.count("b")) == (3, 3)


def test_a_range_and_marks_by_the_service(many: Many) -> None:
    many.tables("a", "b", rows=5).job(source="tables: ['*'], newer: {by: id}", into="mode: upsert, keys: primary")
    assert [(item.object, item.value) for item in many.client.marks(many.place.name)] == [("a", ""), ("b", "")]
    run = many.run()
    assert [leg.mark and leg.mark.after for leg in run.legs] == ["4", "4"]
    nothing = many.run()
    assert (nothing.state, nothing.outcome, {leg.outcome for leg in nothing.legs}) == (
        "succeeded",
        "nothing",
        {"nothing"},
    )
    again = many.run(again=("1", "2"), only=["a"])
    assert [leg.tally and leg.tally["read"] for leg in again.legs] == [2]
    assert [item.value for item in many.client.set_mark(many.place.name, "2", object="b")] == ["2"]
    assert [leg.tally and leg.tally["read"] for leg in many.run().legs] == [0, 2]
    many.client.reset_mark(many.place.name)
    assert [leg.tally and leg.tally["read"] for leg in many.run().legs] == [5, 5]


def test_a_draft_for_many_tables_passes_its_check(many: Many, stack: Stack) -> None:
    many.tables("a", "b")
    for wanted in ("*", ["a", "b"]):
        text = many.client.draft(f"{many.place.name}-huts", wanted, "warehouse", many.place.name, mode="upsert")
        checked = many.client.check_file(text)
        assert checked.passed, checked.findings
        assert [leg.target for leg in checked.legs] == [f"{many.place.name}.a", f"{many.place.name}.b"]


def test_rejects_of_a_leg_are_loaded_again_and_nothing_else_is_touched(many: Many) -> None:
    """The mark is past such rows, and the others of the table are not gone."""
    many.tables("a", rows=4)
    with closing(sqlite3.connect(many.path)) as session:
        session.execute("CREATE TABLE b (id integer primary key, v text)")
        session.executemany("INSERT INTO b VALUES (?, ?)", [(1, "1"), (2, "soup"), (3, "3")])
        session.commit()
    many.place.sql("CREATE TABLE {t}.b (id bigint primary key, v bigint)")
    objects = "objects: {a: {into: {gone: delete}}, b: {from: {newer: {by: id}}}}\n"
    many.job(into="mode: upsert, keys: primary, rejects: 1, gone_limit: 100%", more=objects)
    run = many.run()
    assert run.state == "succeeded", run.error
    with closing(sqlite3.connect(many.path)) as session:
        session.execute("UPDATE b SET v = '2' WHERE id = 2")
        session.commit()
    again = many.client.wait(many.client.retry_rejects(run.id).id)
    assert (again.state, _states(again)) == ("succeeded", {"b": "succeeded"})
    assert many.place.sql("SELECT * FROM {t}.b ORDER BY 1") == [(1, 1), (2, 2), (3, 3)]
    assert many.count("a") == 4
