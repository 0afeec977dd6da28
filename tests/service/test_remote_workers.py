"""Workers that reach nothing of the service but HTTPS: who may join, and what becomes of their work when the connection breaks."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import threading

import pytest
from devtools.stack import Stack
from tests.conftest import Place
from tests.service.test_sites import Lab
from websockets.exceptions import ConnectionClosed, InvalidStatus
from websockets.sync.client import ClientConnection, connect
from websockets.sync.server import ServerConnection, serve

from ultravect import __version__
from ultravect.client import ApiError, Client
from ultravect.core.errors import UltravectError
from ultravect.service.work.workers.remote_worker import PATH, address_of


@pytest.fixture
def lab(place: Place) -> Lab:
    return Lab(place, "https")


def _joined(stack: Stack, token: str, path: str = PATH) -> ClientConnection:
    return connect(
        f"{stack.url.replace('http', 'ws', 1)}{path}", additional_headers={"Authorization": f"Bearer {token}"}
    )


def _hello(**changed: object) -> str:
    return json.dumps({"hello": __version__, "host": "barn:12", "sites": ["barn"], "slots": 1, **changed})


def test_a_leg_whose_worker_is_lost_is_taken_over(lab: Lab, stack: Stack) -> None:
    lab.job()
    lab.place.sql("CREATE TABLE {t} (id bigint, v text)")
    with lab.worker() as first, lab.place.locked():
        run = lab.place.until(lab.place.start(), lambda run: run.state == "running")
        threading.Event().wait(1)
        first.kill()
        lab.place.until(run, lambda run: run.state == "queued")
    with lab.worker():
        ended = lab.client.wait(run.id)
    assert ended.state == "succeeded", ended.error
    assert ended.attempts == 2
    assert len(lab.place.rows()) == 5


def test_a_stop_that_comes_with_the_welcome_is_heard(stack: Stack) -> None:
    """As it happens on a busy machine: both are there when the worker looks next."""
    begun: list[subprocess.Popen[bytes]] = []

    def welcome(line: ServerConnection) -> None:
        line.recv()
        begun[-1].send_signal(signal.SIGSTOP)
        line.send(json.dumps({"welcome": "barn:12"}))
        begun[-1].send_signal(signal.SIGTERM)
        begun[-1].send_signal(signal.SIGCONT)
        for _ in line:
            pass

    with serve(welcome, "127.0.0.1", 0) as server:
        threading.Thread(target=server.serve_forever, daemon=True).start()
        address = f"http://127.0.0.1:{server.socket.getsockname()[1]}"
        for _ in range(3):
            begun.append(stack.start_remote_worker("token", "--site", "barn", service=address))
            assert begun[-1].wait(timeout=60) == 0


def test_a_run_at_a_site_is_stopped(lab: Lab) -> None:
    lab.job()
    lab.place.sql("CREATE TABLE {t} (id bigint, v text)")
    with lab.worker(), lab.place.locked():
        run = lab.place.until(lab.place.start(), lambda run: run.state == "running")
        lab.client.stop(run.id)
        assert lab.client.wait(run.id).state == "stopped"
    assert lab.place.rows() == []


def test_slices_and_rejects_come_from_a_site(lab: Lab) -> None:
    place, site = lab.place, lab.site
    place.client.add_connection(f"{place.name}-files", "folder", {"path": str(place.stack.files)}, site=site)
    lines = "".join(f"{'x' if number == 7 else number},v\n" for number in range(20_000))
    place.file(f"k,v\n{lines}")
    place.sql("CREATE TABLE {t} (k integer, v text)")
    place.client.save_job(
        place.name,
        f"ultravect: 1\njob: {place.name}\nfrom: {{connection: {place.name}-files, files: {place.name}.csv, "
        f"layout: {{format: delimited, header: true}}}}\ninto: {{connection: {lab.into}, table: {place.name}, rejects: 1}}\n"
        "run: {slices: 3}\n",
    )
    with lab.worker() as worker:
        run = place.run()
    assert run.state == "succeeded", run.error
    assert {item.worker.partition("@")[2] for item in run.legs[0].slices} == {site}
    assert all(f":{worker.pid}@" in item.worker for item in run.legs[0].slices)
    assert [item.row for item in place.client.rejects(run.id).items] == [8]
    assert place.sql("SELECT count(*) FROM {t}") == [(19_999,)]


def test_folders_are_those_that_the_worker_s_machine_allows(lab: Lab, stack: Stack) -> None:
    """Not the folders of the service's machine: the path may be another one there."""
    (folder := stack.state / f"elsewhere-{lab.place.name}").mkdir()
    (folder / "a.csv").write_text("a\n1\n")
    lab.client.add_connection(f"{lab.name}-files", "folder", {"path": str(folder)}, site=lab.site)
    with lab.worker(), pytest.raises(ApiError) as refused:
        lab.client.objects(f"{lab.name}-files")
    assert refused.value.code == "folder-outside-roots"


