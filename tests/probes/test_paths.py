"""Paths that lead out of a place, however they are written: generated for every kind that has paths, and never followed."""

from __future__ import annotations

import io
import json
import os
import shutil
import zipfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

import httpx
import pyarrow as pa
import pyarrow.parquet as pq
import pytest
from deltalake import DeltaTable, write_deltalake
from devtools.stack import Stack
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from pyiceberg.catalog.sql import SqlCatalog

from ultravect.core.contracts.storage import Listing
from ultravect.core.engine.look.browse import Wanted, list_inside, list_objects, preview
from ultravect.core.engine.objects.connections import ConnectionSpec, database_of, storage_of
from ultravect.core.errors import UltravectError
from ultravect.core.inside import inside, leads_out, readings, within
from ultravect.core.kinds.http.kind import HttpSettings
from ultravect.core.kinds.http.storage import HttpStorage
from ultravect.core.kinds.lake.iceberg.catalogue import PlaceFiles
from ultravect.core.kinds.lake.kind import LakeSettings
from ultravect.core.kinds.lake.place import LakePlace
from ultravect.core.kinds.objectstore.kind import ObjectStoreSettings
from ultravect.core.kinds.objectstore.storage import ObjectStoreStorage
from ultravect.core.kinds.sftp.kind import SftpSettings
from ultravect.core.kinds.sftp.storage import SftpStorage

SECRET = 77
_WAYS = [
    "..",
    "%2e%2e",
    "%2E%2E",
    "..%2f..",
    "%252e%252e",
    ".",
    "",
    "a",
    "out",
    "in",
    "huts",
    "file:",
    "%00",
    "\\..\\",
    "..%5c",
    "~",
]


@st.composite
def paths(draw: st.DrawFn) -> str:
    """A path that is written to lead somewhere else, perhaps to what is there."""
    parts = draw(st.lists(st.sampled_from(_WAYS), min_size=1, max_size=5))
    text = draw(st.sampled_from(["/", "/", "/", "%2f", "\\", "//"])).join(parts)
    text = draw(st.sampled_from(["", "", "", "/", "file://", "file:///", "s3://other/", "./", "//"])) + text
    return text + draw(st.sampled_from(["", "/secret.csv", "/secret.parquet", "%2fsecret.parquet"]))


class Places:
    """A folder with what may be read, a link out of it, and next to it what may not."""

    def __init__(self, root: Path) -> None:
        self.root, self.inside, self.outside = root, root / "in", root / "out"
        for folder in (self.inside / "a", self.outside):
            folder.mkdir(parents=True)
        (self.outside / "secret.csv").write_text(f"k\n{SECRET}\n")
        pq.write_table(pa.table({"k": pa.array([SECRET], pa.int64())}), self.outside / "secret.parquet")
        (self.inside / "a" / "plain.csv").write_text("k\n1\n")
        (self.inside / "out").symlink_to(self.outside)
        (self.inside / "a" / "secret.csv").symlink_to(self.outside / "secret.csv")
        self.folder = ConnectionSpec("here", "folder", {"path": str(self.inside)}, [str(self.inside)])

    def lake(self, **changed: Any) -> ConnectionSpec:
        return ConnectionSpec("lake", "lake", {"path": str(self.inside), **changed}, [str(self.inside)])


@pytest.fixture(scope="module")
def places(tmp_path_factory: pytest.TempPathFactory) -> Places:
    return Places(tmp_path_factory.mktemp("paths"))


def _refused(call: Callable[[], Any]) -> None:
    """Whatever is read, it is not what is outside."""
    try:
        found = call()
    except (UltravectError, OSError):
        return
    assert str(SECRET) not in str(found), found


@given(path=paths())
def test_folders_read_and_write_nothing_outside(places: Places, path: str) -> None:
    storage = storage_of(places.folder)
    _refused(lambda: storage.open(path).stream.read())
    _refused(lambda: preview(places.folder, path, Wanted(5, False, False, False)))
    new = places.root / "new.csv"
    new.write_text("k\n2\n")
    _refused(lambda: storage.put(path, new))
    _refused(lambda: storage.remove(path))
    assert (places.outside / "secret.csv").read_text() == f"k\n{SECRET}\n"
    assert sorted(os.listdir(places.outside)) == ["secret.csv", "secret.parquet"]
    assert sorted(os.listdir(places.root)) == ["in", "new.csv", "out"]


