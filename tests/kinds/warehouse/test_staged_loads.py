"""Loads by way of a bucket: all modes and types, what is left in the bucket, and whatever can go wrong between the two places."""

from __future__ import annotations

import itertools
from collections.abc import Iterator
from contextlib import contextmanager, nullcontext
from pathlib import Path
from typing import Any

import psycopg
import pyarrow as pa
import pytest
from devtools.legs import run_leg
from devtools.pairs import Copied
from tests.core.ledger.machine import check_ledger
from tests.kinds.warehouse.conftest import BUCKET, ROLE, Warehouse

from ultravect.core.contracts.probe import run_steps
from ultravect.core.contracts.receipt import Receipt, ReceiptKey
from ultravect.core.contracts.write_plan import Attempt, Replace, WritePlan
from ultravect.core.dialects.base import NewColumn
from ultravect.core.engine.look.check import check_job
from ultravect.core.engine.objects.connections import ConnectionSpec, database_of
from ultravect.core.engine.run.leg import LegResult
from ultravect.core.engine.write.driver import open_write
from ultravect.core.errors import UltravectError
from ultravect.core.kinds.warehouse import staged_files
from ultravect.core.model.document import job_from_data
from ultravect.core.types.canonical import CanonicalType

_runs = itertools.count(1)


class Killed(Exception):
    """The process that would publish is no more."""


@contextmanager
def _killed() -> Iterator[None]:
    raise Killed
    yield


class Loads:
    """Loads rows of a file into one table, and reads it into a file database."""

    def __init__(self, warehouse: Warehouse, folder: Path) -> None:
        self.warehouse, self.folder = warehouse, folder
        self.table = f"t{next(_runs)}"
        self.files = ConnectionSpec("incoming", "folder", {"path": str(folder)}, [str(folder)])
        self.heard = Copied()
        self.spec = warehouse.spec()

    def job(self, text: str, **into: Any) -> Any:
        (self.folder / "rows.csv").write_text(text)
        layout = {"format": "delimited", "delimiter": ","}
        return job_from_data(
            {
                "ultravect": 1,
                "job": "staged",
                "from": {"connection": "incoming", "files": "rows.csv", "layout": layout},
                "columns": into.pop("columns", ["*"]),
                "into": {"connection": "board", "table": self.table, **into},
            }
        )

    def load(self, text: str, *, receipt: str = "", **into: Any) -> LegResult:
        self.heard = Copied()
        return run_leg(
            self.job(text, **into), self.files, self.spec, self.heard, receipt=receipt or f"staged-{next(_runs)}"
        )

    def rows(self) -> list[tuple[Any, ...]]:
        return self.warehouse.sql(f"SELECT * FROM {self.named} ORDER BY 1")

    @property
    def named(self) -> str:
        return self.warehouse.named(self.table)


@pytest.fixture
def loads(warehouse: Warehouse, tmp_path: Path) -> Loads:
    return Loads(warehouse, tmp_path)


def test_a_test_of_the_connection_goes_step_by_step(warehouse: Warehouse, loads: Loads) -> None:
    loads.load("id\n1\n")
    database = warehouse.database()
    result = run_steps([*database.steps(), *database.write_steps()])
    assert [(step.step, step.state) for step in result.steps] == [
        (name, "passed") for name in ("resolve", "reach", "sign in", "list", "read", "stage", "write")
    ]
    assert warehouse.left() == []


def test_all_modes_and_what_they_count(loads: Loads) -> None:
    first = loads.load("id,hut\n1,ALP\n2,FAL\n")
    assert (first.created, first.tally.inserted) == (True, 2)
    loads.load("id,hut\n3,GRA\n", mode="append")
    upserted = loads.load("id,hut\n2,FAL\n3,NEW\n4,TAL\n4,LAST\n", mode="upsert", keys=["id"]).tally
    assert (upserted.inserted, upserted.updated, upserted.unchanged, upserted.repeated) == (1, 1, 1, 1)
    assert loads.rows() == [(1, "ALP"), (2, "FAL"), (3, "NEW"), (4, "LAST")]
    replaced = loads.load("id,hut\n3,PART\n", mode="overwrite", replaces="id = 3")
    assert (replaced.tally.inserted, loads.rows()[2]) == (1, (3, "PART"))
    loads.load("id,hut\n9,ALL\n", mode="overwrite")
    assert loads.rows() == [(9, "ALL")]
    assert loads.warehouse.left() == []


