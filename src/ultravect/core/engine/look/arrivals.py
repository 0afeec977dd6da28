"""Which files have arrived that a run of a job would copy: asked before a run is started for them."""

from __future__ import annotations

from collections.abc import Mapping

from ultravect.core.engine.objects.connections import ConnectionSpec
from ultravect.core.engine.plan.make import plan_arrivals
from ultravect.core.errors import UltravectError
from ultravect.core.model.jobs.job import Job


def new_files(job: Job, source: ConnectionSpec, target: ConnectionSpec) -> Mapping[str, str]:
    """The files, by their paths, each with what will be noted of it; those that still change are none of them.

    UltravectError where source or target cannot be asked. A pattern that matches nothing has no new files.
    """
    try:
        plan = plan_arrivals(job, source, target)
    except UltravectError as error:
        if error.code == "file-missing":
            return {}
        raise
    return {entry.item: entry.value for entry in plan.mark.entries} if plan.mark else {}
