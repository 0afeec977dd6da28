"""A leg that is cut into slices: they are copied wherever there are workers, and published by one load."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager, contextmanager, nullcontext
from dataclasses import dataclass, replace
from typing import Protocol

from ultravect.core.contracts.load import ReceiptKey
from ultravect.core.contracts.target import Load
from ultravect.core.engine.objects.connections import ConnectionSpec
from ultravect.core.engine.objects.tables import TableRows
from ultravect.core.engine.plan.leg_plan import LegPlan
from ultravect.core.engine.plan.open_leg import OpenLeg
from ultravect.core.engine.run.leg import Listener
from ultravect.core.engine.run.leg_run import LegRun
from ultravect.core.engine.run.slice_run import SliceOrder, SliceResult, run_slice
from ultravect.core.errors import UltravectError


class SliceRunner(Protocol):
    """What has slices copied."""

    def capacity(self) -> int:
        """How many slices it can have copied at the same time, each as quickly as one alone."""

    def run(self, plan: LegPlan, order: SliceOrder, listener: Listener) -> Iterator[SliceResult]:
        """The accounts of all slices of a plan, as they are done; UltravectError of one that failed, after which none goes on."""


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

    def __init__(
        self,
        opened: OpenLeg,
        listener: Listener,
        shield: Callable[[], AbstractContextManager[None]],
        started: float,
        run_id: str,
        receipt: ReceiptKey,
        runner: SliceRunner,
    ) -> None:
        super().__init__(opened, listener, shield, started, run_id, receipt, None)
        self._runner, self._receipt = runner, receipt

    @contextmanager
    def running(self) -> Iterator[Callable[[], None]]:
        for phase in ("shape", "stage"):
            self._listener.phase(phase, "running")
        self._phase = "stage"
        stages = self._target.stages
        assert stages is not None, "the plan is cut into slices"
        try:
            with stages.stage(self.order) as stage:
                with self._snapshot() as snapshot:
                    self._collect(SliceOrder(stage, self._receipt, snapshot))
                self.order = replace(self.order, staged_in=stage.table, filled=stage.becomes_target)
                yield lambda: None
        except UltravectError as error:
            error.phase = error.phase or self._phase
            raise

    def _snapshot(self) -> AbstractContextManager[str]:
        return self._reader.database.snapshot() if isinstance(self._reader, TableRows) else nullcontext("")

    def _collect(self, order: SliceOrder) -> None:
        """Has the slices copied, and adds up their accounts."""
        for result in self._runner.run(self._plan, order, self._listener):
            self._tally.read += result.read
            self._tally.filtered += result.filtered
            self._ledger.count_in(result.rejected, result.first_reject)
            self._ledger.enforce(self._tally.read, final=False)
            self._rows_of.update(result.files)
        self._listener.phase("read", "done")
        self._listener.phase("shape", "done")
        self._phase = "shape"
        self._ledger.enforce(self._tally.read, final=True)
        self._phase = "stage"

    def _stage(self, load: Load) -> None:
        """The rows are staged already."""
