"""What brings a target to what its source has, after both were compared: a load that writes the rows that differ, and no others."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from ultravect.core.errors import UltravectError
from ultravect.core.model.jobs.job import Job


def repair_job(job: Job, keys: Sequence[str]) -> Job:
    """The job of such a load: all rows of the source, matched by ``keys``, else by the job's own or the target's; equal rows are not written.

    Rows that only the target has go where loads of the job take them away; else they stay. Marks stay as they are. UltravectError where that
    cannot be done.
    """
    into, source = job.into, job.source
    if into.replaces is not None:
        raise UltravectError(
            "repair-of-part",
            f"job {job.job} replaces a part of its target: a load of that part repairs it",
            hint=f"run it: ultravect run {job.job}",
            place="into.replaces",
        )
    changed: dict[str, Any] = {
        "mode": "upsert",
        "keys": list(keys) or into.keys or "primary",
        "if_missing": "fail",
        "only_if_empty": False,
        "keep_previous": 0,
        "gone": into.gone if into.matches_rows else "delete" if into.mode == "overwrite" else "keep",
    }
    if into.mode == "overwrite":
        changed["gone_limit"] = "100%"  # a load of the job would replace them all
    guard = job.guard.model_copy(update={"lag": None, "log_kept": None}) if job.guard is not None else None
    return job.model_copy(
        update={
            "source": source.model_copy(update={"newer": None}),
            "into": into.model_copy(update=changed),
            "run": job.run.model_copy(update={"follow": None, "publish": "each"}),
            "guard": guard,
        }
    )
