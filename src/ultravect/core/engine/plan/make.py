"""Turns a job into a plan, from the live source and the live target, with all that there is to say about it."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from ultravect.core.contracts.catalogue import LiveTable
from ultravect.core.contracts.kept_sessions import keeping_sessions
from ultravect.core.engine.objects.connections import ConnectionSpec
from ultravect.core.engine.objects.names import RunFacts, filled
from ultravect.core.engine.objects.sources import open_source
from ultravect.core.engine.objects.tables import TableRows, nearest_table, open_rows
from ultravect.core.engine.objects.targets import open_target
from ultravect.core.engine.plan.columns import Scanning
from ultravect.core.engine.plan.newer.newer_answers import plan_mark_of_answer, with_mark
from ultravect.core.engine.plan.newer.newer_files import plan_newer_files
from ultravect.core.engine.plan.newer.newer_log import (
    LogReading,
    find_unnamed_keys,
    log_rows,
    open_log,
    plan_newer_log,
)
from ultravect.core.engine.plan.newer.newer_rows import Again, mark_key, plan_newer_rows
from ultravect.core.engine.plan.planning import Planning
from ultravect.core.engine.plan.source.expected_columns import misfits
from ultravect.core.engine.plan.source.expressions import bind_expressions, narrow
from ultravect.core.engine.plan.source.proposals import in_job
from ultravect.core.engine.plan.source.selection import select_columns, with_target_names
from ultravect.core.engine.plan.source.slices import plan_slices
from ultravect.core.engine.plan.suggest import nearest_in, respelled
from ultravect.core.engine.plan.target.existing_table import plan_existing
from ultravect.core.engine.plan.target.guarding import plan_guards
from ultravect.core.engine.plan.target.new_table import plan_new
from ultravect.core.engine.plan.target.replaced import plan_gone, plan_replaced
from ultravect.core.engine.plan.target.target_checks import checks_for
from ultravect.core.engine.plan.target.write_plan import action_of, plan_write
from ultravect.core.engine.plan.target.writing import deciding_parameters, plan_mode
from ultravect.core.errors import UltravectError
from ultravect.core.expressions.select_list import Selected
from ultravect.core.model.files import LayoutFile
from ultravect.core.model.finding import Replacement
from ultravect.core.model.jobs.job import Job
from ultravect.core.model.layout import AnyLayout


def make_plan(
    job: Job,
    source: ConnectionSpec,
    target: ConnectionSpec,
    saved: LayoutFile | None = None,
    *,
    facts: RunFacts | None = None,
    scan_limit: int | None = None,
    progress: Callable[[int, int], None] = lambda rows, size: None,
    trusting: bool = False,
    text: str = "",
    again: Again | None = None,
    slots: Callable[[], int] | None = lambda: 1,
    reading: LogReading | None = None,
) -> Planning:
    """Looks at source and target and plans the leg. What is wrong is in the findings, not raised.

    ``saved`` is the layout that the job names, when it names one; ``facts`` what names of objects may say about a run; ``text`` the
    job's file, into which the plan's findings are edited.

    ``again``: of a job that copies what is new, this range is copied, whatever was copied before.

    ``reading``: of a job that follows a log, how its rows are read; None for a check.

    ``slots`` says how many slices could be copied at the same time; None where the leg may not be cut into slices.

    The types of a new table come from all of the file, or from its first ``scan_limit`` bytes; those that expressions take,
    when ``trusting``, from its first rows: see ``drift``.
    """
    plan = Planning(job, facts or RunFacts())
    with keeping_sessions():
        _make(
            plan,
            source,
            target,
            saved,
            Scanning(scan_limit, progress),
            again,
            reading,
            trusting=trusting,
            slots=slots,
        )
    if text:
        plan.findings = [finding.edited(text) for finding in plan.findings]
    return plan


def plan_arrivals(job: Job, source: ConnectionSpec, target: ConnectionSpec) -> Planning:
    """As ``make_plan``, but only as far as the files that are new; UltravectError says what is in the way."""
    plan = Planning(job, RunFacts())
    plan.mark_parameters = deciding_parameters(job)
    with keeping_sessions():
        _open_target(plan, target)
        if plan.errors:
            error = plan.errors[0]
            raise UltravectError(error.code, error.message, hint=error.fix)
        assert job.source.files is not None
        plan.path = filled(job.source.files, job, plan.facts, "from.files")
        plan_newer_files(job, plan, source)
    return plan


def _make(
    plan: Planning,
    source: ConnectionSpec,
    target: ConnectionSpec,
    saved: LayoutFile | None,
    scanning: Scanning,
    again: Again | None,
    reading: LogReading | None,
    *,
    trusting: bool,
    slots: Callable[[], int] | None,
) -> None:
    job, facts = plan.job, plan.facts
    selected: list[Selected] = []
    newer = ""
    plan.mark_parameters = deciding_parameters(job)
    by_files = job.source.newer is not None and job.source.newer.files is not None
    by_answer = job.source.asks_by_mark
    if by_files or by_answer:
        # what was copied before is noted there
        _open_target(plan, target)
    try:
        if job.source.files is None:
            table = job.source.table and filled(job.source.table, job, facts, "from.table")
            at = job.source.at
            moment = filled(at, job, facts, "from.at") if isinstance(at, str) else at
            rows = open_rows(source, job.source.model_copy(update={"table": table, "at": moment}))
            plan.reader = _of_log(job, plan, rows, source, target, reading) if job.follows_log else rows
        else:
            template = with_mark(job, plan) if by_answer else job.source.files
            plan.path = filled(template, job, facts, "from.files")
            plan.declared = _layout(job, saved)
            if not plan.errors:
                plan.chosen = plan_newer_files(job, plan, source)
                if plan.nothing:
                    return
            plan.reader = open_source(source, plan.path, plan.declared, plan.chosen)
        plan.findings += [in_job(finding, plan.reader, job) for finding in plan.reader.findings]
        if saved:
            plan.findings += misfits(saved.layout, saved.expects, plan.reader.names, {})
    except UltravectError as error:
        if error.code == "file-missing" and job.source.allow_none:
            plan.nothing = f"{job.source.files} matches nothing"
            return
        if error.code == "file-empty" and by_answer:
            plan.nothing = "the answer has no rows: nothing is new"
            return
        plan.refuse(error, job.source.place, respelled(job, job.source.place, error))
    if plan.reader:
        try:
            selected = select_columns(job, plan.reader)
        except UltravectError as error:
            plan.refuse(error, "columns", respelled(job, str(error.where.get("place", "")), error))
    if not by_files and not by_answer:
        _open_target(plan, target)
    if plan.reader and plan.target and not plan.errors:
        try:
            job = plan.job = with_target_names(job, plan.reader, selected, plan.target.dialect, plan.live)
        except UltravectError as error:
            plan.refuse(error, "into.keys")
    if plan.reader and not plan.errors:
        try:
            if not by_answer and not job.follows_log:
                newer = plan_newer_rows(job, plan, again, selected)
            elif plan.log is not None:
                plan_newer_log(job, plan, reading, mark_key(job, plan.mark_parameters), plan.log, plan.left_out)
        except UltravectError as error:
            plan.refuse(error, "from.newer", respelled(job, str(error.where.get("place", "")), error))
    if plan.reader and not plan.errors:
        try:
            bind_expressions(
                job, plan, selected, newer, source.keys, scanning.limit, scanning.progress, trusting=trusting
            )
        except UltravectError as error:
            plan.refuse(error, "columns", respelled(job, str(error.where.get("place", "")), error))
    if plan.table is None or plan.target is None or plan.errors:
        return
    try:
        _plan_columns(job, plan, selected, scanning)
        if by_answer and not plan.errors:
            plan_mark_of_answer(job, plan)
        if not plan.errors:
            plan_mode(job, plan)
            if plan.log is not None:
                find_unnamed_keys(job, plan, plan.log)
            plan_replaced(job, plan)
            plan_gone(job, plan)
            _decide_checks(job, plan)
            plan_guards(job, plan)
        if not plan.errors:
            plan_write(job, plan)
    except UltravectError as error:
        plan.refuse(error, job.source.place)
    narrow(job, plan)
    if not plan.errors and plan.write is not None and plan.reader is not None and slots is not None:
        plan_slices(job, plan, slots, cut=scanning.limit is None)


def _of_log(
    job: Job,
    plan: Planning,
    rows: TableRows,
    source: ConnectionSpec,
    target: ConnectionSpec,
    reading: LogReading | None,
) -> TableRows:
    """The rows of a table as its log has them."""
    plan.log = open_log(job, source, target, rows.database)
    assert rows.live is not None, "from.newer: log goes with tables"
    sent = plan.log.sent(rows.live)
    plan.left_out = [column.name for column in rows.columns if column.name not in sent]
    return log_rows(rows, sent, reading)


def _open_target(plan: Planning, target: ConnectionSpec) -> None:
    try:
        plan.target, plan.table = open_target(plan.job, target, plan.facts)
        plan.action = action_of(plan.job, truncates=plan.target.truncates)
        plan.receipts = bool(target.settings.get("receipts", True))
        plan.may_call = bool(target.settings.get("may_call", False))
        plan.live = plan.target.table(plan.table)
        newer = plan.job.source.newer
        if newer is not None and newer.has_mark and not plan.receipts:
            plan.add(
                "error",
                "marks-off",
                f"from.newer notes in the target what was copied, and the connection {target.name} takes no notes: receipts: false",
                "from.newer",
                "set receipts: true in the connection",
            )
    except UltravectError as error:
        plan.refuse(error, "into.connection")


def _decide_checks(job: Job, plan: Planning) -> None:
    """Which of the target's checks are decided here: not of rows that may be dropped for others, nor of a changed table."""
    if plan.live is None or plan.is_new or plan.target is None or job.into.keys or job.into.before:
        return
    plan.checks = [*plan.checks, *checks_for(plan.live, plan.columns, plan.target.dialect)]


