"""The ways in which a load is written, the quickest first; one is chosen while planning, and the reasons against quicker ones are kept."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from ultravect.core.contracts.catalogue import LiveTable
from ultravect.core.contracts.write_plan import Insert, Merge, Replace
from ultravect.core.contracts.write_session import DELETE_AND_INSERT, SWAP
from ultravect.core.engine.plan.leg_plan import StrategyPlan

_FILES, _NOTHING_THERE = "the target is files", "there is nothing to be replaced"
# reasons that a reader knows without being given them
_KNOWN = (_FILES, _NOTHING_THERE)


@dataclass(frozen=True)
class Situation:
    """What decides how a load is written. ``live``: the table that is there. ``is_new``: the plan makes the table, or another in its place.

    ``swap_obstacle`` asks the target why another table may not take the place of the one that is there, "" where it may.
    """

    action: Insert | Replace | Merge
    files: bool
    keyed: bool
    is_new: bool
    changes_table: bool
    live: LiveTable | None
    swap_obstacle: Callable[[LiveTable], str]

    @property
    def replaced(self) -> Replace | None:
        """What is replaced of the rows that are there; None where none have to go."""
        return self.action if isinstance(self.action, Replace) and self.live is not None else None


@dataclass(frozen=True)
class Strategy:
    """``obstacle`` says why a load cannot be written so; "" where it can."""

    name: str
    summary: str
    obstacle: Callable[[Situation], str]


def _direct(situation: Situation) -> str:
    if situation.files:
        return _FILES
    if isinstance(situation.action, Merge):
        return "rows have to be matched by their keys first"
    if situation.replaced is not None:
        return "the rows that are there have to go"
    if situation.keyed:
        return "rows with keys stand in a staging table first, where a key that comes twice is found"
    if situation.changes_table:
        return "the table is changed before rows go into it, and they wait in a staging table"
    return ""


def _swap(situation: Situation) -> str:
    if situation.files:
        return _FILES
    replaced, live = situation.replaced, situation.live
    if replaced is None or live is None:
        return _NOTHING_THERE
    if situation.is_new:
        return ""  # it has other columns
    if replaced.where:
        return "only a part of the rows is replaced"
    if replaced.how == "truncate":
        return "the job takes the old rows away at once (into.old_rows: truncate)"
    return situation.swap_obstacle(live)


def _delete_and_insert(situation: Situation) -> str:
    if situation.files:
        return _FILES
    return "" if situation.replaced is not None else _NOTHING_THERE


def _merge(situation: Situation) -> str:
    return _FILES if situation.files else ""


def _file_set(situation: Situation) -> str:
    return "" if situation.files else "the target is a table"


STRATEGIES: Sequence[Strategy] = (
    Strategy("direct", "rows go straight into the table, and are seen when the load commits", _direct),
    Strategy(SWAP, "a new table is filled and takes the place of the old one when the load commits", _swap),
    Strategy(
        DELETE_AND_INSERT,
        "the old rows are deleted and the new ones inserted, in one transaction",
        _delete_and_insert,
    ),
    Strategy(
        "merge", "rows stand in a staging table first, and are brought into the table by a few statements", _merge
    ),
    Strategy("file set", "files are written on the worker, counted, and put in their place", _file_set),
)


def choose(situation: Situation) -> StrategyPlan:
    """The quickest way that the situation allows, and why not a quicker one."""
    why_not: dict[str, str] = {}
    for strategy in STRATEGIES:
        obstacle = strategy.obstacle(situation)
        if not obstacle:
            shown = {name: why for name, why in why_not.items() if why not in _KNOWN}
            return StrategyPlan(strategy.name, strategy.summary, shown)
        why_not[strategy.name] = obstacle
    raise AssertionError("files are written as a file set, tables by merge")
