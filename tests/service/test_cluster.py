"""Slices on a Dask cluster: a scheduler and two workers on this machine, one of which is killed."""

from __future__ import annotations

import json
import os
import re
import subprocess
import sys
import threading
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path

import pytest
from devtools.stack import Stack, temporary_stack
from tests.conftest import Place

from ultravect.client import Client, Run
from ultravect.core.errors import UltravectError
from ultravect.service.work.runs.cluster import ClusterSlices, is_on_this_machine

ROWS = 60_000
HEADED = "layout: {format: delimited, header: true}"


@dataclass
class Cluster:
    """A scheduler with workers, and the service that uses it."""

    folder: Path
    stack: Stack | None = None
    processes: list[subprocess.Popen[bytes]] = field(default_factory=list)
    address: str = ""

    def start(self) -> Cluster:
        self._run("dask_scheduler", "--host", "127.0.0.1", "--port", "0", "--scheduler-file", str(self.file))
        self._until(lambda: self.file.exists() and self.file.read_text().endswith("}"))
        self.address = json.loads(self.file.read_text())["address"].replace("tcp://", "dask://")
        return self

    @property
    def file(self) -> Path:
        return self.folder / "scheduler.json"

    def work(self) -> subprocess.Popen[bytes]:
        """A worker of one thread, which knows of the service nothing."""
        return self._run("dask_worker", str(json.loads(self.file.read_text())["address"]), "--nthreads", "1", "--no-nanny")  # fmt: skip

    def _run(self, module: str, *options: str) -> subprocess.Popen[bytes]:
        log = (self.folder / f"{module}-{len(self.processes)}.log").open("wb")
        environment = {key: value for key, value in os.environ.items() if not key.startswith("ULTRAVECT_")}
        command = [sys.executable, "-m", f"distributed.cli.{module}", *options, "--no-dashboard"]
        process = subprocess.Popen(command, stdout=log, stderr=log, env=environment, cwd=self.folder)
        self.processes.append(process)
        return process

    @staticmethod
    def _until(reached: object) -> None:
        for _ in range(600):
            if callable(reached) and reached():
                return
            threading.Event().wait(0.1)
        raise AssertionError("the cluster did not come so far")

    def stop(self) -> None:
        for process in self.processes:
            process.kill()
            process.wait()


@pytest.fixture(scope="module")
def cluster(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Cluster]:
    started = Cluster(tmp_path_factory.mktemp("cluster")).start()
    try:
        with temporary_stack("cluster", settings={"ULTRAVECT_SLICES": started.address}) as stack:
            started.stack = stack
            yield started
    finally:
        started.stop()


@pytest.fixture
def clustered(cluster: Cluster) -> Iterator[Place]:
    assert cluster.stack is not None
    with Client(cluster.stack.url, token=cluster.stack.token) as client:
        yield Place(cluster.stack, client)


def _rows() -> str:
    return "\n".join(["k,v", *(f"{number},{'v' * (number % 50)}" for number in range(1, ROWS + 1)), ""])


def _workers(run: Run) -> set[str]:
    return {item.worker for item in run.legs[0].slices}


def test_without_workers_the_error_says_so(clustered: Place) -> None:
    run = clustered.file(_rows()).job(source=HEADED, run="slices: 2") and clustered.run()
    assert run.state == "failed"
    assert run.error
    assert run.error["code"] == "cluster-version"
    assert "no workers" in run.error["detail"]
    assert not clustered.exists()


def test_what_a_cluster_sends_is_made_into_plain_values_alone() -> None:
    """In a process of its own, as a leg has: a pickle that would run a program is refused, and so is every class."""
    program = (
        "import os, pickle, collections\n"
        "from ultravect.service.work.runs import cluster\n"
        "cluster._take_plain_data_alone()\n"
        "import distributed.protocol.pickle as theirs, distributed.client as client\n"
        "class Bad:\n    def __reduce__(self): return os.system, ('exit 7',)\n"
        "for load in (theirs.loads, client.loads, client.pickle.loads):\n"
        "    assert load(pickle.dumps({'a': [1, b'x', (None, 2.5)]})) == {'a': [1, b'x', (None, 2.5)]}\n"
        "    for value in (Bad(), collections.OrderedDict(), ValueError('x'), os.system):\n"
        "        try:\n            load(pickle.dumps(value))\n        except pickle.UnpicklingError: continue\n"
        "        raise SystemExit('made')\n"
    )
    done = subprocess.run([sys.executable, "-c", program], capture_output=True, text=True, timeout=60)
    assert done.returncode == 0, done.stderr


@pytest.mark.parametrize(
    ("address", "here"),
    [
        ("dask://127.0.0.1:8786", True),
        ("dask://localhost:8786", True),
        ("dask://[::1]:8786", True),
        ("dask://10.0.0.7:8786", False),
        ("dask://localhost.example.org:8786", False),
        ("dask://cluster.example.org:8786", False),
    ],
)
def test_a_cluster_elsewhere_is_reached_by_tls_alone(address: str, here: bool) -> None:
    assert is_on_this_machine(address) is here
    if not here:
        with pytest.raises(UltravectError) as refused:
            ClusterSlices({"address": address}, {}, {}, "1", lambda *_, **__: None).capacity()
        assert refused.value.code == "cluster-not-encrypted"


def test_slices_are_copied_by_the_cluster_though_a_worker_is_lost(cluster: Cluster, clustered: Place) -> None:
    assert cluster.stack is not None
    workers = [cluster.work() for _ in range(2)]
    cluster._until(lambda: all(_registered(cluster, worker) for worker in (1, 2)))
    clustered.file(_rows()).job(source=HEADED, run="slices: 8")
    run = clustered.until(
        clustered.start(), lambda run: bool(run.legs) and any(item.state == "running" for item in run.legs[0].slices)
    )
    workers[0].kill()
    ended = clustered.client.wait(run.id)
    assert ended.state == "succeeded", ended.error
    assert [item.state for item in ended.legs[0].slices] == ["succeeded"] * 8
    assert all(worker.startswith("tcp://127.0.0.1:") for worker in _workers(ended))
    assert clustered.sql("SELECT count(*), count(DISTINCT k) FROM {t}") == [(ROWS, ROWS)]
    assert ended.legs[0].tally
    assert ended.legs[0].tally["inserted"] == ROWS
    logs = "".join(path.read_text() for path in cluster.folder.glob("*.log"))
    assert cluster.stack.postgres.password not in logs


def _registered(cluster: Cluster, number: int) -> bool:
    log = (cluster.folder / "dask_scheduler-0.log").read_text()
    return len(re.findall(r"Register worker", log)) - len(re.findall(r"Remove worker", log)) >= number


def test_rejects_come_back_with_their_places(cluster: Cluster, clustered: Place) -> None:
    assert cluster.stack is not None
    clustered.sql("CREATE TABLE {t} (k integer, v text)")
    rows = _rows().replace("\n50000,", "\nx,").replace("\n7,", "\ny,")
    clustered.file(rows).job(source=HEADED, run="slices: 4", into="rejects: 2")
    run = clustered.run()
    assert run.state == "succeeded", run.error
    found = clustered.client.rejects(run.id).items
    assert sorted((item.row, item.line, item.value) for item in found) == [(7, 8, "y"), (50_000, 50_001, "x")]
    clustered.job(source=HEADED, run="slices: 4", into="rejects: 1, mode: overwrite")
    failed = clustered.run()
    assert failed.error
    assert failed.error["code"] == "too-many-rejects"