@given(path=paths())
@settings(suppress_health_check=[HealthCheck.too_slow])
def test_data_files_of_delta_tables_are_inside(places: Places, path: str) -> None:
    """Plain ones, those with other names of columns, and those with rows marked as deleted."""
    for mapping in (False, True):
        table = places.inside / "huts"
        shutil.rmtree(table, ignore_errors=True)
        _delta(table, path, mapping=mapping, size=(places.outside / "secret.parquet").stat().st_size)
        spec = places.lake()
        _refused(lambda spec=spec: preview(spec, "huts", Wanted(5, False, False, False)))
        _refused(lambda spec=spec: database_of(spec).ask("select * from huts", 5, 5).rows)


def _delta(table: Path, path: str, *, mapping: bool, size: int) -> None:
    """A table whose one file is at ``path``."""
    write_deltalake(str(table), pa.table({"k": pa.array([1], pa.int64())}))
    log = table / "_delta_log" / f"{0:020d}.json"
    lines = [json.loads(line) for line in log.read_text().splitlines()]
    for line in lines:
        if "add" in line:
            line["add"] |= {"path": path, "size": size, "stats": '{"numRecords": 1}'}
        if mapping and "protocol" in line:
            line["protocol"] = {
                "minReaderVersion": 3,
                "minWriterVersion": 7,
                "readerFeatures": ["columnMapping", "deletionVectors"],
                "writerFeatures": ["columnMapping", "deletionVectors"],
            }
        if mapping and "metaData" in line:
            line["metaData"]["configuration"] = {"delta.columnMapping.mode": "name"}
            schema = json.loads(line["metaData"]["schemaString"])
            for number, field in enumerate(schema["fields"], 1):
                field["metadata"] = {
                    "delta.columnMapping.id": number,
                    "delta.columnMapping.physicalName": field["name"],
                }
            line["metaData"]["schemaString"] = json.dumps(schema)
    log.write_text("\n".join(json.dumps(line) for line in lines))


def test_a_delta_table_that_is_honest_is_read_by_both_ways(places: Places) -> None:
    """The probe above would pass if nothing could be read."""
    pq.write_table(pa.table({"k": pa.array([5], pa.int64())}), places.inside / "a" / "b c.parquet")
    for mapping in (False, True):
        for path in ("part one.parquet", "part%20one.parquet"):
            table = places.inside / "honest"
            shutil.rmtree(table, ignore_errors=True)
            size = (places.inside / "a" / "b c.parquet").stat().st_size
            _delta(table, path, mapping=mapping, size=size)
            shutil.copy(places.inside / "a" / "b c.parquet", table / "part one.parquet")
            rows = preview(places.lake(), "honest", Wanted(5, False, False, False))["rows"]
            assert rows == [[5]]
    shutil.rmtree(places.inside / "honest")


@pytest.mark.parametrize("what", ["table", "log", "commit", "file", "checkpoint"])
def test_links_of_delta_tables_are_not_followed_out(tmp_path: Path, what: str) -> None:
    places = Places(tmp_path)
    other = places.outside / "other"
    write_deltalake(str(other), pa.table({"k": pa.array([SECRET], pa.int64())}))
    DeltaTable(str(other)).create_checkpoint()
    table = places.inside / "huts"
    if what == "table":
        table.symlink_to(other)
    else:
        shutil.copytree(other, table)
        target = {
            "log": table / "_delta_log",
            "commit": table / "_delta_log" / f"{0:020d}.json",
            "file": next(table.glob("*.parquet")),
            "checkpoint": next((table / "_delta_log").glob("*.checkpoint.parquet")),
        }[what]
        shutil.rmtree(target) if target.is_dir() else target.unlink()
        target.symlink_to(other / target.relative_to(table))
    _refused(lambda: preview(places.lake(), "huts", Wanted(5, False, False, False)))
    if what == "table":
        assert list_objects(places.lake(), Listing(limit=9)) == []


def test_old_files_are_not_removed_through_links(tmp_path: Path) -> None:
    """The library removes what a table does not name, and would follow a link to do so."""
    places = Places(tmp_path)
    table = places.inside / "huts"
    write_deltalake(str(table), pa.table({"k": [1]}))
    (table / "more").symlink_to(places.outside)
    place = LakePlace("lake", LakeSettings(path=str(places.inside)), [str(places.inside)], lambda *_: None)  # type: ignore[arg-type,return-value]
    with pytest.raises(UltravectError) as raised:
        place.require_links_inside("huts")
    assert raised.value.code == "lake-outside"
    assert (places.outside / "secret.parquet").exists()


@given(path=paths())
def test_addresses_that_iceberg_tables_name_are_inside(places: Places, path: str) -> None:
    settings_ = LakeSettings(path=str(places.inside), format="iceberg")
    files = PlaceFiles(LakePlace("lake", settings_, [str(places.inside)], lambda *_: None))  # type: ignore[arg-type,return-value]
    for address in (path, f"file://{places.inside}/{path}", f"{places.inside}/{path}"):
        _refused(lambda address=address: files.new_input(address).open().read())


