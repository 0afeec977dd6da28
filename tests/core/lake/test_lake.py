"""Lake tables: each mode against what an independent reader of the log finds, versions, partitions, conditions, and what goes wrong."""

from __future__ import annotations

import datetime as dt
import decimal
import itertools
import json
import shutil
import subprocess
import sys
from pathlib import Path
from typing import Any

import pyarrow as pa
import pytest
from deltalake import DeltaTable, QueryBuilder, write_deltalake
from devtools.legs import run_leg
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from tests.core.lake.lake import TABLE, Lake, lake_of, log_of
from tests.core.modes.writing import rejected_comes_back

from ultravect.core.contracts.mark import MarkChange, MarkKey
from ultravect.core.contracts.receipt import Receipt, ReceiptKey
from ultravect.core.contracts.write_plan import Attempt, WritePlan
from ultravect.core.dialects.base import NewColumn, NewTable, TableName
from ultravect.core.engine.objects.connections import ConnectionSpec, probe
from ultravect.core.engine.objects.names import RunFacts
from ultravect.core.engine.operate.undo import undo_leg
from ultravect.core.engine.write.driver import open_write
from ultravect.core.errors import UltravectError
from ultravect.core.kinds.lake.loads.load_target import LoadTarget
from ultravect.core.model.document import job_from_data
from ultravect.core.types.canonical import CanonicalType

ROOT = Path(__file__).parents[3]
OLD = [(1, "a"), (2, "b"), (3, "c")]
_RUNS = itertools.count()


@pytest.fixture
def lake(tmp_path: Path) -> Lake:
    return Lake(tmp_path)


@pytest.fixture(params=["delta", "iceberg"])
def any_lake(tmp_path: Path, request: pytest.FixtureRequest) -> Lake:
    return lake_of(request.param, tmp_path)


@pytest.mark.parametrize(
    ("coming", "into", "wanted", "tally"),
    [
        ([(4, "d")], {"mode": "append"}, [*OLD, (4, "d")], {"inserted": 1}),
        ([], {"mode": "append"}, OLD, {}),
        ([(4, "d")], {"mode": "overwrite"}, [(4, "d")], {"inserted": 1}),
        ([(3, "x"), (4, "d")], {"mode": "overwrite", "keys": ["k"]}, [(3, "x"), (4, "d")], {"inserted": 2}),
        ([(2, "x")], {"mode": "overwrite", "replaces": "k = 2"}, [(1, "a"), (2, "x"), (3, "c")], {"inserted": 1}),
        ([(2, "b"), (3, "x"), (4, "d")], {"mode": "upsert", "keys": ["k"]}, [(1, "a"), (2, "b"), (3, "x"), (4, "d")],
         {"inserted": 1, "updated": 1, "unchanged": 1}),
        ([(4, "d"), (4, "e")], {"mode": "upsert", "keys": ["k"]}, [*OLD, (4, "e")], {"inserted": 1, "repeated": 1}),
        ([(4, "d"), (4, "e")], {"mode": "append", "keys": ["k"], "repeats": "first"}, [*OLD, (4, "d")],
         {"inserted": 1, "repeated": 1}),
        ([(1, "a")], {"mode": "upsert", "keys": ["k"], "gone": "delete", "gone_limit": "100 %"}, [(1, "a")], {"unchanged": 1}),
        ([(1, None)], {"mode": "upsert", "keys": ["k"]}, [(1, None), (2, "b"), (3, "c")], {"updated": 1}),
    ],
)  # fmt: skip
@pytest.mark.parametrize("partition", [[], ["k"]])
def test_modes(
    any_lake: Lake,
    coming: list[Any],
    into: dict[str, Any],
    wanted: list[Any],
    tally: dict[str, int],
    partition: list[str],
) -> None:
    any_lake.load(OLD, mode="append", partition_by=partition)
    result = any_lake.load(coming, **into)
    assert sorted((str(row["k"]), row["v"]) for row in any_lake.held()) == sorted((str(k), v) for k, v in wanted)
    assert {name: count for name, count in result.tally.as_dict().items() if count and name != "read"} == tally
    assert (result.rows_before, result.rows_after) == (3, len(wanted))


