"""Plans are data: another process, which has nothing but the plan's JSON and the connections, does the same."""

from __future__ import annotations

import itertools
import json
import sqlite3
import subprocess
import sys
from collections.abc import Callable, Iterator
from contextlib import closing
from dataclasses import asdict
from pathlib import Path
from typing import Any

import duckdb
import pytest
from devtools.legs import run_leg
from devtools.pairs import Copied
from hypothesis import given, settings
from hypothesis import strategies as st

from ultravect.core.engine.objects.connections import ConnectionSpec
from ultravect.core.engine.plan.leg_plan import LegPlan
from ultravect.core.engine.plan.make import make_plan
from ultravect.core.engine.plan.open_leg import OpenLeg
from ultravect.core.engine.plan.planning import Planning
from ultravect.core.errors import UltravectError
from ultravect.core.expressions.encode import decoded, encoded
from ultravect.core.expressions.parse import parse_condition
from ultravect.core.model.document import job_from_data
from ultravect.core.model.jobs.job import Job

_numbers = itertools.count(1)

CELLS = {
    "n": st.integers(1, 9).map(str),
    "beds": st.sampled_from(["40", "22", "", "2147483648", "x"]),
    "price": st.sampled_from(["12.50", "3", "", "-0.75"]),
    "opened": st.sampled_from(["1.6.2026", "24.12.2025", ""]),
    "name": st.sampled_from(["Alpenrose", "Ösch", "", "a,b", '"']),
}
COLUMNS = [
    [],
    ["n", "name"],
    ["n", "upper(name) as name", "price * 2 as twice decimal(12,2)", "run_id() as load_run"],
    ["n", "case when beds > 30 then 'large' else 'small' end as size", "opened as day date"],
    ["* except (beds)", "coalesce(price, 0) + :extra as more"],
]
WHERE = ["", "n > :least", "price >= 1.5 and name <> 'x'", "opened is null or n in (1, 2, 3)", "length(name) > 2"]
MODES = [
    {"mode": "append"},
    {"mode": "overwrite"},
    {"mode": "upsert", "keys": ["n"]},
    {"mode": "append", "keys": ["n"], "repeats": "first"},
]


class Executor:
    """The other process."""

    def __init__(self) -> None:
        command = [sys.executable, "-m", "tests.core.plan_process"]
        self.process = subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True)

    def __call__(self, plan: LegPlan, source: ConnectionSpec, target: ConnectionSpec) -> dict[str, Any]:
        assert self.process.stdin is not None
        assert self.process.stdout is not None
        task = {"plan": plan.as_json(), "source": asdict(source), "target": asdict(target)}
        self.process.stdin.write(json.dumps(task) + "\n")
        self.process.stdin.flush()
        answer: dict[str, Any] = json.loads(self.process.stdout.readline())
        return answer


@pytest.fixture(scope="module")
def execute() -> Iterator[Executor]:
    executor = Executor()
    yield executor
    executor.process.terminate()
    executor.process.wait()


def _rows(kind: str, path: Path, table: str) -> list[tuple[Any, ...]]:
    connect: Callable[[str], Any] = sqlite3.connect if kind == "sqlite" else duckdb.connect
    with closing(connect(str(path))) as session:
        return sorted(session.execute(f'SELECT * FROM "{table}"').fetchall(), key=repr)


@given(
    st.lists(st.tuples(*CELLS.values()), max_size=12),
    st.sampled_from(COLUMNS),
    st.sampled_from(WHERE),
    st.sampled_from(MODES),
    st.sampled_from(["files", "table"]),
    st.sampled_from(["sqlite", "duckdb"]),
)
@settings(max_examples=60)
def test_another_process_does_the_same(
    execute: Executor,
    tmp_path_factory: pytest.TempPathFactory,
    rows: list[tuple[str, ...]],
    columns: list[str],
    where: str,
    mode: dict[str, Any],
    source: str,
    kind: str,
) -> None:
    folder = tmp_path_factory.getbasetemp() / f"plan{next(_numbers)}"
    folder.mkdir()
    if source == "files":
        lines = [",".join('"' + cell.replace('"', '""') + '"' if cell else "" for cell in row) for row in rows]
        (folder / "huts.csv").write_text("\n".join([",".join(CELLS), *lines]) + "\n")
        reading, given_by = (
            ConnectionSpec("in", "folder", {"path": str(folder)}, [str(folder)]),
            {"files": "huts.csv"},
        )
    else:
        with closing(sqlite3.connect(folder / "huts.db")) as database, database:
            database.execute("CREATE TABLE huts (n INTEGER, beds TEXT, price NUMERIC, opened TEXT, name TEXT)")
            database.executemany("INSERT INTO huts VALUES (?, ?, nullif(?, ''), ?, ?)", rows)
        reading, given_by = (
            ConnectionSpec("in", "sqlite", {"path": str(folder / "huts.db")}, [str(folder)]),
            {"table": "huts"},
        )
    shown: dict[str, Any] = {}
    for who in ("here", "there"):
        writing = ConnectionSpec("out", kind, {"path": str(folder / f"{who}.{kind}"), "create": True}, [str(folder)])
        into = {"connection": "out", "table": "copied", "rejects": 5, **mode}
        job = job_from_data(
            {
                "ultravect": 1,
                "job": "x",
                "parameters": {"least": 2, "extra": 1},
                "from": {"connection": "in", **given_by, **({"where": where} if where else {})},
                "columns": columns or ["*"],
                "into": into,
            }
        )
        if who == "here":
            shown[who] = _here(job, reading, writing)
        else:
            planning = make_plan(job, reading, writing)
            shown[who] = (
                {"error": planning.errors[0].code}
                if planning.errors
                else execute(planning.leg_plan(), reading, writing)
            )
    assert shown["there"] == shown["here"]
    if "error" not in shown["here"]:
        assert _rows(kind, folder / f"there.{kind}", "copied") == _rows(kind, folder / f"here.{kind}", "copied")


