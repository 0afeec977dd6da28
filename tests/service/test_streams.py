"""Streams through the service: its API, its client and the command line."""

from __future__ import annotations

import os
import subprocess
import sys
import threading
from collections.abc import Callable, Iterator
from contextlib import suppress
from pathlib import Path

import httpx
import pytest
from tests.conftest import Place

from ultravect.client import ApiError, Client, Stream

PROGRAM = str(Path(sys.executable).parent / "ultravect")


class Live:
    """A job that follows a table of a database of its own."""

    def __init__(self, place: Place) -> None:
        self.place, self.client, self.name = place, place.client, place.name
        place.stack.postgres.execute(f"CREATE DATABASE {self.name}_source")
        settings = place.client.connection("warehouse").settings
        password = place.stack.postgres.password
        self.client.save_connection(
            f"{self.name}-source",
            f"ultravect: 1\nconnection: {self.name}-source\nkind: postgresql\nsettings: {{host: {settings['host']}, port: {settings['port']}, "
            f"database: {self.name}_source, user: postgres, password: '{password}'}}\n",
        )
        self.sql("CREATE TABLE booking (id int PRIMARY KEY, hut text, nights int)")
        self.sql("INSERT INTO booking SELECT g, 'Alm', g % 7 FROM generate_series(1, 200) g")
        self.save("")

    def save(self, more: str) -> None:
        self.client.save_job(
            self.name,
            f"ultravect: 1\njob: {self.name}\nfrom: {{connection: {self.name}-source, table: booking, newer: log}}\n"
            f"into: {{connection: warehouse, table: {self.name}, mode: upsert, keys: primary{more}}}\nrun: {{follow: 200 ms}}\n",
        )

    def sql(self, statement: str) -> list[tuple[object, ...]]:
        """In the source."""
        return self.place.stack.postgres.execute(statement, f"{self.name}_source")

    def command(self, *arguments: str, code: int = 0) -> str:
        environment = os.environ | {
            "ULTRAVECT_URL": self.place.stack.url,
            "ULTRAVECT_TOKEN": self.place.stack.token,
            "COLUMNS": "200",
        }
        done = subprocess.run([PROGRAM, *arguments], env=environment, capture_output=True, text=True)
        assert done.returncode == code, done.stdout + done.stderr
        return done.stdout + done.stderr

    def until(self, reached: Callable[[Stream], bool]) -> Stream:
        found = self.client.stream(self.name)
        for _ in range(600):
            if reached(found):
                return found
            threading.Event().wait(0.1)
            found = self.client.stream(self.name)
        raise AssertionError(f"the stream did not come so far: {found}")

    def until_equal(self) -> None:
        asked = "SELECT * FROM {t} ORDER BY 1"
        self.until(
            lambda found: (
                self.place.exists() and self.place.sql(asked) == self.sql("SELECT * FROM booking ORDER BY 1")
            )
        )

    def close(self) -> None:
        with suppress(ApiError):  # it has none any more
            self.client.remove_stream(self.name)
        self.place.stack.postgres.execute(f"DROP DATABASE {self.name}_source WITH (FORCE)")


@pytest.fixture
def live(place: Place) -> Iterator[Live]:
    made = Live(place)
    yield made
    made.close()


def test_a_stream_is_started_shown_paused_and_removed(live: Live) -> None:
    assert "ultravect stream start" in live.command("run", live.name, code=1) + live.command("job", live.name)
    assert (
        next(job for job in live.client.jobs(search=live.name).items if job.name == live.name).stream == "not started"
    )
    said = live.command("stream", "start", live.name, "--wait")
    assert (
        next(job for job in live.client.jobs(search=live.name).items if job.name == live.name).stream == "following"
    )
    assert "following" in live.command("jobs")
    assert "following" in said
    assert "200" in said
    live.sql(
        "UPDATE booking SET nights = 30 WHERE id <= 5; DELETE FROM booking WHERE id = 6; INSERT INTO booking VALUES (500, 'Fels', 1)"
    )
    live.until_equal()
    found = live.until(lambda found: sum(table.changes for table in found.tables) == 7)
    (table,) = found.tables
    assert (table.object, table.state, table.rows, table.inserted, table.updated, table.deleted) == (
        "booking",
        "following",
        200,
        1,
        5,
        1,
    )
    assert found.lag is not None
    assert found.position
    assert sum(line.changes for line in live.client.stream_minutes(live.name)) == 7
    shown = live.command("stream", "show", live.name)
    assert all(
        word in shown for word in ("following", "booking", found.position.split("/")[0], "snapshot of 200 rows")
    )
    assert live.name in live.command("streams")
    assert any(line.job == live.name for line in live.client.streams())

    live.command("stream", "pause", live.name, "--why", "the summer fair")
    live.sql("DELETE FROM booking WHERE id < 50")
    paused = live.client.stream(live.name)
    assert (paused.state, "the summer fair" in paused.events[0].text) == ("paused", True)
    assert live.place.sql("SELECT count(*) FROM {t}") == [(200,)]
    live.command("stream", "resume", live.name)
    live.until_equal()

    with pytest.raises(ApiError, match="has a stream"):
        live.client.remove_job(live.name)
    live.command("stream", "stop", live.name)
    slots = f"SELECT count(*) FROM pg_replication_slots WHERE database = '{live.name}_source'"
    assert live.sql(slots) == [(1,)]
    assert "keeps nothing" in live.command("stream", "remove", live.name)
    assert (live.sql(slots), live.sql("SELECT count(*) FROM pg_publication")) == ([(0,)], [(0,)])
    assert "has no stream" in live.command("stream", "show", live.name, code=1)
    live.client.remove_job(live.name)


