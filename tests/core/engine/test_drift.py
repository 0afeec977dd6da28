"""Expressions take their types from a file's first rows; where later rows are otherwise, nothing is as it was planned, and all
is as if the whole file had been read first."""

from __future__ import annotations

from pathlib import Path

import pytest
from devtools.legs import run_leg
from devtools.stack import Stack
from tests.core.engine.test_run import Ground, Heard

from ultravect.core.engine.plan.source.drift import TRUSTED_BYTES
from ultravect.core.errors import UltravectError
from ultravect.core.model.document import job_from_data

ROWS = 6 * TRUSTED_BYTES // 40


class DriftGround(Ground):
    def run(self, column: str, values: dict[int, str], **into: object) -> Heard:
        """A file of many like rows, with some values of ``v`` otherwise; one column is computed from it."""
        lines = [f"{number},{number % 90 + 1},{'x' * 30}" for number in range(ROWS)]
        for row, value in values.items():
            lines[row] = f"{row},{value},y"
        (self.folder / "run.csv").write_text("\n".join(["k,v,t", *lines, ""]))
        structure = {
            "ultravect": 1,
            "job": "leg",
            "from": {"connection": "incoming", "files": "run.csv", "layout": {"delimiter": ",", "header": True}},
            "columns": ["k", column],
            "into": {"connection": "warehouse", "table": "core_run", **into},
        }
        heard = Heard()
        self.result = run_leg(job_from_data(structure), self.source, self.target, heard)
        return heard


@pytest.fixture
def ground(tmp_path: Path, stack: Stack) -> DriftGround:
    made = DriftGround(tmp_path, stack)
    made.sql("DROP TABLE IF EXISTS core_run")
    made.sql("CREATE TABLE core_run (k int, w text)")
    return made


def again(heard: Heard) -> list[str]:
    return [line for line in heard.lines if "begins anew" in line]


LAST = ROWS - 5


@pytest.mark.parametrize(
    ("late", "column", "kept", "why"),
    [
        ({}, "v * 2 as w", {LAST: str((LAST % 90 + 1) * 2)}, ""),
        ({LAST: ""}, "v * 2 as w", {LAST: None}, ""),
        ({LAST: "1.25"}, "v * 2 as w", {LAST: "2.5", 1: "4"}, "column v was integer"),
        ({LAST: "9999999999"}, "v * 2 as w", {LAST: "19999999998"}, "column v was integer"),
        ({LAST: "007"}, "v || '!' as w", {LAST: "007!", 1: "2!"}, "column v was integer"),
        ({LAST: "many"}, "v || '!' as w", {LAST: "many!"}, "column v was integer"),
    ],
)
def test_later_values_count_as_if_all_had_been_read_first(
    late: dict[int, str], column: str, kept: dict[int, str | None], why: str, ground: DriftGround
) -> None:
    heard = ground.run(column, late)
    assert [line.startswith(why) for line in again(heard)] == ([True] if why else [])
    assert ground.result.tally.inserted == ROWS == ground.result.rows_after
    for row, value in kept.items():
        assert ground.sql(f"SELECT w FROM core_run WHERE k = {row}") == [(value,)]


def test_what_would_be_refused_of_all_rows_is_refused(ground: DriftGround) -> None:
    with pytest.raises(UltravectError, match="takes numbers, not text"):
        ground.run("v * 2 as w", {LAST: "many"})
    assert ground.sql("SELECT count(*) FROM core_run") == [(0,)]


def test_first_rows_that_mislead_a_plan_do_not_refuse_it(ground: DriftGround) -> None:
    heard = ground.run("case when v = 'many' then 'm' else 'f' end as w", {LAST: "many"})
    assert again(heard) == []
    assert ground.sql("SELECT w, count(*) FROM core_run GROUP BY 1 ORDER BY 1") == [("f", ROWS - 1), ("m", 1)]


@pytest.mark.parametrize(
    ("highest", "late", "rejected", "begun"),
    [
        (500, {}, 4, ""),
        (500, {LAST: "4.5"}, 5, "column v was integer"),
        # more than are kept back until it is sure that they are rejects
        (178, {}, 4 + 2 * (ROWS // 90), "more than 1,000 rows are bad"),
    ],
)
def test_rejects_are_told_once(
    highest: int, late: dict[int, str], rejected: int, begun: str, ground: DriftGround
) -> None:
    ground.sql("DROP TABLE core_run")
    ground.sql(f"CREATE TABLE core_run (k int, w int CHECK (w < {highest}))")
    heard = ground.run(
        "v * 3 as w" if late else "v * 2 as w", {**dict.fromkeys(range(900, 1300, 100), "300"), **late}, rejects="50%"
    )
    assert [line.startswith(begun) for line in again(heard)] == ([True] if begun else [])
    assert len(heard.rejected) == ground.result.tally.rejected == len({item.row for item in heard.rejected})
    assert abs(len(heard.rejected) - rejected) <= 4
