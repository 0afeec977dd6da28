"""Planning without a database: what a plan says of a source and a target, the target being a few live tables in memory."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest
from tests.core.engine.fakes import HUT, FakeTarget, column

from ultravect.core.contracts.catalogue import PRIVILEGES, LiveCheck, LiveColumn, LiveTable
from ultravect.core.contracts.target import SwapNeeds
from ultravect.core.dialects.base import TableName
from ultravect.core.engine.objects.connections import ConnectionSpec
from ultravect.core.engine.plan import make
from ultravect.core.engine.plan.leg_plan import LegPlan
from ultravect.core.engine.plan.planning import Planning
from ultravect.core.model.document import job_from_data
from ultravect.core.model.jobs.job import Job

COLUMNS: Sequence[LiveColumn] = HUT.columns
FILE = "hut,beds,opened\nALP,40,2001-05-01\nFAL,22,1999-06-10\n"


def hut(**changes: Any) -> LiveTable:
    return replace(HUT, **changes)


@pytest.fixture
def planned(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Any:
    """Plans a job from a file into a fake target."""

    def plan(target: FakeTarget, content: str = FILE, columns: Sequence[str] = ("*",), **into: Any) -> Planning:
        (tmp_path / "huts.csv").write_text(content)
        source = ConnectionSpec("in", "folder", {"path": str(tmp_path)}, [str(tmp_path)])
        data = {
            "ultravect": 1,
            "job": "x",
            "from": {"connection": "in", "files": "huts.csv"},
            "columns": list(columns),
            "into": {"connection": "out", "table": "hut", **into},
        }
        job: Job = job_from_data(data)
        monkeypatch.setattr(make, "open_target", lambda *_: (target, TableName(None, "hut")))
        return make.make_plan(job, source, ConnectionSpec("out", "postgresql", {}))

    return plan


CASES: Mapping[str, tuple[FakeTarget, dict[str, Any], set[str], str]] = {
    # what there is, what the job says, codes of errors and warnings, the strategy
    "a new table": (FakeTarget(), {}, set(), "direct"),
    "one that may not be made": (FakeTarget(refuses_to_create="no CREATE"), {}, {"table-not-creatable"}, ""),
    "one that should be there": (FakeTarget(), {"if_missing": "fail"}, {"table-missing"}, ""),
    "append": (FakeTarget({"hut": HUT}), {}, set(), "direct"),
    "overwrite": (FakeTarget({"hut": HUT}), {"mode": "overwrite"}, set(), "swap"),
    "overwrite what cannot be swapped": (
        FakeTarget({"hut": HUT}, obstacle="it has triggers"),
        {"mode": "overwrite"},
        set(),
        "delete and insert",
    ),
    "truncate": (
        FakeTarget({"hut": hut(granted=PRIVILEGES | {"TRUNCATE"})}),
        {"mode": "overwrite", "old_rows": "truncate"},
        {"readers-wait"},
        "delete and insert",
    ),
    "truncate without the privilege": (
        FakeTarget({"hut": HUT}),
        {"mode": "overwrite", "old_rows": "truncate"},
        {"readers-wait", "privilege-missing"},
        "",
    ),
    "upsert": (
        FakeTarget({"hut": hut(unique=[frozenset(["hut"])])}),
        {"mode": "upsert", "keys": ["hut"]},
        set(),
        "merge",
    ),
    "upsert without an index": (
        FakeTarget({"hut": HUT}),
        {"mode": "upsert", "keys": ["hut"]},
        {"key-without-index"},
        "merge",
    ),
    "a key that does not come": (
        FakeTarget({"hut": HUT}),
        {"mode": "upsert", "keys": ["hutt"]},
        {"key-column-unknown"},
        "",
    ),
    "rows may only be read": (FakeTarget({"hut": hut(granted=frozenset(["SELECT"]))}), {}, {"privilege-missing"}, ""),
    "a view": (FakeTarget({"hut": hut(kind="view")}), {}, {"target-is-view"}, ""),
    "a column less": (FakeTarget({"hut": hut(columns=COLUMNS[:2])}), {}, {"column-not-in-target"}, ""),
    "a column less, which is left out": (
        FakeTarget({"hut": hut(columns=COLUMNS[:2])}),
        {"if_different": "ignore"},
        {"column-not-in-target"},
        "direct",
    ),
    "a column less, which is added": (
        FakeTarget({"hut": hut(columns=COLUMNS[:2])}),
        {"if_different": "widen"},
        set(),
        "merge",
    ),
    "a column that has to be filled": (
        FakeTarget({"hut": hut(columns=[*COLUMNS, column("owner", "text", nullable=False)])}),
        {},
        {"column-required"},
        "",
    ),
    "a generated column": (
        FakeTarget({"hut": hut(columns=[*COLUMNS[:2], column("opened", "date", generated=True)])}),
        {},
        {"column-generated"},
        "",
    ),
    "a rebuild of the same": (
        FakeTarget({"hut": HUT}),
        {"mode": "overwrite", "if_different": "rebuild"},
        set(),
        "swap",
    ),
    "a rebuild that loses a column": (
        FakeTarget({"hut": hut(columns=[*COLUMNS, column("owner", "text")])}),
        {"mode": "overwrite", "if_different": "rebuild"},
        {"table-rebuilt"},
        "swap",
    ),
    "a rebuild of what others need": (
        FakeTarget({"hut": hut(columns=COLUMNS[:2], dependents=["view open_huts"])}),
        {"mode": "overwrite", "if_different": "rebuild"},
        {"target-depended-on"},
        "",
    ),
}


@pytest.mark.parametrize("case", CASES.values(), ids=CASES)
def test_what_a_plan_says(planned: Any, case: tuple[FakeTarget, dict[str, Any], set[str], str]) -> None:
    target, into, codes, strategy = case
    plan: Planning = planned(target, **into)
    found = {finding.code for finding in plan.findings if finding.severity != "note"}
    assert found == codes, plan.findings
    assert (plan.strategy.name if plan.strategy else "") == strategy
    assert bool(plan.errors) == (strategy == "")
    if not plan.errors:
        data = plan.leg_plan().as_json()
        assert LegPlan.from_json(data).as_json() == data


def test_what_a_swap_would_have_to_respect_is_asked(planned: Any) -> None:
    target = FakeTarget({"hut": HUT})
    planned(
        target,
        mode="overwrite",
        keys=["hut"],
        keep_previous=1,
        if_different="widen",
        columns=["*", "1 as more integer"],
    )
    assert target.asked == [SwapNeeds(keeps=True, keyed=True, changes=True)]


@pytest.mark.parametrize(
    ("columns", "types"),
    [
        (["*"], ["text", "integer", "date"]),
        (["beds as places bigint", "upper(hut) as hut text(3)"], ["bigint", "text(3)"]),
        (["* except (opened)", "beds * 2 as double_beds"], ["text", "integer", "bigint"]),
        (["case when beds > 30 then 'l' else 's' end as size"], ["text"]),
    ],
)
def test_types_of_a_new_table(planned: Any, columns: list[str], types: list[str]) -> None:
    plan: Planning = planned(FakeTarget(), columns=columns)
    assert [str(item.type) for item in plan.columns] == types
    assert plan.create is not None
    assert [str(item.type) for item in plan.create.columns] == types


def test_checks_are_decided_before_rows_are_sent(planned: Any) -> None:
    checks = [LiveCheck("beds_check", "(beds > 0)"), LiveCheck("odd", "((hut)::text ~ '^A'::text)")]
    plan: Planning = planned(FakeTarget({"hut": hut(checks=checks)}))
    assert plan.leg_plan().checked == ("beds_check",)