def test_a_stream_goes_on_after_what_passes_by_itself(live: Live) -> None:
    live.client.start_stream(live.name)
    live.until(lambda found: found.state == "following")
    for number in range(3):
        live.sql(
            f"INSERT INTO booking SELECT g, 'Fels', 1 FROM generate_series({1000 * number + 300}, {1000 * number + 400}) g"
        )
        live.place.stack.postgres.execute(
            "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE application_name LIKE 'ultravect log%' "
            f"AND datname = '{live.name}_source'"
        )
        live.until_equal()
    found = live.until(lambda found: found.state == "following")
    assert any("it is tried again in" in event.text for event in found.events)


def test_a_change_of_the_table_pauses_the_stream_and_a_new_revision_goes_on(live: Live) -> None:
    live.client.start_stream(live.name)
    live.until(lambda found: found.state == "following")
    live.sql("UPDATE booking SET nights = 1 WHERE id = 1")
    live.until_equal()
    live.sql("ALTER TABLE booking ADD remark text")
    live.sql("UPDATE booking SET remark = 'late' WHERE id = 2")
    found = live.until(lambda found: found.state == "paused")
    assert found.error is not None
    assert (found.error["code"], "a new column, remark text" in found.error["detail"]) == ("log-table-changed", True)
    assert "log-table-changed" in live.command("stream", "show", live.name)
    live.save(", if_different: widen")
    assert live.client.stream(live.name).newest_revision == found.revision + 1
    live.client.start_stream(live.name)
    live.until_equal()


def test_a_job_that_cannot_be_followed_says_why(live: Live) -> None:
    live.sql("ALTER TABLE booking REPLICA IDENTITY NOTHING")
    assert "REPLICA IDENTITY FULL" in live.command("check", live.name, code=1)
    assert "log-identity" in live.command("stream", "start", live.name, "--wait", code=1)
    live.sql("ALTER TABLE booking REPLICA IDENTITY DEFAULT")
    live.client.start_stream(live.name)
    live.until_equal()
    live.client.reset_mark(live.name)
    live.until(lambda found: found.state == "following" and "was reset" not in found.events[0].text)
    live.until_equal()


def test_only_those_who_may_run_jobs_start_and_end_streams(live: Live, client: Client) -> None:
    name = f"{live.name}-viewer"
    client.add_user(name, "a long enough password", "viewer")
    token = client.issue_token(name, "a long enough password", "streams").token
    url = f"{live.place.stack.url}/api/v1/streams/{live.name}"
    assert httpx.post(url).status_code == 401
    held = {"Authorization": f"Bearer {token}"}
    assert httpx.post(url, headers=held).status_code == 403
    assert httpx.delete(url, headers=held).status_code == 403
    with pytest.raises(ApiError) as missing:
        client.stream(live.name)
    assert (missing.value.status, missing.value.code) == (404, "stream-missing")
    live.place.file("id\n1\n").job(name=f"{live.name}-run")
    with pytest.raises(ApiError) as other:
        client.start_stream(f"{live.name}-run")
    assert other.value.code == "job-not-stream"


def test_a_connection_test_names_what_is_kept_for_streams_that_do_not_run(live: Live) -> None:
    live.client.start_stream(live.name)
    live.until(lambda found: found.state == "following")
    assert "it can be followed" in live.command("connection", "test", f"{live.name}-source")
    live.client.remove_stream(live.name, leave=True)
    for _ in range(100):
        said = live.command("connection", "test", f"{live.name}-source")
        if "kept for streams that are not under way: ultravect_" in said:
            break
        threading.Event().wait(0.1)
    ((slot,),) = live.sql(f"SELECT slot_name FROM pg_replication_slots WHERE database = '{live.name}_source'")
    assert str(slot) in said
    live.sql(f"SELECT pg_drop_replication_slot('{slot}')")


def test_a_paused_stream_for_which_too_much_is_kept_is_given_up(live: Live) -> None:
    job = live.client.job(live.name).file
    live.client.save_job(live.name, job + "guard: {log_kept: 1 MB}\n")
    live.client.start_stream(live.name)
    live.until(lambda found: found.state == "following")
    live.client.pause_stream(live.name)
    live.sql("INSERT INTO booking SELECT g, repeat('x', 500), 1 FROM generate_series(1000, 9000) g")
    found = live.until(lambda found: found.state == "failed")
    assert found.error is not None
    assert (
        found.error["code"],
        live.sql("SELECT count(*) FROM pg_replication_slots WHERE database = current_database()"),
    ) == (
        "log-given-up",
        [(0,)],
    )
    live.command("mark", live.name, "--reset")
    live.client.start_stream(live.name)
    live.until_equal()
