"""Iceberg tables: what is their own, in catalogues of three kinds, and what other programs wrote."""

from __future__ import annotations

import datetime as dt
import decimal
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.parquet as pq
import pytest
from devtools.legs import run_leg
from devtools.stack import Stack
from pyiceberg.expressions import EqualTo, IsNull
from pyiceberg.manifest import DataFileContent
from pyiceberg.partitioning import PartitionField, PartitionSpec
from pyiceberg.schema import Schema
from pyiceberg.transforms import (
    BucketTransform,
    DayTransform,
    HourTransform,
    IdentityTransform,
    MonthTransform,
    Transform,
    TruncateTransform,
    UnknownTransform,
    VoidTransform,
    YearTransform,
)
from pyiceberg.types import (
    DateType,
    DecimalType,
    DoubleType,
    IntegerType,
    LongType,
    NestedField,
    StringType,
    TimestampType,
)
from standins.iceberg_catalogue import CatalogueServer, catalogue_server
from tests.core.lake.lake import TABLE, IcebergLake

from ultravect.core.contracts.receipt import Receipt, ReceiptKey
from ultravect.core.contracts.write_plan import Attempt, WritePlan
from ultravect.core.dialects.base import NewColumn, NewTable, TableName
from ultravect.core.engine.objects.connections import ConnectionSpec, database_of, probe
from ultravect.core.engine.write.driver import open_write
from ultravect.core.errors import UltravectError
from ultravect.core.kinds.registry import settings_of
from ultravect.core.model.document import job_from_data
from ultravect.core.types.canonical import CanonicalType

EPOCH, MICRO = dt.datetime(1970, 1, 1), dt.timedelta(microseconds=1)
OLD = [(1, "a"), (2, "b"), (3, "c")]


@pytest.fixture
def lake(tmp_path: Path) -> IcebergLake:
    return IcebergLake(tmp_path)


@pytest.fixture
def rest(tmp_path: Path) -> Iterator[CatalogueServer]:
    with catalogue_server(tmp_path, "t0ken") as server:
        yield server


def test_values_and_bounds_are_what_the_library_reads(lake: IcebergLake) -> None:
    moment = dt.datetime(2026, 7, 1, 3, 39, 59, 999_999)
    names = ("n", "code", "day", "price", "share", "open", "at", "clock")
    rows = [
        (n, f"0{n}", f"2026-07-0{n + 1}", "12.50", "0.25", "true", moment.isoformat(" "), "07:30:00")
        for n in range(3)
    ]
    lake.load(
        rows, names, mode="append", partition_by=["day"],
        columns=["n", "code text(9)", "day", "price decimal(10,2)", "share double", "open boolean", "at", "clock time"],
    )  # fmt: skip
    table = lake.opened()
    found = sorted(table.scan().to_arrow().to_pylist(), key=lambda row: row["n"])
    assert found[0] == {
        "n": 0, "code": "00", "day": dt.date(2026, 7, 1), "price": decimal.Decimal("12.50"), "share": 0.25, "open": True,
        "at": moment, "clock": dt.time(7, 30),
    }  # fmt: skip
    # readers leave files out by partitions and by bounds
    assert len(list(table.scan(row_filter="day = '2026-07-02'").plan_files())) == 1
    assert len(list(table.scan(row_filter="n > 1").plan_files())) == 1
    answer = lake.database.ask(f"SELECT n, clock FROM {TABLE} WHERE day = DATE '2026-07-02'", 9, 5)
    assert answer.rows == [[1, dt.time(7, 30)]]


def _other_program(lake: IcebergLake) -> None:
    """A table whose columns were renamed, widened, dropped and made anew, with rows deleted and nested values."""
    catalogue = lake.catalogue()
    catalogue.create_namespace_if_not_exists(("raw",))
    schema = pa.schema([("id", pa.int32()), ("hut", pa.string()), ("note", pa.string())])
    table = catalogue.create_table(("raw", "visit"), schema)
    table.append(pa.table({"id": [1, 2], "hut": ["a", "b"], "note": ["old", "old"]}, schema))
    with table.update_schema() as update:
        update.rename_column("hut", "place")
        update.update_column("id", LongType())
        update.delete_column("note")
    with table.update_schema() as update:
        update.add_column("note", StringType())
        update.add_column("beds", IntegerType(), "how many")
    table.append(
        pa.table(
            {
                "id": pa.array([3, 4], pa.int64()),
                "place": ["c", None],
                "note": ["new", None],
                "beds": pa.array([4, None], pa.int32()),
            }
        )
    )
    table.delete(EqualTo("id", 2))


