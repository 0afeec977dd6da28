"""Slices of a run: any worker copies them; what is lost is a slice, not the run."""

from __future__ import annotations

import os
import random
import signal
import threading
from collections.abc import Iterator
from contextlib import contextmanager, suppress

import psycopg
from devtools.service_processes import leg_processes
from devtools.stack import Stack
from tests.conftest import Place

from ultravect.client import Client, Run

ROWS, MANY = 60_000, 800_000
HEADED = "layout: {format: delimited, header: true}"


def _rows(count: int = ROWS, bad: frozenset[int] = frozenset()) -> str:
    lines = [f"{'x' if number in bad else number},{'v' * (number % 60)}" for number in range(1, count + 1)]
    return "\n".join(["k,v", *lines, ""])


def _states(run: Run) -> list[str]:
    return [item.state for item in run.legs[0].slices]


@contextmanager
def held(place: Place) -> Iterator[None]:
    """Slices cannot write for as long as the context lasts: the staging table made next is locked as soon as it is there."""
    release = threading.Event()
    there = [
        str(name) for (name,) in place.sql("SELECT relname FROM pg_class WHERE relname LIKE 'ultravect_slices_%'")
    ]

    def hold() -> None:
        with psycopg.connect(place.stack.postgres.url("warehouse"), autocommit=True) as session:
            while not release.is_set():
                found = session.execute(
                    "SELECT quote_ident(n.nspname) || '.' || quote_ident(relname) FROM pg_class c JOIN pg_namespace n "
                    "ON n.oid = relnamespace WHERE relname LIKE 'ultravect_slices_%%' AND relkind = 'r' "
                    "AND relname <> ALL(%s)",
                    (there,),
                ).fetchone()
                if found is None:
                    threading.Event().wait(0.005)
                    continue
                # stopping the run ends whatever holds a lock on the table
                with suppress(psycopg.errors.AdminShutdown), session.transaction():
                    session.execute(f"LOCK TABLE {found[0]} IN SHARE MODE".encode())
                    release.wait()

    holder = threading.Thread(target=hold, daemon=True)
    holder.start()
    try:
        yield
    finally:
        release.set()
        holder.join()


