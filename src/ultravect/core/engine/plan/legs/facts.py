"""Legs from what was found: names of tables, files, sheets and versions, and nothing else, also where another machine has looked for them.

Who lays out a run may be another organisation's machine. All that a leg does comes from the job as it is stored; the facts say which of
the objects that the job itself names are there.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Annotated, Any

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from ultravect.core.dialects.base import TableName
from ultravect.core.engine.objects.connections import ConnectionSpec, database_of, holds_tables
from ultravect.core.engine.objects.names import RunFacts
from ultravect.core.engine.plan.legs.found_feed import candidates_of, feed_leg
from ultravect.core.engine.plan.legs.found_files import file_object, paths_of, sheet_object
from ultravect.core.engine.plan.legs.found_tables import is_named, table_object
from ultravect.core.engine.plan.legs.lay_out import MAX_LEGS, job_of
from ultravect.core.engine.plan.legs.leg_job import FoundObject, LegJob
from ultravect.core.errors import UltravectError
from ultravect.core.inside import leads_out
from ultravect.core.kinds.registry import kind_named
from ultravect.core.model.feed import FeedFile
from ultravect.core.model.jobs.job import Job
from ultravect.core.patterns import matcher, name_matcher

_Name = Annotated[str, Field(min_length=1, max_length=4_000)]


class _Fact(BaseModel):
    model_config = ConfigDict(extra="forbid", strict=True, frozen=True)

    after: list[int] = Field(max_length=MAX_LEGS)


class _Table(_Fact):
    schema_: Annotated[str, Field(max_length=500)] | None = Field(alias="schema")
    table: Annotated[str, Field(min_length=1, max_length=500)]


class _Files(_Fact):
    path: _Name
    several: bool


class _Sheet(_Files):
    sheet: Annotated[str, Field(min_length=1, max_length=500)]


class _Version(_Fact):
    provider: _Name
    version: int
    paths: list[_Name] = Field(min_length=1, max_length=100_000)


def legs_of_facts(
    job: Job,
    facts: Sequence[Mapping[str, Any]],
    source: ConnectionSpec,
    target: ConnectionSpec,
    run: RunFacts,
) -> list[LegJob]:
    """The legs of a job with many objects; UltravectError ``leg-refused`` for a fact that is none, or names what the job does not."""
    if len(facts) > MAX_LEGS:
        raise _refused(f"{len(facts):,} legs are more than a job may have")
    legs = []
    for number, fact in enumerate(facts, 1):
        item, own, after = _leg(job, fact, source, target, run)
        if any(not 1 <= other < number for other in after):
            raise _refused(f"leg {number} is to wait for one that does not come before it")
        legs.append(LegJob(number, item.names[0], own, tuple(after), item.fact))
    return legs


def _leg(
    job: Job, fact: Mapping[str, Any], source: ConnectionSpec, target: ConnectionSpec, run: RunFacts
) -> tuple[FoundObject, Job, Sequence[int]]:
    try:
        if isinstance(job.source.feed, FeedFile):
            version = _Version.model_validate(fact)
            return (*_of_version(job, job.source.feed, version), version.after)
        if job.source.tables is not None:
            table = _Table.model_validate(fact)
            item, after = _of_table(job, table, source), table.after
        elif job.source.sheets is not None:
            sheet = _Sheet.model_validate(fact)
            item, after = _of_sheet(job, sheet, run), sheet.after
        else:
            files = _Files.model_validate(fact)
            item, after = _of_files(job, files, run), files.after
    except ValidationError as error:
        first = error.errors(include_url=False, include_input=False)[0]
        raise _refused(f"{'.'.join(str(part) for part in first['loc'])}: {first['msg']}") from None
    dialect = database_of(target).dialect if holds_tables(target.kind) else None
    return item, job_of(job, item, dialect), after


def _of_table(job: Job, found: _Table, source: ConnectionSpec) -> FoundObject:
    database, usual = database_of(source), kind_named(source.kind).usual_schema
    table = TableName(found.schema_, found.table)
    if not is_named(job, table, database, usual):
        raise _refused(f"the job does not name the table {table}")
    return table_object(database.dialect, table, usual)


def _of_files(job: Job, found: _Files, run: RunFacts) -> FoundObject:
    paths = paths_of(job, run)
    _require_named(paths.everything, found.path)
    return file_object(job, paths, found.path, several=found.several)


def _of_sheet(job: Job, found: _Sheet, run: RunFacts) -> FoundObject:
    paths = paths_of(job, run)
    _require_named(paths.everything, found.path)
    if not any(name_matcher(pattern)(found.sheet) for pattern in job.source.sheets or ()):
        raise _refused(f"the job does not name the sheet {found.sheet!r}")
    return sheet_object(job, paths, found.path, found.sheet, several=found.several)


def _of_version(job: Job, feed: FeedFile, found: _Version) -> tuple[FoundObject, Job]:
    for candidate in candidates_of(feed):
        if (candidate.provider, candidate.number) == (found.provider, found.version):
            for path in found.paths:
                _require_named(candidate.pattern, path)
            return feed_leg(job, feed, candidate, found.paths)
    raise _refused(f"the feed has no version {found.version} of {found.provider}")


def _require_named(pattern: str, path: str) -> None:
    if leads_out(path) or not (path == pattern or matcher(pattern)(path)):
        raise _refused(f"the job does not name the file {path!r}")


def _refused(why: str) -> UltravectError:
    return UltravectError(
        "leg-refused",
        f"what was found for the job was not accepted: {why[:500]}",
        hint="see which worker has looked for the objects, and what it runs",
    )
