"""Runs a leg: plans it, and executes the plan; once more where types or rows turn out to be others."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import Any, TypeVar

from ultravect.core.contracts.kept_sessions import keeping_sessions
from ultravect.core.contracts.receipt import ReceiptKey
from ultravect.core.contracts.write_session import CHANGED
from ultravect.core.engine.objects.connections import ConnectionSpec
from ultravect.core.engine.objects.names import RunFacts
from ultravect.core.engine.objects.targets import open_target
from ultravect.core.engine.plan.make import make_plan
from ultravect.core.engine.plan.newer.newer_rows import Again
from ultravect.core.engine.plan.open_leg import OpenLeg
from ultravect.core.engine.plan.planning import Planning
from ultravect.core.engine.plan.source.drift import TypeDrift
from ultravect.core.engine.run.copied_files import tidy, tidy_loaded
from ultravect.core.engine.run.copy_files import mirror_leg
from ultravect.core.engine.run.counting.progress import Progress
from ultravect.core.engine.run.counting.tally import Tally
from ultravect.core.engine.run.execution import Execution
from ultravect.core.engine.run.leg import PHASES, LegResult, Listener
from ultravect.core.engine.run.leg_run import REFUSALS, LegRun
from ultravect.core.engine.run.sliced_leg import SlicedLeg, SlicesHere
from ultravect.core.errors import UltravectError
from ultravect.core.layouts.chain import ChainReader
from ultravect.core.model.base import duration_seconds
from ultravect.core.model.files import LayoutFile
from ultravect.core.model.finding import Finding
from ultravect.core.model.jobs.job import Job
from ultravect.core.words import counted

T = TypeVar("T")
BUSY = "database-busy"
_POLL_SECONDS = 0.2
_ATTEMPTS = 5
"""How often rows are read for a target that others change meanwhile."""


@keeping_sessions()
def run_leg(
    job: Job,
    source: ConnectionSpec,
    target: ConnectionSpec,
    execution: Execution,
    *,
    saved: LayoutFile | None = None,
    facts: RunFacts | None = None,
    text: str = "",
    again: Again | None = None,
) -> LegResult:
    """Copies one file, or a group of like files, into one table; ``saved``, ``facts``, ``text`` and ``again``: see ``make_plan``.

    Where there were attempts before (``Execution.earlier``), the target is asked for their receipts first, and then lets none of them
    commit any more. A leg that is cut into slices has them copied by ``Execution.runner``, or here, one after the other.

    Raises UltravectError when it fails; its ``outcome`` says what the target then holds.
    """
    listener, run_id, earlier = execution.listener, execution.run_id, execution.earlier
    facts = facts or RunFacts(run_id or "0")
    if job.into.folder is not None:
        return mirror_leg(job, source, target, listener, facts)
    listener.phase("read", "running")
    free = _Free(job, listener)
    if earlier and (known := free.when(lambda: committed_result(job, target, earlier, facts))):
        listener.log("info", "the rows were committed before the run was taken over: its receipt is in the target")
        return replace(known, seconds=time.monotonic() - execution.started)
    progress = Progress(listener, 0)
    runner = execution.runner or SlicesHere(source, target, run_id)
    execution = replace(execution, runner=runner)
    if execution.selection:
        job = _additional(job)
    sliced = execution.selection is None and execution.key is not None

    def planned(*, trusting: bool) -> Planning:
        return make_plan(
            job,
            source,
            target,
            saved,
            facts=facts,
            progress=lambda rows, size: progress.report(rows_scanned=rows, bytes_scanned=size),
            trusting=trusting,
            text=text,
            again=again,
            slots=runner.capacity if sliced else None,
        )

    plan = free.when(lambda: planned(trusting=True))
    if plan.errors and plan.sampled:
        plan = free.when(lambda: planned(trusting=False))  # more rows may have other types
    if plan.nothing and not plan.errors:
        return nothing_new(plan, source, listener, execution.started)
    try:
        return _planned_leg(plan, source, execution, reported=())
    except TypeDrift as drift:
        listener.log("info", f"{drift}: the whole file is read for its types, and the leg begins anew")
    plan_again = free.when(lambda: planned(trusting=False))
    return _planned_leg(plan_again, source, execution, reported=plan.findings)


class _Free:
    """Waits for places that others keep to themselves for a while, such as a database that is a file: as long as ``into.lock_wait``
    says, all in all."""

    def __init__(self, job: Job, listener: Listener) -> None:
        self._listener = listener
        self._seconds = duration_seconds(job.into.lock_wait)
        self._until = time.monotonic() + self._seconds
        self._said = False

    def when(self, action: Callable[[], T]) -> T:
        """What ``action`` gives, a plan or anything else, once nothing that is busy keeps it from it."""
        while True:
            try:
                found = action()
            except UltravectError as error:
                if not self._waits(error.code, error.detail):
                    raise
                continue
            busy = (
                next((item for item in found.errors if item.code == BUSY), None)
                if isinstance(found, Planning)
                else None
            )
            if busy is None or not self._waits(busy.code, busy.message):
                return found

    def _waits(self, code: str, detail: str) -> bool:
        """Waits for a moment; False where that does not help, or was enough."""
        if code != BUSY or time.monotonic() >= self._until:
            return False
        if not self._said:
            self._said = True
            self._listener.log("warning", f"{detail}: waiting for it, up to {self._seconds:g} s")
        time.sleep(_POLL_SECONDS)
        return True


def _planned_leg(
    plan: Planning, source: ConnectionSpec, execution: Execution, *, reported: Sequence[Finding]
) -> LegResult:
    """Runs a leg as it was planned; ``reported`` are the findings that were reported before."""
    listener = execution.listener
    for finding in plan.findings:
        if finding not in reported:
            listener.finding(finding)
    require_plan(plan)
    opened = OpenLeg.of(plan)
    listener.planned(opened.plan)
    result = run_plan(opened, execution)
    tidy_loaded(plan.mark, source, listener)
    return result


def require_plan(plan: Planning) -> None:
    """Raises the first error of a plan."""
    if plan.errors:
        first = plan.errors[0]
        more = f" ({counted(len(plan.errors) - 1, 'more error')})" if len(plan.errors) > 1 else ""
        raise UltravectError(first.code, first.message + more, hint=first.fix, place=first.place)


def nothing_new(plan: Planning, source: ConnectionSpec, listener: Listener, started: float) -> LegResult:
    """A leg without a load: what was copied before is all there is."""
    for finding in plan.findings:
        listener.finding(finding)
    listener.log("info", f"{plan.nothing}: nothing was read, and nothing written")
    if plan.mark is not None:
        tidy(plan.mark, source, listener, plan.mark.tidied)
    for phase in PHASES:
        listener.phase(phase, "done")
    shown = {"object": plan.mark.key.object, "summary": plan.summary_of_mark} if plan.mark else None
    return LegResult(Tally(), None, None, False, time.monotonic() - started, mark=shown, nothing=plan.nothing)


def run_plan(opened: OpenLeg, execution: Execution) -> LegResult:
    """Executes a plan, whichever process made it; see ``run_leg``."""
    listener = execution.listener
    if execution.selection:
        opened = files_apart(opened)
        execution.selection.ask(opened.reader)
    sliced = bool(opened.plan.slices) and execution.key is not None and execution.runner is not None
    leg = SlicedLeg(opened, execution) if sliced else LegRun(opened, execution)
    for attempt in range(1, _ATTEMPTS + 1):
        try:
            return leg.run()
        except UltravectError as error:
            if error.code == CHANGED and attempt < _ATTEMPTS and not opened.plan.slices:
                listener.log("warning", f"{error.detail}; the rows are read again (attempt {attempt + 1})")
                listener.read_again()
                leg = LegRun(opened, execution)
                continue
            if error.code not in REFUSALS or not leg.may_isolate or leg.published:
                raise
            listener.log(
                "warning", f"the target refuses rows ({error.detail}); they are read again, to find which ones"
            )
            break
    # the source may have changed since: nothing of the first reading is kept
    listener.read_again()
    return LegRun(files_apart(opened), execution, isolates=True).run()


def files_apart(opened: OpenLeg) -> OpenLeg:
    """With a reader whose blocks are each of one file, in which rows are found by their numbers."""
    reader = opened.reader
    return replace(opened, reader=replace(reader, joins=False)) if isinstance(reader, ChainReader) else opened


def _additional(job: Job) -> Job:
    """The job for rows that come after others of the same load: those are not replaced, nor prepared for again."""
    into = job.into
    mode = "append" if into.removes_old else into.mode
    different = "fail" if into.if_different == "rebuild" else into.if_different
    changed: dict[str, Any] = {
        "mode": mode,
        "if_different": different,
        "only_if_empty": False,
        "keep_previous": 0,
        "before": [],
        # some rows say nothing of those that are missing, and the mark is past them
        "gone": "keep",
    }
    source = job.source.model_copy(update={"newer": None})
    return job.model_copy(update={"source": source, "into": into.model_copy(update=changed)})


def committed_result(
    job: Job, spec: ConnectionSpec, attempts: Sequence[ReceiptKey], facts: RunFacts
) -> LegResult | None:
    """What the target's receipt says of the attempt that was committed; None where none was: then none can be any more.

    ``attempts``: how receipts name them.
    """
    target, table = open_target(job, spec, facts)
    receipt = target.ledger(table).committed(attempts)
    if receipt is None:
        return None
    return LegResult(Tally(**receipt.tally), receipt.rows_before, receipt.rows_after, receipt.created, 0.0)