def test_an_upsert_leaves_files_alone_that_cannot_match(lake: Lake) -> None:
    for start in range(0, 50, 10):
        lake.load([(k, f"v{k}") for k in range(start, start + 10)], mode="append")
    _, before = log_of(lake.table)
    lake.load([(12, "x"), (13, "v13"), (99, "new")], mode="upsert", keys=["k"])
    _, after = log_of(lake.table)
    assert len(set(before) - set(after)) == 1
    assert len(set(after) - set(before)) == 1
    # nothing that differs, nothing that is written
    lake.load([(12, "x")], mode="upsert", keys=["k"])
    assert set(log_of(lake.table)[1]) == set(after)


def test_a_part_is_replaced_and_other_partitions_are_not_touched(lake: Lake) -> None:
    rows = [(hut, night) for hut in ("001", "002") for night in range(5)]
    columns = ["cast(hut as text) as hut", "night"]
    lake.load(rows, ("hut", "night"), mode="append", partition_by=["hut"], columns=columns)
    _, before = log_of(lake.table)
    lake.load([("001", 77)], ("hut", "night"), mode="overwrite", replaces="hut = '001'", columns=columns)
    _, after = log_of(lake.table)
    kept = {path for path, add in before.items() if add["partitionValues"]["hut"] == "002"}
    assert kept <= set(after)
    assert lake.rows("hut", "night") == [("001", 77), *(("002", night) for night in range(5))]
    with pytest.raises(UltravectError) as refused:
        lake.load([("003", 1)], ("hut", "night"), mode="overwrite", replaces="hut = '001'", columns=columns)
    assert refused.value.code == "too-many-rejects"


def test_the_library_s_own_reader_sees_the_same(lake: Lake) -> None:
    moment = dt.datetime(2026, 7, 1, 3, 39, 59, 999_999)
    names = ("n", "code", "day", "price", "share", "open", "at")
    rows = [(n, f"0{n}", "2026-07-01", "12.50", "0.25", "true", moment.isoformat(" ")) for n in range(3)]
    lake.load(
        rows,
        names,
        mode="append",
        columns=["n", "code text(9)", "day", "price decimal(10,2)", "share double", "open boolean", "at"],
    )
    found = pa.table(
        QueryBuilder().register("t", DeltaTable(str(lake.table))).execute("SELECT * FROM t ORDER BY n").read_all()
    )
    first = found.to_pylist()[0]
    assert first == {
        "n": 0, "code": "00", "day": dt.date(2026, 7, 1), "price": decimal.Decimal("12.50"), "share": 0.25, "open": True, "at": moment,
    }  # fmt: skip
    # bounds by which readers leave files out are not narrower than the values
    query = "SELECT count(*) AS c FROM t WHERE at >= '2026-07-01T03:39:59.9995'"
    counted = QueryBuilder().register("t", DeltaTable(str(lake.table))).execute(query).read_all()
    assert pa.table(counted).to_pylist() == [{"c": 3}]


def test_what_other_programs_wrote_is_read(lake: Lake, tmp_path: Path) -> None:
    table = pa.table(
        {
            "id": [1, 2, 3],
            "hut name": ["a b", "ü/%20", None],
            "tags": [["x"], [], None],
            "facts": [{"beds": 4}, None, {"beds": 0}],
            "small": pa.array([1, None, 3], pa.int8()),
            "raw": [b"\0\xff", b"", None],
            "at": pa.array([0, 1, None], pa.timestamp("us", "UTC")),
        }
    )
    write_deltalake(str(lake.folder / "raw" / "visit"), table, partition_by=["hut name"])
    listed = lake.database.tables("", "", 10)
    assert [(item.name, item.rows) for item in listed] == [("raw.visit", 3)]
    assert sorted(lake.database.ask('SELECT id, "hut name", tags FROM raw.visit', 10, 5).rows) == [
        [1, "a b", ["x"]], [2, "ü/%20", []], [3, None, None],
    ]  # fmt: skip
    # and its files are removed by the names that they have in the log
    job = job_from_data(
        {
            "ultravect": 1, "job": "visits",
            "from": {"connection": "season", "query": "select 2 as id, 'ü/%20' as \"hut name\", 9 as small"},
            "columns": ["id", '"hut name"', "small smallint"],
            "into": {"connection": "season", "table": "raw.visit", "mode": "upsert", "keys": ["id"], "if_different": "ignore"},
        }
    )  # fmt: skip
    result = run_leg(job, lake.spec, lake.spec, lake.writer.heard, receipt="visits.1")
    assert result.tally.updated == 1
    found = DeltaTable(str(lake.folder / "raw" / "visit")).to_pyarrow_table().sort_by("id").to_pylist()
    assert [(row["id"], row["hut name"], row["small"]) for row in found] == [
        (1, "a b", 1),
        (2, "ü/%20", 9),
        (3, None, 3),
    ]
    # what the job does not name stays as it was
    assert [row["facts"] for row in found] == [{"beds": 4}, None, {"beds": 0}]
    assert [row["tags"] for row in found] == [["x"], [], None]


