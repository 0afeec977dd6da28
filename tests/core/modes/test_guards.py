"""What has to be true of a load before it is published, and of each row of it."""

from __future__ import annotations

import datetime as dt
from pathlib import Path
from typing import Any

import duckdb
import pytest
from devtools.legs import run_leg
from devtools.pairs import Copied

from ultravect.core.engine.look.check import check_job
from ultravect.core.engine.look.rehearse import rehearse
from ultravect.core.engine.objects.connections import ConnectionSpec
from ultravect.core.engine.objects.names import RunFacts
from ultravect.core.errors import UltravectError
from ultravect.core.model.document import job_from_data

ROWS = "id,hut,night,price\n1,a,2026-07-01,10\n2,b,2026-07-02,20.5\n3,,2026-07-03,30\n4,d,2026-07-04,\n"
TODAY = dt.datetime.now(dt.UTC).date()


class Loads:
    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.source = ConnectionSpec("incoming", "folder", {"path": str(folder)}, [str(folder)])
        self.target = ConnectionSpec(
            "target", "duckdb", {"path": str(folder / "t.duckdb"), "create": True}, [str(folder)]
        )
        self.heard = Copied()

    def job(self, **keys: Any) -> Any:
        into = {"connection": "target", "table": "t", **keys.pop("into", {})}
        columns = ["id integer", "hut text", "night date", "price double"]
        given = {
            "ultravect": 1,
            "job": "guarded",
            "from": {"connection": "incoming", "files": "rows.csv"},
            "columns": columns,
        }
        return job_from_data({**given, "into": into, **keys})

    def run(self, text: str = ROWS, usual: dict[str, tuple[int, ...]] | None = None, **keys: Any) -> Any:
        (self.folder / "rows.csv").write_text(text)
        self.heard = Copied()
        facts = RunFacts("1", TODAY, usual or {})
        return run_leg(self.job(**keys), self.source, self.target, self.heard, facts=facts)

    def count(self) -> int:
        with duckdb.connect(str(self.folder / "t.duckdb")) as session:
            return len(session.execute("SELECT * FROM t").fetchall())


@pytest.fixture
def loads(tmp_path: Path) -> Loads:
    return Loads(tmp_path)


@pytest.mark.parametrize(
    ("guard", "usual", "broken"),
    [
        ({"rows_read": {"at_least": 4}}, {}, ""),
        ({"rows_read": {"at_least": 5}}, {}, "rows_read is 4, and has to be at least 5"),
        ({"rows_written": {"at_most": 3}}, {}, "rows_written is 4, and has to be at most 3"),
        ({"rows_read": {"within": "50 %"}}, {"rows_read": (3, 4, 100)}, ""),
        ({"rows_read": {"within": "50 %"}}, {"rows_read": (8, 9, 10)}, "the median of the last 3 runs"),
        ({"rows_read": {"within": "50 %"}}, {"rows_read": (100, 100)}, ""),
        ({"columns": {"hut": {"nulls": "25 %"}}}, {}, ""),
        ({"columns": {"hut": {"nulls": "24.9 %"}}}, {}, "the share of rows without hut is 25.00%"),
        ({"columns": {"price": {"at_least": 10, "at_most": 30}}}, {}, ""),
        ({"columns": {"price": {"at_most": 29.5}}}, {}, "the greatest price is 30.0, and has to be at most 29.5"),
        ({"columns": {"night": {"at_least": "2026-07-02"}}}, {}, "the least night is 2026-07-01"),
        ({"columns": {"NIGHT": {"at_most": "2026-07-04"}}}, {}, ""),
        (
            {"columns": {"night": {"newest": "2 d"}}},
            {},
            "the newest night is 2026-07-04, and has to be at most 2 d old",
        ),
        ({"columns": {"night": {"newest": "20000 d"}}}, {}, ""),
    ],
)
def test_guards_are_decided_before_rows_are_published(
    loads: Loads, guard: dict[str, Any], usual: dict[str, tuple[int, ...]], broken: str
) -> None:
    loads.run()
    if not broken:
        result = loads.run(guard=guard, usual=usual)
        assert loads.count() == 8
        assert all(item["passed"] is not False for item in result.guards)
        assert result.guards
        return
    with pytest.raises(UltravectError) as refused:
        loads.run(guard=guard, usual=usual)
    assert refused.value.code == "guard-not-met"
    assert broken in refused.value.detail
    assert loads.count() == 4
    # with a warning, the rows are there
    result = loads.run(guard={**guard, "otherwise": "warn"}, usual=usual)
    assert loads.count() == 8
    assert [item["passed"] for item in result.guards].count(False) == 1


