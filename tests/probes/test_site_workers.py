"""A worker that joins by HTTPS is another organisation's machine: what it says is facts of known form, and what it gets is its sites'."""

from __future__ import annotations

import json
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from typing import Any

import pytest
from devtools.stack import Stack
from hypothesis import given
from hypothesis import strategies as st
from websockets.exceptions import ConnectionClosed
from websockets.sync.client import ClientConnection, connect

from tests.conftest import Place
from ultravect import __version__
from ultravect.client import ApiError, Client, Run
from ultravect.service.work.processes.messages import NotAMessage, read_message
from ultravect.service.work.workers.remote_worker import PATH
from ultravect.service.work.workers.wire import MAX_MESSAGE, BadMessage, read_heard

Line = dict[str, Any]


class HostileWorker:
    """A worker of a site that answers each task as it likes; what it was given is kept."""

    def __init__(self, line: ClientConnection, answer: Callable[[Line], list[Line]]) -> None:
        self._line, self._answer = line, answer
        self._parts: dict[tuple[str, int], str] = {}
        self.given: list[Line] = []
        self.closed = threading.Event()

    def say(self, message: Line) -> None:
        self._line.send(json.dumps(message))

    def serve(self) -> None:
        with suppress(ConnectionClosed, OSError):
            for text in self._line:
                self._heard(json.loads(text))
        self.closed.set()

    def _heard(self, message: Line) -> None:
        if message.get("do") == "start":
            self.say({"process": message["process"], "state": "started"})
        elif "part" in message:
            kind = "look" if "look" in message else "process"
            place = (kind, message[kind])
            self._parts[place] = self._parts.get(place, "") + message["part"]
            if message["last"]:
                task = json.loads(self._parts.pop(place))
                self.given.append(task)
                for said in self._answer(task):
                    self.say({kind: message[kind], "part": json.dumps(said), "last": True})
                if kind == "process":
                    with suppress(ConnectionClosed):
                        self.say({"process": message["process"], "state": "ended"})


class Site:
    """A site of one test: connections of it, jobs of them, and a worker that is hostile."""

    def __init__(self, place: Place) -> None:
        self.place, self.client, self.stack = place, place.client, place.stack
        self.name = f"barn-{place.name}"
        for kind in ("in", "out"):
            self.client.add_connection(f"{place.name}-{kind}", "postgresql", place.stack.warehouse, site=self.name)

    def job(self, *, tables: str = "", into: str = "", connection: str = "") -> None:
        source = f"tables: ['{tables}']" if tables else f"table: {self.place.name}"
        table = f"'closing.{self.place.name}_{{table}}'" if tables else f"closing.{self.place.name}"
        self.client.save_job(
            self.place.name,
            f"ultravect: 1\njob: {self.place.name}\nfrom: {{connection: {self.place.name}-in, {source}}}\n"
            f"into: {{connection: {connection or self.place.name + '-out'}, table: {table}{into and ', ' + into}}}\n",
        )

    @contextmanager
    def worker(self, answer: Callable[[Line], list[Line]]) -> Iterator[HostileWorker]:
        token = self.client.make_token(f"worker of {self.name}", sites=[self.name]).token
        headers = {"Authorization": f"Bearer {token}"}
        with connect(f"{self.stack.url.replace('http', 'ws', 1)}{PATH}", additional_headers=headers) as line:
            line.send(json.dumps({"hello": __version__, "host": "barn:7", "sites": [self.name], "slots": 2}))
            assert "welcome" in json.loads(line.recv(timeout=20))
            worker = HostileWorker(line, answer)
            thread = threading.Thread(target=worker.serve, daemon=True)
            thread.start()
            yield worker
        thread.join(timeout=20)

    def ended(self, run: Run) -> Run:
        return self.place.until(run, lambda run: run.ended)


@pytest.fixture
def site(place: Place) -> Site:
    place.sql("CREATE TABLE {t} (k integer)")
    place.sql("INSERT INTO {t} VALUES (1)")
    return Site(place)


