"""Plans what has to be true of rows (`require`) and of the whole load (`guard`)."""

from __future__ import annotations

from collections.abc import Sequence

from ultravect.core.engine.plan.leg_plan import ColumnPlan
from ultravect.core.engine.plan.newer.mark_values import ORDERED, parsed
from ultravect.core.engine.plan.planning import Planning
from ultravect.core.engine.plan.target.replaced import replaced_check
from ultravect.core.engine.plan.target.target_checks import TargetCheck
from ultravect.core.errors import UltravectError
from ultravect.core.expressions.bind import Scope, bind_condition, columns_in
from ultravect.core.expressions.parse import parse_condition
from ultravect.core.expressions.tree import names_in
from ultravect.core.model.jobs.job import Job
from ultravect.core.model.problems import did_you_mean

_MOMENTS = frozenset(["date", "timestamp", "timestamptz"])
_COMPARED = ORDERED | {"real", "double"}


def own_checks(job: Job, columns: Sequence[ColumnPlan]) -> list[TargetCheck]:
    """The conditions that the job itself has of its rows."""
    found = [_required(job, columns, number) for number in range(len(job.require))]
    return [replaced_check(job, columns), *found] if job.into.replaces is not None else found


def _required(job: Job, columns: Sequence[ColumnPlan], number: int) -> TargetCheck:
    text, place = job.require[number], f"require.{number}"
    node = parse_condition(text, place)
    names, types = [column.name for column in columns], [column.type for column in columns]
    known = {name.lower() for name in names}
    if missing := next((name.name for name in names_in(node) if name.name.lower() not in known), ""):
        raise UltravectError(
            "column-unknown",
            f"require is about {missing}, which is no column of the rows that are written",
            hint=did_you_mean(missing, names) or f"they have: {', '.join(names[:20])}",
            place=place,
        )
    bound = bind_condition(node, Scope(names, types, job.parameters), place)
    places = sorted(columns_in(bound))
    source = columns[places[0]].source if len(places) == 1 else ""
    return TargetCheck("require", text, bound, places or [0], source, strict=True, why=f"is not as required: {text}")


def plan_guards(job: Job, plan: Planning) -> None:
    """Adds the job's own checks, and finds guards that cannot be decided."""
    plan.checks = [*own_checks(job, plan.columns), *plan.checks]
    if job.guard is None:
        return
    known = {column.name.lower(): column for column in plan.columns}
    for name, guard in job.guard.columns.items():
        place = f"guard.columns.{name}"
        column = known.get(name.lower())
        if column is None:
            names = [item.name for item in plan.columns]
            fix = did_you_mean(name, names) or "name a column as the target has it"
            plan.add("error", "column-unknown", f"guard is about {name}, which is no column of the rows", place, fix)
            continue
        bounds = [value for value in (guard.at_least, guard.at_most) if value is not None]
        wanted = _MOMENTS if guard.newest is not None else _COMPARED if bounds else None
        if wanted is not None and column.type.name not in wanted:
            what = f"{name} is of type {column.type}, which {'has no age' if guard.newest else 'has no least and greatest'} here"
            plan.add("error", "guard-type", what, place, "guard a column of numbers, dates or times")
            continue
        for value in bounds if column.type.name in ORDERED else ():
            try:
                parsed(str(value), column.type, place)
            except UltravectError as error:
                plan.refuse(error, place)
