"""Which strategy is chosen, and what is said of the quicker ones; no database is asked."""

from __future__ import annotations

from dataclasses import replace

import pytest

from ultravect.core.contracts.catalogue import LiveTable
from ultravect.core.contracts.write_plan import Insert, Merge, Replace
from ultravect.core.dialects.base import TableName
from ultravect.core.engine.plan.target.strategies import Situation, choose

THERE = LiveTable(TableName("ledger", "booking"), "table", [])
NEW = Situation(Insert(), False, False, True, False, None, lambda live: "")
OLD = replace(NEW, is_new=False, live=THERE)
CASES = {
    # what is asked for: the situation, the strategy, and why not a quicker one
    "append into a new table": (NEW, "direct", {}),
    "append": (OLD, "direct", {}),
    "append with keys": (replace(OLD, keyed=True), "merge", {"direct": "a key that comes twice"}),
    "append, and the table grows a column": (replace(OLD, changes_table=True), "merge", {"direct": "the table is changed"}),
    "overwrite a new table": (replace(NEW, action=Replace()), "direct", {}),
    "overwrite": (replace(OLD, action=Replace()), "swap", {"direct": "have to go"}),
    "overwrite a part": (
        replace(OLD, action=Replace(where="a = 1")),
        "delete and insert",
        {"direct": "have to go", "swap": "only a part"},
    ),
    "overwrite what others depend on": (
        replace(OLD, action=Replace(), swap_obstacle=lambda live: f"a view depends on {live.name}"),
        "delete and insert",
        {"direct": "have to go", "swap": "a view depends on ledger.booking"},
    ),
    "overwrite by truncating": (
        replace(OLD, action=Replace(how="truncate")), "delete and insert", {"direct": "have to go", "swap": "truncate"},
    ),
    "rebuild": (
        replace(OLD, action=Replace(), is_new=True, swap_obstacle=lambda live: "not asked"), "swap", {"direct": "have to go"},
    ),
    "upsert": (replace(OLD, action=Merge(), keyed=True), "merge", {"direct": "matched by their keys"}),
    "upsert into a new table": (replace(NEW, action=Merge(), keyed=True), "merge", {"direct": "matched by their keys"}),
    "files": (replace(NEW, files=True), "file set", {}),
    "files that replace others": (replace(NEW, files=True, action=Replace()), "file set", {}),
}  # fmt: skip


@pytest.mark.parametrize("case", CASES.values(), ids=CASES)
def test_the_quickest_that_is_possible(case: tuple[Situation, str, dict[str, str]]) -> None:
    situation, name, why_not = case
    chosen = choose(situation)
    assert chosen.name == name
    assert chosen.why_not.keys() == why_not.keys()
    assert all(part in chosen.why_not[other] for other, part in why_not.items())