TYPES = (
    "flag boolean", "small smallint", "whole integer", "big bigint", "price decimal(18,2)", "exact decimal(38,10)", "twice double",
    "note text(40)", "day date", "clock time", "moment timestamp", "instant timestamptz", "id uuid", "doc json",
)  # fmt: skip
VALUES = (
    "true", "-32768", "2147483647", "-9223372036854775808", "-9999999999999999.99", "0.0000000001", "1e300", "é😀 'x'", "9999-12-31",
    "23:59:59.999999", "2026-06-01 10:00:00.123456", "2026-06-01T10:00:00Z", "123e4567-e89b-12d3-a456-426614174000", '"{""a"": [1, null]}"',
)  # fmt: skip


def test_every_type_goes_there_and_comes_back(loads: Loads, tmp_path: Path) -> None:
    names = [item.split()[0] for item in TYPES]
    text = f"n,{','.join(names)}\n1,{','.join(VALUES)}\n2{',' * len(names)}\n"
    result = loads.load(text, columns=["n integer", *TYPES])
    assert (result.tally.inserted, loads.heard.rejected) == (2, [])
    database = loads.warehouse.database()
    live = database.table(database.dialect.parse_table(loads.table))
    assert live is not None
    document = {column.name.lower(): column.native for column in live.columns}["doc"]
    assert document == ("variant" if loads.warehouse.staged else "super")
    target = ConnectionSpec(
        "back", "duckdb", {"path": str(tmp_path / "back.duckdb"), "create": True}, [str(tmp_path)]
    )
    back = job_from_data(
        {
            "ultravect": 1,
            "job": "back",
            "from": {"connection": "board", "table": loads.table},
            "into": {"connection": "back", "table": "back"},
        }
    )
    assert run_leg(back, loads.spec, target, Copied()).tally.inserted == 2
    answer = database_of(target).ask("SELECT * FROM back ORDER BY n", 10, 5)
    shown = dict(zip(map(str.lower, answer.columns), map(str, answer.rows[0]), strict=True))
    assert (shown["big"], shown["exact"], shown["note"], shown["clock"]) == (
        "-9223372036854775808", "1E-10", "é😀 'x'", "23:59:59.999999",
    )  # fmt: skip
    assert shown["moment"].startswith("2026-06-01 10:00:00.123456")
    assert answer.rows[1][1:] == [None] * len(names)
    assert loads.warehouse.left() == []


def test_keys_are_declared_and_check_says_so(loads: Loads) -> None:
    loads.load("id,hut\n1,ALP\n", mode="upsert", keys=["id"])
    found = check_job(loads.job("id,hut\n1,ALP\n", mode="upsert", keys=["id"]), loads.files, loads.spec)
    assert "keys-not-enforced" in [finding.code for finding in found.findings]
    loads.warehouse.sql(f"INSERT INTO {loads.named} VALUES (1, 'twice')")
    with pytest.raises(UltravectError) as raised:
        loads.load("id,hut\n1,NEW\n", mode="upsert", keys=["id"])
    assert raised.value.code == "key-not-unique"


def test_a_run_that_was_committed_is_not_repeated_and_one_that_is_barred_commits_no_more(loads: Loads) -> None:
    loads.load("id\n1\n", mode="append", receipt="once")
    job = loads.job("id\n1\n", mode="append")
    again = run_leg(job, loads.files, loads.spec, Copied(), receipt="once.2", earlier=["once"])
    assert (again.tally.inserted, loads.rows()) == (1, [(1,)])
    database = loads.warehouse.database()
    assert database.ledger(database.dialect.parse_table(loads.table)).committed([ReceiptKey("late")]) is None
    with pytest.raises(UltravectError) as raised:
        loads.load("id\n2\n", mode="append", receipt="late")
    assert raised.value.code == "attempt-replaced"
    assert loads.rows() == [(1,)]