def _layout(job: Job, saved: LayoutFile | None) -> AnyLayout | None:
    """What the files are read with: the saved layout that the job names, or the job's own."""
    if saved:
        return saved.reads
    own = job.source.layout
    assert not isinstance(own, str), "the caller looks up the layout that it names"
    return own


def _plan_columns(job: Job, plan: Planning, selected: Sequence[Selected], scanning: Scanning) -> None:
    live = plan.live
    if live is None:
        if _may_create(job, plan):
            plan_new(job, plan, selected, scanning)
        return
    if live.kind not in ("table", "foreign table"):
        plan.add(
            "error",
            "target-is-view",
            f"{live.name} is a {live.kind}, which takes no rows",
            "into.table",
            "name a table",
        )
    elif job.into.if_different == "rebuild":
        plan_new(job, plan, selected, scanning)
        _rebuild_only_if_different(plan, live)
        if plan.rebuilds and live.dependents:
            plan.add(
                "error",
                "target-depended-on",
                f"{live.name} cannot be rebuilt: {', '.join(live.dependents)} depend{'s' if len(live.dependents) == 1 else ''} on it",
                "into.if_different",
                "drop what depends on the table, and make it again after the run (into.before, into.after), or widen",
            )
    else:
        plan_existing(job, plan, live, selected, scanning)