def test_a_token_for_workers_does_nothing_else(stack: Stack, client: Client) -> None:
    made = client.make_token("barn", sites=["barn"])
    with Client(stack.url, token=made.token) as worker, pytest.raises(ApiError) as refused:
        worker.jobs()
    assert refused.value.status == 401
    assert "for workers" in refused.value.detail
    known = next(token for token in client.tokens() if token.id == made.id)
    assert known.sites == ["barn"]
    for sites in (["home"], ["No Site"], ["a" * 41]):
        with pytest.raises(ApiError) as refused:
            client.make_token("x", sites=sites)
        assert refused.value.status == 422
    client.add_user("porter", "a long password of a porter", "editor")
    with Client(stack.url) as porter:
        token = porter.issue_token("porter", "a long password of a porter", "x").token
    with Client(stack.url, token=token) as porter, pytest.raises(ApiError) as refused:
        porter.make_token("x", sites=["barn"])
    assert refused.value.status == 403


@pytest.mark.parametrize(
    ("changed", "code"),
    [
        ({"hello": "0.0.1"}, "worker-version"),
        ({"sites": ["cellar"]}, "worker-site"),
        ({"sites": ["barn", "cellar"]}, "worker-site"),
        ({"slots": 0}, "worker-slots"),
        ({"slots": 1_000}, "worker-slots"),
        ({"slots": True}, "worker-slots"),
    ],
)
def test_a_worker_that_may_not_join_is_refused(
    stack: Stack, client: Client, changed: dict[str, object], code: str
) -> None:
    with _joined(stack, client.make_token("barn", sites=["barn"]).token) as line:
        line.send(_hello(**changed))
        refused = json.loads(line.recv(timeout=10))["refused"]
        assert refused["code"] == code
        assert refused["hint"]


@pytest.mark.parametrize(
    "said",
    [
        "",
        "{",
        "[]",
        "null",
        b"\x00\xff",
        "{}",
        _hello(sites=[]),
        _hello(sites=["../x"]),
        _hello(sites={"barn": 1}),
        _hello(host="a b"),
        "[" * 5_000,
    ],
)
def test_nonsense_ends_the_connection_and_nothing_else(stack: Stack, client: Client, said: str | bytes) -> None:
    with _joined(stack, client.make_token("barn", sites=["barn"]).token) as line:
        line.send(said)
        with pytest.raises(ConnectionClosed):
            line.recv(timeout=10)
    assert client.me().name


@pytest.mark.parametrize("said", ["{", "[]", '{"process": []}', '{"look": {}}', "[" * 5_000, b"\x80"])
def test_a_worker_that_says_nonsense_is_let_go(stack: Stack, client: Client, said: str | bytes) -> None:
    with _joined(stack, client.make_token("barn", sites=["barn"]).token) as line:
        line.send(_hello())
        assert json.loads(line.recv(timeout=10))["welcome"] == "barn:12@barn"
        # what is about no process that the service has asked for is ignored
        line.send('{"process": 77, "state": "ended"}')
        line.send(said)
        with pytest.raises(ConnectionClosed):  # noqa: PT012 - it may be asked for something before
            for _ in range(3):
                line.recv(timeout=10)
    assert client.me().name


def test_other_tokens_and_other_addresses_join_nothing(stack: Stack, client: Client) -> None:
    worker = client.make_token("barn", sites=["barn"]).token
    for token, path, status in ((stack.token, PATH, 401), ("uv_nothing", PATH, 401), (worker, "/api/v1/other", 404)):
        with pytest.raises(InvalidStatus) as refused:
            _joined(stack, token, path)
        assert refused.value.response.status_code == status


def test_a_token_that_is_withdrawn_ends_its_workers(lab: Lab) -> None:
    with lab.worker() as worker:
        for token in lab.client.tokens():
            if token.sites == [lab.site]:
                lab.client.withdraw_token(token.id)
        assert worker.wait(timeout=30) != 0


def test_addresses_that_are_not_encrypted_are_refused() -> None:
    assert address_of("https://hut.example.org/") == f"wss://hut.example.org{PATH}"
    assert address_of("hut.example.org:8443") == f"wss://hut.example.org:8443{PATH}"
    assert address_of("http://127.0.0.1:8484") == f"ws://127.0.0.1:8484{PATH}"
    for address in ("http://hut.example.org", "ftp://hut.example.org", "https://", "http://127.0.0.1.example.org"):
        with pytest.raises(UltravectError) as refused:
            address_of(address)
        assert refused.value.code == "service-address"


def test_the_command_says_what_it_lacks(stack: Stack, client: Client) -> None:
    token = client.make_token("barn", sites=["barn"]).token

    def said(*options: str, token: str = token) -> str:
        command = [sys.executable, "-m", "ultravect.cli.main", "worker", *options]
        known = {key: value for key, value in os.environ.items() if not key.startswith("ULTRAVECT_")}
        environment = known | ({"ULTRAVECT_WORKER_TOKEN": token} if token else {})
        done = subprocess.run(command, env=environment, capture_output=True, text=True, timeout=60)
        assert done.returncode != 0
        assert "Traceback" not in done.stderr
        return done.stderr

    assert "--token" in said("--service", stack.url, "--site", "barn", token="")
    assert "--site" in said("--service", stack.url)
    assert "not encrypted" in said("--service", "http://hut.example.org", "--site", "barn")
    assert "not of cellar" in said("--service", stack.url, "--site", "cellar")
    assert "not known" in said("--service", stack.url, "--site", "barn", token="uv_nothing")
