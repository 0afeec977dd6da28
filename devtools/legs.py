"""Runs a leg by itself, as tests and benchmarks name what matters of one."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from contextlib import AbstractContextManager, nullcontext
from typing import Any

from ultravect.core.contracts.receipt import ReceiptKey
from ultravect.core.engine.objects.connections import ConnectionSpec
from ultravect.core.engine.run import execute
from ultravect.core.engine.run.execution import Execution
from ultravect.core.engine.run.leg import LegResult, Listener
from ultravect.core.engine.run.rejected.row_selection import RowSelection
from ultravect.core.engine.run.slice_run import SliceRunner
from ultravect.core.model.jobs.job import Job


def run_leg(
    job: Job,
    source: ConnectionSpec,
    target: ConnectionSpec,
    listener: Listener,
    shield: Callable[[], AbstractContextManager[None]] = nullcontext,
    *,
    run_id: str = "",
    receipt: str = "",
    leg: int = 1,
    earlier: Sequence[str] = (),
    selection: RowSelection | None = None,
    slices: SliceRunner | None = None,
    **planned: Any,
) -> LegResult:
    """``receipt`` and ``earlier`` are the runs of the keys of this attempt and of those before it; ``planned``: see ``execute.run_leg``."""
    key = ReceiptKey(receipt, leg) if receipt else None
    keys = [ReceiptKey(name, leg) for name in earlier]
    execution = Execution(listener, run_id, key, shield, selection, slices, keys)
    return execute.run_leg(job, source, target, execution, **planned)
