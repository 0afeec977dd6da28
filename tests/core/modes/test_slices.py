"""Loads whose rows several sessions have staged: the target is as after one load, once, whatever is lost on the way."""

from __future__ import annotations

import csv
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import psycopg
import pytest
from devtools.legs import run_leg
from devtools.pairs import Copied, Place
from hypothesis import given, settings
from hypothesis import strategies as st

from ultravect.core.contracts.stage import Stage
from ultravect.core.engine.objects.connections import ConnectionSpec
from ultravect.core.engine.plan.leg_plan import LegPlan
from ultravect.core.engine.run.leg import LegResult, Listener
from ultravect.core.engine.run.slice_run import SliceOrder, SliceResult, run_slice
from ultravect.core.errors import UltravectError
from ultravect.core.model.document import job_from_data

_numbers = iter(range(1, 10_000))


@dataclass
class Runner:
    """Has slices copied in some order, from the JSON of the plan; ``twice``: each is done again, as after a worker was lost."""

    source: ConnectionSpec
    target: ConnectionSpec
    backwards: bool = False
    twice: bool = False
    late: Callable[[], object] = lambda: None
    """Called when all slices are staged."""
    stages: list[Stage] = field(default_factory=list)

    def capacity(self) -> int:
        return 1

    def run(self, plan: LegPlan, order: SliceOrder, listener: Listener) -> Iterator[SliceResult]:
        data, sent = plan.as_json(), order.as_json()
        self.stages.append(order.stage)
        numbers = list(range(1, len(plan.slices) + 1))
        for number in reversed(numbers) if self.backwards else numbers:
            for _ in range(1 + self.twice):
                result = run_slice(
                    LegPlan.from_json(data), number, SliceOrder.from_json(sent), self.source, self.target, listener
                )
            yield SliceResult.from_json(result.as_json())
        self.late()


class Sliced:
    """Copies rows of a file, or of a table, into PostgreSQL in slices."""

    def __init__(self, place: Place, folder: Path) -> None:
        self.place = place
        self.folder = folder
        self.files = ConnectionSpec("incoming", "folder", {"path": str(folder)}, [str(folder)])
        self.heard = Copied()
        self.late = ""
        """A statement that another session executes when all slices are staged."""

    def write(self, rows: list[tuple[Any, ...]], names: tuple[str, ...] = ("k", "v"), name: str = "rows.csv") -> None:
        with (self.folder / name).open("w", newline="") as file:
            writer = csv.writer(file)
            writer.writerow(names)
            writer.writerows(["" if value is None else value for value in row] for row in rows)

    def load(
        self,
        source: dict[str, Any] | None = None,
        *,
        slices: int = 3,
        spec: ConnectionSpec | None = None,
        runner: dict[str, Any] | None = None,
        columns: list[str] | None = None,
        **into: Any,
    ) -> LegResult:
        layout = {"format": "delimited", "delimiter": ",", "header": True, "values": {"nulls": [""]}}
        from_ = source or {"files": "rows.csv", "layout": layout}
        spec = spec or self.files
        self.heard = Copied()
        job = job_from_data(
            {
                "ultravect": 1,
                "job": "sliced",
                "from": {"connection": spec.name, **from_},
                "columns": columns or ["*"],
                "into": {"connection": self.place.spec.name, "table": "sliced", **into},
                "run": {"slices": slices},
            }
        )
        self.runner = Runner(
            spec, self.place.spec, **(runner or {}), late=lambda: self.late and self.place.sql(self.late)
        )
        return run_leg(job, spec, self.place.spec, self.heard, receipt=f"sliced-{next(_numbers)}", slices=self.runner)

    def rows(self, columns: str = "k, v") -> list[tuple[Any, ...]]:
        return self.place.sql(f"SELECT {columns} FROM sliced ORDER BY 1, 2")

    def left(self) -> list[tuple[Any, ...]]:
        """What a load must not leave: staging tables, and receipts of slices."""
        return [
            *self.place.sql("SELECT relname FROM pg_class WHERE relname LIKE 'ultravect\\_sl%' AND relkind = 'r'"),
            *self.place.sql("SELECT run FROM ultravect_receipt WHERE slice > 0 AND run LIKE 'sliced-%'"),
        ]


@pytest.fixture
def sliced(places: dict[str, Place], tmp_path: Path) -> Sliced:
    place = places["postgresql"]
    place.drop("sliced")
    return Sliced(place, tmp_path)


ROWS = [(number, f"row {number}") for number in range(1, 501)]