def _here(job: Job, source: ConnectionSpec, target: ConnectionSpec) -> dict[str, Any]:
    listener = Copied()
    try:
        result = run_leg(job, source, target, listener, run_id="7")
    except UltravectError as error:
        return {"error": error.code}
    return {"tally": result.tally.as_dict(), "rejects": len(listener.rejected), "strategy": result.strategy}


class TestPlan:
    @pytest.fixture
    def planning(self, tmp_path: Path) -> Planning:
        (tmp_path / "huts.csv").write_text("hut,beds\nALP,40\nFAL,22\n")
        text = (
            "ultravect: 1\njob: x\nfrom: {connection: in, files: huts.csv}\n"
            "into: {connection: out, table: huts, repeats: first}\n"
        )
        job = job_from_data(
            {
                "ultravect": 1,
                "job": "x",
                "from": {"connection": "in", "files": "huts.csv"},
                "into": {"connection": "out", "table": "huts", "repeats": "first"},
            }
        )
        source = ConnectionSpec("in", "folder", {"path": str(tmp_path)}, [str(tmp_path)])
        target = ConnectionSpec("out", "sqlite", {"path": str(tmp_path / "x.db"), "create": True}, [str(tmp_path)])
        return make_plan(job, source, target, text=text)

    def test_it_is_the_same_after_a_round_trip(self, planning: Planning) -> None:
        plan = planning.leg_plan()
        data = json.loads(json.dumps(plan.as_json()))
        assert LegPlan.from_json(data).as_json() == data
        assert [" ".join(item.split()) for item in plan.ddl] == ['CREATE TABLE "huts" ( "hut" TEXT, "beds" INTEGER )']

    def test_its_findings_carry_their_edits(self, planning: Planning) -> None:
        plan = LegPlan.from_json(planning.leg_plan().as_json())
        (unused,) = [finding for finding in plan.findings if finding.code == "setting-unused"]
        assert unused.edit is not None
        assert (unused.edit.line, unused.edit.new) == (4, ["into: {connection: out, table: huts}"])

    def test_a_file_of_other_columns_is_not_read_by_it(self, planning: Planning, tmp_path: Path) -> None:
        plan = planning.leg_plan()
        (tmp_path / "huts.csv").write_text("hut,guests\nALP,40\n")
        source = ConnectionSpec("in", "folder", {"path": str(tmp_path)}, [str(tmp_path)])
        target = ConnectionSpec("out", "sqlite", {"path": str(tmp_path / "x.db"), "create": True}, [str(tmp_path)])
        with pytest.raises(UltravectError, match="other columns") as raised:
            OpenLeg.open(plan, source, target)
        assert raised.value.code == "file-changed"


@pytest.mark.parametrize(
    "text",
    [
        "a > 1.50",
        "not (a is null) or b in ('x', 'y')",
        "case when a = 1 then true else false end",
        "cast(b as integer) = :n",
        "c between date '2026-01-01' and :d",
    ],
)
def test_trees_come_back_as_they_were(text: str) -> None:
    tree = parse_condition(text, "from.where")
    assert encoded(decoded(json.loads(json.dumps(encoded(tree))))) == encoded(tree)


def test_plans_that_an_earlier_version_has_kept_are_read() -> None:
    kept = json.loads((Path(__file__).parent / "plan_of_version_1.json").read_text())
    assert kept["version"] == 1
    plan = LegPlan.from_json(kept)
    assert (plan.table.name, plan.write.action.mode, plan.write.is_new) == ("huts", "overwrite", True)
    assert [column.name for column in plan.write.columns] == ["hut", "beds"]
    assert LegPlan.from_json(plan.as_json()) == plan
