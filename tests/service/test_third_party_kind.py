"""A kind of connection from another package, installed by its entry point, works as ours do; one whose driver is missing says so."""

from __future__ import annotations

import os
import sqlite3
import subprocess
import sys
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path

import httpx
import pytest
from devtools.stack import Stack, temporary_stack

from ultravect.client import ApiError, Client

SAMPLE = Path(__file__).resolve().parents[1] / "sample_kind"
DRIVERLESS = '''
from pydantic import BaseModel
from ultravect.core.contracts.kind import Kind
from ultravect.core.model.base import Declared
class Settings(Declared):
    """None."""
KIND = Kind("driverless", "files", Settings, "driverless_storage:Storage", needs={"nosuchdriver": "nosuch-driver[fast]"})
'''


@pytest.fixture(scope="module")
def installed(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Stack]:
    """A service that finds three more kinds: one that works, one whose driver is missing, one that cannot be imported."""
    folder = tmp_path_factory.mktemp("packages")
    uv = Path(sys.executable).with_name("uv")
    install = [str(uv), "pip", "install"] if uv.exists() else [sys.executable, "-m", "pip", "install"]
    subprocess.run([*install, "-q", "--no-deps", "--target", str(folder), str(SAMPLE)], check=True)
    (folder / "driverless.py").write_text(DRIVERLESS)
    (folder / "driverless_storage.py").write_text("import nosuchdriver\n")
    (folder / "broken_kind.py").write_text("raise RuntimeError('half a package')\n")
    facts = folder / "others-1.dist-info"
    facts.mkdir()
    (facts / "METADATA").write_text("Metadata-Version: 2.1\nName: others\nVersion: 1\n")
    points = "[ultravect.kinds]\ndriverless = driverless:KIND\nbroken = broken_kind:KIND\n"
    (facts / "entry_points.txt").write_text(points)
    path = f"{folder}:{os.environ.get('PYTHONPATH', '')}"
    with temporary_stack("kinds", settings={"PYTHONPATH": path}) as stack:
        yield stack


def test_it_is_listed_connected_read_and_written(installed: Stack) -> None:
    with Client(installed.url, token=installed.token) as client:
        headers = {"Authorization": f"Bearer {installed.token}"}
        kinds = httpx.get(f"{installed.url}/api/v1/kinds", headers=headers).json()
        assert "word" in kinds["filebox"]["properties"]
        box = installed.files / "guests.box"
        client.add_connection("box", "filebox", {"path": str(box), "word": "hush"})
        client.add_connection("shelf", "folder", {"path": str(installed.files)})
        assert client.test_connection("box", write=True).passed
        assert client.connection("box").secrets_set == ["word"]
        (installed.files / "huts.csv").write_text("hut,beds\nALP,40\nFAL,22\n")
        into = "into: {connection: box, files: huts-copied.csv, mode: overwrite}"
        client.save_job("out", f"ultravect: 1\njob: out\nfrom: {{connection: shelf, files: huts.csv}}\n{into}\n")
        run = client.wait(client.run("out").id)
        assert (run.state, run.legs[0].tally and run.legs[0].tally["inserted"], run.legs[0].strategy) == (
            "succeeded",
            2,
            "file set",
        )
        assert [item["name"] for item in client.objects("box")["items"]] == ["huts-copied.csv"]
        assert [row[0] for row in client.preview("box", "huts-copied.csv")["rows"]] == ["ALP", "FAL"]
        back = "from: {connection: box, files: '*.csv'}\ninto: {connection: shelf, files: again.csv}"
        client.save_job("back", f"ultravect: 1\njob: back\n{back}\n")
        assert client.wait(client.run("back").id).state == "succeeded"
        assert (installed.files / "again.csv").read_text() == '"hut","beds"\n"ALP",40\n"FAL",22\n'


def test_tables_of_such_a_kind_are_loaded_by_keys_and_refused_rows_are_named(installed: Stack) -> None:
    path = installed.files / "tables.box"
    sqlite3.connect(path).close()
    with Client(installed.url, token=installed.token) as client:
        client.add_connection("tables", "tablebox", {"path": str(path)})
        assert client.test_connection("tables", write=True).passed
        client.add_connection("lists", "folder", {"path": str(installed.files)})
        into = "into: {connection: tables, table: hut, mode: upsert, keys: [hut], rejects: 1}"
        job = f"ultravect: 1\njob: huts\nfrom: {{connection: lists, files: list.csv}}\n{into}\n"
        client.save_job("huts", job)
        tallies = []
        for text in ("hut,beds\nALP,40\nFAL,22\n", "hut,beds\nFAL,23\nFAL,24\nBER,8\n"):
            (installed.files / "list.csv").write_text(text)
            run = client.wait(client.run("huts").id)
            assert run.state == "succeeded", run.legs[0].error
            tallies.append(run.legs[0].tally)
        assert [(tally["inserted"], tally["updated"], tally["repeated"]) for tally in tallies] == [
            (2, 0, 0),
            (1, 1, 1),
        ]
        with closing(sqlite3.connect(path)) as session:
            assert session.execute("SELECT * FROM hut ORDER BY hut").fetchall() == [
                ("ALP", 40),
                ("BER", 8),
                ("FAL", 24),
            ]
            assert session.execute("SELECT count(*) FROM ultravect_receipt").fetchall() == [(2,)]
            session.execute(
                "CREATE TRIGGER full BEFORE INSERT ON hut WHEN NEW.beds > 99 BEGIN SELECT RAISE(ABORT, 'too many'); END"
            )
        (installed.files / "list.csv").write_text("hut,beds\nCHA,100\nDUF,4\n")
        run = client.wait(client.run("huts").id)
        assert run.legs[0].tally["inserted"] == 1
        assert [reject.reason for reject in client.rejects(run.id).items] == ["refused by the target: too many"]


def test_a_missing_driver_stops_its_own_kind_alone(installed: Stack) -> None:
    with Client(installed.url, token=installed.token) as client:
        client.add_connection("nothing", "driverless", {})
        tested = client.test_connection("nothing")
        assert not tested.passed
        assert tested.error is not None
        assert tested.error["code"] == "driver-missing"
        assert "pip install 'nosuch-driver[fast]'" in tested.error["hint"]
        with pytest.raises(ApiError) as raised:
            client.add_connection("half", "broken", {})
        assert "half a package" in f"{raised.value.detail} {raised.value.errors}"
