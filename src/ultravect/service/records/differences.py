"""How two runs of a job differ: in what they were started with, in their plans, in what came of them, and in how long they took."""

from __future__ import annotations

import datetime as dt
import difflib
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from ultravect.service.records.models import Leg, Run

_COUNTS = ("read", "filtered", "rejected", "repeated", "inserted", "updated", "unchanged")


@dataclass(frozen=True)
class Difference:
    """``part``: start, plan, result or time; ``leg``: the object of a leg, "" where the run has one; values "" where there are none."""

    part: str
    leg: str
    name: str
    before: str
    after: str


def changed_lines(before: Run, after: Run) -> list[str]:
    """What became of the job file between them: lines that begin with ``-`` or ``+``, with some around them."""
    lines = difflib.unified_diff(
        before.revision.text.splitlines(), after.revision.text.splitlines(), "", "", n=1, lineterm=""
    )
    return list(lines)[2:]


def differences(before: Run, after: Run) -> list[Difference]:
    """What is not the same; times are given in any case."""
    found = list(_unequal("start", "", _start(before), _start(after)))
    earlier, later = ({leg.object: leg for leg in run.legs.defer(None)} for run in (before, after))
    for name in dict.fromkeys([*earlier, *later]):
        one, other = earlier.get(name), later.get(name)
        found += _unequal("plan", name, _plan(one), _plan(other))
        found += _unequal("result", name, _result(one), _result(other))
    found += _unequal("result", "", _end(before), _end(after))
    for name in dict.fromkeys([*earlier, *later]):
        taken, now = _times(earlier.get(name)), _times(later.get(name))
        found += [Difference("time", name, phase, taken.get(phase, ""), now.get(phase, "")) for phase in now or taken]
    return found


def _unequal(part: str, leg: str, before: Mapping[str, str], after: Mapping[str, str]) -> Iterator[Difference]:
    for name in dict.fromkeys([*before, *after]):
        was, became = before.get(name, ""), after.get(name, "")
        if was != became:
            yield Difference(part, leg, name, was, became)


def _start(run: Run) -> dict[str, str]:
    own = {
        "revision": str(run.revision.number),
        "started by": run.started_by.username if run.started_by else "",
        "trigger": run.trigger,
        "scheduled for": _moment(run.scheduled_for),
    }
    return own | {f":{name}": _text(value) for name, value in run.parameters.items()}


def _plan(leg: Leg | None) -> dict[str, str]:
    if leg is None:
        return {}
    plan: Mapping[str, Any] = leg.plan or {}
    columns = {f"column {column['name']}": str(column["native"]) for column in plan.get("columns", [])}
    statements: Sequence[str] = plan.get("ddl", [])
    return {
        "source": leg.source,
        "target": leg.target,
        "strategy": leg.strategy,
        "definitions": "; ".join(statements),
        **columns,
    }


def _result(leg: Leg | None) -> dict[str, str]:
    if leg is None:
        return {}
    tally = leg.tally or {}
    counts = {name: f"{tally[name]:,}" for name in _COUNTS if tally.get(name)}
    about = "about " if leg.rows_about else ""
    there = {"rows in the target": f"{about}{leg.rows_after:,}"} if leg.rows_after is not None else {}
    return {
        "state": leg.state,
        "error": str((leg.error or {}).get("code", "")),
        **counts,
        **there,
        "attempts": str(leg.attempts),
        "worker": leg.worker,
    }


def _end(run: Run) -> dict[str, str]:
    return {"state of the run": run.state, "outcome": run.outcome}


def _times(leg: Leg | None) -> dict[str, str]:
    if leg is None:
        return {}
    found = {phase["name"]: _seconds(phase["started_at"], phase["ended_at"]) for phase in leg.phases}
    whole = _seconds(_moment(leg.started_at), _moment(leg.ended_at))
    return {name: taken for name, taken in {**found, "in all": whole}.items() if taken}


def _seconds(begun: str | None, ended: str | None) -> str:
    if not begun or not ended:
        return ""
    return f"{(dt.datetime.fromisoformat(ended) - dt.datetime.fromisoformat(begun)).total_seconds():.1f} s"


def _moment(value: dt.datetime | None) -> str:
    return value.isoformat() if value else ""


def _text(value: Any) -> str:
    return str(value).lower() if isinstance(value, bool) else str(value)
