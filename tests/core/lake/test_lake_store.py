"""Lake tables in an object store: the stand-in, which checks signatures and writes objects conditionally, as real ones do."""

from __future__ import annotations

import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pyarrow as pa
import pytest
from deltalake import write_deltalake
from devtools.pairs import Place
from tests.core.lake.lake import TABLE, rows_of
from tests.core.modes.writing import Writer

from ultravect.core.contracts.receipt import Receipt, ReceiptKey
from ultravect.core.contracts.write_plan import Attempt, Replace, WritePlan
from ultravect.core.dialects.base import NewColumn, TableName
from ultravect.core.engine.objects.connections import ConnectionSpec, database_of, probe
from ultravect.core.engine.write.driver import open_write
from ultravect.core.errors import UltravectError
from ultravect.core.types.canonical import CanonicalType

ROOT = Path(__file__).parents[3]


class Store:
    """The stand-in in a process of its own: libraries that wait for it must not keep it from answering."""

    access_key, secret_key = "AKLAKE", "a secret of the lake"

    def __init__(self, folder: Path, *options: str) -> None:
        self.folder = folder
        (folder / "season").mkdir(parents=True)
        command = [
            sys.executable,
            "-m",
            "demo.objectstore",
            str(folder),
            "--port",
            "0",
            "--access-key",
            self.access_key,
        ]
        self.process = subprocess.Popen(
            [*command, "--secret-key", self.secret_key, *options], cwd=ROOT, stdout=subprocess.PIPE, text=True
        )
        assert self.process.stdout is not None
        self.endpoint = self.process.stdout.readline().strip()

    def settings(self, **changes: object) -> dict[str, object]:
        return {
            "bucket": "season", "endpoint": self.endpoint, "access_key": self.access_key, "secret_key": self.secret_key, **changes,
        }  # fmt: skip


@pytest.fixture
def store(tmp_path: Path, request: pytest.FixtureRequest) -> Iterator[Store]:
    started = Store(tmp_path / "buckets", *getattr(request, "param", ()))
    yield started
    started.process.kill()
    started.process.wait()


def _spec(store: Store, **changes: object) -> ConnectionSpec:
    return ConnectionSpec("season", "lake", store.settings(**{"prefix": "tables/", **changes}), [])


def test_all_modes_in_a_bucket(store: Store, tmp_path: Path) -> None:
    spec = _spec(store)
    assert probe(spec, write=True).error is None
    writer = Writer(Place("lake", spec, lambda statement: []), tmp_path, TABLE)
    table = store.folder / "season" / "tables" / TABLE

    def rows() -> list[Any]:
        return sorted((row["k"], row["v"]) for row in rows_of(table))

    writer.load([(1, "a"), (2, "b")], mode="append", partition_by=["k"])
    writer.load([(2, "x"), (3, "c")], mode="upsert", keys=["k"])
    assert rows() == [("1", "a"), ("2", "x"), ("3", "c")]
    writer.load([(1, "y")], mode="overwrite", replaces="k = 1")
    assert rows() == [("1", "y"), ("2", "x"), ("3", "c")]
    writer.load([(9, "z")], mode="overwrite")
    assert rows() == [("9", "z")]
    database = database_of(spec)
    assert [(item.name, item.rows) for item in database.tables("", "", 9)] == [(TABLE, 1)]
    assert database.ask(f'SELECT k, v FROM "{TABLE}@0" ORDER BY k', 9, 9).rows == [[1, "a"], [2, "b"]]
    assert writer.load([(9, "z")], mode="append", run="again").rows_after == 2
    assert writer.load([(9, "z")], mode="append", run="again", taken_over=True).rows_after == 2


def test_of_two_writers_of_one_version_the_second_is_kept_off(store: Store) -> None:
    spec, name = _spec(store), TableName(None, TABLE)
    database = database_of(spec)
    settings = store.settings()
    options = {
        "AWS_ACCESS_KEY_ID": str(settings["access_key"]), "AWS_SECRET_ACCESS_KEY": str(settings["secret_key"]),
        "AWS_ENDPOINT_URL": store.endpoint, "AWS_ALLOW_HTTP": "true", "AWS_REGION": "us-east-1",
    }  # fmt: skip
    address = f"s3://season/tables/{TABLE}"
    write_deltalake(address, pa.table({"k": [1]}), storage_options=options)
    plan = WritePlan(name, (NewColumn("k", CanonicalType("bigint")),), Replace())
    order = Attempt(plan, ReceiptKey("late"))
    with open_write(database, order) as load:
        load.write(pa.record_batch([pa.array([5], pa.int64())], names=["k"]))
        load.finish()
        write_deltalake(address, pa.table({"k": [2]}), mode="append", storage_options=options)
        with pytest.raises(UltravectError) as changed:
            load.publish(Receipt(TABLE, "overwrite"))
    assert changed.value.code == "target-changed"
    assert sorted(row["k"] for row in rows_of(store.folder / "season" / "tables" / TABLE)) == [1, 2]


@pytest.mark.parametrize("store", [["--overwrites"]], indirect=True)
def test_a_store_that_overwrites_is_refused(store: Store) -> None:
    error = probe(_spec(store), write=True).error
    assert error is not None
    assert error.code == "store-overwrites"


@pytest.mark.parametrize(
    ("changes", "code"),
    [
        ({"secret_key": "another"}, "lake-unreachable"),
        ({"access_key": "AKNOBODY"}, "lake-unreachable"),
        ({"bucket": "nothing-here"}, "bucket-missing"),
        ({"endpoint": "http://127.0.0.1:9"}, "port-refused"),
    ],
)
def test_what_cannot_be_reached_says_why(store: Store, changes: dict[str, object], code: str) -> None:
    result = probe(_spec(store, **changes), write=False)
    assert result.error is not None
    assert result.error.code == code
    assert "another" not in str(result.as_dict())
