"""From what a job writes into to what can be done with it."""

from __future__ import annotations

from ultravect.core.contracts.target import Target
from ultravect.core.dialects.base import TableName
from ultravect.core.engine.objects.connections import ConnectionSpec, database_of, storage_of
from ultravect.core.engine.objects.names import RunFacts, filled
from ultravect.core.errors import UltravectError
from ultravect.core.model.jobs.job import Job
from ultravect.core.storage.files_target import FilesTarget


def open_target(job: Job, spec: ConnectionSpec, facts: RunFacts) -> tuple[Target, TableName]:
    """The target of a job, and the name of the table or file in it; UltravectError says what is wrong."""
    if job.into.files is not None:
        path = filled(job.into.files, job, facts, "into.files", part=True)
        files = FilesTarget(storage_of(spec), job.into, path)
        files.require_template()
        return files, TableName(None, path)
    assert job.into.table is not None
    database = database_of(spec)
    try:
        return database, database.dialect.parse_table(filled(job.into.table, job, facts, "into.table"))
    except ValueError as error:
        raise UltravectError("table-name-invalid", str(error), place="into.table") from None