def test_versions_are_read_as_they_were(any_lake: Lake) -> None:
    any_lake.load(OLD, mode="append")
    between = dt.datetime.now(dt.UTC)
    any_lake.load([(9, "z")], mode="overwrite")
    first, second = any_lake.versions()
    assert any_lake.database.ask(f'SELECT k FROM "{TABLE}@{first}" ORDER BY 1', 9, 5).rows == [[1], [2], [3]]
    for at, wanted in ((first, OLD), (str(second), [(9, "z")]), (between.isoformat(), OLD)):
        job = job_from_data(
            {
                "ultravect": 1, "job": "back", "from": {"connection": "season", "table": TABLE, "at": at},
                "into": {"connection": "season", "table": "copy", "mode": "overwrite"},
            }
        )  # fmt: skip
        run_leg(job, any_lake.spec, any_lake.spec, any_lake.writer.heard, receipt=f"back-{at}")
        assert sorted((row["k"], row["v"]) for row in any_lake.held("copy")) == wanted
    for name in (f"{TABLE}@7", f"{TABLE}@yesterday", f"{TABLE}@-1"):
        with pytest.raises(UltravectError) as refused:
            any_lake.database.table(TableName(None, name))
        assert refused.value.code == "version-missing"


def test_a_load_is_undone_by_the_version_before(any_lake: Lake) -> None:
    any_lake.load(OLD, mode="append")
    any_lake.load([(1, "x"), (8, "h")], mode="upsert", keys=["k"], run="changed")
    job = any_lake.writer.job([], ("k", "v"), {"mode": "upsert", "keys": ["k"]})

    def undo(load: str, own: str) -> Any:
        return undo_leg(
            job, any_lake.spec, any_lake.writer.heard, facts=RunFacts(load, dt.date(2026, 7, 1)), loads=[ReceiptKey(load)],
            receipt=ReceiptKey(own),
        )  # fmt: skip

    undo("changed", "undo-1")
    assert any_lake.rows() == OLD
    any_lake.load([(5, "e")], mode="append", run="first")
    any_lake.load([(6, "f")], mode="append", run="second")
    with pytest.raises(UltravectError) as refused:
        undo("first", "undo-2")
    assert "would be lost" in refused.value.detail


def test_conditions_of_the_table_are_kept(lake: Lake) -> None:
    schema = pa.schema([pa.field("k", pa.int64(), False), pa.field("v", pa.string())])
    table = DeltaTable.create(str(lake.table), schema)
    table.alter.add_constraint({"low": "k < 100"})
    result = lake.load([(1, "good"), (200, "too high"), (3, None)], mode="append", rejects=1)
    assert result.tally.inserted == 2
    assert [reject.row for reject in lake.writer.heard.rejected] == [2]
    with pytest.raises(UltravectError):
        lake.load([(None, "x")], mode="append")
    assert lake.rows() == [(1, "good"), (3, None)]


def test_two_writers_lose_nothing(any_lake: Lake, monkeypatch: pytest.MonkeyPatch) -> None:
    """Others write while rows are staged: appended rows are added to theirs, an upsert is tried again with theirs."""
    any_lake.load(OLD, mode="append")
    commit = LoadTarget.commit
    others = iter([10, 20, 21])

    def late(target: LoadTarget, *arguments: Any, **options: Any) -> None:
        if (k := next(others, None)) is not None:
            any_lake.append([{"k": k, "v": "other"}])
        commit(target, *arguments, **options)

    monkeypatch.setattr(LoadTarget, "commit", late)
    any_lake.load([(5, "appended")], mode="append")
    assert any_lake.rows() == [*OLD, (5, "appended"), (10, "other")]
    result = any_lake.load([(5, "updated"), (20, "updated"), (30, "new")], mode="upsert", keys=["k"])
    assert any_lake.rows() == [*OLD, (5, "updated"), (10, "other"), (20, "updated"), (21, "other"), (30, "new")]
    # as the rows were when the version was made that counts
    assert (result.tally.inserted, result.tally.updated) == (1, 2)


def test_a_flagged_row_that_comes_back_and_is_rejected_is_there_again(any_lake: Lake) -> None:
    rejected_comes_back(any_lake.writer)