def test_links_of_iceberg_tables_are_not_followed_out(tmp_path: Path) -> None:
    places = Places(tmp_path)
    lake = places.inside
    catalogue = SqlCatalog("default", uri=f"sqlite:///{lake}/catalogue.sqlite", warehouse=f"file://{lake}")
    catalogue.create_namespace("main")
    table = catalogue.create_table("main.huts", pa.schema([("k", pa.int64())]), location=f"file://{lake}/main/huts")
    table.append(pa.table({"k": pa.array([1], pa.int64())}))
    held = next((lake / "main" / "huts" / "data").glob("*.parquet"))
    spec = places.lake(format="iceberg")
    assert preview(spec, "huts", Wanted(5, False, False, False))["rows"] == [[1]]
    held.unlink()
    held.symlink_to(places.outside / "secret.parquet")
    _refused(lambda: preview(spec, "huts", Wanted(5, False, False, False)))
    (lake / "catalogue.sqlite").rename(places.outside / "catalogue.sqlite")
    (lake / "catalogue.sqlite").symlink_to(places.outside / "catalogue.sqlite")
    _refused(lambda: list_objects(spec, Listing(limit=9)))
    with pytest.raises(UltravectError):
        preview(spec, "huts", Wanted(5, False, False, False))


@given(name=paths())
def test_members_of_archives_are_inside(places: Places, name: str) -> None:
    held = io.BytesIO()
    with zipfile.ZipFile(held, "w") as archive:
        archive.writestr("plain.csv", "k\n1\n")
        archive.writestr(zipfile.ZipInfo(name or "x"), "k\n2\n")
    (places.inside / "a" / "book.zip").write_bytes(held.getvalue())
    listed = [item["name"] for item in list_inside(places.folder, "a/book.zip", Listing(limit=99))]
    assert "a/book.zip/plain.csv" in listed
    assert not [item for item in listed if leads_out(item.removeprefix("a/book.zip/"))]
    _refused(lambda: preview(places.folder, f"a/book.zip/{name}", Wanted(5, False, False, False)))


@given(path=paths())
def test_servers_are_asked_for_nothing_outside(path: str) -> None:
    """Of a web server, a bucket and an SFTP server: by what would be sent."""
    web = HttpStorage("web", HttpSettings(url="http://hut.example.org/data"), [])
    try:
        address = web._address(path)
    except UltravectError:
        pass
    else:
        assert address.host == "hut.example.org"
        assert httpx.URL(str(address)).path.startswith("/data/")
        sent = address.raw_path.decode().split("?")[0]
        assert not any(".." in reading.split("/") for reading in readings(sent))
    bucket = ObjectStoreStorage(
        "store", ObjectStoreSettings(bucket="huts", prefix="in/", access_key="a", secret_key="s"), []
    )
    sftp = SftpStorage("far", SftpSettings(host="127.0.0.1", user="u"), [])
    for require in (bucket._require_inside, sftp._inside):
        try:
            require(path)
        except UltravectError:
            continue
        assert not leads_out(path)


@given(path=paths())
def test_one_decision_agrees_with_the_system(places: Places, path: str) -> None:
    """Against what the system itself says, for each way in which the path may be read."""
    try:
        found = inside(places.inside, path)
    except (OSError, ValueError, RuntimeError):
        return
    real = os.path.realpath(os.path.join(places.inside, path))
    if not (real + "/").startswith(f"{places.inside}/"):
        assert found is None
    if found is not None:
        assert str(found) == os.path.realpath(os.path.join(places.inside, path))
        assert within(found, [places.inside]) == found


def test_uploads_land_in_their_folder(stack: Stack) -> None:
    """Through the service: no name leads out, and nothing is written elsewhere."""
    before = sorted(path.name for path in stack.state.iterdir())
    with httpx.Client(base_url=stack.url, headers={"Authorization": f"Bearer {stack.token}"}) as asking:
        for name in (
            "../x.csv",
            "%2e%2e/x.csv",
            "..%2fx.csv",
            "a/../../x.csv",
            "%252e%252e%252fx.csv",
            ".x",
            "a//b",
            "..\\x.csv",
            "%00",
        ):
            answer = asking.put(f"/api/v1/uploads/{name}", content=b"k\n1\n")
            assert answer.status_code in (404, 422), (name, answer.text)
    assert sorted(path.name for path in stack.state.iterdir()) == before