def test_a_load_that_dies_leaves_nothing(loads: Loads) -> None:
    loads.load("id\n1\n", mode="append")
    with pytest.raises(Killed):
        run_leg(loads.job("id\n2\n", mode="append"), loads.files, loads.spec, Copied(), _killed, receipt="dies")
    assert (loads.rows(), loads.warehouse.left()) == ([(1,)], [])


REFUSED = [
    ({"secret_key": "wrong"}, "staging-unreachable"),
    ({"bucket": "nowhere"}, "staging-unreachable"),
    ({"role": "arn:aws:iam::1:role/other", "stage": "nowhere"}, "staging-refused"),
    ({"role": "arn:aws:iam::1:role/other", "stage": "elsewhere"}, "staging-refused"),
    ({"password": "wrong"}, "wrong-password"),
    ({"port": 1}, "port-refused"),
]


@pytest.mark.parametrize(("changed", "code"), REFUSED)
def test_what_either_place_refuses_is_said(loads: Loads, changed: dict[str, Any], code: str) -> None:
    loads.load("id\n1\n", mode="append")
    secret = str(loads.warehouse.settings["secret_key"])
    if not loads.warehouse.staged:
        changed = {key: value for key, value in changed.items() if key != "stage"}
    loads.spec = loads.warehouse.spec(**changed)
    with pytest.raises(UltravectError) as raised:
        loads.load("id\n2\n", mode="append")
    assert raised.value.code == code
    assert raised.value.hint
    assert secret not in raised.value.detail
    assert (loads.rows(), loads.warehouse.left()) == ([(1,)], [])


def test_a_role_takes_the_place_of_the_key(loads: Loads) -> None:
    loads.spec = loads.warehouse.spec(role=ROLE)
    loads.load("id\n1\n")
    assert loads.rows() == [(1,)]


def test_a_staged_file_that_vanishes_ends_the_load(loads: Loads) -> None:
    loads.load("id\n1\n", mode="append")
    loads.warehouse.stand_in.vanishes = True
    with pytest.raises(UltravectError) as raised:
        loads.load("id\n2\n", mode="append")
    assert (raised.value.code, "NoSuchKey" in raised.value.detail) == ("staging-refused", True)
    assert (loads.rows(), loads.warehouse.left()) == ([(1,)], [])


def test_a_value_that_is_too_long_by_bytes_is_said(loads: Loads) -> None:
    loads.warehouse.sql(f"CREATE TABLE {loads.named} (id integer, v varchar(3) NOT NULL)")
    result = loads.load("id,v\n1,abc\n2,abcd\n3,\n4,äbc\n", mode="append", rejects=3)
    # one form counts bytes, the other characters
    bad = 2 if loads.warehouse.staged else 3
    assert (result.tally.inserted, result.tally.rejected) == (4 - bad, bad)
    assert ["longer than 3 bytes" in str(reject) for reject in loads.heard.rejected if "äbc" in str(reject)] == [
        True
    ] * (bad - 2)


def test_a_text_that_no_column_has_room_for_is_said(loads: Loads) -> None:
    wide = "ü" * 40_000
    result = loads.load(f"id,v\n1,{wide}\n2,b\n", mode="append", rejects=1)
    rejected = 0 if loads.warehouse.staged else 1
    assert (result.tally.inserted, result.tally.rejected) == (2 - rejected, rejected)


def test_a_question_cannot_write(loads: Loads) -> None:
    loads.load("id\n1\n")
    staged = loads.warehouse.staged
    for question in (
        f"DELETE FROM {loads.table}",
        f"WITH a AS (DELETE FROM {loads.table} RETURNING 1) SELECT 1",
        "UNLOAD ('SELECT 1') TO 's3://x'",
    ):
        # the form with stages has no transactions that only read: what a question did is undone
        with pytest.raises(UltravectError) if not (staged and "WITH" in question) else nullcontext():
            loads.warehouse.database().ask(question, 1, 5)
    assert loads.warehouse.database().ask(f"SELECT id FROM {loads.table}", 1, 5).rows == [[1]]


