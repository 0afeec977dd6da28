"""Finds the objects of a job with many, and makes a job of each."""

from __future__ import annotations

import re
from collections.abc import Sequence

from ultravect.core.contracts.catalogue import Reference
from ultravect.core.dialects.base import Dialect, TableName
from ultravect.core.engine.objects.connections import ConnectionSpec, database_of, holds_tables
from ultravect.core.engine.objects.names import RunFacts, filled, with_values
from ultravect.core.engine.objects.targets import open_target
from ultravect.core.engine.plan.legs.found_feed import found_feed
from ultravect.core.engine.plan.legs.found_files import found_files
from ultravect.core.engine.plan.legs.found_tables import found_tables
from ultravect.core.engine.plan.legs.leg_job import FoundObject, LegJob, Legs
from ultravect.core.engine.plan.legs.order import in_order
from ultravect.core.errors import UltravectError
from ultravect.core.model.finding import Finding
from ultravect.core.model.jobs.job import Job
from ultravect.core.model.problems import did_you_mean
from ultravect.core.words import counted

MAX_LEGS = 10_000
_NAMED = 5
_PART = re.compile(r'"((?:[^"]|"")+)"|`((?:[^`]|``)+)`|([^."`]+)')
_BARE = re.compile(r"(?:[A-Za-z_][A-Za-z0-9_]*|\{[A-Za-z_][A-Za-z0-9_]*\}|[A-Za-z0-9_])+")


def lay_out(
    job: Job, source: ConnectionSpec, target: ConnectionSpec, facts: RunFacts, known: Sequence[str] | None = None
) -> Legs:
    """The legs of a job with many objects, as they are there now; what is wrong is in the findings, not raised.

    ``known``: the objects of the job's last run, None where there was none.
    """
    findings: list[Finding] = []
    if job.source.feed is not None:
        return _of_feed(job, source, target, facts)
    try:
        if job.source.tables is not None:
            found = found_tables(job, source, findings)
        else:
            found = found_files(job, source, facts, findings)
    except UltravectError as error:
        found = []
        if not (job.source.allow_none and error.code == "file-missing"):
            place = str(error.where.get("place", job.source.place))
            findings.append(Finding("error", error.code, error.detail, place, error.hint))
    if not found and not any(finding.severity == "error" for finding in findings):
        findings.append(_nothing(job))
    _unknown_options(job, found, findings)
    if len(found) > MAX_LEGS:
        what = f"{job.source.object_name} is {len(found):,} objects; a job has at most {MAX_LEGS:,} legs"
        findings.append(Finding("error", "too-many-legs", what, job.source.place, "narrow the pattern"))
        return Legs([], findings)
    legs = _jobs(job, found, target, findings)
    _same_targets(legs, job, target, facts, findings)
    if job.run.publish == "together" and (why := _apart(job, legs, target, facts)):
        what = f"the legs cannot be published together: {why}"
        findings.append(Finding("error", "publish-together", what, "run.publish", "write run.publish: each"))
    if known is not None:
        _compare(legs, known, findings)
    if any(finding.severity == "error" for finding in findings):
        return Legs(_numbered(legs, {}), findings)
    return Legs(_ordered(legs, source, target, facts), findings)


def legs_now(job: Job, source: ConnectionSpec, target: ConnectionSpec, facts: RunFacts) -> list[tuple[str, Job]]:
    """What a job copies now, one object or many: their names, each with the job of its leg. UltravectError where they cannot be found."""
    if not job.has_many:
        return [(job.source.object_name, job)]
    found = lay_out(job, source, target, facts)
    if found.errors:
        first = found.errors[0]
        raise UltravectError(first.code, first.message, hint=first.fix, place=first.place)
    return [(leg.object, leg.job) for leg in found.legs]


def _of_feed(job: Job, source: ConnectionSpec, target: ConnectionSpec, facts: RunFacts) -> Legs:
    """The legs of a feed go into one target, one after the other; none where no file is new."""
    findings: list[Finding] = []
    try:
        legs, files = found_feed(job, source, target, facts, findings)
    except UltravectError as error:
        if error.code == "file-missing" and job.source.allow_none:
            return Legs([], [_nothing(job)])
        return Legs([], [Finding("error", error.code, error.detail, "from.feed", error.hint)])
    return Legs(_numbered(legs, {}), findings, files)


def _apart(job: Job, legs: Sequence[tuple[FoundObject, Job]], spec: ConnectionSpec, facts: RunFacts) -> str:
    """Why the legs cannot be published by one transaction; "" where they can."""
    if job.into.folder is not None or job.into.files is not None:
        return "files appear one by one"
    if any(leg.into.connection != job.into.connection for _, leg in legs):
        return "they go into several connections"
    if not legs or open_target(legs[0][1], spec, facts)[0].together is not None:
        return ""
    return f"{job.into.connection} is of the kind {spec.kind}, where each load has a transaction of its own"


def _nothing(job: Job) -> Finding:
    what = f"{job.source.object_name} matches nothing"
    if job.source.allow_none:
        return Finding("note", "nothing-found", what, job.source.place)
    fix = "correct it, or write from.allow_none: true if that may happen"
    return Finding("error", "nothing-found", what, job.source.place, fix)


def _unknown_options(job: Job, found: Sequence[FoundObject], findings: list[Finding]) -> None:
    names = {name for item in found for name in item.names}
    for name in job.objects:
        if name not in names:
            near = did_you_mean(name, names)
            what = f"objects has {name!r}, which is none of the {counted(len(found), 'object')} of the job"
            findings.append(Finding("warning", "object-unknown", what, f"objects.{name}", near))