def test_a_repeated_attempt_finds_itself_and_a_barred_one_writes_nothing(any_lake: Lake) -> None:
    name, columns = TableName(None, TABLE), [NewColumn("k", CanonicalType("bigint"))]
    batch = pa.record_batch([pa.array([1, 2], pa.int64())], names=["k"])

    def order(run: str, create: bool) -> Attempt:
        return Attempt(WritePlan(name, columns, create=NewTable(columns) if create else None), ReceiptKey(run))

    database = any_lake.database
    for create, run in ((True, "new"), (False, "later")):
        assert database.ledger(name).committed([ReceiptKey(f"{run}-lost")]) is None
        with open_write(database, order(f"{run}-lost", create)) as load:
            load.write(batch)
            load.finish()
            with pytest.raises(UltravectError) as barred:
                load.publish(Receipt(TABLE, "append"))
        assert barred.value.code == "attempt-replaced"
        with open_write(database, order(run, create)) as load:
            load.write(batch)
            load.finish()
            load.publish(Receipt(TABLE, "append", {"inserted": 2}))
        found = database.ledger(name).committed([ReceiptKey(run)])
        assert found is not None
        assert found.tally == {"inserted": 2}
    assert len(any_lake.held()) == 4
    # what barred attempts had written is gone
    assert any_lake.files() == 2


def test_marks_are_committed_with_rows(any_lake: Lake) -> None:
    any_lake.load(OLD, mode="append")
    key, name = MarkKey("nightly", "booking"), TableName(None, TABLE)
    columns = [NewColumn("k", CanonicalType("bigint")), NewColumn("v", CanonicalType("text"))]

    def load(run: str, before: str | None, after: str, *, publish: bool = True) -> None:
        with open_write(any_lake.database, Attempt(WritePlan(name, columns, marks=True), ReceiptKey(run))) as opened:
            opened.write(pa.record_batch([pa.array([7], pa.int64()), pa.array(["m"])], names=["k", "v"]))
            opened.finish()
            if publish:
                opened.publish(Receipt(TABLE, "append"), [MarkChange(key, "", after, before)])

    load("m1", None, "one")
    load("m2", "one", "two")
    load("m3", "two", "never", publish=False)
    assert any_lake.database.ledger(name).mark(key) == {"": "two"}
    with pytest.raises(UltravectError) as moved:
        load("m4", "one", "three")
    assert moved.value.code == "mark-moved"
    any_lake.database.ledger(name).set_mark(key, "by hand")
    assert any_lake.database.ledger(name).mark(key) == {"": "by hand"}
    assert len(any_lake.rows()) == 5


def _copy_new(lake: Lake, mode: str = "upsert", **into: Any) -> Any:
    """Copies what came with newer versions of the table into another one."""
    keys = {"keys": ["k"]} if mode == "upsert" else {}
    job = job_from_data(
        {
            "ultravect": 1, "job": "follow", "from": {"connection": "season", "table": TABLE, "newer": "version"},
            "into": {"connection": "season", "table": "copy", "mode": mode, **keys, **into},
        }
    )  # fmt: skip
    number = next(_RUNS)
    return run_leg(job, lake.spec, lake.spec, lake.writer.heard, receipt=f"follow-{number}")


def test_only_rows_of_newer_versions_are_copied(any_lake: Lake) -> None:
    any_lake.load(OLD, mode="append")
    assert _copy_new(any_lake).tally.read == 3
    assert _copy_new(any_lake).tally.read == 0
    any_lake.load([(4, "d")], mode="append")
    any_lake.append([{"k": 5, "v": "e"}])
    assert _copy_new(any_lake).tally.read == 2
    any_lake.load([(4, "x"), (6, "f")], mode="upsert", keys=["k"])
    # the file of row 4 was written anew: where rows are not known again, that is an error
    with pytest.raises(UltravectError) as refused:
        _copy_new(any_lake, "append")
    assert refused.value.code == "versions-repeat-rows"
    tally = _copy_new(any_lake).tally
    assert (tally.inserted, tally.updated) == (1, 1)
    wanted = [*OLD, (4, "x"), (5, "e"), (6, "f")]
    assert sorted((row["k"], row["v"]) for row in any_lake.held("copy")) == wanted
    # a version that is no longer known is said, not skipped
    version = any_lake.database.new_rows(TableName(None, TABLE), "")
    with pytest.raises(UltravectError) as missing:
        any_lake.database.new_rows(TableName(None, TABLE), str(int(version.version) + 77))
    assert missing.value.code == "version-missing"


