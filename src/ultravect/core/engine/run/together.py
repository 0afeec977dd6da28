"""The legs of a run that are published together: each is planned and staged as any other, and one commit publishes them all."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import AbstractContextManager, ExitStack, contextmanager, nullcontext
from dataclasses import dataclass, field

from ultravect.core.contracts.receipt import ReceiptKey
from ultravect.core.contracts.target import LoadsTogether
from ultravect.core.contracts.write_plan import Attempt
from ultravect.core.engine.objects.connections import ConnectionSpec
from ultravect.core.engine.objects.names import RunFacts
from ultravect.core.engine.objects.targets import open_target
from ultravect.core.engine.plan.make import make_plan
from ultravect.core.engine.plan.newer.newer_rows import Again
from ultravect.core.engine.plan.open_leg import OpenLeg
from ultravect.core.engine.plan.planning import Planning
from ultravect.core.engine.plan.source.drift import TypeDrift
from ultravect.core.engine.run.execute import committed_result, files_apart, nothing_new, require_plan
from ultravect.core.engine.run.execution import Execution
from ultravect.core.engine.run.leg import UNKNOWN, LegResult, Listener
from ultravect.core.engine.run.leg_run import REFUSALS, LegRun
from ultravect.core.engine.write.driver import Write, open_write
from ultravect.core.errors import UltravectError
from ultravect.core.model.files import LayoutFile
from ultravect.core.model.jobs.job import Job


@dataclass
class LegTogether:
    """One of the legs; ``receipts`` names its attempts, the one under way last. What it comes to is found in ``result``."""

    number: int
    job: Job
    listener: Listener
    receipts: Sequence[str]
    saved: LayoutFile | None = None
    again: Again | None = None
    result: LegResult | None = None
    trusting: bool = True
    isolates: bool = False
    reported: bool = field(default=False, repr=False)


class LegFailed(Exception):
    """Leg ``number`` failed with ``error``, and with it all that were to be published together."""

    def __init__(self, number: int, error: UltravectError) -> None:
        super().__init__(str(error))
        self.number, self.error = number, error


def run_together(
    legs: Sequence[LegTogether],
    source: ConnectionSpec,
    target: ConnectionSpec,
    run_id: str,
    facts: RunFacts,
    shield: Callable[[], AbstractContextManager[None]] = nullcontext,
) -> None:
    """Copies all legs, and publishes them by one commit; afterwards each has its ``result``.

    Raises LegFailed: then none of them is published, or its error's ``outcome`` says what is.
    """
    started = time.monotonic()
    if len(legs[0].receipts) > 1 and _committed_before(legs, target, facts):
        return
    while not _attempt(legs, source, target, run_id, facts, shield, started):
        for leg in legs:
            leg.result = None
            leg.listener.read_again()


def _committed_before(legs: Sequence[LegTogether], target: ConnectionSpec, facts: RunFacts) -> bool:
    """Whether an earlier attempt has committed; their results are those of the receipts then."""
    for leg in legs:
        names = [ReceiptKey(name, leg.number) for name in leg.receipts[:-1]]
        with _failing(leg):
            leg.result = committed_result(leg.job, target, names, facts)
    known = [leg for leg in legs if leg.result is not None]
    for leg in legs if known else ():
        leg.listener.log(
            "info", "the rows were committed before the run was taken over: its receipt is in the target"
        )
        # one that had nothing to copy has left no receipt
        leg.result = leg.result or LegResult.of_nothing("there was nothing to copy")
    return bool(known)


def _attempt(
    legs: Sequence[LegTogether],
    source: ConnectionSpec,
    target: ConnectionSpec,
    run_id: str,
    facts: RunFacts,
    shield: Callable[[], AbstractContextManager[None]],
    started: float,
) -> bool:
    """Copies the legs; False where types or rows turn out to be others than expected, and all of them are read again."""
    runs: list[tuple[LegTogether, LegRun]] = []
    opened_target = open_target(legs[0].job, target, facts)[0]
    assert opened_target.together is not None, "check refuses a job whose target cannot publish loads together"
    for leg in legs:
        opened = _planned(leg, source, target, facts, started)
        if opened is None:
            continue
        key = ReceiptKey(leg.receipts[-1], leg.number)
        execution = Execution(leg.listener, run_id, key, shield, started=started)
        run = LegRun(opened, execution, isolates=leg.isolates)
        runs.append((leg, run))
    if not runs:
        return True
    attempts: list[Attempt] = [run.attempt for _, run in runs]
    with _failing(runs[0][0]), opened_target.together(attempts) as shared, ExitStack() as loads:
        filled: list[tuple[LegTogether, LegRun, Write]] = []
        for leg, run in runs:
            try:
                filled.append((leg, run, _fill(run, shared, loads)))
            except TypeDrift as drift:
                leg.listener.log("info", f"{drift}: the whole file is read for its types, and all legs begin anew")
                leg.trusting = False
                return False
            except UltravectError as error:
                if error.code not in REFUSALS or not run.may_isolate:
                    raise LegFailed(leg.number, error) from None
                leg.listener.log(
                    "warning",
                    f"the target refuses rows ({error.detail}); all legs are read again, to find which ones",
                )
                leg.isolates = True
                return False
        with shield():
            try:
                shared.commit()
            except UltravectError as error:
                error.outcome = error.outcome or UNKNOWN
                raise
            for _, run, write in filled:
                run.committed(write)
        for leg, run, write in filled:
            with _failing(leg):
                leg.result = run.verified(write)
                run.tidy(source)
    return True


@contextmanager
def _failing(leg: LegTogether) -> Iterator[None]:
    """Has an error be that of a leg."""
    try:
        yield
    except UltravectError as error:
        raise LegFailed(leg.number, error) from None


def _fill(run: LegRun, shared: LoadsTogether, loads: ExitStack) -> Write:
    """Stages the rows of a leg, and brings them into its table, in the transaction that is committed later."""
    with run.running() as read:
        write = loads.enter_context(open_write(shared, run.attempt))
        run.fill(write, read)
        run.publish(write)
    return write


def _planned(
    leg: LegTogether, source: ConnectionSpec, target: ConnectionSpec, facts: RunFacts, started: float
) -> OpenLeg | None:
    """The leg with its handles; None where it has nothing to copy, and its result says so."""
    leg.listener.phase("read", "running")

    def plan() -> Planning:
        return make_plan(
            leg.job, source, target, leg.saved, facts=facts, trusting=leg.trusting, again=leg.again, slots=None
        )

    with _failing(leg):
        made = plan()
        if made.errors and made.sampled and leg.trusting:
            leg.trusting = False
            made = plan()
        if made.nothing and not made.errors:
            leg.result = nothing_new(made, source, leg.listener, started)
            return None
        if not leg.reported:
            for finding in made.findings:
                leg.listener.finding(finding)
        leg.reported = True
        require_plan(made)
    opened = OpenLeg.of(made)
    leg.listener.planned(opened.plan)
    return files_apart(opened) if leg.isolates else opened
