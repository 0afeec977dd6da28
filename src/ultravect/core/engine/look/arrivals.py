"""Which files have arrived that a run of a job would copy: asked before a run is started for them."""

from __future__ import annotations

from collections.abc import Mapping

from ultravect.core.engine.objects.connections import ConnectionSpec
from ultravect.core.engine.objects.names import RunFacts
from ultravect.core.engine.plan.legs.lay_out import lay_out
from ultravect.core.engine.plan.make import plan_arrivals
from ultravect.core.errors import UltravectError
from ultravect.core.model.jobs.job import Job

_NONE_THERE = ("file-missing", "nothing-found")


def new_files(job: Job, source: ConnectionSpec, target: ConnectionSpec) -> Mapping[str, str]:
    """The files, by their paths, each with what will be noted of it; those that still change are none of them.

    Of a feed, those that fit no version are among them: a run enters them in its register. UltravectError where source or target cannot be
    asked. A pattern that matches nothing has no new files.
    """
    if not job.has_many:
        return _of_one(job, source, target)
    laid_out = lay_out(job, source, target, RunFacts())
    for finding in laid_out.findings:
        if finding.severity == "error" and finding.code not in _NONE_THERE:
            raise UltravectError(finding.code, finding.message, hint=finding.fix, place=finding.place)
    if job.source.feed is not None:
        return {file.path: f"{file.size} {file.modified}" for file in laid_out.files if file.state != "known"}
    return {
        f"{leg.object}: {path}": noted
        for leg in laid_out.legs
        for path, noted in _of_one(leg.job, source, target).items()
    }


def _of_one(job: Job, source: ConnectionSpec, target: ConnectionSpec) -> Mapping[str, str]:
    try:
        plan = plan_arrivals(job, source, target)
    except UltravectError as error:
        if error.code == "file-missing":
            return {}
        raise
    entries = plan.mark.entries if plan.mark else ()
    return {entry.item: entry.value for entry in entries if entry.value is not None}