@pytest.mark.parametrize("runner", [{}, {"backwards": True}, {"twice": True}])
def test_a_new_table_is_filled_by_slices(sliced: Sliced, runner: dict[str, Any]) -> None:
    sliced.write(ROWS)
    result = sliced.load(runner=runner)
    assert sliced.rows() == ROWS
    assert result.tally.as_dict() == {
        "read": 500, "inserted": 500, "updated": 0, "unchanged": 0, "repeated": 0, "rejected": 0, "filtered": 0,
    }  # fmt: skip
    assert (result.created, result.rows_after) == (True, 500)
    assert sliced.runner.stages[0].becomes_target
    assert sliced.left() == []


def test_a_new_table_has_its_key_and_what_it_is_given(sliced: Sliced) -> None:
    sliced.place.drop("slicing")
    sliced.place.sql("CREATE TABLE slicing (k integer PRIMARY KEY, v text NOT NULL DEFAULT 'x')")
    sliced.place.sql("INSERT INTO slicing SELECT n, 'v' || n FROM generate_series(1, 20000) n")
    carry = ["keys", "required", "defaults"]
    sliced.load({"table": "slicing"}, spec=sliced.place.spec, carry=carry)
    made = sliced.place.sql(
        "SELECT column_name, is_nullable, column_default FROM information_schema.columns WHERE table_name = 'sliced' ORDER BY 1"
    )
    assert made == [("k", "NO", None), ("v", "NO", "'x'::text")]
    keys = sliced.place.sql("SELECT conname FROM pg_constraint WHERE conrelid = 'sliced'::regclass AND contype = 'p'")
    assert keys == [("sliced_pkey",)]
    assert sliced.place.sql("SELECT count(*), sum(k) FROM sliced") == [(20000, 200010000)]
    sliced.place.drop("slicing")


def test_a_table_that_is_empty_is_replaced_by_the_one_that_slices_fill(sliced: Sliced) -> None:
    sliced.place.sql("CREATE TABLE sliced (k integer PRIMARY KEY, v text DEFAULT 'x', more date)")
    sliced.place.sql("CREATE INDEX sliced_v ON sliced (v)")
    sliced.place.sql("COMMENT ON TABLE sliced IS 'rows'")
    sliced.place.sql("GRANT SELECT ON sliced TO PUBLIC")
    shape = (
        "SELECT obj_description('sliced'::regclass), relacl::text, (SELECT array_agg(indexdef ORDER BY indexdef) FROM pg_indexes "
        "WHERE tablename = 'sliced') FROM pg_class WHERE oid = 'sliced'::regclass"
    )
    before = sliced.place.sql(shape)
    sliced.write(ROWS)
    result = sliced.load()
    assert sliced.runner.stages[0].becomes_target
    assert result.strategy == "swap"
    assert (sliced.rows(), sliced.place.sql(shape)) == (ROWS, before)
    assert (result.rows_before, result.rows_after, result.tally.inserted) == (0, 500, 500)
    assert sliced.left() == []


@pytest.mark.parametrize("late", ["INSERT INTO sliced VALUES (0, 'late')", "ALTER TABLE sliced ADD UNIQUE (v)"])
def test_an_empty_table_that_changes_meanwhile_is_not_replaced(sliced: Sliced, late: str) -> None:
    sliced.place.sql("CREATE TABLE sliced (k integer PRIMARY KEY, v text)")
    sliced.write(ROWS)
    sliced.late = late
    if "INSERT" in late:
        result = sliced.load()
        assert sliced.rows() == [(0, "late"), *ROWS]
        assert (result.strategy, result.tally.inserted, result.rows_after) == ("direct", 500, 501)
    else:
        with pytest.raises(UltravectError) as refused:
            sliced.load()
        assert refused.value.code == "table-changed"
        assert sliced.rows() == []
    assert sliced.left() == []


def test_an_empty_table_that_is_being_read_gets_the_rows_as_well(sliced: Sliced) -> None:
    sliced.place.sql("CREATE TABLE sliced (k integer, v text)")
    sliced.write(ROWS)
    settings = sliced.place.spec.settings
    with psycopg.connect(
        host="127.0.0.1",
        port=settings["port"],
        dbname=settings["database"],
        user=settings["user"],
        password=settings["password"],
    ) as reader:
        reader.execute("SELECT count(*) FROM sliced")
        sliced.load()
    assert sliced.rows() == ROWS
    assert sliced.left() == []


@pytest.mark.parametrize("repeats", ["last", "first"])
def test_one_key_in_two_slices_is_a_repeat_by_the_order_of_the_source(sliced: Sliced, repeats: str) -> None:
    sliced.write([(1, "old"), (2, "old"), (3, "old")])
    sliced.load(slices=1)
    sliced.write([(k, f"{k} {part}") for part in range(4) for k in range(2, 102)])
    result = sliced.load(slices=5, mode="upsert", keys=["k"], repeats=repeats, runner={"backwards": True})
    wins = 3 if repeats == "last" else 0
    assert sliced.rows() == [(1, "old"), *((k, f"{k} {wins}") for k in range(2, 102))]
    tally = result.tally
    assert (tally.read, tally.inserted, tally.updated, tally.repeated) == (400, 98, 2, 300)
    assert len(sliced.heard.changed) > 0
    assert sliced.left() == []


