"""Runs through the service: what is loaded, and what bad input, losses and stops leave after."""

from __future__ import annotations

import os
import signal
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pytest
from devtools.postgres import PostgresServer
from devtools.service_processes import leg_processes
from devtools.stack import Stack
from tests.conftest import Place

from ultravect.client import Client, Run

GOOD = "id,code,name,total,day\n1,007,Ana,1.50,2026-01-02\n2,010,Zoë,,2026-01-03\n"


def adds_up(run: Run) -> bool:
    tally = run.legs[0].tally or {}
    return tally["read"] == sum(count for name, count in tally.items() if name != "read")


def test_a_missing_table_is_created_with_fitting_types(place: Place) -> None:
    place.file(GOOD + '3,011,"two\nlines, ""quoted""",3,2026-01-04\n').job()
    run = place.run()
    leg = run.legs[0]
    assert (run.state, leg.created_target, leg.rows_before, leg.rows_after) == ("succeeded", True, 0, 3)
    assert leg.tally is not None
    assert (leg.tally["read"], leg.tally["inserted"], adds_up(run)) == (3, 3, True)
    types = place.sql(
        "SELECT column_name::text, data_type::text FROM information_schema.columns WHERE table_name = '{t}' ORDER BY 1"
    )
    assert dict(types) == {"id": "integer", "code": "text", "name": "text", "total": "numeric", "day": "date"}
    assert place.sql("SELECT code, name FROM {t} WHERE id = 3") == [("011", 'two\nlines, "quoted"')]
    assert [phase["state"] for phase in leg.phases] == ["done"] * 5


def test_running_again_appends_and_says_so(place: Place) -> None:
    place.file(GOOD).job()
    place.run()
    leg = place.run().legs[0]
    assert (leg.rows_before, leg.rows_after, leg.created_target) == (2, 4, False)


def test_columns_are_chosen_renamed_and_typed(place: Place) -> None:
    place.file(GOOD).job(columns='["id bigint", "code as hut text(4)", "* except (day)"]')
    assert place.run().state == "succeeded"
    assert [str(value) for value in place.rows()[0]] == ["1", "007", "Ana", "1.50"]
    # no code is longer than four characters, and the column would not take one
    place.file(GOOD.replace("007", "00007"))
    run = place.run()
    assert run.error is not None
    assert "'00007': longer than 4 characters" in run.error["detail"]


@pytest.mark.parametrize(
    ("content", "code", "part"),
    [
        (None, "file-missing", "there is no file"),
        ("", "file-empty", "is empty"),
        ('id,name\n1,"open\n2,x\n', "broken-quote", "line 2: a quote opens here and is never closed"),
        (b"id,name\n1,M\xfcller\n" * 1 + b"2,x\n", None, ""),
        ("id,name\n1,a\n2\n3,c,d\n", "too-many-rejects", "2 rows were rejected"),
        ("id\0,name\n1,a\n", None, ""),
    ],
)
def test_broken_files(content: str | bytes | None, code: str | None, part: str, place: Place) -> None:
    if content is not None:
        place.file(content)
    place.job()
    run = place.run()
    if code is None:
        return
    assert run.error is not None
    assert (run.state, run.error["code"]) == ("failed", code)
    assert part in run.error["detail"]
    assert not place.exists(), "a table that was created by a failed run must be gone"


@pytest.mark.parametrize("columns", ["", '["day date", "*"]'])
def test_dates_in_the_form_that_the_file_has(columns: str, place: Place) -> None:
    """In a new table, typed by the data or by the job; and in one that exists."""
    place.file("id;day\n1;31.12.2026\n2;01.02.2026\n").job(columns=columns)
    assert [place.run().state for _ in range(2)] == ["succeeded"] * 2
    assert place.sql("SELECT id, day::text FROM {t} ORDER BY id LIMIT 3")[1:] == [
        (1, "2026-12-31"),
        (2, "2026-02-01"),
    ]


def test_a_folder_is_no_file(place: Place) -> None:
    place.path.mkdir()
    place.job()
    run = place.run()
    assert run.error is not None
    assert run.error["code"] == "file-is-folder"


def test_a_header_alone_makes_an_empty_table(place: Place) -> None:
    place.file("id,name\n").job()
    run = place.run()
    assert (run.state, run.legs[0].tally and run.legs[0].tally["read"]) == ("succeeded", 0)
    assert place.rows() == []
    assert "no-rows" in [event.data["code"] for event in place.client.events(run.id) if event.kind == "finding"]


