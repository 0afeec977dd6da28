"""Workers: one more takes part, and the fork server that legs come from may die."""

from __future__ import annotations

import asyncio
import os
import signal
import threading
from pathlib import Path

import pytest
from devtools.service_processes import fork_server, leg_processes
from devtools.stack import Stack
from tests.conftest import Place

from ultravect.client import ApiError, Client
from ultravect.service.work.processes.pool import LegProcess


def test_another_worker_takes_runs_when_the_first_is_busy(stack: Stack, client: Client) -> None:
    """The service has two slots: with both taken, a third run goes to the other worker."""
    places = [Place(stack, client) for _ in range(3)]
    for place in places:
        place.file("a\n1\n").job()
        place.run()
    worker = stack.start_worker()
    try:
        with places[0].locked(), places[1].locked(), places[2].locked():
            runs = [place.until(place.start(), lambda run: run.state == "running") for place in places]
            ids = ", ".join(str(run.id) for run in runs)
            workers = stack.postgres.execute(
                f"SELECT DISTINCT worker FROM records_leg WHERE run_id IN ({ids})", "ultravect"
            )
            assert {str(name).rsplit(":", 1)[1].rstrip("',)") for name in workers} == {
                str(stack.process.pid),
                str(worker.pid),
            }
        assert [client.wait(run.id).state for run in runs] == ["succeeded"] * 3
    finally:
        worker.send_signal(signal.SIGTERM)
        assert worker.wait(timeout=20) == 0


def test_a_worker_that_is_stopped_hands_its_runs_over(stack: Stack, client: Client) -> None:
    places = [Place(stack, client) for _ in range(3)]
    for place in places:
        place.file("a\n1\n").job()
        place.run()
    worker = stack.start_worker()
    with places[0].locked(), places[1].locked(), places[2].locked():
        runs = [
            place.until(place.start(), lambda run: run.legs[0].progress.get("rows_read", 0) > 0) for place in places
        ]
        worker.send_signal(signal.SIGTERM)
        worker.wait(timeout=20)
    ended = [client.wait(run.id) for run in runs]
    assert [run.state for run in ended] == ["succeeded"] * 3
    assert sorted(run.attempts for run in ended) == [1, 1, 2]
    assert [len(place.rows()) for place in places] == [2, 2, 2]


def test_a_fork_server_that_dies_is_replaced(place: Place, stack: Stack) -> None:
    place.file("a\n1\n").job()
    old = fork_server(stack.pid)
    os.kill(old, signal.SIGKILL)
    assert place.run().state == "succeeded"
    # legs may still have processes that were made before
    assert place.client.objects("incoming")
    assert fork_server(stack.pid, other_than=old)
    assert place.run().state == "succeeded"


def test_a_leg_gets_no_secrets_by_its_environment_or_arguments(place: Place, stack: Stack) -> None:
    place.file("a\n1\n").job()
    place.run()
    secrets = [stack.key, stack.password, stack.postgres.password, "ULTRAVECT_"]
    with place.locked():
        run = place.until(place.start(), lambda run: run.legs[0].progress.get("rows_read", 0) > 0)
        for pid in (fork_server(stack.pid), *leg_processes(stack.pid)):
            shown = Path(f"/proc/{pid}/environ").read_bytes() + Path(f"/proc/{pid}/cmdline").read_bytes()
            assert [secret for secret in secrets if secret.encode() in shown] == []
    assert place.client.wait(run.id).state == "succeeded"


def test_memory_of_a_leg_stays_flat(place: Place) -> None:
    """A file of any size is read in blocks: one of 45 MB takes hardly more memory than one of 9."""
    peaks = []
    for rows in (200_000, 1_000_000):
        place.file("id,name\n" + f"1,{'x' * 40}\n" * rows).job(into="mode: overwrite")
        run = place.run()
        assert run.state == "succeeded"
        peaks.append(run.legs[0].peak_memory or 0)
    small, large = peaks
    assert 0 < large < small + 40e6
    assert large < 400e6