@pytest.mark.parametrize(
    ("into", "expected"),
    [
        ({"mode": "append"}, [("0", "was"), *ROWS]),
        ({"mode": "overwrite"}, ROWS),
        ({"mode": "overwrite", "keys": ["k"]}, ROWS),
        ({"mode": "overwrite", "if_different": "rebuild"}, ROWS),
        ({"mode": "upsert", "keys": ["k"]}, [("0", "was"), *ROWS]),
        ({"mode": "upsert", "keys": ["k"], "gone": "delete", "gone_limit": "100%"}, ROWS),
    ],
)
def test_every_mode_gives_what_one_session_gives(
    sliced: Sliced, into: dict[str, Any], expected: list[tuple[Any, ...]]
) -> None:
    sliced.place.sql("CREATE TABLE sliced (k bigint, v text)")
    sliced.place.sql("INSERT INTO sliced VALUES (0, 'was')")
    sliced.write(ROWS)
    sliced.load(**into)
    assert sliced.runner.stages, "it was cut"
    assert [(int(k), v) for k, v in sliced.rows()] == [(int(k), v) for k, v in expected]
    assert sliced.left() == []


@settings(max_examples=8)
@given(
    k=st.lists(st.integers(-5, 30), min_size=1, max_size=60),
    slices=st.integers(2, 6),
    runner=st.fixed_dictionaries({"backwards": st.booleans(), "twice": st.booleans()}),
)
def test_slices_and_one_session_agree(
    places: dict[str, Place], tmp_path_factory: pytest.TempPathFactory, k: list[int], slices: int, runner: Any
) -> None:
    place = places["postgresql"]
    sliced = Sliced(place, tmp_path_factory.mktemp("agree"))
    sliced.write([(value, f"{number}") for number, value in enumerate(k)])
    found = []
    for count in (1, slices):
        place.drop("sliced")
        place.sql("CREATE TABLE sliced (k bigint, v text)")
        place.sql("INSERT INTO sliced SELECT n, 'was' FROM generate_series(1, 10) n")
        result = sliced.load(slices=count, runner=runner, mode="upsert", keys=["k"])
        found.append((sliced.rows(), result.tally.as_dict()))
    assert found[0] == found[1]


def test_rejects_are_counted_across_slices_and_keep_their_places(sliced: Sliced) -> None:
    sliced.place.sql("CREATE TABLE sliced (k integer, v text)")
    rows = [(f"x{number}" if number % 100 == 50 else number, "v") for number in range(1, 501)]
    sliced.write(rows)
    with pytest.raises(UltravectError) as refused:
        sliced.load(rejects=4)
    assert refused.value.code == "too-many-rejects"
    assert "5 rows were rejected" in refused.value.detail
    assert sliced.rows() == []
    assert sliced.left() == []
    result = sliced.load(rejects=5)
    assert (result.tally.inserted, result.tally.rejected) == (495, 5)
    places = sorted((reject.row, reject.line) for reject in sliced.heard.rejected)
    assert places == [(number, number + 1) for number in (50, 150, 250, 350, 450)]


def test_a_share_of_rejects_is_that_of_the_whole_leg(sliced: Sliced) -> None:
    sliced.place.sql("CREATE TABLE sliced (k integer, v text)")
    # all bad rows are in the first slice, of which they are half
    sliced.write([(number if number > 20 or number % 2 else "x", "v") for number in range(1, 201)])
    assert sliced.load(slices=10, rejects="5%").tally.rejected == 10


def test_what_only_the_target_can_refuse_is_found_by_one_session(sliced: Sliced) -> None:
    sliced.place.sql("CREATE TABLE sliced (k integer, v text CHECK (length(v) < 5))")
    sliced.place.sql("CREATE FUNCTION pg_temp.f() RETURNS int LANGUAGE sql AS 'select 1'")
    sliced.place.sql("ALTER TABLE sliced ADD CONSTRAINT odd CHECK (k % 7 <> 3 OR v IS NULL)")
    sliced.write([(number, "v") for number in range(1, 101)])
    with pytest.raises(UltravectError, match="odd"):
        sliced.load()
    assert sliced.rows() == []
    result = sliced.load(rejects=50)
    assert result.tally.rejected == sum(number % 7 == 3 for number in range(1, 101))
    assert sliced.left() == []