@pytest.mark.parametrize(
    ("into", "manifest", "stage"),
    [
        ({"sort_by": ["night", "hut"]}, 'COMPOUND SORTKEY ("night", "hut")', 'CLUSTER BY ("NIGHT", "HUT")'),
        ({"distribute_by": "all"}, "DISTSTYLE ALL", ""),
        (
            {"distribute_by": "hut", "sort_by": ["night"]},
            'DISTKEY ("hut")\nCOMPOUND SORTKEY ("night")',
            "",
        ),
        ({"encode": {"hut": "bytedict"}}, '(\n    "hut" varchar(65535) ENCODE bytedict,\n    "night" date\n)', ""),
    ],
)
def test_a_new_table_is_arranged(
    warehouse: Warehouse, tmp_path: Path, into: dict[str, Any], manifest: str, stage: str
) -> None:
    loads = Loads(warehouse, tmp_path)
    job = loads.job("hut,night\n001,2026-07-01\n", **into)
    checked = check_job(job, loads.files, loads.spec)
    if ends := stage if warehouse.staged else manifest:
        assert checked.ddl.endswith(ends)
        assert run_leg(job, loads.files, loads.spec, loads.heard, receipt=loads.table).tally.inserted == 1
    else:
        (error,) = [item for item in checked.findings if item.severity == "error"]
        assert (error.code, error.place) == ("arrangement-unknown", f"into.{next(iter(into))}")


@pytest.mark.parametrize("into", [{"sort_by": ["nigth"]}, {"distribute_by": "hutt"}, {"encode": {"hutt": "zstd"}}])
def test_an_arrangement_by_no_column_is_found(warehouse: Warehouse, tmp_path: Path, into: dict[str, Any]) -> None:
    loads = Loads(warehouse, tmp_path)
    found = check_job(loads.job("hut,night\n001,2026-07-01\n", **into), loads.files, loads.spec)
    error = [item for item in found.findings if item.severity == "error"][-1]
    assert error.code == "arrangement-column"
    assert "did you mean" in error.fix


def test_numbers_that_the_warehouse_gives_are_left_to_it(loads: Loads) -> None:
    loads.warehouse.sql(
        f"CREATE TABLE {loads.named} (n bigint NOT NULL DEFAULT \"identity\"(1, 0, '1,1'::text), hut text)"
    )
    assert loads.load("hut\nALP\n", mode="append").tally.inserted == 1
    found = check_job(loads.job("n,hut\n1,ALP\n", mode="append"), loads.files, loads.spec)
    assert "column-generated" in [finding.code for finding in found.findings if finding.severity == "error"]


def test_names_without_quotes_are_in_upper_case(warehouse: Warehouse, tmp_path: Path) -> None:
    if not warehouse.staged:
        pytest.skip("the form with stages alone folds names so")
    loads = Loads(warehouse, tmp_path)
    loads.load('id,hut,"Zwölf Betten"\n1,ALP,12\n')
    assert [row[0] for row in warehouse.sql(f"SELECT attname FROM pg_attribute WHERE attrelid = '{loads.named}'::regclass AND attnum > 0")] == [
        "ID", "HUT", "Zwölf Betten",
    ]  # fmt: skip
    database = warehouse.database()
    assert database.ask(f'SELECT Id, hut, "Zwölf Betten" FROM {loads.table}', 5, 5).rows == [[1, "ALP", 12]]
    exact = f'"{loads.table} exact"'
    warehouse.sql(f'CREATE TABLE "PUBLIC".{exact} ("id" integer, "ID" integer)')
    listed = [info.name for info in database.tables(loads.table, "", 10)]
    assert listed == [f"PUBLIC.{loads.table.upper()}", f"PUBLIC.{exact}"]
    live = database.table(database.dialect.parse_table(listed[1]))
    assert live is not None
    assert [column.name for column in live.columns] == ["id", "ID"]
    assert [info.name for info in database.tables(loads.table, listed[0], 10)] == [listed[1]]


