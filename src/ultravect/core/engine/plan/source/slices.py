"""Whether a leg is cut into slices, which several workers copy at the same time, and where."""

from __future__ import annotations

from collections.abc import Callable

from ultravect.core.engine.objects.tables import TableRows
from ultravect.core.engine.plan.planning import Planning
from ultravect.core.layouts.parts import DividesRows
from ultravect.core.model.jobs.job import Job

_MOST = 8
# what is read and written in about half a second, below which slices cost more than they save
_BYTES_OF_SLICE, _ROWS_OF_SLICE = 24 << 20, 200_000


def plan_slices(job: Job, plan: Planning, slots: Callable[[], int], *, cut: bool) -> None:
    """Cuts the leg, if it pays or the job wants it; what is decided is in the findings. ``cut`` False: only decides.

    ``slots`` says how many slices could be copied at the same time.

    The plan has no errors.
    """
    asked = job.run.slices
    count = _useful(plan, slots) if asked == "auto" else asked
    if count < 2:
        return
    why = _why_not(job, plan)
    if not why and asked == "auto":
        why = _why_slower(plan)
    if why:
        if asked != "auto":
            plan.add("note", "slices-not-cut", f"one worker copies all rows, not {asked} slices: {why}", "run.slices")
        return
    assert plan.reader is not None
    if isinstance(plan.reader, TableRows) and not plan.reader.database.shares_snapshots:
        plan.add(
            "warning",
            "slices-see-changes",
            f"slices of {plan.reader.label} do not read one snapshot: a row that changes meanwhile may be copied as it was or as it is",
            "run.slices",
            "write run.slices: 1, or run it when the table is not written to",
        )
    if cut:
        assert isinstance(plan.reader, DividesRows)
        found = plan.reader.parts(count)
        plan.slices = found if len(found) > 1 else ()
        count = len(plan.slices)
    if count > 1:
        plan.add("note", "slices-cut", f"copied in {count} slices, by as many workers as are free", "run.slices")


def _useful(plan: Planning, slots: Callable[[], int]) -> int:
    """How many slices could be quicker than one, by the size of the source."""
    reader = plan.reader
    if isinstance(reader, TableRows):
        pieces = (reader.live.rows or 0) // _ROWS_OF_SLICE if reader.live else 0
    else:
        pieces = reader.size // _BYTES_OF_SLICE if reader else 0
    return min(_MOST, pieces, slots()) if pieces > 1 else 1


def _why_not(job: Job, plan: Planning) -> str:
    """Why the leg cannot be cut; "" where it can."""
    if plan.target is None or plan.target.stages is None:
        return "a load into this target is one session's"
    if not plan.receipts:
        return "without receipts (receipts: false) a slice that is copied again could be there twice"
    if job.into.before:
        return "the statements of into.before come before any row"
    if job.into.checksums:
        return "checksums (into.checksums) are those of one reader"
    if plan.mark and plan.mark.by and plan.mark.by.ties is not None:
        return "rows with the highest value of the mark's column are compared by one reader"
    if job.guard is not None:
        return "guards look at all rows of the load"
    if job.source.asks_by_mark:
        return "the mark is the highest value of all rows, which one reader sees"
    if plan.sampled:
        return "types of expressions are those of the first rows, and may turn out to be others"
    reader = plan.reader
    return reader.undivided if isinstance(reader, DividesRows) else "a file of this format is read from its start"


def _why_slower(plan: Planning) -> str:
    """Why slices would not be quicker, or less sure; "" where they are."""
    assert plan.target is not None and plan.target.stages is not None and plan.write is not None
    if isinstance(plan.reader, TableRows) and not plan.reader.database.shares_snapshots:
        return "slices of this source do not read one snapshot"
    return plan.target.stages.obstacle(plan.write)
