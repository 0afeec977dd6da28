"""Runs that are started only for files that have arrived: `only_if: new_files` of a schedule."""

from __future__ import annotations

import datetime as dt
import hashlib
import json
from collections.abc import Mapping

import structlog
from django.db import transaction

from ultravect.core.errors import UltravectError
from ultravect.core.words import counted
from ultravect.service.records.models import Job, Run, Schedule, Trigger
from ultravect.service.records.register import unmatched_files
from ultravect.service.records.resolved import resolved, source_name
from ultravect.service.work.processes.look_pool import POOL
from ultravect.service.work.processes.look_processes import LookFailed
from ultravect.service.work.recorded import opened_connection
from ultravect.service.work.runs.retrying import TRANSIENT
from ultravect.service.work.scheduling.schedules import not_over, run_for

log = structlog.get_logger()
_NONE = "no file was new"


def start_for_files(number: int, moment: dt.datetime) -> None:
    """Looks for new files of a schedule's job, and starts a run where there are some; else the schedule says why there is none."""
    schedule = Schedule.objects.select_related("job").filter(pk=number, job__deleted_at=None).first()
    if schedule is None:
        return
    try:
        files = _new_files(schedule.job)
        why = _start(schedule, moment, files) if files else _NONE
    except (UltravectError, LookFailed) as error:
        said = error.detail if isinstance(error, UltravectError) else str(error)
        why = f"files could not be looked for: {said}"
        log.warning("files could not be looked for", job=schedule.job.name, cause=said)
        if not isinstance(error, UltravectError) or error.code not in TRANSIENT:
            # it does not pass by itself: one run fails with it, so that messages are sent
            _start(schedule, moment, {"": said})
    Schedule.objects.filter(pk=number).update(left_out=why)


def _new_files(job: Job) -> Mapping[str, str]:
    structure = resolved(job.revision.structure)
    source = opened_connection(source_name(structure), structure)
    target = opened_connection(structure["into"]["connection"])
    found: dict[str, str] = POOL.look("new_files", job=structure, source=source, target=target)
    if isinstance(feed := job.revision.structure["from"].get("feed"), str):
        # those that fit no version were said when a run saw them first
        for path, noted in unmatched_files(feed).items():
            if found.get(path) == noted:
                del found[path]
    return found


@transaction.atomic
def _start(schedule: Schedule, moment: dt.datetime, files: Mapping[str, str]) -> str:
    """Starts the run; why not, where it is not."""
    # one process at a time: two that looked at the same moment would both find the files new
    job = Job.objects.select_for_update().get(pk=schedule.job_id)
    if running := not_over(job):
        return running
    digest = hashlib.sha256(json.dumps(sorted(files.items())).encode()).hexdigest()
    key = f"files/{job.pk}/{digest}"
    before = Run.objects.filter(idempotency_key=key).first()
    if before is not None:
        return f"{counted(len(files), 'file is', 'files are')} new, and run {before.pk} was for the same: it {before.state}"
    run_for(job, moment, schedule.declared["timezone"], Trigger.SCHEDULE, key)
    return ""