def test_a_change_feed_gives_changed_rows_alone(lake: Lake) -> None:
    table = pa.table({"k": list(range(100)), "v": ["a"] * 100})
    write_deltalake(str(lake.table), table, configuration={"delta.enableChangeDataFeed": "true"})
    assert _copy_new(lake).tally.read == 100
    for text in ("'b'", "'c'"):
        DeltaTable(str(lake.table)).update(updates={"v": text}, predicate="k = 7")
    DeltaTable(str(lake.table)).delete("k = 9")
    lake.append([{"k": 200, "v": "new"}])
    tally = _copy_new(lake).tally
    # both changes of row 7, of which the last counts
    assert (tally.read, tally.inserted, tally.updated, tally.repeated) == (3, 1, 1, 1)
    assert {row["k"]: row["v"] for row in lake.held("copy") if row["k"] in (7, 200)} == {7: "c", 200: "new"}


@pytest.mark.parametrize(
    ("harm", "code"),
    [
        (lambda log: (log / "00000000000000000001.json").unlink(), "table-damaged"),
        (lambda log: (log / "00000000000000000001.json").write_text("{"), "table-damaged"),
        (lambda log: (log / "_last_checkpoint").write_text('{"version": 1, "size": 3}'), "table-damaged"),
        (lambda log: _features(log, ["deletionVectors", "sparkleDust"]), "table-feature"),
        (lambda log: [path.unlink() for path in log.parent.glob("*.parquet")], "table-damaged"),
    ],
)
def test_damage_is_an_error_with_a_reason(lake: Lake, harm: Any, code: str) -> None:
    for _ in range(3):
        lake.load(OLD, mode="append")
    harm(lake.table / "_delta_log")

    def read() -> Any:
        assert lake.database.tables("", "", 10)
        return lake.database.ask(f"SELECT count(k), min(v) FROM {TABLE}", 1, 5).rows

    with pytest.raises(UltravectError) as refused:
        read()
    assert refused.value.code == code
    assert refused.value.hint


def _features(log: Path, names: list[str]) -> None:
    protocol = {"minReaderVersion": 3, "minWriterVersion": 7, "readerFeatures": names, "writerFeatures": names}
    (log / "00000000000000000003.json").write_text(json.dumps({"protocol": protocol}) + "\n")


@pytest.mark.parametrize("name", ["../secret", "a/../../b", "_delta_log", "x/_y", ".", "", "a\0b"])
def test_names_do_not_lead_out_of_the_lake(any_lake: Lake, name: str) -> None:
    with pytest.raises(UltravectError) as refused:
        any_lake.database.table(TableName(None, name))
    assert refused.value.code == "table-name"


def test_questions_reach_no_files_and_write_nothing(any_lake: Lake) -> None:
    any_lake.load(OLD, mode="append")
    secret = any_lake.folder.parent / "secret.csv"
    secret.write_text("a\n1\n")
    for sql in (f"SELECT * FROM '{secret}'", f"SELECT * FROM read_csv('{secret}')", "INSTALL delta", f"COPY {TABLE} TO '{secret}'",
                f"DROP VIEW {TABLE}", "ATTACH 'x.db'"):  # fmt: skip
        with pytest.raises(UltravectError):
            any_lake.database.ask(sql, 5, 5)
    assert secret.read_text() == "a\n1\n"


def test_it_is_probed_and_small_files_are_joined(tmp_path: Path) -> None:
    lake = Lake(tmp_path, {"compact_after": 3, "keep_versions": "7 days"})
    result = probe(lake.spec, write=True)
    assert result.error is None
    assert not list(lake.folder.iterdir())
    for number in range(5):
        lake.load([(number, "x")], mode="append")
    assert len(log_of(lake.table)[1]) < 4
    assert lake.rows() == [(number, "x") for number in range(5)]
    for path in ("", "relative", "/etc", str(tmp_path / "missing")):
        spec = ConnectionSpec("season", "lake", {"path": path}, [str(tmp_path)])
        if path:
            assert probe(spec, write=False).error is not None


_VALUES = st.sampled_from(["a", "b", "c", None])
_ROWS = st.lists(st.tuples(st.integers(0, 12), _VALUES), max_size=12)
_STEPS = st.lists(
    st.tuples(st.sampled_from(["append", "overwrite", "upsert", "gone", "part"]), _ROWS), min_size=1, max_size=6
)


