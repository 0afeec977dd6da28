"""Chooses the write plan of a job: what becomes of rows that are there, by which strategy, with all that the load needs to know."""

from __future__ import annotations

from dataclasses import replace

from ultravect.core.contracts.target import SwapNeeds
from ultravect.core.contracts.write_plan import Gone, Insert, Merge, Replace, WritePlan
from ultravect.core.contracts.write_session import SWAP
from ultravect.core.dialects.base import NewColumn
from ultravect.core.engine.plan.planning import Planning
from ultravect.core.engine.plan.target.strategies import Situation, choose
from ultravect.core.model.base import duration_seconds
from ultravect.core.model.jobs.job import Job


def action_of(job: Job, *, truncates: bool) -> Insert | Replace | Merge:
    """What becomes of the rows that are there, by the job alone; ``truncates``: whether the target takes them away at once, if asked to."""
    into = job.into
    match into.mode:
        case "append":
            return Insert()
        case "overwrite":
            truncated = into.old_rows == "truncate" and truncates
            return Replace(how="truncate" if truncated else "delete", keep_previous=into.keep_previous > 0)
        case "upsert":
            gone = (
                None
                if into.gone == "keep"
                else Gone("" if into.gone == "delete" else into.gone.flag, into.gone_limit)
            )
            return Merge(gone=gone)


def plan_write(job: Job, plan: Planning) -> None:
    """Chooses the strategy of a plan without errors, and with it the write plan."""
    assert plan.target is not None and plan.table is not None and plan.reader is not None
    into, action = job.into, plan.action
    plan.strategy = choose(_situation(job, plan))
    if isinstance(action, Replace) and plan.strategy.name == SWAP:
        action = replace(action, how="swap")
    gone = isinstance(action, Merge) and action.gone is not None
    plan.write = WritePlan(
        plan.table,
        tuple(NewColumn(column.name, column.type) for column in plan.columns),
        action,
        source=plan.reader.label,
        keys=tuple(into.key_names),
        repeats=into.repeats,
        create=plan.create if into.files is None else None,
        rebuild=plan.rebuilds,
        changes=tuple(plan.changes),
        before=tuple(into.before),
        after=tuple(into.after),
        only_if_empty=into.only_if_empty,
        lock_seconds=duration_seconds(into.lock_wait),
        lock_table=into.lock_table,
        samples=into.samples,
        receipts=plan.receipts,
        marks=plan.mark is not None,
        # what is kept or gone is a part of all rows, which are looked at anyway
        counts_all=into.count == "exact" or into.keep_previous > 0 or gone,
    )


def _situation(job: Job, plan: Planning) -> Situation:
    target = plan.target
    assert target is not None
    needs = SwapNeeds(
        before=bool(job.into.before),
        after=bool(job.into.after),
        keeps=job.into.keep_previous > 0,
        keyed=bool(job.into.key_names),
        changes=bool(plan.changes),
    )
    return Situation(
        plan.action,
        job.into.files is not None,
        bool(job.into.key_names),
        plan.is_new,
        bool(plan.changes),
        plan.live,
        lambda live: target.swap_obstacle(live, needs),
    )
