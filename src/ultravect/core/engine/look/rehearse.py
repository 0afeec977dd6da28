"""A rehearsal: rows go through read and shape as in a run, and nothing is written."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

import pyarrow as pa

from ultravect.core.engine.look.sample import text_rows
from ultravect.core.engine.objects.connections import ConnectionSpec
from ultravect.core.engine.objects.names import RunFacts
from ultravect.core.engine.plan.legs import lay_out
from ultravect.core.engine.plan.make import make_plan
from ultravect.core.engine.plan.open_leg import OpenLeg
from ultravect.core.engine.plan.planning import Planning
from ultravect.core.engine.run.counting.guards import Guards
from ultravect.core.engine.run.counting.tally import Tally
from ultravect.core.engine.run.rejected.rejects import Reject
from ultravect.core.engine.run.shape import Shaper
from ultravect.core.engine.run.shaped import Shaped
from ultravect.core.errors import UltravectError
from ultravect.core.layouts.base import Block
from ultravect.core.model.base import allowed_rejects
from ultravect.core.model.files import LayoutFile
from ultravect.core.model.finding import Finding
from ultravect.core.model.jobs.job import Job
from ultravect.core.model.problems import did_you_mean
from ultravect.core.words import counted

_SCAN_BYTES = 8 << 20
_SHOWN_ROWS = 10
_SHOWN_REJECTS = 20


@dataclass
class Rehearsal:
    """``rows`` are shown before and after; ``complete`` when all rows of the source were tried."""

    findings: list[Finding]
    steps: list[dict[str, Any]] = field(default_factory=list)
    source_columns: list[str] = field(default_factory=list)
    target_columns: list[dict[str, str]] = field(default_factory=list)
    rows: list[dict[str, Any]] = field(default_factory=list)
    rejects: list[Reject] = field(default_factory=list)
    complete: bool = False
    would_fail: str = ""

    @property
    def passed(self) -> bool:
        return not self.would_fail and not any(finding.severity == "error" for finding in self.findings)

    def as_dict(self) -> dict[str, Any]:
        return {
            "passed": self.passed,
            "would_fail": self.would_fail,
            "complete": self.complete,
            "steps": self.steps,
            "source_columns": self.source_columns,
            "target_columns": self.target_columns,
            "rows": self.rows,
            "rejects": [reject.as_dict() for reject in self.rejects],
            "findings": [finding.as_dict() for finding in self.findings],
        }


def rehearse(
    job: Job,
    source: ConnectionSpec,
    target: ConnectionSpec,
    saved: LayoutFile | None = None,
    *,
    rows: int | None = 1000,
    usual: Mapping[str, tuple[int, ...]] | None = None,
) -> Rehearsal:
    """Tries the first ``rows`` rows (None: all). Rows come in blocks, so that some more may be tried.

    ``usual``: see ``RunFacts``.
    """
    if job.into.folder is not None:
        raise UltravectError(
            "nothing-to-rehearse",
            "files that are copied as they are have no rows to try",
            hint="check says what a run would do",
            place="into.folder",
        )
    facts = RunFacts(usual=usual or {})
    plan = make_plan(job, source, target, saved, facts=facts, scan_limit=None if rows is None else _SCAN_BYTES)
    result = Rehearsal(plan.findings)
    if plan.reader is None and not plan.errors:
        result.complete = True  # nothing is new
        return result
    if plan.errors:
        result.would_fail = plan.errors[0].message
        return result
    try:
        _try(plan.job, plan, result, rows)
    except UltravectError as error:
        plan.refuse(error, job.source.place)
        result.would_fail = error.detail
    return result


def one_leg(job: Job, source: ConnectionSpec, target: ConnectionSpec, name: str) -> Job:
    """The job of the object ``name``, of a job with many, or of the first of them; UltravectError where there is none."""
    if not job.has_many:
        if name:
            raise UltravectError(
                "objects-not-many",
                f"job {job.job} copies one object: there are no others to choose from",
                hint="leave out the object",
            )
        return job
    found = lay_out(job, source, target, RunFacts())
    wanted = [leg for leg in found.legs if name in ("", leg.object)]
    if not wanted:
        first = found.errors[0] if found.errors else None
        if first is not None:
            raise UltravectError(first.code, first.message, hint=first.fix, place=first.place)
        names = [leg.object for leg in found.legs]
        raise UltravectError(
            "object-unknown",
            f"{name!r} is none of the objects of the job" if name else "the job finds no objects",
            hint=did_you_mean(name, names) or f"objects: {', '.join(names[:10])}",
        )
    return wanted[0].job


def _try(job: Job, plan: Planning, result: Rehearsal, wanted: int | None) -> None:
    assert plan.reader is not None and plan.target is not None
    shaper = Shaper.of(OpenLeg.of(plan))
    result.source_columns = list(plan.reader.names)
    result.target_columns = [
        {
            "source": "" if column.expression else column.source,
            "name": column.name,
            "type": str(column.type),
            "native": column.native,
        }
        for column in plan.columns
    ]
    guards = Guards(job.guard, plan.columns, plan.facts.usual) if job.guard else None
    read = filtered = rejected = 0
    result.complete = True
    for block in plan.reader.blocks():
        if wanted is not None and read >= wanted:
            result.complete = False
            break
        shaped = shaper.shape(block)
        _show(plan, result, block, shaped, read)
        result.rejects += shaped.rejects[: _SHOWN_REJECTS - len(result.rejects)]
        read += shaped.rows
        filtered += shaped.filtered
        rejected += len(shaped.rejects)
        if guards:
            guards.see(shaped)
    left = read - filtered
    result.steps = [
        {"step": "read", "rows_in": read, "rows_out": read, "rejected": 0},
        {"step": "filter", "rows_in": read, "rows_out": left, "rejected": 0},
        {"step": "shape", "rows_in": left, "rows_out": left - rejected, "rejected": rejected},
    ]
    if rejected > allowed_rejects(job.into.rejects, read):
        result.would_fail = f"{counted(rejected, 'row is a reject', 'rows are rejects')}, more than into.rejects: {job.into.rejects} allows"
    if guards:
        # what upserts leave unchanged is known only by a run
        tally = Tally(read=read, filtered=filtered, rejected=rejected, inserted=left - rejected)
        found = list(guards.findings(tally, complete=result.complete))
        result.findings += found
        broken = next((finding.message for finding in found if finding.severity == "error"), "")
        result.would_fail = result.would_fail or broken


def _show(plan: Planning, result: Rehearsal, block: Block, shaped: Shaped, before: int) -> None:
    """Notes the first rows that come through, as they were and as they would be."""
    missing = _SHOWN_ROWS - len(result.rows)
    if missing <= 0 or not shaped.batch.num_rows:
        return
    assert plan.reader is not None
    rows = plan.reader.read(block)
    places = [int(place) for place in shaped.index[:missing]]
    at = {int(place): number for number, place in enumerate(rows.index)}
    raw = text_rows(rows.values.take(pa.array([at[place] for place in places])))
    made = text_rows(pa.Table.from_batches([shaped.batch.slice(0, missing)]))
    result.rows += [
        {"row": before + place + 1, "before": was, "after": becomes}
        for place, was, becomes in zip(places, raw, made, strict=True)
    ]
