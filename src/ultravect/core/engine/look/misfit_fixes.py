"""What to do about rows that do not fit: what would read them, before it is said that they may be lost."""

from __future__ import annotations

import re
from collections import Counter
from dataclasses import dataclass, field

from ultravect.core.engine.look.value_fixes import FirstRows, fix_of_values
from ultravect.core.engine.plan.leg_plan import ColumnPlan
from ultravect.core.engine.plan.planning import Planning
from ultravect.core.engine.plan.source.proposals import late_findings, put_in_layout
from ultravect.core.engine.plan.target.names import quoted
from ultravect.core.engine.run.rejected.rejects import Reject
from ultravect.core.model.finding import Replacement
from ultravect.core.model.jobs.job import Job

_KEPT = 200
_MOST_LAST, _LEAST_ABOVE = 20, 5
_TOLERABLE = 0.05  # of the rows: so many may be faults in the data; more are signs of a wrong type or layout
_WIDTH = re.compile(r"^(?P<found>[\d,]+) values? where the header has (?P<wanted>[\d,]+)")


@dataclass
class Misfits:
    """The rejects of one column, or of whole rows: how many, the first, and their different values."""

    count: int = 0
    first: Reject | None = None
    values: Counter[str] = field(default_factory=Counter)
    reasons: Counter[str] = field(default_factory=Counter)

    def add(self, reject: Reject) -> None:
        self.count += 1
        self.first = self.first or reject
        if reject.value is not None and (len(self.values) < _KEPT or reject.value in self.values):
            self.values[reject.value] += 1
        self.reasons[reject.reason] += 1


@dataclass(frozen=True)
class Fix:
    """In words and, where that is known, as what is written into the job file."""

    text: str
    replacement: Replacement | None = None


def fix_of(
    job: Job,
    plan: Planning,
    found: Misfits,
    column: ColumnPlan | None,
    tolerated: Fix | None,
    rows: FirstRows,
    count: int | None,
) -> Fix:
    """``tolerated`` is what would let the rows be rejects; None where they are too many for that. ``rows``: on which fixes are tried;
    ``count``: of all rows, None where they were not all looked at."""
    if column is None and (last := _last_lines(job, plan, found, count)) is not None:
        return last
    if column is not None:
        read = _read_by(job, plan, found, column, rows)
    else:
        read = _whole_by(job, plan, found.reasons)
    if read is not None:
        return read
    return tolerated or Fix(
        "correct them in the source, filter them with from.where, or tolerate them with into.rejects (a count or a share)"
    )


def _last_lines(job: Job, plan: Planning, found: Misfits, count: int | None) -> Fix | None:
    """That the rows which are not whole are the last lines of the file, and no rows."""
    layout = getattr(plan.reader, "layout", None)
    if (
        count is None
        or found.first is None
        or layout is None
        or layout.format != "delimited"
        or found.count > _MOST_LAST
    ):
        return None
    if not all(_WIDTH.match(reason) for reason in found.reasons) or layout.footer:
        return None
    if found.first.row != count - found.count + 1 or count - found.count < _LEAST_ABOVE:
        return None
    what = "the last line is no row" if found.count == 1 else f"the last {found.count} lines are no rows"
    return Fix(f"if {what}, write layout.footer: {found.count}", put_in_layout(layout, "footer", found.count, job))


def tolerated(total: int, rows: int, complete: bool) -> Fix | None:
    """To let ``total`` of ``rows`` be rejects, when they are few."""
    if total > rows * _TOLERABLE:
        return None
    return Fix(
        f"correct them in the source, or tolerate them with into.rejects: {total}",
        Replacement("into.rejects", total) if complete else None,
    )


def _read_by(job: Job, plan: Planning, found: Misfits, column: ColumnPlan, rows: FirstRows) -> Fix | None:
    if column.expression is None and (fix := fix_of_values(job, rows, column)) is not None:
        return Fix(fix.text, fix.replacement)
    if plan.is_new and column.type.name != "text" and found.values:
        return Fix(f"give the column a type that holds them, such as `{quoted(column.source)} text`")
    return None


def _whole_by(job: Job, plan: Planning, reasons: Counter[str]) -> Fix | None:
    """What the layout would say so that rows with other values or keys than the columns are read."""
    layout = getattr(plan.reader, "layout", None)
    if layout is None or plan.reader is None:
        return None
    for late in late_findings(plan.reader, layout, job):
        return Fix(late.fix, late.replacement)
    if layout.format != "delimited":
        return None
    widths = [_WIDTH.match(reason) for reason in reasons]
    if not widths or not all(widths):
        return None
    long = any(
        int(width["found"].replace(",", "")) > int(width["wanted"].replace(",", "")) for width in widths if width
    )
    if long:
        return Fix(
            'is a delimiter part of a value? then quotes, layout.escape (such as "\\\\") or another layout.delimiter keep it; nothing is cut'
        )
    return Fix("layout.ragged: pad fills short rows with NULL", put_in_layout(layout, "ragged", "pad", job))
