"""Looks at a job, its live source and its live target, and moves nothing."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping
from dataclasses import asdict, dataclass, field, replace
from typing import Any

import pyarrow as pa

from ultravect.core.contracts.kept_sessions import keeping_sessions
from ultravect.core.engine.look.choices import type_choices
from ultravect.core.engine.look.misfit_fixes import Fix, Misfits, fix_of, tolerated
from ultravect.core.engine.look.unverified import find_unverified
from ultravect.core.engine.look.value_fixes import FirstRows
from ultravect.core.engine.objects.connections import ConnectionSpec
from ultravect.core.engine.objects.names import RunFacts
from ultravect.core.engine.objects.tables import TableRows
from ultravect.core.engine.plan.leg_plan import ColumnPlan, StrategyPlan
from ultravect.core.engine.plan.make import make_plan
from ultravect.core.engine.plan.open_leg import OpenLeg
from ultravect.core.engine.plan.planning import Planning
from ultravect.core.engine.plan.target.effects import effect_of, statements_of
from ultravect.core.engine.plan.target.repeats import note_repeats
from ultravect.core.engine.plan.target.statements import find_objections
from ultravect.core.engine.plan.target.writing import find_duplicates, find_receipts
from ultravect.core.engine.run.copy_files import Mirror, summary
from ultravect.core.engine.run.counting.guards import Guards
from ultravect.core.engine.run.counting.tally import Tally
from ultravect.core.engine.run.shape import Shaper
from ultravect.core.errors import UltravectError
from ultravect.core.model.base import allowed_rejects
from ultravect.core.model.files import LayoutFile
from ultravect.core.model.finding import Finding
from ultravect.core.model.jobs.job import Job
from ultravect.core.types.pairs import pair_fit
from ultravect.core.words import counted

_SAMPLE_BYTES = 8 << 20
_FIX_BYTES = 1 << 20
_SCAN_BYTES = 64 << 20  # some seconds; anyone who checks is waiting


@dataclass
class CheckResult:
    """``columns`` show how each one is copied; ``ddl`` is what a run would execute to create or change the target.

    ``effect`` says what the mode would do to the target as it is now, ``target_sql`` with which statements.
    """

    findings: list[Finding]
    columns: list[dict[str, Any]] = field(default_factory=list)
    ddl: str | None = None
    source_sql: str | None = None
    effect: str = ""
    target_sql: list[str] = field(default_factory=list)
    target: str = ""
    target_exists: bool = False
    rows_tried: int = 0
    strategy: StrategyPlan | None = None

    @property
    def passed(self) -> bool:
        return not any(finding.severity == "error" for finding in self.findings)

    def edited(self, text: str) -> CheckResult:
        """The result with the fixes as edits of the job file ``text``."""
        return replace(self, findings=[finding.edited(text) for finding in self.findings])

    def as_dict(self) -> dict[str, Any]:
        return {
            "passed": self.passed,
            "findings": [finding.as_dict() for finding in self.findings],
            "columns": self.columns,
            "ddl": self.ddl,
            "source_sql": self.source_sql,
            "effect": self.effect,
            "target_sql": self.target_sql,
            "target": self.target,
            "target_exists": self.target_exists,
            "rows_tried": self.rows_tried,
            "strategy": asdict(self.strategy) if self.strategy else None,
            "legs": [],
        }


def check_job(
    job: Job,
    source: ConnectionSpec,
    target: ConnectionSpec,
    saved: LayoutFile | None = None,
    *,
    sample_bytes: int = _SAMPLE_BYTES,
    scan_bytes: int = _SCAN_BYTES,
    usual: Mapping[str, tuple[int, ...]] | None = None,
) -> CheckResult:
    """Plans the leg and tries the first rows against the target's types: ``sample_bytes`` of them.

    ``scan_bytes``: from how much of a file the types of a new table come; ``usual``: see ``RunFacts``.
    """
    if job.into.folder is not None:
        return _check_mirror(job, source, target)
    with keeping_sessions():
        return _check_leg(job, source, target, saved, sample_bytes, scan_bytes, RunFacts(usual=usual or {}))


def fix_for_rejects(
    job: Job, source: ConnectionSpec, target: ConnectionSpec, saved: LayoutFile | None, facts: RunFacts
) -> str:
    """What a check would say to rows that do not fit, so that a run that ends for them says the same; "" where there is nothing to say."""
    try:
        found = _check_leg(job, source, target, saved, _FIX_BYTES, _FIX_BYTES, facts)
    except UltravectError:
        return ""
    about = ("rows-misfit", "rows-not-whole")
    return next(
        (item.fix for item in found.findings if item.code in about and item.severity == "error" and item.fix), ""
    )


def _check_leg(
    job: Job,
    source: ConnectionSpec,
    target: ConnectionSpec,
    saved: LayoutFile | None,
    sample_bytes: int,
    scan_bytes: int,
    facts: RunFacts,
) -> CheckResult:
    plan = make_plan(job, source, target, saved, facts=facts, scan_limit=scan_bytes)
    job = plan.job
    rows = 0
    effect, statements = "", []
    if not plan.errors and plan.reader is not None:
        try:
            find_duplicates(job, plan)
            find_receipts(plan)
            find_objections(job, plan)
            find_unverified(plan, source, target)
            leg = OpenLeg.of(plan)
            rows, sample = _try_rows(job, plan, leg, sample_bytes)
            if not plan.errors:  # a run would come to nothing
                effect, statements = effect_of(job, plan, sample), statements_of(leg)
                effect = f"{effect}; {_new_rows(plan)}" if plan.mark else effect
                effect = f"{effect}; after that, the log is followed" if job.follows_log else effect
        except UltravectError as error:
            plan.refuse(error, job.source.place)
    if plan.nothing and not plan.errors:
        effect = f"copies nothing: {plan.nothing}"
    columns = [
        {
            "source": column.source,
            "name": column.name,
            "type": str(column.type),
            "native": column.native,
            "fit": _fit(column),
            "evidence": column.inferred.evidence if column.inferred else column.fit,
            "choices": type_choices(column, plan.target.dialect) if plan.is_new and plan.target else [],
        }
        for column in plan.columns
    ]
    order = {"error": 0, "warning": 1, "note": 2}
    findings = sorted(plan.findings, key=lambda finding: order[finding.severity])
    name = str(plan.live.name if plan.live else plan.table or "")
    sql = plan.reader.statement if isinstance(plan.reader, TableRows) and plan.columns else None
    return CheckResult(
        findings,
        columns,
        ";\n".join(plan.ddl) or None,
        sql,
        effect,
        statements,
        name,
        plan.live is not None,
        rows,
        plan.strategy,
    )


def _fit(column: ColumnPlan) -> str:
    """A word of ``Fit``, "" where the values have no type before."""
    pair = pair_fit(column.origin, column.type) if column.origin else None
    return str(pair[0]) if pair else ""


def _new_rows(plan: Planning) -> str:
    """Where a run would begin, and how much there is."""
    count = plan.count_new()
    return plan.summary_of_mark + ("" if count is None else f": about {counted(count, 'row')}")


def _check_mirror(job: Job, source: ConnectionSpec, target: ConnectionSpec) -> CheckResult:
    """Looks at the files on both sides; none is opened."""
    name = str(job.into.folder)
    try:
        mirror = Mirror(job, source, target, RunFacts())
    except UltravectError as error:
        place = str(error.where.get("place", job.source.place))
        return CheckResult([Finding("error", error.code, error.detail, place, error.hint)], target=name)
    there = any(pair.there for pair in mirror.pairs)
    return CheckResult([], effect=summary(mirror), target=mirror.folder or name, target_exists=there)


def _try_rows(job: Job, plan: Planning, leg: OpenLeg, sample_bytes: int) -> tuple[int, pa.RecordBatch | None]:
    """Converts the first rows as a run would; misfits become a finding a column. How many, and some of them."""
    shaper = Shaper.of(leg)
    checks = {check.reason: check for check in plan.checks}
    misfits: defaultdict[str, Misfits] = defaultdict(Misfits)
    rows = size = 0
    good: list[pa.RecordBatch] = []
    guards = Guards(job.guard, plan.columns, plan.facts.usual) if job.guard else None
    tally = Tally()
    complete = True
    for block in leg.reader.blocks():
        if size >= sample_bytes:
            complete = False
            break
        shaped = shaper.shape(block)
        good.append(shaped.batch)
        if guards:
            guards.see(shaped)
            tally.filtered += shaped.filtered
            tally.inserted += shaped.batch.num_rows
        rows += shaped.rows
        size += shaped.bytes
        for reject in shaped.rejects:
            # a check is reported by itself, whatever the columns that it is about
            about = reject.reason if reject.reason in checks else reject.column
            misfits[about].add(reject)
    total = sum(misfit.count for misfit in misfits.values())
    fatal = total > allowed_rejects(job.into.rejects, rows)
    tried = counted(rows, "row") if complete else f"the first {counted(rows, 'row')}"
    known = {column.source: column for column in plan.columns}
    first_rows = FirstRows(plan) if fatal else None
    for name, found in misfits.items():
        assert found.first is not None
        first = found.first
        fix = (
            fix_of(
                job,
                plan,
                found,
                known.get(name),
                tolerated(total, rows, complete),
                first_rows,
                rows if complete else None,
            )
            if first_rows
            else Fix("")
        )
        if not name and any(finding.code == "rows-not-whole" for finding in plan.findings):
            if fatal:
                _raise(plan, "rows-not-whole", fix)
            continue
        if name in known:
            verb = "does" if found.count == 1 else "do"
            what = f"{verb} not fit {known[name].native} of column {known[name].name}"
        elif name in checks:
            # the reason says all of it already
            what, first = (
                f"{'breaks' if found.count == 1 else 'break'} {checks[name].summary}",
                replace(first, reason=""),
            )
        else:
            what = f"cannot be computed in {name}" if name else f"{'is' if found.count == 1 else 'are'} not whole"
        plan.add(
            "error" if fatal else "warning",
            "rows-misfit",
            f"{found.count:,} of {tried} {what}, first {str(first).removesuffix(': ')}",
            "into.rejects",
            fix.text,
            fix.replacement,
        )
    note_repeats(job, plan, good, tried)
    if guards:
        tally.read, tally.rejected = rows, total
        plan.findings += guards.findings(tally, complete=complete)
    return rows, good[0] if good else None


def _raise(plan: Planning, code: str, fix: Fix) -> None:
    plan.findings = [
        replace(finding, severity="error", fix=fix.text, replacement=fix.replacement)
        if finding.code == code
        else finding
        for finding in plan.findings
    ]