def test_what_other_programs_wrote_is_read_and_written(lake: IcebergLake) -> None:
    _other_program(lake)
    assert [(item.name, item.rows) for item in lake.database.tables("", "", 9)] == [("raw.visit", 3)]
    question = "SELECT id, place, note, beds FROM raw.visit ORDER BY id"
    wanted = [[1, "a", None, None], [3, "c", "new", 4], [4, None, None, None]]
    assert lake.database.ask(question, 9, 5).rows == wanted
    # a question may read a table twice
    twice = lake.database.ask("SELECT count(*) FROM raw.visit a JOIN raw.visit b ON a.id = b.id", 1, 5)
    assert twice.rows == [[3]]
    live = lake.database.table(TableName("raw", "visit"))
    assert live is not None
    assert [(column.name, column.native, column.comment) for column in live.columns] == [
        ("id", "BIGINT", ""), ("place", "VARCHAR", ""), ("note", "VARCHAR", ""), ("beds", "INTEGER", "how many"),
    ]  # fmt: skip
    job = job_from_data(
        {
            "ultravect": 1, "job": "visits",
            "from": {"connection": "season", "query": "select 1 as id, 'x' as place union all select 9, 'y'"},
            "columns": ["id bigint", "place"],
            "into": {"connection": "season", "table": "raw.visit", "mode": "upsert", "keys": ["id"], "if_different": "ignore"},
        }
    )  # fmt: skip
    tally = run_leg(job, lake.spec, lake.spec, lake.writer.heard, receipt="visits.1").tally
    assert (tally.inserted, tally.updated) == (1, 1)
    assert lake.database.ask(question, 9, 5).rows == [[1, "x", None, None], *wanted[1:], [9, "y", None, None]]


def test_columns_are_added_and_tables_made_anew(lake: IcebergLake) -> None:
    lake.load(OLD, mode="append", partition_by=["v"])
    lake.load(
        [(4, "d", "0.5")],
        ("k", "v", "share"),
        mode="append",
        columns=["k", "v", "share double"],
        if_different="widen",
    )
    assert sorted(lake.rows("k", "share"), key=str) == [(1, None), (2, None), (3, None), (4, 0.5)]
    ids = [field.field_id for field in lake.opened().schema().fields]
    assert ids == [1, 2, 3]
    first = lake.versions()[0]
    lake.load([("x", "2")], ("v", "k"), mode="overwrite", columns=["v text", "k double"], if_different="rebuild")
    assert [(field.name, field.field_type) for field in lake.opened().schema().fields] == [
        ("v", StringType()),
        ("k", DoubleType()),
    ]
    assert lake.held() == [{"v": "x", "k": 2.0}]
    # versions before are still there, in the form that they had
    assert lake.database.ask(f'SELECT k, v FROM "{TABLE}@{first}" ORDER BY 1', 9, 5).rows == [
        [1, "a"],
        [2, "b"],
        [3, "c"],
    ]


def test_small_files_are_joined_and_old_versions_removed(tmp_path: Path) -> None:
    lake = IcebergLake(tmp_path, {"compact_after": 3, "keep_versions": "7 days"})
    for number in range(6):
        lake.load([(number, "x")], mode="append")
    assert len(list(lake.opened().scan().plan_files())) < 4
    assert lake.rows() == [(number, "x") for number in range(6)]
    files = lake.files()
    version = lake.database._version(TableName(None, TABLE))
    assert version is not None
    version.remove_old(0)
    assert lake.rows() == [(number, "x") for number in range(6)]
    assert len(lake.versions()) < 7
    assert lake.files() < files