def _may_create(job: Job, plan: Planning) -> bool:
    assert plan.target is not None and plan.table is not None
    if job.into.if_missing == "fail":
        near = nearest_table(plan.target.database, plan.table) if plan.target.database else ""
        plan.add(
            "error",
            "table-missing",
            f"the table {plan.table} does not exist",
            "into.table",
            f"{near and near + ' or '}write into.if_missing: create to have it created",
            Replacement("into.table", nearest_in(near)) if near else Replacement("into.if_missing", "create"),
        )
        return False
    obstacle = plan.target.may_create(plan.table)
    if obstacle:
        what = f"{plan.table} cannot be created: {obstacle}"
        fix = f"create it: CREATE SCHEMA {plan.table.schema}" if "no schema" in obstacle else ""
        plan.add("error", "table-not-creatable", what, job.into.place, fix)
    return not obstacle


def _rebuild_only_if_different(plan: Planning, live: LiveTable) -> None:
    """A table whose columns are as they would be made is overwritten as it is."""
    assert plan.target is not None
    dialect = plan.target.dialect
    held = [(column.name, column.type) for column in live.columns]
    made = [(column.name, dialect.to_canonical(dialect.catalogued(column.native))) for column in plan.columns]
    if held == made:
        plan.is_new, plan.create = False, None
        return
    gone = [name for name, _ in held if name not in dict(made)]
    lost = f"; the columns {', '.join(gone)} are lost" if gone else ""
    plan.add(
        "warning" if gone else "note",
        "table-rebuilt",
        f"{live.name} has other columns or types: a new table takes its place{lost}",
        "into.if_different",
    )
