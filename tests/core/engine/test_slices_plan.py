"""When a leg is cut into slices, and what is said of it: planning alone, the target being a fake."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any

import pytest
from tests.core.engine.test_planning import HUT, FakeTarget

from ultravect.core.contracts.write_plan import WritePlan
from ultravect.core.dialects.base import TableName
from ultravect.core.engine.objects.connections import ConnectionSpec
from ultravect.core.engine.plan import make
from ultravect.core.engine.plan.leg_plan import LegPlan
from ultravect.core.engine.plan.planning import Planning
from ultravect.core.engine.plan.source import slices
from ultravect.core.model.document import job_from_data

ROWS = 400


class FakeStages:
    """See ``Stages``: only what planning asks."""

    def __init__(self, obstacle: str = "") -> None:
        self._obstacle = obstacle
        self.asked: list[WritePlan] = []

    def obstacle(self, plan: WritePlan) -> str:
        self.asked.append(plan)
        return self._obstacle


class SlicedTarget(FakeTarget):
    stages: FakeStages | None = FakeStages()
    together = None


def target(stages: FakeStages | None) -> SlicedTarget:
    made = SlicedTarget({"hut": HUT})
    made.stages = stages
    return made


@pytest.fixture
def planned(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Any:
    """Plans a job of a file of some kilobytes, of which each slice is worth one."""
    monkeypatch.setattr(slices, "_BYTES_OF_SLICE", 1024)

    def plan(
        wanted: int | str,
        *,
        stages: FakeStages | None = None,
        slots: int | None = 4,
        name: str = "huts.csv",
        cut: bool = True,
        **into: Any,
    ) -> Planning:
        text = "hut,beds,opened\n" + "".join(f"H{n:05},{n},2001-05-01\n" for n in range(ROWS))
        (tmp_path / name).write_text(text)
        source = ConnectionSpec("in", "folder", {"path": str(tmp_path)}, [str(tmp_path)])
        job = job_from_data(
            {
                "ultravect": 1,
                "job": "x",
                "from": {"connection": "in", "files": name, **into.pop("source", {})},
                "into": {"connection": "out", "table": "hut", **into},
                "run": {"slices": wanted},
            }
        )
        opened = target(stages)
        opened.receipts = True  # type: ignore[attr-defined]
        monkeypatch.setattr(make, "open_target", lambda *_: (opened, TableName(None, "hut")))
        return make.make_plan(
            job,
            source,
            ConnectionSpec("out", "postgresql", {"receipts": into.pop("receipts", True)}),
            scan_limit=None if cut else 1 << 20,
            slots=None if slots is None else lambda: slots,
        )

    return plan


def _codes(plan: Planning) -> dict[str, str]:
    return {finding.code: finding.message for finding in plan.findings if finding.code.startswith("slices")}


CASES: Mapping[str, tuple[dict[str, Any], int, str, str]] = {
    # what is asked, how many slices, the code of the finding, a part of its text
    "one": ({"wanted": 1, "stages": FakeStages()}, 0, "", ""),
    "a number": ({"wanted": 3, "stages": FakeStages()}, 3, "slices-cut", "copied in 3 slices"),
    "more than there are rows": ({"wanted": 64, "stages": FakeStages()}, 64, "slices-cut", "64"),
    "a number, whatever it costs": ({"wanted": 3, "stages": FakeStages("twice")}, 3, "slices-cut", ""),
    "auto": ({"wanted": "auto", "stages": FakeStages()}, 4, "slices-cut", "copied in 4 slices"),
    "auto, where rows would be written twice": ({"wanted": "auto", "stages": FakeStages("twice")}, 0, "", ""),
    "auto, on one processor": ({"wanted": "auto", "stages": FakeStages(), "slots": 1}, 0, "", ""),
    "auto, where slices are not allowed": ({"wanted": "auto", "stages": FakeStages(), "slots": None}, 0, "", ""),
    "a target for one session": ({"wanted": 3}, 0, "slices-not-cut", "one session's"),
    "auto, and a target for one session": ({"wanted": "auto"}, 0, "", ""),
    "statements before": (
        {"wanted": 3, "stages": FakeStages(), "before": ["SELECT 1"]}, 0, "slices-not-cut", "before any row",
    ),
    "checksums": ({"wanted": 3, "stages": FakeStages(), "checksums": True}, 0, "slices-not-cut", "checksums"),
    "a layout that is read from the start": (
        {"wanted": 3, "stages": FakeStages(), "source": {"layout": {"format": "delimited", "delimiter": ",", "footer": 1}}},
        0, "slices-not-cut", "at its end",
    ),
    "a check only decides": ({"wanted": 3, "stages": FakeStages(), "cut": False}, 0, "slices-cut", "copied in 3"),
}  # fmt: skip


@pytest.mark.parametrize("case", CASES)
def test_slices(planned: Any, case: str) -> None:
    asked, count, code, text = CASES[case]
    plan = planned(**asked)
    assert plan.errors == []
    assert len(plan.slices) == count
    found = _codes(plan)
    assert set(found) == ({code} if code else set())
    assert text in found.get(code, "")
    again = LegPlan.from_json(plan.leg_plan().as_json())
    assert again.slices == tuple(plan.slices)


def test_the_target_is_asked_about_the_load_that_it_will_get(planned: Any) -> None:
    stages = FakeStages()
    planned("auto", stages=stages, mode="overwrite")
    (plan,) = stages.asked
    assert (plan.replaces is not None, plan.merges, plan.table.name) == (True, None, "hut")


def test_parts_are_the_file(planned: Any) -> None:
    plan = planned(5, stages=FakeStages())
    first, last = plan.slices[0], plan.slices[-1]
    assert (first.rows_before, first.line) == (0, 2)
    assert all(part.last == after.first for part, after in zip(plan.slices, plan.slices[1:], strict=False))
    assert last.last == plan.reader.size
    assert 0 < last.rows_before < ROWS
    assert last.line == last.rows_before + 2
