"""Marks that are asked for: a server gives only what is new when the mark is a part of the address."""

from __future__ import annotations

import re
from urllib.parse import quote

from ultravect.core.contracts.mark import ColumnMark
from ultravect.core.contracts.write_plan import Insert
from ultravect.core.engine.objects.names import with_values
from ultravect.core.engine.plan.newer.mark_plan import ByPlan, MarkEntry, MarkPlan
from ultravect.core.engine.plan.newer.mark_values import ORDERED, family
from ultravect.core.engine.plan.newer.newer_rows import mark_key
from ultravect.core.engine.plan.planning import Planning
from ultravect.core.errors import UltravectError
from ultravect.core.model.jobs.job import MARK, Job

_MOMENT = re.compile(r"^(\d{4}-\d\d-\d\d) (\d\d:.*)$")
_PLAIN = ":-.,"


def with_mark(job: Job, plan: Planning) -> str:
    """``from.files`` with the mark in it, or with ``since`` where there is none yet; a moment is written with a T."""
    assert job.source.newer is not None and job.source.files is not None
    held = _held(job, plan)
    value = held.value if held else str(job.source.newer.since)
    return with_values(job.source.files, {MARK: quote(_MOMENT.sub(r"\1T\2", value), safe=_PLAIN)})


def _held(job: Job, plan: Planning) -> ColumnMark | None:
    if plan.target is None or plan.table is None or (plan.live is None and job.into.table is not None):
        return None
    text = plan.target.ledger(plan.table).mark(mark_key(job, plan.mark_parameters)).get("")
    return ColumnMark.from_text(text) if text else None


def plan_mark_of_answer(job: Job, plan: Planning) -> None:
    """Sets the plan's mark: the highest value of the column among the rows that are copied."""
    assert job.source.newer is not None and job.source.newer.by is not None
    assert plan.target is not None and plan.table is not None
    wanted = job.source.newer.by
    place = next((at for at, column in enumerate(plan.columns) if column.source.lower() == wanted.lower()), -1)
    if place < 0:
        raise UltravectError(
            "mark-column-not-copied",
            f"{wanted} is not among the columns that are copied, and its highest value is to become the mark",
            hint="name it in columns",
            place="from.newer.by",
        )
    column = plan.columns[place]
    if column.type.name not in ORDERED:
        raise UltravectError(
            "mark-column-unordered",
            f"{wanted} is of type {column.type}, by which a mark cannot be kept",
            hint="give it a type of numbers, dates or times in columns, such as `changed_at timestamptz`",
            place="from.newer.by",
        )
    if not job.into.key_names or isinstance(plan.action, Insert):
        why = "nothing says which of them are there" if not job.into.key_names else "append adds them once more"
        plan.add(
            "error",
            "mark-without-keys",
            f"rows with the value of the mark may come again with the next answer, and {why}",
            "into.keys",
            "use mode: upsert, with into.keys",
        )
        return
    key = mark_key(job, plan.mark_parameters)
    held, text = _held(job, plan), plan.target.ledger(plan.table).mark(key).get("")
    lower = held.value if held else None
    summary = f"since {lower or job.source.newer.since}"
    plan.summary_of_mark = summary
    before = ColumnMark(family(column.type), lower).as_text() if lower else ""
    plan.mark = MarkPlan(
        key, summary, (MarkEntry("", before, text),), ByPlan(wanted, column.type, lower, "", follows=place)
    )