def _jobs(
    job: Job, found: Sequence[FoundObject], target: ConnectionSpec, findings: list[Finding]
) -> list[tuple[FoundObject, Job]]:
    made = []
    dialect = database_of(target).dialect if holds_tables(target.kind) else None
    for item in found:
        try:
            made.append((item, job_of(job, item, dialect)))
        except UltravectError as error:
            findings.append(Finding("error", error.code, error.detail, str(error.where["place"]), error.hint))
    return made


def job_of(job: Job, item: FoundObject, dialect: Dialect | None) -> Job:
    """The job of one object, into a target of ``dialect``, None for files; UltravectError where its own options are wrong."""
    values = {name: job.into.rename.table(value) for name, value in item.facts.items()}
    name = next((name for name in item.names if name in job.objects), item.names[0])
    template = str((job.objects[name].into if name in job.objects else {}).get("table") or job.into.object_name)
    into = _table_name(template, values, dialect) if dialect else with_values(template, values)
    return job.for_object(name, item.named, into, item.captured)


def _table_name(template: str, values: dict[str, str], dialect: Dialect) -> str:
    """The name of a table; a part with other characters than letters, digits and _ is quoted."""
    parts = []
    for quoted, other, bare in _PART.findall(template):
        part = with_values(quoted.replace('""', '"') or other.replace("``", "`") or bare.strip(), values)
        parts.append(part if _BARE.fullmatch(part) else dialect.quote(part))
    return ".".join(parts)


def _same_targets(
    legs: Sequence[tuple[FoundObject, Job]],
    job: Job,
    target: ConnectionSpec,
    facts: RunFacts,
    findings: list[Finding],
) -> None:
    """Two legs that write into one table or file would replace or mix each other's rows."""
    dialect = database_of(target).dialect if holds_tables(target.kind) else None
    taken: dict[str, str] = {}
    for item, own in legs:
        try:
            name = filled(own.into.object_name, own, facts, own.into.place, part=True)
            if dialect:
                table = str(dialect.parse_table(name))
                name = table.casefold() if dialect.folds_case else table
        except (UltravectError, ValueError):
            continue  # planning the leg says what is wrong
        if name in taken:
            what = f"{taken[name]} and {item.names[0]} would both go into {own.into.label}"
            fix = f"name {own.into.place} by more of what they differ in, or give one its own under objects"
            findings.append(Finding("error", "targets-equal", what, job.into.place, fix))
        taken.setdefault(name, item.names[0])


def _compare(legs: Sequence[tuple[FoundObject, Job]], known: Sequence[str], findings: list[Finding]) -> None:
    """What appeared and what vanished since the last run."""
    now = [item.names[0] for item, _ in legs]
    new, gone = sorted(set(now) - set(known)), sorted(set(known) - set(now))
    if new:
        what = f"new since the last run: {_listed(new)}"
        findings.append(Finding("note", "objects-new", what, "from"))
    if gone:
        what = f"no longer there since the last run: {_listed(gone)}; what was copied of them stays in the target"
        findings.append(Finding("warning", "objects-gone", what, "from"))


def _listed(names: Sequence[str]) -> str:
    more = f" and {len(names) - _NAMED:,} more" if len(names) > _NAMED else ""
    return ", ".join(names[:_NAMED]) + more


def _ordered(
    legs: Sequence[tuple[FoundObject, Job]], source: ConnectionSpec, target: ConnectionSpec, facts: RunFacts
) -> list[LegJob]:
    """Rows that others refer to come first. A leg waits for another only where the target has the foreign key."""
    places: dict[TableName, int] = {}
    for place, (item, _) in enumerate(legs):
        if item.table is not None:
            places[item.table] = place
    parents = _parents(_references(source) if places else [], places)
    targets = _target_places(legs, target, facts)
    waits = _parents(_references(target), targets) if targets and len(legs) > 1 else {}
    order = in_order(
        len(legs), {place: parents.get(place, set()) | waits.get(place, set()) for place in range(len(legs))}
    )
    return _numbered(
        [legs[place] for place in order],
        {
            order.index(place): {order.index(other) for other in others if order.index(other) < order.index(place)}
            for place, others in waits.items()
        },
    )


def _references(spec: ConnectionSpec) -> Sequence[Reference]:
    try:
        return database_of(spec).references() if holds_tables(spec.kind) else []
    except UltravectError:
        return []  # each leg says by itself what is wrong with its connection


def _target_places(
    legs: Sequence[tuple[FoundObject, Job]], target: ConnectionSpec, facts: RunFacts
) -> dict[TableName, int]:
    if not holds_tables(target.kind):
        return {}
    database = database_of(target)
    try:
        there = {info.table for info in database.tables("", "", 20_000)}
    except UltravectError:
        return {}
    schemas = {table.name: table for table in there}
    places = {}
    for place, (_, own) in enumerate(legs):
        try:
            name = database.dialect.parse_table(filled(own.into.object_name, own, facts, own.into.place))
        except (UltravectError, ValueError):
            continue
        known = name if name in there else schemas.get(name.name) if name.schema is None else None
        if known:
            places[known] = place
    return places


def _parents(references: Sequence[Reference], places: dict[TableName, int]) -> dict[int, set[int]]:
    """For each leg, those whose rows its own refer to."""
    parents: dict[int, set[int]] = {}
    for reference in references:
        child, parent = places.get(reference.table), places.get(reference.referred)
        if child is not None and parent is not None and child != parent:
            parents.setdefault(child, set()).add(parent)
    return parents


def _numbered(legs: Sequence[tuple[FoundObject, Job]], waits: dict[int, set[int]]) -> list[LegJob]:
    return [
        LegJob(place + 1, item.names[0], own, tuple(sorted(other + 1 for other in waits.get(place, ()))), item.fact)
        for place, (item, own) in enumerate(legs)
    ]
