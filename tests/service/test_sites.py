"""Sites: connections that only the workers of a network location reach, though nothing there has an open port."""

from __future__ import annotations

import signal
import sqlite3
import subprocess
import threading
from collections.abc import Iterator
from contextlib import closing, contextmanager

import psycopg
import pytest
from devtools.stack import Stack
from tests.conftest import Place

from ultravect.client import ApiError, Run


class Lab:
    """A database of a site of its own, and a job that copies it into the warehouse."""

    def __init__(self, place: Place, by: str = "records") -> None:
        self.place, self.client, self.by = place, place.client, by
        self.site, self.name = f"lab-{place.name}", f"{place.name}-masts"
        self.path = place.stack.files / f"{place.name}.sqlite"
        with closing(sqlite3.connect(self.path)) as session:
            session.execute("CREATE TABLE mast (id integer primary key, v text)")
            session.executemany("INSERT INTO mast VALUES (?, ?)", [(n, f"v{n}") for n in range(5)])
            session.commit()
        made = self.client.add_connection(self.name, "sqlite", {"path": str(self.path)}, site=self.site)
        assert made.site == self.site
        self.into = "warehouse"
        if by == "https":
            # such a worker is given the connections of its site alone
            self.into = f"{place.name}-ledger"
            self.client.add_connection(self.into, "postgresql", place.stack.warehouse, site=self.site)

    def job(self, into: str = "") -> None:
        self.client.save_job(
            self.place.name,
            f"ultravect: 1\njob: {self.place.name}\nfrom: {{connection: {self.name}, table: mast}}\n"
            f"into: {{connection: {into or self.into}, table: {self.place.name}}}\n",
        )

    @contextmanager
    def worker(self, *sites: str) -> Iterator[subprocess.Popen[bytes]]:
        served = sites or (self.site,)
        options = [part for site in served for part in ("--site", site)]
        if self.by == "records":
            process = self.place.stack.start_worker(*options)
        else:
            token = self.client.make_token(f"worker of {self.name}", sites=served).token
            process = self.place.stack.start_remote_worker(token, *options)
        try:
            self.place.stack.until_seen(process.pid)
            yield process
        finally:
            process.send_signal(signal.SIGTERM)
            process.wait(timeout=20)

    def worker_of(self, run: Run) -> str:
        ((name,),) = self.place.stack.postgres.execute(
            f"SELECT worker FROM records_leg WHERE run_id = {run.id}", "ultravect"
        )
        return str(name)


@pytest.fixture
def lab(place: Place, request: pytest.FixtureRequest) -> Lab:
    """Its workers reach the service's records, or nothing of it but HTTPS."""
    return Lab(place, getattr(request, "param", "records"))


by_either = pytest.mark.parametrize("lab", ["records", "https"], indirect=True)


def test_a_site_without_a_worker_is_an_error_that_says_so(lab: Lab) -> None:
    with pytest.raises(ApiError) as refused:
        lab.client.objects(lab.name)
    assert refused.value.code == "no-worker-at-site"
    assert f"--site {lab.site}" in refused.value.hint
    lab.job()
    with pytest.raises(ApiError) as refused:
        lab.client.check_job(lab.place.name)
    assert refused.value.code == "no-worker-at-site"


def test_a_worker_joins_while_other_work_waits_for_the_records(place: Place) -> None:
    """As it was found: what waited for a lock kept the thread in which workers were asked who they are."""
    lab = Lab(place, "https")
    with psycopg.connect(place.stack.postgres.url("ultravect")) as session:
        session.execute("LOCK TABLE records_schedule IN ACCESS EXCLUSIVE MODE")
        # the scheduler looks every second
        while not session.execute(
            "SELECT 1 FROM pg_locks WHERE NOT granted AND relation = 'records_schedule'::regclass"
        ).fetchone():
            threading.Event().wait(0.1)
        with lab.worker():
            pass


@by_either
def test_workers_of_the_site_look_and_copy_for_it(lab: Lab) -> None:
    lab.job()
    waiting = lab.place.start()
    threading.Event().wait(1)
    assert lab.client.show(waiting.id).state == "queued"
    with lab.worker() as worker:
        assert [item["name"] for item in lab.client.objects(lab.name)["items"]] == ["mast"]
        assert lab.client.preview(lab.name, "mast")["rows"][0] == [0, "v0"]
        ended = lab.client.wait(waiting.id)
        assert ended.state == "succeeded", ended.error
        assert lab.worker_of(ended).partition("@")[0].endswith(f":{worker.pid}")
        assert lab.client.check_job(lab.place.name).passed
        with pytest.raises(ApiError) as refused:
            lab.client.preview(lab.name, "nothing")
        assert "nothing" in refused.value.detail
    assert len(lab.place.rows()) == 5


def test_a_worker_of_a_site_takes_nothing_else(lab: Lab) -> None:
    lab.place.file("a\n1\n").job()
    with lab.worker() as worker:
        for _ in range(3):
            run = lab.place.run()
            assert run.state == "succeeded"
            assert not lab.worker_of(run).partition("@")[0].endswith(f":{worker.pid}")


@by_either
def test_two_sites_need_a_worker_that_joins_them(lab: Lab, stack: Stack) -> None:
    depot, path = f"depot-{lab.place.name}", stack.files / f"{lab.place.name}-depot.sqlite"
    lab.client.add_connection(f"{lab.place.name}-depot", "sqlite", {"path": str(path), "create": True}, site=depot)
    lab.job(into=f"{lab.place.name}-depot")
    with lab.worker(), pytest.raises(ApiError) as refused:
        lab.client.check_job(lab.place.name)
    assert refused.value.code == "no-worker-joins"
    assert f"--site {depot} --site {lab.site}" in refused.value.hint
    with lab.worker(lab.site, depot):
        assert lab.client.check_job(lab.place.name).passed
        run = lab.place.run()
        assert run.state == "succeeded", run.error
    with closing(sqlite3.connect(path)) as session:
        assert session.execute(f"SELECT count(*) FROM {lab.place.name}").fetchone() == (5,)


def test_questions_for_a_site_are_sealed_and_removed(lab: Lab, stack: Stack) -> None:
    with lab.worker():
        assert lab.client.test_connection(lab.name).passed
    assert stack.postgres.execute("SELECT count(*) FROM records_sitelook", "ultravect") == [(0,)]