def test_a_wrong_encoding_is_told_by_value(place: Place) -> None:
    head = "id,name\n" + "".join(f"{n},plain\n" for n in range(60_000))  # more than what is sniffed
    place.sql("CREATE TABLE {t} (id int, name text)")
    place.file(head.encode() + "7,Müller\n".encode("latin-1")).job()
    run = place.run()
    assert run.error is not None
    assert "row 60,001 (line 60,002), column name" in run.error["detail"]
    assert "byte 0xFC" in run.error["detail"]
    assert place.rows() == []
    place.job(source="layout: {encoding: latin-1}")
    assert place.run().state == "succeeded"
    assert place.sql("SELECT name FROM {t} WHERE id = 7 AND name <> 'plain'") == [("Müller",)]


BAD_ROWS = [
    # table's columns, the bad row, column, value, reason
    ("id int, name varchar(4)", "2,Jolanda", "name", "Jolanda", "longer than 4 characters"),
    ("id smallint, name text", "40000,x", "id", "40000", "out of range for smallint"),
    ("id int, name text NOT NULL", "2,", "name", None, "takes no NULL"),
    ("id int, name date", "2,2026-02-30", "name", "2026-02-30", "no such day"),
    ("id int, name numeric(4,2)", "2,1.234", "name", "1.234", "more than 2 decimals"),
    ("id int, name boolean", "2,perhaps", "name", "perhaps", "not one of true"),
    (
        "id int, name timestamp(0)",
        "2,2026-01-01 00:00:00.5",
        "name",
        "2026-01-01 00:00:00.5",
        "more than 0 fractional digits",
    ),
    ("id int, name uuid", "2,abc", "name", "abc", "not a value of type uuid"),
    ("id int, name text", "2,a\0b", "name", "a\N{SYMBOL FOR NULL}b", "NUL character"),
]
GOOD_VALUE = {
    "date": "2026-01-01", "numeric": "1.5", "boolean": "true", "timestamp": "2026-01-01 00:00:00",
    "uuid": "123e4567-e89b-12d3-a456-426614174000",
}  # fmt: skip


@pytest.mark.parametrize(("table", "bad", "column", "value", "reason"), BAD_ROWS)
def test_a_value_that_does_not_fit(
    table: str, bad: str, column: str, value: str | None, reason: str, place: Place
) -> None:
    """One bad row: nothing is written by default; with rejects allowed, all the others are."""
    good = next((text for kind, text in GOOD_VALUE.items() if kind in table), "x")
    place.sql(f"CREATE TABLE {{t}} ({table})")
    place.file(f"id,name\n1,{good}\n{bad}\n3,{good}\n").job()
    failed = place.run()
    assert failed.error is not None
    assert (failed.state, failed.error["code"], place.rows()) == ("failed", "too-many-rejects", [])
    place.job(into="rejects: 10")
    run = place.run()
    assert (run.state, adds_up(run)) == ("succeeded", True)
    assert [row[0] for row in place.rows()] == [1, 3]
    for item in (failed, run):
        (reject,) = place.client.rejects(item.id).items
        assert (reject.row, reject.line, reject.column, reject.value) == (2, 3, column, value)
        assert reason in reject.reason
        assert reject.record == bad.replace("\0", "\N{SYMBOL FOR NULL}")


def test_a_share_of_rejects(place: Place) -> None:
    place.sql("CREATE TABLE {t} (id int)")
    rows = ["id", *(str(n) for n in range(98)), "x", "y"]
    place.file("\n".join(rows)).job(into='rejects: "2%"')
    assert (place.run().state, len(place.rows())) == ("succeeded", 98)
    place.file("\n".join([*rows, "z"]))
    run = place.run()
    assert (run.state, len(place.rows())) == ("failed", 98)


