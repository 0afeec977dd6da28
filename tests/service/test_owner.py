"""Runs have one owner: what a worker does while the records, or other legs' targets, do not answer; and what waiting holds."""

from __future__ import annotations

import socket
import threading
from collections.abc import Callable, Iterator
from contextlib import suppress
from pathlib import Path
from typing import TypeVar

import psycopg
import pytest
from devtools.stack import Stack, temporary_stack
from tests.conftest import Place

from ultravect.client import ApiError, Client

T = TypeVar("T")
_SETTINGS = {"ULTRAVECT_LOST_AFTER": "4"}


@pytest.fixture(scope="module")
def clock(tmp_path_factory: pytest.TempPathFactory) -> Path:
    file = tmp_path_factory.mktemp("clock") / "ahead"
    file.write_text("0")
    file.chmod(0o644)
    return file


@pytest.fixture(scope="module")
def stack(clock: Path) -> Iterator[Stack]:
    with temporary_stack("owner", settings={**_SETTINGS, "ULTRAVECT_TEST_CLOCK": str(clock)}) as stack:
        yield stack


@pytest.fixture(scope="module")
def client(stack: Stack) -> Iterator[Client]:
    with Client(stack.url, token=stack.token) as client:
        yield client


@pytest.fixture
def place(stack: Stack, client: Client) -> Place:
    return Place(stack, client)


def until(ask: Callable[[], T], reached: Callable[[T], bool]) -> T:
    """Asks again and again, whatever the records answer at this moment; fails after a minute."""
    found: T | None = None
    for _ in range(600):
        with suppress(ApiError):
            found = ask()
            if reached(found):
                return found
        threading.Event().wait(0.1)
    raise AssertionError(f"it did not come so far: {found}")


def _cut(stack: Stack) -> None:
    """Ends all sessions that the service has with its records."""
    stack.postgres.execute("SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = 'ultravect'")


def test_sessions_with_the_records_that_end_fail_no_run(stack: Stack, place: Place) -> None:
    place.file("id,name\n1,a\n2,b\n").job()
    place.run()
    with place.locked():
        run = place.until(place.start(), lambda run: run.legs[0].progress.get("rows_read", 0) > 0)
        for _ in range(10):
            _cut(stack)
            threading.Event().wait(0.1)
    ended = until(lambda: place.client.show(run.id), lambda run: run.ended)
    assert (ended.state, ended.outcome, ended.attempts, ended.error) == ("succeeded", "committed", 1, None)
    assert len(place.rows()) == 4
    # those who look after it are still there
    with place.locked():
        run = place.until(place.start(), lambda run: run.legs[0].progress.get("rows_read", 0) > 0)
        _cut(stack)
        until(lambda: place.client.stop(run.id), lambda _: True)
        ended = until(lambda: place.client.show(run.id), lambda run: run.ended)
    assert (ended.state, ended.outcome) == ("stopped", "nothing")


def test_records_that_are_away_for_longer_than_a_lease_leave_one_owner(stack: Stack, place: Place) -> None:
    place.file("id,name\n1,a\n2,b\n").job()
    place.run()
    with place.locked():
        run = place.until(place.start(), lambda run: run.legs[0].progress.get("rows_read", 0) > 0)
        stack.postgres.execute("ALTER DATABASE ultravect ALLOW_CONNECTIONS false")
        try:
            _cut(stack)
            with pytest.raises(ApiError) as refused:
                place.client.jobs()
            assert (refused.value.status, refused.value.code) == (503, "records-unreachable")
            threading.Event().wait(6)
        finally:
            stack.postgres.execute("ALTER DATABASE ultravect ALLOW_CONNECTIONS true")
    ended = until(lambda: place.client.show(run.id), lambda run: run.ended)
    assert (ended.state, ended.outcome, ended.error) == ("succeeded", "committed", None)
    assert ended.attempts >= 2
    assert len(place.rows()) == 4