def test_rows_that_are_not_as_required_are_rejected(loads: Loads) -> None:
    require = ["price between 5 and 25", "hut is not null"]
    result = loads.run(require=require, into={"rejects": 3})
    assert (result.tally.inserted, result.tally.rejected) == (2, 2)
    reasons = {reject.row: reject.reason for reject in loads.heard.rejected}
    assert set(reasons) == {3, 4}
    assert "is not as required: price between 5 and 25" in reasons[4]
    with pytest.raises(UltravectError) as refused:
        loads.run(require=require)
    assert refused.value.code == "too-many-rejects"
    assert loads.count() == 2


@pytest.mark.parametrize(
    ("keys", "code"),
    [
        ({"require": ["prize > 1"]}, "column-unknown"),
        ({"require": ["price >"]}, "expression-syntax"),
        ({"require": ["price + 1"]}, "expression-type"),
        ({"guard": {"columns": {"prize": {"nulls": "1 %"}}}}, "column-unknown"),
        ({"guard": {"columns": {"hut": {"at_least": "a"}}}}, "guard-type"),
        ({"guard": {"columns": {"price": {"newest": "1 d"}}}}, "guard-type"),
        ({"guard": {"columns": {"night": {"at_least": "yesterday"}}}}, "mark-value-invalid"),
    ],
)
def test_what_cannot_be_decided_is_found_by_check(loads: Loads, keys: dict[str, Any], code: str) -> None:
    (loads.folder / "rows.csv").write_text(ROWS)
    found = check_job(loads.job(**keys), loads.source, loads.target)
    assert [item.code for item in found.findings if item.severity == "error"] == [code]


@pytest.mark.parametrize(
    ("guard", "said"),
    [
        ({"rows_read": {}}, "name at_least"),
        ({"rows_read": {"at_least": 3, "at_most": 2}}, "no count"),
        ({"rows_read": {"within": "half"}}, "no share"),
        ({"columns": {"a": {}}}, "name nulls"),
        ({"rows": {"at_least": 3}}, "rows"),
    ],
)
def test_what_a_job_cannot_declare(loads: Loads, guard: dict[str, Any], said: str) -> None:
    with pytest.raises(UltravectError) as refused:
        loads.job(guard=guard)
    assert said in f"{refused.value.detail} {refused.value.where} " + " ".join(
        item.message for item in getattr(refused.value, "problems", [])
    )


TRIED = [
    ({"rows_read": {"at_least": 4}}, "guard-met", "guard-met"),
    ({"rows_read": {"at_least": 5}}, "guard-not-met", "guard-met"),
    ({"rows_read": {"at_least": 190_000}}, "guard-not-met", "guard-undecided"),
    ({"rows_written": {"at_most": 1}}, "guard-not-met", "guard-not-met"),
    ({"rows_read": {"within": "50 %"}}, "guard-met", "guard-undecided"),
    ({"columns": {"hut": {"nulls": "24 %"}}}, "guard-not-met", "guard-met"),
    ({"columns": {"price": {"at_least": 15}}}, "guard-not-met", "guard-not-met"),
    ({"columns": {"price": {"at_most": 1000}}}, "guard-met", "guard-met"),
]


@pytest.mark.parametrize(("guard", "whole", "part"), TRIED)
def test_check_and_rehearsal_say_what_guards_are_so_far(
    loads: Loads, guard: dict[str, Any], whole: str, part: str
) -> None:
    (loads.folder / "rows.csv").write_text(ROWS)
    usual = {"rows_read": (4, 4, 5)}
    job, warning = loads.job(guard=guard), loads.job(guard={**guard, "otherwise": "warn"})
    checked = check_job(job, loads.source, loads.target, usual=usual)
    rehearsed = rehearse(job, loads.source, loads.target, rows=None, usual=usual)
    for findings in (checked.findings, rehearsed.findings):
        (found,) = [finding for finding in findings if finding.code.startswith("guard")]
        assert found.code == whole
        assert (found.severity == "error") == (whole == "guard-not-met")
        assert "rows that were tried" not in found.message
    assert checked.passed == rehearsed.passed == (whole != "guard-not-met")
    assert bool(rehearsed.would_fail) == (whole == "guard-not-met")
    assert rehearse(warning, loads.source, loads.target, rows=None, usual=usual).passed
    # of a part of the rows, only what later rows cannot make good is decided
    (loads.folder / "rows.csv").write_text(ROWS + "".join(f"{n},x,2026-07-05,40\n" for n in range(5, 200_000)))
    (found,) = [
        finding
        for finding in rehearse(job, loads.source, loads.target, rows=4, usual={"rows_read": (10**6,) * 3}).findings
        if finding.code.startswith("guard")
    ]
    assert "rows that were tried" in found.message
    assert found.code == part