def _laid_out(*facts: Line) -> list[Line]:
    return [{"kind": "laid_out", "facts": list(facts), "findings": [], "files": []}]


def _rows_at_home(place: Place) -> list[tuple[object, ...]]:
    return place.sql("SELECT * FROM {t}")


FORGED = [
    {"table": "secret_table", "schema": "public", "after": []},
    {"table": "pg_authid", "schema": "pg_catalog", "after": []},
    {"table": "x; drop table y", "schema": None, "after": []},
    {"path": "../../etc/passwd", "several": False, "after": []},
    {"job": {"ultravect": 1}, "after": []},
    {"table": 7, "schema": None, "after": []},
    {"table": "T", "schema": "public", "after": [1]},
    {"table": "T", "schema": "public", "after": [-3]},
    {"table": "T", "schema": "public", "after": [], "job": {"into": {"connection": "warehouse"}}},
    {},
]


@pytest.mark.parametrize("fact", FORGED)
def test_the_legs_of_a_run_are_those_of_the_stored_job(site: Site, fact: Line) -> None:
    """As it was found: an answer brought jobs of its own, which were run at home, with the secrets of home's connections."""
    site.job(tables=f"{site.place.name}*")
    named = {**fact, **({"table": site.place.name} if fact.get("table") == "T" else {})}

    def answer(task: Line) -> list[Line]:
        return _laid_out(named) if task["kind"] == "legs" else []

    with site.worker(answer):
        run = site.ended(site.place.start())
    assert run.state == "failed"
    assert run.error is not None
    assert run.error["code"] == "leg-refused"
    assert _rows_at_home(site.place) == [(1,)]


def test_an_answer_with_jobs_of_its_own_ends_the_connection(site: Site) -> None:
    site.job(tables=f"{site.place.name}*")
    other = {
        "ultravect": 1,
        "job": "x",
        "from": {"connection": "warehouse", "query": "select 1"},
        "into": {"connection": "warehouse"},
    }
    legs = [{"number": 1, "object": "x", "source": "x", "target": "x", "job": other, "after": []}]

    def answer(task: Line) -> list[Line]:
        return [{"kind": "laid_out", "legs": legs, "findings": [], "files": []}]

    with site.worker(answer) as worker:
        run = site.place.start()
        assert worker.closed.wait(20)
    site.client.stop(run.id)
    assert _rows_at_home(site.place) == [(1,)]


def test_an_honest_answer_is_taken(site: Site) -> None:
    """The probes above would pass if nothing could be laid out."""
    site.job(tables=f"{site.place.name}*")
    given: list[Line] = []

    def answer(task: Line) -> list[Line]:
        given.append(task)
        if task["kind"] == "legs":
            return _laid_out({"table": site.place.name, "schema": "public", "after": []})
        return [{"kind": "succeeded", "tally": {}, "nothing": "there is nothing to do"}]

    with site.worker(answer):
        run = site.ended(site.place.start())
    assert run.state == "succeeded", run.error
    assert [leg.object for leg in run.legs] == [site.place.name]
    load = next(task for task in given if task["kind"] == "load")
    assert load["job"]["into"] == {
        "connection": f"{site.place.name}-out",
        "table": f"closing.{site.place.name}_{site.place.name}",
    }
    assert {load["source"]["site"], load["target"]["site"]} == {site.name}


def test_a_connection_without_a_site_is_given_to_no_one_who_joined(site: Site) -> None:
    site.job(connection="warehouse")
    with site.worker(lambda _: []) as worker:
        run = site.place.start()
        with pytest.raises(ApiError) as refused:
            site.client.check_job(site.place.name)
        assert refused.value.code == "connection-not-given"
        time.sleep(2)
        assert site.client.show(run.id).state == "queued"
        assert worker.given == []
    site.client.stop(run.id)