@pytest.mark.parametrize("harm", ["metadata", "data"])
def test_what_is_not_in_the_place_is_not_read(lake: IcebergLake, harm: str) -> None:
    """A catalogue, or a table, may name any file of the machine."""
    lake.load(OLD, mode="append")
    outside = lake.folder.parent / "outside"
    outside.mkdir()
    catalogue = lake.catalogue()
    other = IcebergLake(outside)
    other.load([(9, "secret")], mode="append")
    if harm == "metadata":
        catalogue.register_table(("main", "stolen"), other.opened().metadata_location)
    else:
        (file,) = other.opened().scan().plan_files()
        made = catalogue.create_table(("main", "stolen"), other.opened().schema())
        made.add_files([file.file.file_path])
    with pytest.raises(UltravectError) as refused:
        lake.database.ask("SELECT * FROM stolen", 5, 5)
    assert refused.value.code == "lake-outside"
    assert "secret" not in str(refused.value)
    # others are listed and read nevertheless
    assert [item.name for item in lake.database.tables("", "", 9)] == [TABLE, "stolen"]


@pytest.mark.parametrize(("setting", "written"), [("py-io-impl", True), ("write.py-location-provider.impl", False)])
def test_a_table_does_not_decide_what_code_runs(lake: IcebergLake, setting: str, written: bool) -> None:
    lake.load(OLD, mode="append")
    newest = max(lake.table.rglob("*.metadata.json"))
    newest.write_text(newest.read_text().replace('"properties":{', f'"properties":{{"{setting}":"no.such.Class",'))
    if written:
        lake.load([(4, "d")], mode="append")
    else:
        with pytest.raises(UltravectError) as refused:
            lake.load([(4, "d")], mode="append")
        assert refused.value.code == "table-feature"
    assert len(lake.database.ask(f"SELECT * FROM {TABLE} AS t", 9, 5).rows) == 3 + written


def test_our_settings_are_not_written(lake: IcebergLake) -> None:
    for k, _ in OLD:
        lake.load([(k, "x")], mode="append")
    assert {name.partition(":")[0] for name in lake.opened().properties} == {"ultravect.load"}


@pytest.mark.parametrize(
    ("column", "transform"),
    [
        ("at", YearTransform()), ("at", MonthTransform()), ("at", DayTransform()), ("at", HourTransform()),
        ("name", BucketTransform(3)), ("id", BucketTransform(4)), ("name", TruncateTransform(2)), ("id", TruncateTransform(10)),
        ("price", TruncateTransform(100)), ("day", BucketTransform(5)), ("day", MonthTransform()), ("name", VoidTransform()),
    ],
    ids=str,
)  # fmt: skip
def test_tables_split_by_transforms_are_written(
    lake: IcebergLake, column: str, transform: Transform[Any, Any]
) -> None:
    schema = Schema(
        NestedField(1, "id", LongType()), NestedField(2, "at", TimestampType()), NestedField(3, "name", StringType()),
        NestedField(4, "price", DecimalType(9, 2)), NestedField(5, "day", DateType()),
    )  # fmt: skip
    field = schema.find_field(column)
    spec = PartitionSpec(
        PartitionField(field.field_id, 1000, transform, "part"), PartitionField(5, 1001, IdentityTransform(), "day")
    )
    catalogue = lake.catalogue()
    catalogue.create_namespace_if_not_exists(("main",))
    catalogue.create_table(("main", TABLE), schema, partition_spec=spec)
    names = ("id", "at", "name", "price", "day")

    def row(n: int) -> tuple[Any, ...]:
        moment = dt.datetime(1969, 12, 30) + dt.timedelta(hours=7 * n)
        if n % 7 == 6:
            return (n - 15, None, None, None, None)
        return (n - 15, moment.isoformat(" "), f"hüt {n}", f"{n - 9}.75", f"{moment:%Y-%m-%d}")

    columns = ["id bigint", "at timestamp", "name", "price decimal(9,2)", "day date"]
    lake.load([row(n) for n in range(30)], names, mode="append", columns=columns)
    lake.load([row(n) for n in range(20, 40)], names, mode="upsert", keys=["id"], columns=columns)
    table = lake.opened()
    rows = table.scan().to_arrow().to_pylist()
    assert sorted(held["id"] for held in rows) == list(range(-15, 25))
    # the library leaves out files by their parts: each row must be in the part where it is looked for
    compute = transform.transform(field.field_type)
    wanted = {
        "day": lambda value: (value - dt.date(1970, 1, 1)).days,
        "at": lambda value: int((value - EPOCH) / MICRO),
    }
    for task in table.scan().plan_files():
        for held in pq.read_table(task.file.file_path.removeprefix("file://"), partitioning=None).to_pylist():
            value = held[column]
            counted = wanted[column](value) if column in wanted and value is not None else value
            assert task.file.partition[0] == compute(counted)
    for held in rows:
        value = held[column]
        condition = (
            IsNull(column)
            if value is None
            else EqualTo(column, value if column in ("id", "name") else str(value).replace(" ", "T"))
        )
        assert held["id"] in table.scan(row_filter=condition).to_arrow()["id"].to_pylist()


