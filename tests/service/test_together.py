"""Legs that are published together: all of them in one transaction, or none."""

from __future__ import annotations

import os
import signal

import psycopg
import pytest
from devtools.service_processes import leg_processes
from devtools.stack import Stack
from tests.conftest import Place
from tests.service.test_many_objects import Many

from ultravect.client import Run

TOGETHER = "run: {publish: together}\n"


@pytest.fixture
def many(place: Place) -> Many:
    return Many(place)


def _states(run: Run) -> dict[str, tuple[str, str]]:
    return {leg.object: (leg.state, leg.outcome) for leg in run.legs}


def test_all_legs_are_published_by_one_transaction(many: Many) -> None:
    many.tables("booking", "guest", "payment").job(into="mode: upsert, keys: primary", more=TOGETHER)
    for rows in ("inserted", "unchanged"):
        run = many.run()
        assert (run.state, run.outcome) == ("succeeded", "committed"), run.error
        assert set(_states(run).values()) == {("succeeded", "committed")}
        assert all(leg.tally and leg.tally[rows] == 3 and leg.rows_after == 3 for leg in run.legs)
        assert all(phase["state"] == "done" for leg in run.legs for phase in leg.phases)
    written = many.place.sql(
        "SELECT xmin FROM {t}.booking UNION SELECT xmin FROM {t}.guest UNION SELECT xmin FROM {t}.payment"
    )
    assert len(written) == 1
    receipts = many.place.sql(f"SELECT DISTINCT xmin FROM {{t}}.ultravect_receipt WHERE run LIKE '{run.id}-%'")
    assert len(receipts) == 1


def test_a_leg_that_fails_keeps_all_from_being_published(many: Many) -> None:
    many.tables("booking", "guest", "payment")
    many.job(into="if_different: widen", more=TOGETHER)
    assert many.run().state == "succeeded"
    many.place.sql("ALTER TABLE {t}.payment ADD CONSTRAINT odd CHECK (id <> 1) NOT VALID")
    run = many.run()
    assert (run.state, run.outcome) == ("failed", "nothing")
    assert _states(run) == {
        "booking": ("stopped", "nothing"),
        "guest": ("stopped", "nothing"),
        "payment": ("failed", "nothing"),
    }
    assert [many.count(table) for table in ("booking", "guest", "payment")] == [3, 3, 3]
    booking = next(leg for leg in run.legs if leg.object == "booking")
    assert booking.error
    assert run.error
    assert "none was published" in run.error["hint"]
    assert booking.error["code"] == "leg-not-published"
    assert "payment failed" in booking.error["detail"]
    many.job(into="if_different: widen, rejects: 1", more=TOGETHER)
    run = many.run()
    assert (run.state, run.outcome) == ("succeeded", "committed"), run.error
    assert {leg.object: leg.rejected for leg in run.legs} == {"booking": 0, "guest": 0, "payment": 1}
    assert [many.count(table) for table in ("booking", "guest", "payment")] == [6, 6, 5]


def test_nothing_is_seen_before_all_is(many: Many) -> None:
    many.tables("booking", "guest", "payment").job(more=TOGETHER)
    many.run()
    with psycopg.connect(many.place.stack.postgres.url("warehouse")) as session:
        session.execute(f"LOCK TABLE {many.place.name}.payment IN SHARE MODE".encode())
        started = many.client.run(many.place.name)
        run = many.place.until(
            started,
            lambda run: any(
                phase["name"] == "publish" and phase["state"] != "waiting"
                for leg in run.legs[1:2]
                for phase in leg.phases
            ),
        )
        assert run.state == "running"
        assert [many.count(table) for table in ("booking", "guest")] == [3, 3]
    ended = many.client.wait(started.id)
    assert ended.state == "succeeded", ended.error
    assert [many.count(table) for table in ("booking", "guest", "payment")] == [6, 6, 6]


def test_a_process_that_is_lost_is_replaced_once_for_all_legs(many: Many, stack: Stack) -> None:
    many.tables("booking", "guest", "payment").job(more=TOGETHER)
    many.run()
    with psycopg.connect(many.place.stack.postgres.url("warehouse")) as session:
        session.execute(f"LOCK TABLE {many.place.name}.payment IN SHARE MODE".encode())
        started = many.client.run(many.place.name)
        many.place.until(
            started,
            lambda run: any(
                phase["name"] == "publish" and phase["state"] != "waiting"
                for leg in run.legs[1:2]
                for phase in leg.phases
            ),
        )
        pids = stack.postgres.execute(
            "SELECT client_port FROM pg_stat_activity WHERE application_name LIKE '%together%'", "warehouse"
        )
        assert len(pids) == 1
        for pid in _loading(stack):
            os.kill(pid, signal.SIGKILL)
    ended = many.client.wait(started.id)
    assert ended.state == "succeeded", ended.error
    assert [leg.attempts for leg in ended.legs] == [2, 2, 2]
    assert [many.count(table) for table in ("booking", "guest", "payment")] == [6, 6, 6]


def _loading(stack: Stack) -> list[int]:
    """The processes of legs that are under way: those that have a thread which reads."""
    found = []
    for pid in leg_processes(stack.pid):
        try:
            names = [open(f"/proc/{pid}/task/{task}/comm").read() for task in os.listdir(f"/proc/{pid}/task")]  # noqa: SIM115
        except OSError:
            continue
        if len(names) > 1:
            found.append(pid)
    return found


def test_one_leg_that_is_stopped_stops_all(many: Many) -> None:
    many.tables("booking", "guest", "payment").job(more=TOGETHER)
    many.run()
    with psycopg.connect(many.place.stack.postgres.url("warehouse")) as session:
        session.execute(f"LOCK TABLE {many.place.name}.payment IN SHARE MODE".encode())
        started = many.client.run(many.place.name)
        many.place.until(started, lambda run: run.state == "running" and bool(run.legs))
        many.client.stop(started.id, 2)
        ended = many.client.wait(started.id)
    assert ended.state == "stopped", (ended.error, many.client.events(ended.id))
    assert set(_states(ended).values()) == {("stopped", "nothing")}
    assert [many.count(table) for table in ("booking", "guest", "payment")] == [3, 3, 3]


def test_a_target_that_cannot_is_an_error_of_check(many: Many) -> None:
    many.tables("booking", "guest")
    text = many.job(more=TOGETHER).replace("connection: warehouse", f"connection: {many.place.name}-huts")
    text = text.replace(f"'{many.place.name}.{{table}}'", "'copy_{table}'")
    check = many.client.check_file(text)
    assert [(finding.code, finding.place) for finding in check.findings if finding.severity == "error"] == [
        ("publish-together", "run.publish")
    ]
