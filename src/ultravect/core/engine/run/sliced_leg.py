"""A leg that is cut into slices: they are copied wherever there are workers, and published by one load."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager, contextmanager, nullcontext
from dataclasses import dataclass, replace

from ultravect.core.engine.objects.connections import ConnectionSpec
from ultravect.core.engine.objects.tables import TableRows
from ultravect.core.engine.plan.leg_plan import LegPlan
from ultravect.core.engine.run.leg import Listener
from ultravect.core.engine.run.leg_run import LegRun
from ultravect.core.engine.run.slice_run import SliceOrder, SliceResult, run_slice
from ultravect.core.engine.write.driver import Write
from ultravect.core.errors import UltravectError


def usual_capacity() -> int:
    """That of this machine: a slice keeps about two processors busy, one here and one of the database's server."""
    return (os.cpu_count() or 1) // 2


@dataclass(frozen=True)
class SlicesHere:
    """Copies slices in this process, one after the other."""

    source: ConnectionSpec
    target: ConnectionSpec
    run_id: str

    def capacity(self) -> int:
        return usual_capacity()

    def run(self, plan: LegPlan, order: SliceOrder, listener: Listener) -> Iterator[SliceResult]:
        for number in range(1, len(plan.slices) + 1):
            yield run_slice(plan, number, order, self.source, self.target, listener, self.run_id)


class SlicedLeg(LegRun):
    """See ``LegRun``; rows are read by slices, and the load finds them staged."""

    @contextmanager
    def running(self) -> Iterator[Callable[[], None]]:
        for phase in ("shape", "stage"):
            self._listener.phase(phase, "running")
        self._phase = "stage"
        stages, key = self._target.stages, self._execution.key
        assert stages is not None and key is not None, "the plan is cut into slices"
        try:
            with stages.stage(self.attempt) as stage:
                with self._snapshot() as snapshot:
                    self._collect(SliceOrder(stage, key, snapshot))
                self.attempt = replace(self.attempt, stage=stage)
                yield lambda: None
        except UltravectError as error:
            error.phase = error.phase or self._phase
            raise

    def _snapshot(self) -> AbstractContextManager[str]:
        return self._reader.database.snapshot() if isinstance(self._reader, TableRows) else nullcontext("")

    def _collect(self, order: SliceOrder) -> None:
        """Has the slices copied, and adds up their accounts."""
        runner = self._execution.runner
        assert runner is not None, "a plan that is cut into slices has something that copies them"
        for result in runner.run(self._plan, order, self._listener):
            self._account.add(
                result.read, result.filtered, result.staged, result.rejected, result.first_reject, result.files
            )
        self._listener.phase("read", "done")
        self._listener.phase("shape", "done")
        self._end_account()

    def _stage(self, write: Write) -> None:
        """The rows are staged already."""