def test_rows_that_are_deleted_by_their_values_are_refused_by_name(lake: IcebergLake) -> None:
    lake.load(OLD, mode="append")
    table = lake.opened()
    (task,) = table.scan().plan_files()
    marks = task.file
    marks._data[0] = DataFileContent.EQUALITY_DELETES
    with table.transaction() as transaction, transaction.update_snapshot().fast_append() as snapshot:
        snapshot.append_data_file(marks)
    with pytest.raises(UltravectError) as refused:
        lake.database.ask(f"SELECT * FROM {TABLE}", 9, 5)
    assert refused.value.code == "table-feature"
    assert "equality deletes" in refused.value.detail


def test_tables_split_by_what_no_one_knows_are_not_written(lake: IcebergLake) -> None:
    schema = Schema(NestedField(1, "k", LongType()), NestedField(2, "v", StringType()))
    catalogue = lake.catalogue()
    catalogue.create_namespace_if_not_exists(("main",))
    spec = PartitionSpec(PartitionField(2, 1000, UnknownTransform("zorder"), "place"))
    catalogue.create_table(("main", TABLE), schema, partition_spec=spec)
    with pytest.raises(UltravectError) as refused:
        lake.load(OLD, mode="append")
    assert refused.value.code == "table-feature"
    assert "place" in refused.value.detail


def test_a_required_column_takes_no_null(lake: IcebergLake) -> None:
    catalogue = lake.catalogue()
    catalogue.create_namespace_if_not_exists(("main",))
    fields = [NestedField(1, "k", LongType(), required=True), NestedField(2, "v", StringType(), required=False)]
    catalogue.create_table(("main", TABLE), Schema(*fields))
    lake.load(OLD, mode="append")
    with pytest.raises(UltravectError):
        lake.load([(None, "x")], mode="append")
    lake.load([(3, "z"), (4, None)], mode="upsert", keys=["k"])
    assert lake.rows() == [(1, "a"), (2, "b"), (3, "z"), (4, None)]


def _round(spec: ConnectionSpec) -> list[list[Any]]:
    """A table is made, written to and read by a connection."""
    database, name = database_of(spec), TableName(None, "rounds")
    columns = [NewColumn("k", CanonicalType("bigint"))]
    for create, run in ((True, "one"), (False, "two")):
        order = Attempt(WritePlan(name, columns, create=NewTable(columns) if create else None), ReceiptKey(run))
        with open_write(database, order) as load:
            load.write(pa.record_batch([pa.array([1, 2], pa.int64())], names=["k"]))
            load.finish()
            load.publish(Receipt("rounds", "append"))
        assert database.ledger(name).committed([ReceiptKey(run)]) is not None
    return list(database.ask("SELECT k, count(*) FROM rounds GROUP BY 1 ORDER BY 1", 9, 5).rows)