def test_a_bad_row_far_into_a_large_file(place: Place) -> None:
    """Row numbers count over the blocks of a file, and the rows of other blocks stay as good as they were."""
    place.sql("CREATE TABLE {t} (id int, name text)")
    lines = [f"{n},{'x' * 40}" for n in range(1, 300_001)]
    lines[249_999] = "oops," + "x" * 40
    place.file("id,name\n" + "\n".join(lines)).job(into="rejects: 1")
    run = place.run()
    assert (run.state, adds_up(run)) == ("succeeded", True)
    (reject,) = place.client.rejects(run.id).items
    assert (reject.row, reject.line, reject.value) == (250_000, 250_001, "oops")
    assert place.sql("SELECT count(*), sum(id::bigint) FROM {t}") == [(299_999, 300_000 * 300_001 // 2 - 250_000)]


def test_a_constraint_of_the_target(place: Place) -> None:
    place.sql("CREATE TABLE {t} (id int PRIMARY KEY, name text)")
    place.file("id,name\n1,a\n1,b\n").job()
    run = place.run()
    assert run.error is not None
    assert (run.error["code"], place.rows()) == ("constraint-refused", [])
    assert "Key (id)=(1) already exists" in run.error["detail"]


def test_rows_dropped_by_a_trigger_do_not_add_up(place: Place) -> None:
    place.sql("CREATE TABLE {t} (id int, name text)")
    place.sql(
        "CREATE FUNCTION {t}_drop() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN IF NEW.id = 2 THEN RETURN NULL; END IF; RETURN NEW; END $$"
    )
    place.sql("CREATE TRIGGER drop_two BEFORE INSERT ON {t} FOR EACH ROW EXECUTE FUNCTION {t}_drop()")
    place.file("id,name\n1,a\n2,b\n").job()
    run = place.run()
    assert run.error is not None
    assert (run.error["code"], place.rows()) == ("tally-unbalanced", [])


def test_types_that_only_the_database_knows(place: Place) -> None:
    place.sql("CREATE TABLE {t} (id int, span interval, tags text[], price numeric)")
    place.file('id,span,tags,price\n1,"2 days","{a,b}",1.10\n2,,,\n').job()
    run = place.run()
    assert run.state == "succeeded", run.error
    assert place.sql("SELECT span::text, tags, price::text FROM {t} ORDER BY id") == [
        ("2 days", ["a", "b"], "1.10"),
        (None, None, None),
    ]


def test_a_second_run_waits_for_the_first(place: Place) -> None:
    place.file(GOOD).job()
    place.run()
    with place.locked():
        first = place.until(place.start(), lambda run: run.state == "running")
        second = place.start()
        # the worker takes others meanwhile
        other = Place(place.stack, place.client)
        other.file(GOOD).job()
        assert other.run().state == "succeeded"
        assert place.client.show(second.id).state == "queued"
    assert [place.client.wait(run.id).state for run in (first, second)] == ["succeeded", "succeeded"]
    ends = [place.client.show(run.id) for run in (first, second)]
    assert ends[1].started_at is not None
    assert ends[0].ended_at is not None
    assert ends[1].started_at >= ends[0].ended_at
    assert len(place.rows()) == 6


def test_stop_while_it_runs(place: Place) -> None:
    place.file(GOOD).job()
    place.run()
    with place.locked():
        run = place.until(place.start(), lambda run: run.legs[0].progress.get("rows_read", 0) > 0)
        place.client.stop(run.id)
        ended = place.client.wait(run.id)
    assert (ended.state, ended.error, len(place.rows())) == ("stopped", None, 2)
    # the lock of the job is free again
    assert place.run().state == "succeeded"


def test_stop_before_it_begins(place: Place) -> None:
    place.file(GOOD).job()
    place.run()
    with place.locked():
        first = place.until(place.start(), lambda run: run.state == "running")
        second = place.start()
        place.client.stop(second.id)
        assert place.client.wait(second.id).state == "stopped"
    assert place.client.wait(first.id).state == "succeeded"
    assert len(place.rows()) == 4


def test_the_timeout_ends_a_leg(place: Place) -> None:
    place.file(GOOD).job(run="timeout: 1 s")
    place.run()
    with place.locked():
        run = place.run()
    assert run.error is not None
    assert (run.state, run.error["code"], len(place.rows())) == ("failed", "leg-timeout", 2)


@pytest.fixture
def other_server(stack: Stack, tmp_path: Path) -> PostgresServer:
    server = PostgresServer.create(stack.state / f"pg-{tmp_path.name}", durable=False)
    yield server
    server.remove()


def test_a_database_that_goes_away(other_server: PostgresServer, stack: Stack, client: Client, place: Place) -> None:
    """Down before the run; killed during it; and back again, with the rows that were there."""
    name = f"{place.name}-db"
    settings = {
        "host": "127.0.0.1",
        "port": other_server.port,
        "database": "postgres",
        "user": "postgres",
        "password": other_server.password,
    }
    client.add_connection(name, "postgresql", settings)
    place.file("id\n" + "\n".join(str(n) for n in range(400_000)))
    client.save_job(
        place.name,
        f"ultravect: 1\njob: {place.name}\nfrom: {{connection: incoming, files: {place.name}.csv}}\ninto: {{connection: {name}, table: t}}\n",
    )
    assert place.run().state == "succeeded"

    other_server.execute(
        "CREATE FUNCTION slow() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN PERFORM pg_sleep(0.001); RETURN NEW; END $$"
    )
    other_server.execute("CREATE TRIGGER slow BEFORE INSERT ON t FOR EACH ROW EXECUTE FUNCTION slow()")
    other_server.execute("CHECKPOINT")  # this server commits before it has written, and is about to be killed
    run = place.until(place.start(), lambda run: run.legs[0].progress.get("rows_read", 0) > 0)
    other_server.kill()
    ended = client.wait(run.id)
    assert ended.error is not None
    assert (ended.state, ended.error["code"]) == ("failed", "connection-lost")

    down = place.run()
    assert down.error is not None
    assert (down.state, down.error["code"]) == ("failed", "port-refused")
    assert other_server.password not in str(down)

    other_server.start()
    assert other_server.execute("SELECT count(*) FROM t") == [(400_000,)]


def test_the_run_of_a_leg_that_is_killed_is_taken_over(place: Place) -> None:
    place.file(GOOD).job()
    place.run()
    with place.locked():
        run = place.until(place.start(), lambda run: run.legs[0].progress.get("rows_read", 0) > 0)
        legs = place.sql("SELECT pid FROM pg_stat_activity WHERE application_name LIKE 'ultravect load%{t}'")
        assert len(legs) == 1
        for pid in leg_processes(place.stack.pid):
            os.kill(pid, signal.SIGKILL)
        place.until(run, lambda run: run.attempts == 2)
    ended = place.client.wait(run.id)
    assert (ended.state, ended.attempts, len(place.rows())) == ("succeeded", 2, 4)


def _without_receipts(place: Place, into: str = "") -> None:
    settings = {**place.stack.warehouse, "receipts": False}
    place.client.add_connection(f"{place.name}-plain", "postgresql", settings)
    text = place.job(into=into).replace("connection: warehouse", f"connection: {place.name}-plain")
    place.client.save_job(place.name, text)


def test_without_receipts_a_lost_leg_is_taken_over_that_has_not_begun_to_publish(place: Place) -> None:
    place.file(GOOD).job()
    place.run()
    _without_receipts(place)
    with place.locked():
        run = place.until(place.start(), lambda run: run.legs[0].progress.get("rows_read", 0) > 0)
        for pid in leg_processes(place.stack.pid):
            os.kill(pid, signal.SIGKILL)
        place.until(run, lambda run: run.attempts == 2)
    ended = place.client.wait(run.id)
    assert (ended.state, ended.attempts, len(place.rows())) == ("succeeded", 2, 4)


def test_without_receipts_no_one_knows_what_a_leg_left_that_was_lost_while_publishing(place: Place) -> None:
    place.file(GOOD).job()
    place.run()
    place.sql("CREATE TABLE {t}_after (a int)")
    _without_receipts(place, "after: [INSERT INTO {t}_after VALUES (1)]".replace("{t}", place.name))
    with place.locked(table=f"{place.name}_after"):
        run = place.until(place.start(), lambda run: run.legs[0].outcome == "unknown")
        for pid in leg_processes(place.stack.pid):
            os.kill(pid, signal.SIGKILL)
        ended = place.client.wait(run.id)
    assert ended.error is not None
    assert (ended.state, ended.outcome, ended.error["code"], ended.attempts) == (
        "failed",
        "unknown",
        "worker-lost",
        1,
    )
    assert "not known" in ended.error["detail"]
    assert place.run().state == "succeeded"


def test_the_runs_of_a_service_that_is_killed_are_taken_over(place: Place, stack: Stack) -> None:
    place.file(GOOD).job()
    place.run()
    assert stack.process is not None
    with place.locked():
        run = place.until(place.start(), lambda run: run.legs[0].progress.get("rows_read", 0) > 0)
        os.kill(stack.process.pid, signal.SIGKILL)
        stack.process.wait()
    stack.start_service()
    ended = place.until(run, lambda run: run.ended)
    assert (ended.state, ended.attempts, ended.error) == ("succeeded", 2, None)
    assert len(place.rows()) == 4


def test_many_runs_at_once(stack: Stack, client: Client) -> None:
    places = [Place(stack, client) for _ in range(6)]
    for place in places:
        place.file(GOOD).job()
    with ThreadPoolExecutor(6) as pool:
        runs = list(pool.map(lambda place: place.run(), places))
    assert [run.state for run in runs] == ["succeeded"] * 6
    assert all(len(place.rows()) == 2 for place in places)