def test_a_retry_that_waits_holds_nothing_and_follows_the_clock(
    stack: Stack, client: Client, place: Place, clock: Path
) -> None:
    with socket.socket() as unused:
        unused.bind(("127.0.0.1", 0))
        port = unused.getsockname()[1]
    client.add_connection("unreachable", "postgresql", {**stack.warehouse, "port": port})
    text = (
        f"ultravect: 1\njob: {place.name}-late\nfrom: {{connection: unreachable, table: booking}}\n"
        f"into: {{connection: warehouse, table: {place.name}}}\nrun: {{retry: {{attempts: 2, wait: 1 h}}}}\n"
    )
    client.save_job(f"{place.name}-late", text)
    late = client.run(f"{place.name}-late")
    until(lambda: client.show(late.id), lambda run: run.legs[0].attempts == 1 and run.legs[0].state == "queued")
    place.file("id,name\n1,a\n").job()
    assert place.run().state == "succeeded"
    assert client.show(late.id).state == "queued"
    clock.write_text("5000")
    ended = client.wait(late.id)
    assert ended.error is not None
    assert (ended.state, ended.error["code"], ended.attempts) == ("failed", "port-refused", 2)


def test_finding_the_objects_is_tried_again_as_the_job_says(stack: Stack, client: Client, place: Place) -> None:
    """As random jobs have found it: the session was ended while objects were looked for, and the run failed at once."""
    with socket.socket() as unused:
        unused.bind(("127.0.0.1", 0))
        port = unused.getsockname()[1]
    client.add_connection("absent", "postgresql", {**stack.warehouse, "port": port})
    for name, wait in (("soon", "1 s"), ("late", "1 h")):
        client.save_job(
            f"{place.name}-{name}",
            f"ultravect: 1\njob: {place.name}-{name}\nfrom: {{connection: absent, tables: ['*']}}\n"
            f"into: {{connection: warehouse, table: '{place.name}_{{table}}'}}\nrun: {{retry: {{attempts: 2, wait: {wait}}}}}\n",
        )
    soon = client.wait(client.run(f"{place.name}-soon").id)
    assert soon.error is not None
    assert (soon.state, soon.error["code"]) == ("failed", "port-refused")
    late = client.run(f"{place.name}-late")
    for run in (soon, late):
        said = until(
            lambda run=run: [event.data["text"] for event in client.events(run.id) if event.kind == "log"],
            lambda found: bool(found),
        )
        assert said[0].startswith("finding what to copy failed, and is tried again in")
    client.stop(late.id)
    assert client.wait(late.id).state == "stopped"


def test_targets_that_do_not_answer_keep_no_lost_leg_waiting(stack: Stack, client: Client, place: Place) -> None:
    """Legs of unknown outcome whose host says nothing are asked for, each for long, and a lost leg is taken over meanwhile."""
    with socket.socket() as silent:
        silent.bind(("127.0.0.1", 0))
        silent.listen(50)
        silent_port = silent.getsockname()[1]
        place.file("id,name\n1,a\n2,b\n").job()
        place.run()
        for number in range(6):
            name = f"{place.name}-silent{number}"
            client.add_connection(name, "postgresql", {**stack.warehouse, "port": silent_port, "tls": "off"})
            text = (
                place.job()
                .replace("connection: warehouse", f"connection: {name}")
                .replace(f"job: {place.name}", f"job: {name}")
            )
            client.save_job(name, text)
            run = place.run()
            with psycopg.connect(stack.postgres.url("ultravect"), autocommit=True) as records:
                records.execute(
                    "UPDATE records_run SET revision_id = (SELECT r.id FROM records_revision r JOIN records_job j ON j.id = r.job_id "
                    "WHERE j.name = %s) WHERE id = %s",
                    (name, run.id),
                )
                records.execute(
                    "UPDATE records_leg SET state = 'failed', outcome = 'unknown', outcome_asked_at = ended_at WHERE run_id = %s",
                    (run.id,),
                )
        with place.locked():
            run = place.until(place.start(), lambda run: run.legs[0].progress.get("rows_read", 0) > 0)
            # as if its worker were lost: no one renews this lease
            stack.postgres.execute(
                f"UPDATE records_leg SET lease = lease + 1, seen_at = now() - interval '1 hour' WHERE run_id = {run.id}",
                "ultravect",
            )
            place.until(run, lambda run: run.legs[0].attempts == 2)
        assert client.wait(run.id).state == "succeeded"