def test_a_connection_is_used_by_so_many_legs_at_once(stack: Stack, client: Client) -> None:
    """Two runs hold the only place of a connection one after the other, though two places of the worker are free."""
    places = [Place(stack, client) for _ in range(2)]
    small = f"small-{places[0].name}"
    added = client.add_connection(small, "postgresql", stack.warehouse, at_most=1)
    assert added.at_most == 1
    assert "at_most: 1" in client.connection_file(small)
    for place in places:
        place.file("a\n1\n")
        client.save_job(
            place.name,
            f"ultravect: 1\njob: {place.name}\nfrom: {{connection: incoming, files: {place.name}.csv}}\n"
            f"into: {{connection: {small}, table: {place.name}}}\n",
        )
        place.run()
    first, second = places
    with first.locked():
        one = first.until(first.start(), lambda run: run.state == "running")
        other = second.start()
        events = client.follow(other.id)
        said = next(event for event in events if event.kind == "log")
        assert said.data["text"].endswith(f"waits: connection {small} is used by 1 at once, and no more may be")
        assert client.show(other.id).state == "queued"
        # another connection has room
        third = Place(stack, client).file("a\n1\n")
        third.job()
        assert third.run().state == "succeeded"
    assert [client.wait(run.id).state for run in (one, other)] == ["succeeded"] * 2
    with first.locked():
        one = first.until(first.start(), lambda run: run.state == "running")
        other = second.start()
        # without the limit the one that waits begins, though the first is not over
        assert client.change_connection(small, {}, at_most=0).at_most is None
        assert client.wait(other.id).state == "succeeded"
    assert client.wait(one.id).state == "succeeded"
    for place in places:
        client.remove_job(place.name)
    client.remove_connection(small)


def test_a_limit_that_is_none_is_refused(client: Client, stack: Stack) -> None:
    for wrong in (-1, 1001):
        with pytest.raises(ApiError) as raised:
            client.add_connection("limited", "postgresql", stack.warehouse, at_most=wrong)
        assert "at_most" in str(raised.value.errors)


def test_records_without_room_for_events_lose_no_run(place: Place) -> None:
    execute = place.stack.postgres.execute
    place.file("a\n1\n2\n").job()
    execute(
        "CREATE FUNCTION no_room() RETURNS trigger LANGUAGE plpgsql AS "
        "$$ BEGIN RAISE SQLSTATE '53100' USING MESSAGE = 'could not extend file: No space left on device'; END $$",
        "ultravect",
    )
    execute("CREATE TRIGGER no_room BEFORE INSERT ON records_event EXECUTE FUNCTION no_room()", "ultravect")
    try:
        run = place.client.run(place.name)
        threading.Event().wait(3)
        assert place.client.show(run.id).state in ("queued", "running")
        assert place.client.me().name
    finally:
        execute("DROP FUNCTION no_room CASCADE", "ultravect")
    ended = place.client.wait(run.id)
    assert (ended.state, ended.outcome) == ("succeeded", "committed")
    assert place.sql("SELECT count(*) FROM {t}") == [(2,)]


def test_a_process_that_is_killed_in_the_middle_of_a_line_has_only_ended(monkeypatch: pytest.MonkeyPatch) -> None:
    """As it was found: what it had begun to say was taken for what no leg does."""

    async def heard(said: bytes) -> list[str]:
        reader = asyncio.StreamReader()
        reader.feed_data(said)
        reader.feed_eof()
        process = LegProcess(reader, None, 0, lambda _: None)  # type: ignore[arg-type]
        monkeypatch.setattr(process, "kill", lambda: pytest.fail("it is not ended for what it says"))
        return [event["kind"] async for event in process.events()]

    line = b'{"kind": "log", "level": "info", "text": "reading"}\n'
    for end in range(len(line)):
        assert asyncio.run(heard(line + line[:end])) == ["log"]