def test_targets_at_home_are_asked_by_home_alone(site: Site, stack: Stack) -> None:
    """A run whose outcome is not known is settled by workers that may have the target's connection."""
    site.place.file("k\n1\n").job(into="mode: append")
    run = site.place.run()
    assert run.state == "succeeded", run.error
    lied = {"kind": "asked", "result": {"tally": {"inserted": 99}, "rows_after": 99}}
    with site.worker(lambda _: [lied]) as worker:
        stack.postgres.execute(
            "UPDATE records_leg SET outcome = 'unknown', state = 'failed', outcome_asked_at = now() - interval '1 hour', "
            f'error = \'{{"code": "worker-lost", "detail": "x", "hint": "", "where": {{}}}}\' WHERE run_id = {run.id}',
            "ultravect",
        )
        settled = site.place.until(run, lambda run: run.legs[0].outcome != "unknown")
        assert worker.given == []
    assert (settled.legs[0].outcome, (settled.legs[0].tally or {}).get("inserted")) == ("committed", 1)


FORGED_EVENTS: list[Line] = [
    {"kind": "slice", "number": 1, "leg_id": 1, "state": "succeeded"},
    {"kind": "slice", "number": 1, "state": "succeeded", "lease": 9},
    {
        "kind": "rejects",
        "rejects": [
            {"object": "a", "row": 1, "line": 1, "column": "", "value": "", "reason": "", "record": "", "id": 1}
        ],
    },
    {
        "kind": "rejects",
        "rejects": [
            {"object": "a", "row": 1, "line": 1, "column": "", "value": "", "reason": "", "record": "", "leg_id": 1}
        ],
    },
    {"kind": "changes", "changes": [{"kind": "updated", "columns": [], "before": None, "after": None, "leg_id": 1}]},
    {"kind": "published", "table": "x", "mode": "x", "tally": {}, "stop_requested": True},
    {"kind": "phase", "name": "read", "state": "running", "pk": 1},
    {"kind": "phase", "name": "publish", "state": "done by me"},
    {"kind": "progress", "rows_read": "many"},
    {"kind": "log", "level": "critical", "text": "x"},
    {"kind": "end", "state": "succeeded"},
    {"kind": "succeeded", "tally": {"inserted": "1"}, "outcome": "committed"},
    {"kind": "failed", "error": {"code": "X Y", "detail": ""}},
    {"kind": "failed", "error": {"code": "x", "detail": "", "cause": "y"}},
    {"kind": "statements", "statements": [{"text": "x" * 200_000, "count": 1, "seconds": 0, "rows": 0}]},
    {"kind": "asked", "result": {"tally": {}, "state": "succeeded"}},
    {"kind": "planned", "plan": "x"},
    {"nothing": 1},
]


@pytest.mark.parametrize("event", FORGED_EVENTS, ids=lambda event: f"{event.get('kind')}-{len(str(event))}")
def test_an_event_of_another_form_ends_the_connection(event: Line) -> None:
    with pytest.raises(NotAMessage):
        read_message(json.dumps(event))


def test_forged_events_touch_no_record(site: Site, stack: Stack) -> None:
    """As it was found: events wrote any field of any record."""
    other = Place(stack, site.client)
    other.file("k\nx\n2\n").job(
        into="rejects: 5", source="layout: {format: delimited, header: true}", columns="[k integer]"
    )
    theirs = other.run()
    ((leg, lease),) = stack.postgres.execute(
        f"SELECT id, lease FROM records_leg WHERE run_id = {theirs.id}", "ultravect"
    )
    site.job()
    row = {"object": "a", "row": 1, "line": 1, "column": "c", "value": "v", "reason": "r", "record": ""}
    for forged in (
        {"kind": "slice", "number": 1, "leg_id": leg, "state": "succeeded", "worker": "mine"},
        {"kind": "rejects", "rejects": [{**row, "leg_id": leg}]},
        {"kind": "progress", "leg": leg, "rows_read": 7, "lease": lease},
    ):
        with site.worker(lambda _, forged=forged: [forged]) as worker:
            run = site.place.start()
            assert worker.closed.wait(20), forged
        site.client.stop(run.id)
        site.ended(run)
    assert not stack.postgres.execute(f"SELECT 1 FROM records_slice WHERE leg_id = {leg}", "ultravect")
    assert not [item for item in site.client.rejects(theirs.id).items if item.reason == "r"]
    assert site.client.health()["database"] == "ok"


