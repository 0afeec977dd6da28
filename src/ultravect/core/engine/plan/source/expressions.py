"""The part of a plan that is about expressions: their types, what the source filters by, and what has to be read."""

from __future__ import annotations

import datetime as dt
import functools
from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace

from ultravect.core.engine.objects.secrets import key_named
from ultravect.core.engine.objects.tables import TableRows, comparable
from ultravect.core.engine.plan.leg_plan import ConditionPlan, InputPlan, LegPlan, ScopePlan
from ultravect.core.engine.plan.planning import Planning
from ultravect.core.engine.plan.source.drift import TRUSTED_BYTES, may_trust
from ultravect.core.engine.plan.source.scan import Scan, scan_columns
from ultravect.core.expressions.bind import Bound, Scope, bind, bind_condition, both, column_position, columns_in
from ultravect.core.expressions.parse import parse_condition
from ultravect.core.expressions.pushdown import conjuncts, render
from ultravect.core.expressions.select_list import Selected
from ultravect.core.expressions.tree import Node, names_in
from ultravect.core.layouts.base import WantedColumn
from ultravect.core.model.jobs.job import Job
from ultravect.core.types.canonical import CanonicalType


def narrow(job: Job, plan: Planning) -> None:
    """Of a table, only the columns that are needed are read: for the rows, and to find those again that are rejected."""
    if not isinstance(plan.reader, TableRows) or not plan.reader.is_asked or not plan.columns:
        return
    needed = {column.position for column in plan.columns if column.expression is None}
    if job.into.rejects != 0:
        needed |= {plan.reader.names.index(name) for name in plan.reader.keys}
    by = plan.mark.by if plan.mark else None
    if by is not None and by.ties is not None:
        needed |= {by.position, *(plan.reader.names.index(name) for name in (*by.ties.by, *by.ties.noted_by))}
    # a row needs a column to be counted by, even when none is copied
    used = sorted(needed | {item.position for item in plan.inputs}) or [0]
    plan.reader = plan.reader.narrowed(used)
    plan.columns = [
        column if column.expression else replace(column, position=used.index(column.position))
        for column in plan.columns
    ]
    plan.inputs = [replace(item, position=used.index(item.position)) for item in plan.inputs]
    if plan.mark and by is not None and by.ties is not None:
        plan.mark = replace(plan.mark, by=replace(by, position=used.index(by.position)))


def bind_expressions(
    job: Job,
    plan: Planning,
    selected: Sequence[Selected],
    newer: str,
    keys: Mapping[str, str],
    scan_limit: int | None,
    progress: Callable[[int, int], None],
    *,
    trusting: bool = False,
) -> None:
    """Gives the expressions their types, which for files come from their values: from the first ones where that is enough,
    ``trusting`` that they are held against all others while they are read. ``newer``: the condition of what is new, "" for all."""
    reader = plan.reader
    assert reader is not None
    conditions = [f"({text})" for text in (job.source.where, newer) if text]
    condition = parse_condition(" and ".join(conditions), "from.where") if conditions else None
    computed = [item for item in selected if item.value is not None]
    if condition is None and not computed:
        return
    named = {
        column_position(name.name, reader.names, place)
        for node, place in [(condition, "from.where"), *((item.value, item.place) for item in computed)]
        if node is not None
        for name in names_in(node)
    }
    # a UUID is worked with as its text
    types = [CanonicalType("text") if kind is None or kind.name == "uuid" else kind for kind in reader.given]
    formats = dict.fromkeys(named, reader.formats)
    unknown = sorted(position for position in named if reader.given[position] is None)
    if unknown:
        scan = scan_columns(reader, unknown, limit=TRUSTED_BYTES) if trusting else Scan({}, complete=False)
        sampled = trusting and all(
            may_trust(reader, found, WantedColumn(position, found.type, reader.formats))
            for position, found in scan.columns.items()
        )
        if not scan.complete and not sampled:
            scan = scan_columns(reader, unknown, limit=scan_limit, progress=progress)
        plan.sampled = sampled and not scan.complete
        for position, found in scan.columns.items():
            types[position] = found.type
            if found.date_pattern:
                formats[position] = replace(reader.formats, date_pattern=found.date_pattern)
    plan.scope = ScopePlan(tuple(reader.names), tuple(types), dt.datetime.now(dt.UTC))
    scope = _scope(plan.scope, job, keys)
    for item in computed:
        assert item.value is not None
        plan.bound[item.name] = bind(item.value, scope, item.place)
    if condition is not None:
        _filter(plan, condition, bind_condition(condition, scope, "from.where"))
    bounds = [*plan.bound.values(), *([plan.condition] if plan.condition else [])]
    plan.inputs = [
        InputPlan(
            position,
            position,
            reader.names[position],
            types[position],
            formats[position],
            plan.sampled and position in unknown,
        )
        for position in sorted({position for bound in bounds for position in columns_in(bound)})
    ]


def _scope(planned: ScopePlan, job: Job, keys: Mapping[str, str]) -> Scope:
    return Scope(
        planned.names,
        planned.types,
        job.parameters,
        lambda name: key_named(name, keys),
        planned.now,
        follows_log=job.follows_log,
    )


def _filter(plan: Planning, node: Node, condition: Bound) -> None:
    """Leaves to the source what it can filter by, and keeps the rest."""
    reader = plan.reader
    parts = conjuncts(condition)
    kept = list(range(len(parts)))
    if isinstance(reader, TableRows) and reader.is_asked:
        dialect = reader.database.dialect
        named = comparable(dialect, reader.columns)
        sql = [render(part, dialect, named) for part in parts]
        reader.condition = " AND ".join(item for item in sql if item is not None)
        kept = [at for at in kept if sql[at] is None]
    if kept:
        plan.condition_plan = ConditionPlan(node, tuple(kept))
        plan.condition = _all_of(parts, kept)


def _all_of(parts: Sequence[Bound], kept: Sequence[int]) -> Bound:
    return functools.reduce(both, (parts[at] for at in kept))


def bound_again(plan: LegPlan, job: Job, keys: Mapping[str, str]) -> tuple[Mapping[str, Bound], Bound | None]:
    """The computed columns of a plan by name, and what is left to filter by, with their types."""
    if plan.scope is None:
        return {}, None
    scope = _scope(plan.scope, job, keys)
    bound = {
        column.source: bind(column.expression, scope, "columns")
        for column in plan.columns
        if column.expression is not None
    }
    if plan.condition is None:
        return bound, None
    parts = conjuncts(bind_condition(plan.condition.node, scope, "from.where"))
    return bound, _all_of(parts, plan.condition.parts)