def test_a_catalogue_in_postgresql(tmp_path: Path, stack: Stack) -> None:
    server = stack.postgres
    server.execute("CREATE DATABASE lake_catalogue")
    settings = {
        "path": str(tmp_path), "format": "iceberg", "catalogue_name": "huts", "catalogue_secret": server.password,
        "catalogue": f"postgresql://postgres@127.0.0.1:{server.port}/lake_catalogue",
    }  # fmt: skip
    spec = ConnectionSpec("season", "lake", settings, [str(tmp_path)])
    assert probe(spec, write=True).error is None
    assert _round(spec) == [[1, 2], [2, 2]]
    for changed, code in (
        ({"catalogue_secret": "wrong"}, "sign-in-failed"),
        ({"catalogue": f"postgresql://postgres@127.0.0.1:{server.port}/missing"}, "lake-unreachable"),
        ({"catalogue": "postgresql://postgres@127.0.0.1:1/lake_catalogue"}, "lake-unreachable"),
    ):
        result = probe(ConnectionSpec("season", "lake", {**settings, **changed}, [str(tmp_path)]), write=False)
        assert result.error is not None
        assert result.error.code == code
        assert server.password not in str(result.error)


def test_a_catalogue_that_speaks_http(tmp_path: Path, rest: CatalogueServer) -> None:
    settings = {"path": str(tmp_path), "format": "iceberg", "catalogue": rest.url, "catalogue_secret": "t0ken"}
    spec = ConnectionSpec("season", "lake", settings, [str(tmp_path)])
    assert probe(spec, write=True).error is None
    assert _round(spec) == [[1, 2], [2, 2]]
    result = probe(
        ConnectionSpec("season", "lake", {**settings, "catalogue_secret": "wrong"}, [str(tmp_path)]), write=False
    )
    assert result.error is not None
    assert result.error.code == "sign-in-failed"
    assert "wrong" not in str(result.error)


@pytest.mark.parametrize("fault", [500, 503, 0])
def test_a_commit_without_an_answer_is_found_again(tmp_path: Path, rest: CatalogueServer, fault: int) -> None:
    settings = {"path": str(tmp_path), "format": "iceberg", "catalogue": rest.url, "catalogue_secret": "t0ken"}
    database = database_of(ConnectionSpec("season", "lake", settings, [str(tmp_path)]))
    name, columns = TableName(None, "rounds"), [NewColumn("k", CanonicalType("bigint"))]
    for create, run in ((True, "one"), (False, "two")):
        rest.faults = [fault]
        order = Attempt(WritePlan(name, columns, create=NewTable(columns) if create else None), ReceiptKey(run))
        with open_write(database, order) as load:
            load.write(pa.record_batch([pa.array([1, 2], pa.int64())], names=["k"]))
            load.finish()
            with pytest.raises(UltravectError) as unknown:
                load.publish(Receipt("rounds", "append"))
        assert unknown.value.code == "outcome-unknown", unknown.value
        assert database.ledger(name).committed([ReceiptKey(run)]) is not None
    # the files that the commit names are still there
    assert database.ask("SELECT count(*) FROM rounds", 1, 5).rows == [[4]]


@pytest.mark.parametrize(
    ("changed", "said"),
    [
        ({"catalogue": "../x.sqlite"}, "without a path"),
        ({"catalogue": "mysql://x"}, "begins with"),
        ({"catalogue": "postgresql://u:secret@h/d"}, "catalogue_secret"),
        ({"catalogue": "http://:80"}, "names a host"),
        ({"format": "delta", "catalogue": "x.sqlite"}, "are of Iceberg"),
        ({"path": "", "bucket": "b", "access_key": "k"}, "a bucket needs a catalogue"),
    ],
)
def test_settings_that_cannot_be(tmp_path: Path, changed: dict[str, Any], said: str) -> None:
    settings = {"path": str(tmp_path), "format": "iceberg", **changed}
    with pytest.raises(ValueError, match=said):
        settings_of("lake").model_validate(settings)


@pytest.mark.parametrize("harm", ["metadata", "list", "data"])
def test_damage_is_an_error_with_a_reason(lake: IcebergLake, harm: str) -> None:
    lake.load(OLD, mode="append")
    pattern = {"metadata": "*.metadata.json", "list": "snap-*.avro", "data": "*.parquet"}[harm]
    for path in lake.table.rglob(pattern):
        path.write_bytes(b"{")
    with pytest.raises(UltravectError) as refused:
        lake.database.ask(f"SELECT count(k), min(v) FROM {TABLE}", 1, 5)
    assert refused.value.hint
    assert lake.database.tables("", "", 9)