def test_slices_are_copied_and_published_as_one(place: Place) -> None:
    place.file(_rows()).job(source=HEADED, run="slices: 4")
    run = place.run()
    assert run.state == "succeeded", run.error
    (leg,) = run.legs
    assert _states(run) == ["succeeded"] * 4
    assert all(item.label.startswith("bytes ") and item.worker and item.attempts == 1 for item in leg.slices)
    assert sum(item.progress["rows_read"] for item in leg.slices) == ROWS
    assert leg.progress["rows_read"] == ROWS
    assert leg.tally == {
        "read": ROWS, "inserted": ROWS, "updated": 0, "unchanged": 0, "repeated": 0, "rejected": 0, "filtered": 0,
    }  # fmt: skip
    assert place.sql("SELECT count(*), count(DISTINCT k), sum(k) FROM {t}") == [(ROWS, ROWS, ROWS * (ROWS + 1) // 2)]
    events = list(place.client.events(run.id))
    assert [event.data["count"] for event in events if event.kind == "slices"] == [4]
    assert sum(event.data["state"] == "succeeded" for event in events if event.kind == "slice") == 4
    found = [event.data["code"] for event in events if event.kind == "finding"]
    assert "slices-cut" in found


def test_rejects_of_slices_are_one_list(place: Place) -> None:
    bad = frozenset([5, 30_000, 59_999])
    place.sql("CREATE TABLE {t} (k integer, v text)")
    place.file(_rows(bad=bad)).job(source=HEADED, run="slices: 3", into="rejects: 3")
    run = place.run()
    assert run.state == "succeeded", run.error
    found = place.client.rejects(run.id)
    assert sorted((item.row, item.line) for item in found.items) == [(number, number + 1) for number in sorted(bad)]
    assert run.legs[0].rejected == 3
    place.job(source=HEADED, run="slices: 3", into="rejects: 2")
    failed = place.run()
    assert failed.state == "failed"
    assert failed.error
    assert failed.error["code"] == "too-many-rejects"
    assert place.sql("SELECT count(*) FROM {t}") == [(ROWS - 3,)]


def test_a_slice_whose_process_is_lost_is_copied_again(place: Place, stack: Stack) -> None:
    place.file(_rows()).job(source=HEADED, run="slices: 4")
    assert stack.process is not None
    with held(place):
        run = place.until(place.start(), lambda run: bool(run.legs) and "running" in _states(run))
        while not (copying := _copying(stack, place)):
            threading.Event().wait(0.05)
        _kill(copying[0])
    ended = place.client.wait(run.id)
    assert ended.state == "succeeded", ended.error
    assert ended.legs[0].attempts == 1
    assert max(item.attempts for item in ended.legs[0].slices) == 2
    assert place.sql("SELECT count(*), count(DISTINCT k) FROM {t}") == [(ROWS, ROWS)]


def test_slices_that_are_lost_at_random_are_copied_again(place: Place, stack: Stack) -> None:
    """About every third attempt of a slice is killed, at whatever moment."""
    place.file(_rows(MANY)).job(source=HEADED, run="slices: 8", into="mode: upsert, keys: [k]")
    chance = random.Random(16)
    killed = set[int]()
    # a machine that is busy elsewhere may see no slice in time
    for _ in range(5):
        started = place.start()
        while not (run := place.client.show(started.id)).ended:
            for pid in _copying(stack, place):
                # the session of one that was killed may outlive it for a moment
                if chance.random() < 0.3 and pid not in killed and len(killed) < 12:
                    killed.add(pid)
                    _kill(pid)
            threading.Event().wait(0.01)
        assert run.state == "succeeded", run.error
        if killed:
            break
    assert killed
    assert sum(item.attempts for item in run.legs[0].slices) >= 8 + len(killed) // 2
    assert place.sql("SELECT count(*), count(DISTINCT k) FROM {t}") == [(MANY, MANY)]
    left = stack.postgres.execute("SELECT count(*) FROM ultravect_receipt WHERE slice > 0", "warehouse")
    assert left == [(0,)]


def _kill(pid: int) -> None:
    with suppress(ProcessLookupError):
        os.kill(pid, signal.SIGKILL)


def _copying(stack: Stack, place: Place) -> list[int]:
    """The processes that have a session of a slice."""
    ports = stack.postgres.execute(
        "SELECT client_port FROM pg_stat_activity WHERE application_name LIKE '%slice %'", "warehouse"
    )
    wanted = {int(str(port)) for (port,) in ports}
    found = []
    for pid in leg_processes(stack.pid):
        if _ports_of(pid) & wanted:
            found.append(pid)
    return found


def _ports_of(pid: int) -> set[int]:
    """The local ports of a process's connections; none of one that has ended."""
    inodes = set()
    try:
        names = os.listdir(f"/proc/{pid}/fd")
    except OSError:
        return set()
    for name in names:
        try:
            inodes.add(os.readlink(f"/proc/{pid}/fd/{name}"))
        except OSError:
            continue
    lines = open("/proc/net/tcp").read().splitlines()[1:]  # noqa: SIM115
    fields = [line.split() for line in lines]
    return {int(field[1].split(":")[1], 16) for field in fields if f"socket:[{field[9]}]" in inodes}


def test_a_worker_that_is_lost_loses_its_slices_alone(place: Place, stack: Stack) -> None:
    place.file(_rows()).job(source=HEADED, run="slices: 6")
    worker = stack.start_worker()
    try:
        with held(place):
            run = place.until(place.start(), lambda run: bool(run.legs) and _states(run).count("running") >= 3)
            workers = {item.worker for item in run.legs[0].slices if item.state == "running"}
            owner = stack.postgres.execute(f"SELECT worker FROM records_leg WHERE run_id = {run.id}", "ultravect")
            ((name,),) = owner
            lost = worker if not str(name).endswith(f":{worker.pid}") else None
            assert len(workers) >= 1
            if lost is not None:
                lost.kill()
        ended = place.client.wait(run.id)
        assert ended.state == "succeeded", ended.error
        assert place.sql("SELECT count(*), count(DISTINCT k) FROM {t}") == [(ROWS, ROWS)]
    finally:
        worker.kill()
        worker.wait(timeout=20)


def test_a_run_that_is_stopped_stops_its_slices(place: Place, stack: Stack) -> None:
    place.file(_rows()).job(source=HEADED, run="slices: 4")
    with held(place):
        run = place.until(place.start(), lambda run: bool(run.legs) and "running" in _states(run))
        place.client.stop(run.id)
        ended = place.client.wait(run.id)
    assert ended.state == "stopped"
    assert set(_states(ended)) <= {"stopped", "failed", "succeeded"}
    assert not place.exists()
    left = stack.postgres.execute(
        "SELECT count(*) FROM pg_class WHERE relname LIKE 'ultravect_slices_%' AND relkind = 'r'", "warehouse"
    )
    assert left == [(0,)]


def test_an_error_of_one_slice_is_the_leg_s(place: Place) -> None:
    place.file(_rows(bad=frozenset([50_000]))).job(source=HEADED, run="slices: 4")
    place.sql("CREATE TABLE {t} (k integer, v text)")
    run = place.run()
    assert run.state == "failed"
    assert run.error
    assert "row 50,000" in run.error["detail"]
    assert place.rows() == []


def test_one_worker_with_one_slot_copies_all_slices(stack: Stack, client: Client) -> None:
    place = Place(stack, client)
    place.file(_rows()).job(source=HEADED, run="slices: 24")
    run = place.run()
    assert run.state == "succeeded", run.error
    assert len(run.legs[0].slices) == 24
    assert place.sql("SELECT count(*), count(DISTINCT k) FROM {t}") == [(ROWS, ROWS)]