def test_timestamps_of_three_kinds(warehouse: Warehouse, tmp_path: Path) -> None:
    if not warehouse.staged:
        pytest.skip("the form with stages alone has three")
    loads = Loads(warehouse, tmp_path)
    kinds = ("timestamp_ntz", "timestamp_ltz", "timestamp_tz")
    warehouse.sql(
        f'CREATE TABLE {loads.named} ("ID" integer, ' + ", ".join(f'"{kind.upper()}" {kind}' for kind in kinds) + ")"
    )
    row = "1,2026-06-01 10:00:00,2026-06-01T10:00:00+02:00,2026-06-01T10:00:00+02:00\n"
    loads.load(f"id,{','.join(kinds)}\n{row}", mode="append")
    database = warehouse.database()
    live = database.table(database.dialect.parse_table(loads.table))
    assert live is not None
    types = [column.type for column in live.columns[1:] if column.type is not None]
    assert [kind.name for kind in types] == ["timestamp", "timestamptz", "timestamptz"]
    columns = ", ".join(
        database.dialect.readable(database.dialect.quote(column.name), column.native, column.type)
        for column in live.columns[1:]
    )
    (read,) = database.read(f"SELECT {columns} FROM {loads.named}", types, "reading")
    assert [str(column[0]) for column in read.columns] == [
        "2026-06-01 10:00:00", "2026-06-01 08:00:00+00:00", "2026-06-01 08:00:00+00:00",
    ]  # fmt: skip


def _numbers(warehouse: Warehouse, table: str, count: int) -> list[int]:
    """The rows of a table that the warehouse itself fills, read by way of the bucket."""
    warehouse.sql(f"DROP TABLE IF EXISTS {warehouse.named(table)}")
    column = '"N"' if warehouse.staged else "n"
    warehouse.sql(f"CREATE TABLE {warehouse.named(table)} AS SELECT n AS {column} FROM generate_series(1, {count}) n")
    statement = f"SELECT n FROM {table}"
    return [
        number
        for part in warehouse.database().read(statement, [CanonicalType("integer")], "reading")
        for number in part.column(0).to_pylist()
    ]


@pytest.mark.parametrize("count", [0, 5])
def test_a_list_that_is_late_loses_no_rows(warehouse: Warehouse, count: int) -> None:
    """As it was found: none was read, the run succeeded, and an overwrite emptied its target."""
    warehouse.store.keys(warehouse.store.folder / BUCKET)
    assert _numbers(warehouse, "late", count) == list(range(1, count + 1))
    assert warehouse.left() == []


def test_rows_that_are_not_there_are_an_error(warehouse: Warehouse, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(staged_files, "_WAIT_SECONDS", 0.5)
    warehouse.stand_in.vanishes = True
    with pytest.raises(UltravectError) as refused:
        _numbers(warehouse, "lost", 5)
    assert refused.value.code == "unloaded-rows-missing"
    warehouse.stand_in.vanishes = False


def test_nothing_is_locked_while_rows_are_read(loads: Loads) -> None:
    """As it was found: others waited for as long as the source took."""
    loads.load("id\n1\n", mode="append")
    database = loads.warehouse.database()
    name = database.dialect.parse_table(loads.table)
    column = "ID" if loads.warehouse.staged else "id"
    order = Attempt(WritePlan(name, (NewColumn(column, CanonicalType("bigint")),), Replace()), ReceiptKey("slow"))
    with open_write(database, order) as load:
        load.write(pa.record_batch([pa.array([2])], names=[column]))
        loads.warehouse.sql(f"SET lock_timeout = '2s'; INSERT INTO {loads.named} VALUES (7)")
        load.finish()
        with pytest.raises(psycopg.errors.LockNotAvailable):
            loads.warehouse.sql(f"SET lock_timeout = '100ms'; INSERT INTO {loads.named} VALUES (8)")
        load.publish(Receipt(loads.table, "overwrite"))
    assert loads.rows() == [(2,)]


class _Ledgered:
    """See ``Subject``."""

    concurrent = False
    alters = True

    def __init__(self, warehouse: Warehouse) -> None:
        self._warehouse = warehouse
        self.target = warehouse.database()

    def fresh(self, name: str) -> None:
        self.table = self.target.dialect.parse_table(name)

    def rows(self) -> list[int]:
        return [row[0] for row in self._warehouse.sql(f"SELECT k FROM {self._warehouse.named(self.table.name)}")]

    def insert(self, value: int) -> bool:
        self._warehouse.sql(f"INSERT INTO {self._warehouse.named(self.table.name)} (k) VALUES ({value})")
        return True


def test_its_ledger_keeps_what_others_keep(warehouse: Warehouse) -> None:
    check_ledger(_Ledgered(warehouse), examples=6)  # type: ignore[arg-type]
