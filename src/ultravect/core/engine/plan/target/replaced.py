"""Plans an overwrite of a part of a table, and what an upsert does with rows that the source has no more."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from ultravect.core.contracts.catalogue import LiveTable
from ultravect.core.contracts.write_plan import Between, Merge, Replace
from ultravect.core.dialects.base import Change, Dialect, NewColumn
from ultravect.core.engine.objects.tables import comparable
from ultravect.core.engine.plan.leg_plan import ColumnPlan
from ultravect.core.engine.plan.planning import Planning
from ultravect.core.engine.plan.target.target_checks import TargetCheck
from ultravect.core.errors import UltravectError
from ultravect.core.expressions.bind import Scope, bind_condition, columns_in
from ultravect.core.expressions.parse import parse_condition
from ultravect.core.expressions.pushdown import bounds_in, render
from ultravect.core.expressions.tree import names_in
from ultravect.core.model.jobs.job import Job
from ultravect.core.types.canonical import CanonicalType

_PLACE = "into.replaces"
_TEXT = CanonicalType("text")


def plan_replaced(job: Job, plan: Planning) -> None:
    """Which rows of the table are replaced; that rows which come are among them is one of the job's own checks."""
    if job.into.replaces is None or plan.target is None:
        return
    replaced_check(job, plan.columns)
    if plan.live is not None and not plan.is_new:
        assert isinstance(plan.action, Replace), "into.replaces goes with overwrite only"
        where, within = _condition(job, plan.live, plan.target.dialect)
        plan.action = replace(plan.action, where=where, within=within)


def replaced_check(job: Job, columns: Sequence[ColumnPlan]) -> TargetCheck:
    """Decides which rows belong to the part; UltravectError where the rows do not bring what it is about."""
    assert job.into.replaces is not None
    node = parse_condition(job.into.replaces, _PLACE)
    names, types = [column.name for column in columns], [column.type for column in columns]
    missing = [name.name for name in names_in(node) if name.name.lower() not in {item.lower() for item in names}]
    if missing:
        raise UltravectError(
            "part-undecided",
            f"into.replaces is about {missing[0]}, which the rows do not bring",
            hint=f"add it to columns; they bring: {', '.join(names)}",
            place=_PLACE,
        )
    bound = bind_condition(node, Scope(names, types, job.parameters), _PLACE)
    places = sorted(columns_in(bound))
    source = columns[places[0]].source if len(places) == 1 else ""
    return TargetCheck("into.replaces", job.into.replaces, bound, places, source, strict=True)


def _condition(job: Job, live: LiveTable, dialect: Dialect) -> tuple[str, tuple[Between, ...]]:
    """The same in the target's SQL, about its own columns; and where its rows are."""
    assert job.into.replaces is not None
    names = [column.name for column in live.columns]
    types = [column.type or _TEXT for column in live.columns]
    bound = bind_condition(parse_condition(job.into.replaces, _PLACE), Scope(names, types, job.parameters), _PLACE)
    sql = render(bound, dialect, comparable(dialect, live.columns))
    if sql is None:
        raise UltravectError(
            "part-not-plain",
            f"{job.into.replaces!r} is not decided alike here and in the target",
            hint="compare columns with values of their own type, and join such comparisons by and, or, not",
            place=_PLACE,
        )
    return sql, tuple(Between(*bounds) for bounds in bounds_in(bound, names))


def plan_gone(job: Job, plan: Planning) -> None:
    """What has to be there for rows that are gone: a right, or a column for the flag."""
    gone = plan.action.gone if isinstance(plan.action, Merge) else None
    if gone is None or plan.target is None or plan.target.database is None:
        return
    live = plan.live
    if not gone.flag:
        if live is not None and "DELETE" not in live.granted:
            plan.add(
                "error",
                "privilege-missing",
                f"into.gone: delete needs DELETE for {live.name}, which the connection's user has not",
                "into.gone",
                f"have it granted: GRANT DELETE ON {live.name} …",
            )
        return
    column = live.column(gone.flag) if live else None
    if any(item.name == gone.flag for item in plan.columns):
        plan.add(
            "error",
            "flag-column-copied",
            f"{gone.flag} is copied from the source: it cannot be the flag too",
            "into.gone",
        )
    elif column is not None and (column.type is None or column.type.name != "boolean"):
        what = f"{gone.flag} is a column of type {column.native}, and a flag is true or false"
        plan.add("error", "flag-column-unfit", what, "into.gone", "name a column of booleans")
    elif column is None:
        _add_flag(job, plan, NewColumn(gone.flag, CanonicalType("boolean")))


def _add_flag(job: Job, plan: Planning, flag: NewColumn) -> None:
    """The flag comes with a new table, or with one that may be widened."""
    if plan.create is not None:
        plan.create = replace(plan.create, columns=[*plan.create.columns, flag])
    elif job.into.if_different == "widen":
        plan.changes.append(Change(flag, added=True))
    else:
        plan.add(
            "error",
            "flag-column-missing",
            f"{plan.table} has no column {flag.name}, which into.gone sets for rows that are gone",
            "into.gone",
            "add the column, or write into.if_different: widen to have it added",
        )
