"""Which failed legs are tried again, and when."""

from __future__ import annotations

import random

from ultravect.core.model.base import duration_seconds
from ultravect.core.model.jobs.schedule import Retry
from ultravect.service.records.models import Run, RunKind
from ultravect.service.work.runs.attempts import publishes_together
from ultravect.service.work.runs.transitions import LegRecord

TRANSIENT = frozenset(
    [
        "connection-lost", "port-refused", "host-unreachable", "server-full", "server-starting", "server-stopping", "database-busy",
        "database-offline", "target-locked", "deadlock", "target-full", "worker-full", "target-changed", "lake-unreachable",
        "staging-unreachable", "file-changed",
    ]
)  # fmt: skip
"""Codes of errors that pass by themselves."""

_LONGEST = 3600.0
_VARIED = 0.2


def pause_before(record: LegRecord, code: str) -> float | None:
    """How many seconds later a leg is tried again that failed and has written nothing; None where it is not."""
    if publishes_together(record.run):
        return None
    pause = pause_of(record.run, record.leg.attempts, code)
    return None if pause is None or record.wants_stop() else pause


def pause_of(run: Run, attempts: int, code: str) -> float | None:
    """How many seconds after so many attempts the next one is made, as the job of a run says; None where none is."""
    given = (run.revision.structure.get("run") or {}).get("retry")
    if given is None or code not in TRANSIENT or run.kind != RunKind.LOAD:
        return None
    retry = Retry.model_validate(given)
    if attempts >= retry.attempts:
        return None
    pause = min(_LONGEST, duration_seconds(retry.wait) * 2 ** (attempts - 1))
    return pause * random.uniform(1 - _VARIED, 1 + _VARIED)