@given(steps=_STEPS, partition=st.sampled_from([[], ["v"]]), form=st.sampled_from(["delta", "iceberg"]))
@settings(max_examples=16, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
def test_any_loads_leave_what_a_plain_model_has(
    tmp_path: Path, steps: list[Any], partition: list[str], form: str
) -> None:
    shutil.rmtree(tmp_path / "lake", ignore_errors=True)
    lake = lake_of(form, tmp_path)
    model: list[tuple[int, str | None]] = []
    lake.load([(0, "a")], mode="append", partition_by=partition)
    model = [(0, "a")]
    for step, rows in steps:
        last = dict(rows)
        match step:
            case "append":
                lake.load(rows, mode="append")
                model += rows
            case "overwrite":
                lake.load(rows, mode="overwrite", keys=["k"])
                model = list(last.items())
            case "part":
                rows = [(k % 3, v) for k, v in rows]
                lake.load(rows, mode="overwrite", replaces="k < 3")
                model = [row for row in model if row[0] >= 3] + rows
            case _:
                if len({k for k, _ in model}) < len(model):
                    continue  # which of two rows would change is not known, and refused
                gone = {"gone": "delete", "gone_limit": "100 %"} if step == "gone" else {}
                lake.load(rows, mode="upsert", keys=["k"], **gone)
                model = (
                    list(({} if gone else dict(model)).items() | last.items())
                    if gone
                    else list({**dict(model), **last}.items())
                )
        assert sorted(lake.rows(), key=str) == sorted(model, key=str)


def test_killed_loads_leave_the_old_version_or_the_new_one(any_lake: Lake) -> None:
    """The process is killed at moments all over the load; the attempt after it ends the same, once."""
    any_lake.load([(k, "old") for k in range(2_000)], mode="append")
    (any_lake.folder.parent / "coming.csv").write_text("k,v\n" + "".join(f"{k},new\n" for k in range(1_000, 3_000)))
    wanted = {k: "new" if k >= 1_000 else "old" for k in range(3_000)}
    for number in range(2):
        command = [
            sys.executable,
            "-m",
            "tests.core.lake.load_once",
            str(any_lake.folder.parent),
            any_lake.format,
            f"kill-{number}",
        ]
        with subprocess.Popen(command, cwd=ROOT, stdout=subprocess.PIPE, text=True) as process:
            assert process.stdout is not None
            process.stdout.readline()  # it is about to load
            try:
                process.wait(timeout=0.05 + 0.1 * number)
            except subprocess.TimeoutExpired:
                process.kill()
        found = dict(any_lake.rows())
        assert len(any_lake.rows()) in (2_000, 3_000)
        assert set(found.values()) <= {"old", "new"}
        subprocess.run([*command, "again"], cwd=ROOT, check=True, capture_output=True, timeout=60)
        assert dict(any_lake.rows()) == wanted
        any_lake.load([(k, "old") for k in range(2_000)], mode="overwrite")


@pytest.mark.parametrize("count", [32, 33, 200])
def test_each_partition_gets_one_file_however_its_rows_come(any_lake: Lake, count: int) -> None:
    """As it was found: with one partition more than files are open, each of ten blocks had a file of each."""
    rows = [(number, f"p{number % count:03}") for number in range(400_000)]
    any_lake.load(rows, mode="append", partition_by=["v"])
    assert any_lake.files() == count
    assert {(row["k"], row["v"]) for row in any_lake.held()} == set(rows)


@pytest.mark.parametrize(
    "part", ["k = 25", "25 = k", "k >= 25 and k < 26", "(k > 24) and v >= 'v25' and k <= 25", "k in (25, 25)"]
)
def test_only_files_that_may_have_rows_of_a_part_are_read(any_lake: Lake, part: str) -> None:
    for start in range(0, 50, 10):
        any_lake.load([(k, f"v{k}") for k in range(start, start + 10)], mode="append")
    read: list[Any] = []
    version = any_lake.database._version(TableName(None, TABLE))
    kind = type(version)
    batches = kind.batches
    with pytest.MonkeyPatch.context() as patched:
        patched.setattr(kind, "batches", lambda self, file: read.append(file) or batches(self, file))
        any_lake.load([(25, "w")], mode="overwrite", replaces=part)
    assert len(read) == (5 if " in " in part else 1)
    assert any_lake.rows() == [(k, "w" if k == 25 else f"v{k}") for k in range(50)]