@pytest.mark.parametrize("twice", [False, True])
def test_too_many_rejects_are_too_many_however_their_slice_is_found(sliced: Sliced, twice: bool) -> None:
    """As it was found: of a slice that another attempt had copied no first reject was known, and the limit did not hold."""
    sliced.write([(number if number % 2 else "x", "v") for number in range(1, 1001)])
    with pytest.raises(UltravectError) as refused:
        sliced.load(columns=["k integer", "v"], rejects="1%", runner={"twice": twice})
    assert refused.value.code == "too-many-rejects"
    assert "500 rows were rejected, 10 allowed" in refused.value.detail
    assert "First: row 2 (line 3), column k: 'x'" in refused.value.detail


def test_slices_of_a_table_read_one_snapshot(sliced: Sliced) -> None:
    sliced.place.drop("slicing")
    sliced.place.sql("CREATE TABLE slicing (k integer, v text)")
    sliced.place.sql("INSERT INTO slicing SELECT n, repeat('v', 50) FROM generate_series(1, 5000) n")

    @dataclass
    class Changing(Runner):
        def run(self, plan: LegPlan, order: SliceOrder, listener: Listener) -> Iterator[SliceResult]:
            for result in super().run(plan, order, listener):
                # every row moves to another page
                sliced.place.sql("UPDATE slicing SET v = v || '!'")
                sliced.place.sql("INSERT INTO slicing SELECT n, 'new' FROM generate_series(1, 500) n")
                yield result

    job = job_from_data(
        {
            "ultravect": 1,
            "job": "sliced",
            "from": {"connection": sliced.place.spec.name, "table": "slicing"},
            "into": {"connection": sliced.place.spec.name, "table": "sliced"},
            "run": {"slices": 4},
        }
    )
    spec = sliced.place.spec
    run_leg(job, spec, spec, sliced.heard, receipt="sliced-snapshot", slices=Changing(spec, spec))
    assert sliced.place.sql("SELECT count(*), count(DISTINCT k), max(v) FROM sliced") == [(5000, 5000, "v" * 50)]
    sliced.place.drop("slicing")


def test_a_partitioned_table_is_divided_too(sliced: Sliced) -> None:
    sliced.place.drop("slicing")
    sliced.place.sql("CREATE TABLE slicing (k integer, v text) PARTITION BY RANGE (k)")
    sliced.place.sql("CREATE TABLE slicing_1 PARTITION OF slicing FOR VALUES FROM (0) TO (3000)")
    sliced.place.sql("CREATE TABLE slicing_2 PARTITION OF slicing FOR VALUES FROM (3000) TO (9000)")
    sliced.place.sql("INSERT INTO slicing SELECT n, repeat('v', 50) FROM generate_series(1, 5000) n")
    result = sliced.load({"table": "slicing", "where": "k > 10"}, spec=sliced.place.spec, slices=4)
    assert len(sliced.runner.stages) == 1
    assert result.tally.inserted == 4990
    assert sliced.place.sql("SELECT min(k), max(k), count(DISTINCT k) FROM sliced") == [(11, 5000, 4990)]
    sliced.place.drop("slicing")


@pytest.mark.parametrize("kind", ["mariadb", "sqlite", "duckdb"])
def test_other_databases_are_divided_by_their_key(places: dict[str, Place], sliced: Sliced, kind: str) -> None:
    place = places[kind]
    place.drop("slicing")
    place.sql("CREATE TABLE slicing (k bigint NOT NULL PRIMARY KEY, v varchar(20))")
    values = ", ".join(f"({number * number}, 'v{number}')" for number in range(-3, 200) if number > 0)
    place.sql(f"INSERT INTO slicing VALUES {values}")
    result = sliced.load({"table": "slicing"}, spec=place.spec, slices=4)
    assert "slices-see-changes" in [finding.code for finding in sliced.heard.findings]
    assert len(sliced.runner.stages) == 1
    assert result.tally.inserted == 199
    place.drop("slicing")


@pytest.mark.parametrize(
    ("into", "why"),
    [
        ({"before": ["SELECT 1"]}, "come before any row"),
        ({"checksums": True}, "checksums"),
    ],
)
def test_a_leg_that_cannot_be_cut_says_why(sliced: Sliced, into: dict[str, Any], why: str) -> None:
    sliced.write(ROWS)
    sliced.load(**into)
    (finding,) = [finding for finding in sliced.heard.findings if finding.code == "slices-not-cut"]
    assert why in finding.message
    assert sliced.rows() == ROWS


def test_a_stage_that_a_lost_session_left_is_removed(sliced: Sliced) -> None:
    sliced.place.sql("CREATE TABLE ultravect_slices_left (k integer)")
    sliced.write(ROWS)
    sliced.load()
    assert sliced.left() == []


def test_a_table_that_appears_meanwhile_is_not_replaced(sliced: Sliced) -> None:
    sliced.write(ROWS)
    sliced.late = "CREATE TABLE sliced (other integer)"
    with pytest.raises(UltravectError, match="already exists"):
        sliced.load()
    assert sliced.place.sql("SELECT count(*) FROM sliced") == [(0,)]
    assert sliced.left() == []
