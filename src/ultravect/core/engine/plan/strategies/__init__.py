"""The ways in which a load is written, one module each, the quickest first; one is chosen while planning."""

from __future__ import annotations

from collections.abc import Sequence
from types import ModuleType

from ultravect.core.engine.plan.leg_plan import StrategyPlan
from ultravect.core.engine.plan.strategies import delete_and_insert, direct, file_set, merge, swap
from ultravect.core.engine.plan.strategies.situation import FILES, NOTHING_THERE, Situation

STRATEGIES: Sequence[ModuleType] = (direct, swap, delete_and_insert, merge, file_set)


def choose(situation: Situation) -> StrategyPlan:
    """The quickest way that the situation allows, and why not a quicker one."""
    why_not: dict[str, str] = {}
    for strategy in STRATEGIES:
        obstacle = strategy.obstacle(situation)
        if not obstacle:
            shown = {name: why for name, why in why_not.items() if why not in (FILES, NOTHING_THERE)}
            return StrategyPlan(strategy.NAME, strategy.SUMMARY, shown)
        why_not[strategy.NAME] = obstacle
    raise AssertionError("files are written as a file set, tables by merge")
