"""The client library against the service: what it gives, and how it lives with a network that breaks."""

from __future__ import annotations

import socket
import threading
import uuid
from collections.abc import Iterator

import pytest
from devtools.stack import Stack
from tests.conftest import Place

from ultravect.client import ApiError, Client, Connection, Event, ServiceUnreachable


class BreakingProxy:
    """Passes bytes on to the service, and cuts connections after so many bytes from it."""

    def __init__(self, port: int, after: int, times: int) -> None:
        self._port, self._after, self._left = port, after, times
        self.cuts = 0
        self._listening = socket.create_server(("127.0.0.1", 0))
        self.url = f"http://127.0.0.1:{self._listening.getsockname()[1]}"
        threading.Thread(target=self._accept, daemon=True).start()

    def _accept(self) -> None:
        while True:
            try:
                taken, _ = self._listening.accept()
            except OSError:
                return
            threading.Thread(target=self._serve, args=(taken,), daemon=True).start()

    def _serve(self, taken: socket.socket) -> None:
        with taken, socket.create_connection(("127.0.0.1", self._port)) as service:
            threading.Thread(target=self._pump, args=(taken, service), daemon=True).start()
            passed = 0
            while part := service.recv(512):
                passed += len(part)
                taken.sendall(part)
                if self._left and passed > self._after:
                    self._left -= 1
                    self.cuts += 1
                    taken.shutdown(socket.SHUT_RDWR)
                    return

    @staticmethod
    def _pump(source: socket.socket, sink: socket.socket) -> None:
        try:
            while part := source.recv(4096):
                sink.sendall(part)
        except OSError:
            pass

    def close(self) -> None:
        self._listening.close()


@pytest.fixture
def broken(stack: Stack) -> Iterator[BreakingProxy]:
    proxy = BreakingProxy(stack.port, after=1000, times=3)
    yield proxy
    proxy.close()


def test_following_survives_a_connection_that_breaks(place: Place, stack: Stack, broken: BreakingProxy) -> None:
    """No event is lost, and none comes twice."""
    place.file("a\n1\n").job()
    run = place.run()
    with Client(broken.url, token=stack.token) as client:
        followed = [event.id for event in client.follow(run.id)]
    assert broken.cuts >= 2
    assert followed == [event.id for event in place.client.events(run.id)]


def test_following_gives_up_when_nothing_comes_any_more(place: Place, stack: Stack) -> None:
    place.file("a\n1\n").job()
    run = place.run()
    proxy = BreakingProxy(stack.port, after=0, times=99)
    with Client(proxy.url, token=stack.token) as client, pytest.raises(ServiceUnreachable, match="went away"):
        list(client.follow(run.id))
    proxy.close()


def test_connections_from_adding_to_removing(client: Client, stack: Stack) -> None:
    name = f"c-{uuid.uuid4().hex[:8]}"
    added = client.add_connection(name, "postgresql", stack.warehouse)
    assert (added.kind, added.secrets_set, "password" in added.settings) == ("postgresql", ["password"], False)
    assert name in [connection.name for connection in client.connections()]
    # what shows the password to more than before needs it anew
    changed = client.change_connection(name, {"tls": "off", "password": stack.warehouse["password"]})
    assert (changed.settings["tls"], changed.settings["host"]) == ("off", "127.0.0.1")
    assert client.test_connection(name).passed
    assert client.connection(name) == changed
    client.remove_connection(name)
    with pytest.raises(ApiError) as raised:
        client.connection(name)
    assert (raised.value.status, raised.value.code) == (404, "connection-unknown")


def test_jobs_from_saving_to_removing(place: Place) -> None:
    text = place.job()
    assert place.client.save_job(place.name, text).revision == 1
    saved = place.client.save_job(place.name, text + "about: more\n")
    assert (saved.revision, saved.about, saved.file.endswith("about: more\n")) == (2, "more", True)
    assert [job.name for job in place.client.jobs(search=place.name).items] == [place.name]
    place.client.remove_job(place.name)
    assert place.client.jobs(search=place.name).total == 0
    assert place.client.save_job(place.name, text).revision == 3


def test_the_same_key_gives_the_same_run(place: Place) -> None:
    place.file("a\n1\n").job()
    key = uuid.uuid4().hex
    first = place.client.run(place.name, idempotency_key=key)
    assert place.client.run(place.name, idempotency_key=key).id == first.id
    assert place.client.wait(first.id).state == "succeeded"
    assert place.client.runs(job=place.name).total == 1


def test_events_tell_the_story_of_a_run(place: Place) -> None:
    place.sql("CREATE TABLE {t} (a int, b text)")
    place.file("a\n1\nx\n").job(into="rejects: 1")
    run = place.run()
    kinds = [event.kind for event in place.client.events(run.id)]
    assert {"state", "phase", "finding", "rejects", "published", "end"} <= set(kinds)
    # how far it is is one value of its leg, and in the stream alone
    assert "progress" not in kinds
    assert run.legs[0].progress["rows_read"] == run.legs[0].pace[-1][1] == 2
    phases = [
        (event.data["name"], event.data["state"]) for event in place.client.events(run.id) if event.kind == "phase"
    ]
    for phase in ("read", "shape", "stage", "publish", "verify"):
        assert phases.index((phase, "running")) < phases.index((phase, "done"))


def test_lists_are_filtered_and_paged(place: Place) -> None:
    place.job()
    failed = place.run()
    found = place.client.runs(job=place.name, state="failed")
    assert [item.id for item in found.items] == [failed.id]
    assert place.client.runs(job=place.name, state="succeeded").total == 0
    assert found.items[0].ended


def test_fields_of_a_newer_service_are_no_hindrance() -> None:
    newer = {
        "name": "x",
        "kind": "folder",
        "settings": {},
        "secrets_set": [],
        "holds": "files",
        "invented_later": 1,
    } | dict.fromkeys(["created_at", "changed_at"], "2026-07-01T00:00:00Z")
    assert Connection.model_validate(newer).name == "x"
    with pytest.raises(ValueError, match="kind"):
        Connection.model_validate({"name": "x"})
    assert "invented_later" not in Event.model_fields


def test_errors_carry_what_the_service_said(client: Client) -> None:
    with pytest.raises(ApiError) as raised:
        client.check_file(
            "ultravect: 1\njob: x\nfrom: {connection: incoming, fils: y}\ninto: {connection: warehouse, table: t}\n"
        )
    error = raised.value
    assert (error.status, error.code) == (422, "job-file-invalid")
    assert {"/from/fils"} <= {item["pointer"] for item in error.errors}


def test_an_address_that_is_no_service(stack: Stack) -> None:
    with Client(f"{stack.url}/elsewhere", token=stack.token) as client, pytest.raises((ApiError, ValueError)):
        client.health()
    with Client("not an address") as client, pytest.raises(ServiceUnreachable):
        client.health()