def test_a_plan_of_another_job_is_refused(site: Site) -> None:
    site.job()
    plan = {
        "job": {
            "from": {"connection": "warehouse"},
            "into": {"connection": "warehouse", "table": "x", "before": ["drop table y"]},
        },
        "strategy": {"name": "direct"},
    }
    with site.worker(lambda _: [{"kind": "planned", "plan": plan}]):
        run = site.ended(site.place.start())
    assert run.state == "failed"


def test_a_process_that_no_one_listens_to_holds_up_no_other(site: Site) -> None:
    """One leg is stopped while it says much; the other ends, and the worker goes on."""
    site.job()
    said = {"kind": "log", "level": "info", "text": "x" * 50_000}

    def answer(task: Line) -> list[Line]:
        if task["kind"] == "load" and task["run"] == str(first.id):
            return [said] * 300
        return [{"kind": "succeeded", "tally": {}, "nothing": "there is nothing to do"}]

    with site.worker(answer) as worker:
        first = site.client.run(site.place.name)
        site.client.stop(first.id)
        assert site.ended(site.client.run(site.place.name)).state == "succeeded"
        assert not worker.closed.is_set()


def test_large_and_many_messages_do_not_stop_the_service(site: Site) -> None:
    """As it was found: twelve messages of 34 MB, and no answer for four minutes."""
    with site.worker(lambda _: []) as worker:
        with suppress(ConnectionClosed):
            worker.say({"process": 1, "part": "x" * (2 * MAX_MESSAGE), "last": True})
        assert worker.closed.wait(20)
    deep = "[" * 100_000
    with site.worker(lambda _: []) as worker:
        with suppress(ConnectionClosed):
            for number in range(200):
                worker.say({"process": number, "part": deep, "last": True})
        slowest = 0.0
        for _ in range(10):
            started = time.monotonic()
            assert site.client.health()["database"] == "ok"
            slowest = max(slowest, time.monotonic() - started)
    # against minutes: it is no measure of speed
    assert slowest < 30


def test_one_token_lets_so_many_workers_in(stack: Stack, client: Client) -> None:
    token = client.make_token("many", sites=["many-barns"]).token
    headers = {"Authorization": f"Bearer {token}"}
    lines = []
    try:
        for number in range(40):
            line = connect(f"{stack.url.replace('http', 'ws', 1)}{PATH}", additional_headers=headers)
            lines.append(line)
            line.send(json.dumps({"hello": __version__, "host": f"b:{number}", "sites": ["many-barns"], "slots": 1}))
            answer = json.loads(line.recv(timeout=30))
            if "refused" in answer:
                assert answer["refused"]["code"] == "too-many-workers"
                break
        else:
            raise AssertionError("none was refused")
    finally:
        for line in lines:
            line.close()
    assert client.me().name


_KEYS = st.sampled_from(["process", "look", "part", "last", "state", "kind", "leg", "plan", "rejects"])
_PLAIN = st.none() | st.booleans() | st.integers() | st.text(max_size=9)


@given(st.recursive(_PLAIN, lambda inner: st.lists(inner, max_size=3) | st.dictionaries(_KEYS, inner, max_size=4)))
def test_whatever_comes_is_a_message_or_refused(value: Any) -> None:
    text = json.dumps(value)
    for read, refused in ((read_heard, BadMessage), (read_message, NotAMessage)):
        with suppress(refused):
            read(text)
