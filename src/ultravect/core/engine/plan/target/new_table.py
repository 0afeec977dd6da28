"""Plans a table that has to be made: its names, its types, and what it takes over from the source's table."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from ultravect.core.contracts.catalogue import LiveColumn, LiveTable
from ultravect.core.dialects.base import Dialect, NewColumn, NewTable
from ultravect.core.engine.objects.tables import TableRows
from ultravect.core.engine.plan.columns import Scanning, add_column, note_pair, source_type
from ultravect.core.engine.plan.planning import Planning
from ultravect.core.engine.plan.source.given_types import Given, formats_of_given
from ultravect.core.engine.plan.suggest import column_as
from ultravect.core.engine.plan.target.names import adapted, quoted
from ultravect.core.expressions.select_list import Selected
from ultravect.core.model.finding import Replacement
from ultravect.core.model.jobs.job import Job
from ultravect.core.model.problems import did_you_mean
from ultravect.core.types.canonical import CanonicalType, Fit


def plan_new(job: Job, plan: Planning, selected: Sequence[Selected], scanning: Scanning) -> None:
    """Plans the columns and ``plan.create``; what stands in the way is in the findings."""
    assert plan.reader is not None and plan.target is not None
    dialect = plan.target.dialect
    plan.is_new = True
    names = _adapted_names(plan, dialect, selected)
    if len(selected) > dialect.max_columns:
        plan.add(
            "error",
            "too-many-columns",
            f"{len(selected):,} columns are selected; a table of {dialect.name} has at most {dialect.max_columns:,}",
            "columns",
            "select fewer columns, or write them into several tables with a job each",
        )
        return
    for item in selected:
        note_pair(job, plan, item, item.type)
    if plan.errors:
        return
    scan = scanning.scan(job, plan, selected)
    origin = plan.reader.live if isinstance(plan.reader, TableRows) else None
    given = formats_of_given(
        plan,
        [
            Given(item.position, item.name, item.type, item.place)
            for item in selected
            if item.position is not None and item.type is not None
        ],
    )
    made: list[NewColumn] = []
    for entry, name in zip(selected, names, strict=True):
        inferred = scan.columns.get(entry.position) if entry.position is not None else None
        kind = entry.type or source_type(plan, entry) or (inferred.type if inferred else CanonicalType("text"))
        translation = dialect.from_canonical(kind)
        if translation.fit in (Fit.NARROWER, Fit.DIFFERENT):
            what = f"column {entry.name}: {kind} becomes {translation.native}: {translation.change}"
            plan.add("warning", f"type-{translation.fit}", what, entry.place)
        column = _carried(job, plan, origin, entry, NewColumn(name, kind))
        made.append(column)
        add_column(
            plan, entry, LiveColumn(name, translation.native, "", kind, column.nullable, False), inferred, given
        )
    keys = job.into.key_names or _carried_keys(job, plan, origin, selected, names)
    comment = origin.comment if origin and "comments" in job.into.carry else ""
    for key in keys:
        keyed = next((column.type for column in made if column.name == key), None)
        if keyed and (obstacle := dialect.key_obstacle(keyed)):
            plan.add(
                "error",
                "key-needs-length",
                f"column {key}: {obstacle} in {dialect.name}",
                "into.keys" if job.into.key_names else "into.carry",
                f"give it a type in columns, such as `{quoted(key)} text(100)`",
                _with_length(job, selected, names, key),
            )
    named = [column.name for column in made]
    made_table = NewTable(made, keys, comment, _partitioned(job, plan, named))
    plan.create = _arranged(job, plan, made_table, named)


def _arranged(job: Job, plan: Planning, table: NewTable, names: Sequence[str]) -> NewTable:
    """The table with the order of its rows, their distribution and encodings; what stands in the way is in the findings."""
    into = job.into
    assert plan.target is not None
    distribute_by = into.distribute_by or ""
    by_value = [] if distribute_by.lower() in ("", "all", "even") else [distribute_by]
    given = {"sort_by": into.sort_by, "distribute_by": by_value, "encode": list(into.encode)}
    for key, columns in given.items():
        if getattr(into, key) and key not in plan.target.arranges:
            what = f"tables of {plan.target.dialect.name} have no arrangement by into.{key}"
            plan.add("error", "arrangement-unknown", what, f"into.{key}", "leave it out")
        if unknown := next((name for name in columns if name not in names), ""):
            what = f"into.{key} names {unknown!r}, which is no column of the table"
            fix = did_you_mean(unknown, names) or "name one of the job's columns"
            plan.add("error", "arrangement-column", what, f"into.{key}", fix)
    return replace(table, sort_by=into.sort_by, distribute_by=distribute_by, encode=into.encode)


def _partitioned(job: Job, plan: Planning, names: Sequence[str]) -> Sequence[str]:
    """The columns that divide the files of the table; what stands in the way is in the findings."""
    wanted = job.into.partition_by
    if not wanted:
        return ()
    assert plan.target is not None
    if not plan.target.partitions:
        plan.add(
            "error",
            "partitions-unknown",
            f"tables of {plan.target.dialect.name} are not divided by into.partition_by",
            "into.partition_by",
            "leave it out",
        )
    elif unknown := next((name for name in wanted if name not in names), ""):
        plan.add(
            "error",
            "partition-column",
            f"into.partition_by names {unknown!r}, which is no column of the table",
            "into.partition_by",
            did_you_mean(unknown, names) or "name one of the job's columns",
        )
    elif len(set(wanted)) == len(names):
        plan.add(
            "error",
            "partition-column",
            "into.partition_by names every column: nothing would be left for the files",
            "into.partition_by",
            "name fewer",
        )
    return wanted


def _carried(job: Job, plan: Planning, origin: LiveTable | None, entry: Selected, new: NewColumn) -> NewColumn:
    """A new column with what the job wants taken over from the source's column."""
    if origin is None or entry.position is None or not job.into.carry:
        return new
    old = origin.columns[entry.position]
    default = old.default if "defaults" in job.into.carry else None
    if "defaults" in job.into.carry and old.has_default and default is None and not old.generated:
        plan.add(
            "note",
            "default-not-carried",
            f"the default of column {old.name!r} is no constant, and is not carried along",
            "into.carry",
        )
    return NewColumn(
        new.name,
        new.type,
        old.nullable or "required" not in job.into.carry,
        default,
        old.comment if "comments" in job.into.carry else "",
    )


def _carried_keys(
    job: Job, plan: Planning, origin: LiveTable | None, selected: Sequence[Selected], names: Sequence[str]
) -> Sequence[str]:
    """The names in the target of the columns of the source's primary key, when all of them are copied as they are."""
    if origin is None or "keys" not in job.into.carry:
        return ()
    keyed = [column.name for column in origin.columns if column.key]
    named = {
        origin.columns[entry.position].name: name
        for entry, name in zip(selected, names, strict=True)
        if entry.position is not None
    }
    missing = [name for name in keyed if name not in named]
    if missing:
        plan.add(
            "warning",
            "key-not-carried",
            f"the primary key of {origin.name} has the column {missing[0]!r}, which is not copied: the table gets no key",
            "into.carry",
            f"add {quoted(missing[0])} to columns",
        )
        return ()
    return [named[name] for name in keyed]


def _with_length(job: Job, selected: Sequence[Selected], names: Sequence[str], key: str) -> Replacement | None:
    """The key's column as a text with a length."""
    entry = next(entry for entry, name in zip(selected, names, strict=True) if name == key)
    plain = entry.value is None and not entry.renamed
    return column_as(job, entry, f"{quoted(entry.name)} text(100)") if plain else None


def _adapted_names(plan: Planning, dialect: Dialect, selected: Sequence[Selected]) -> list[str]:
    """The names that the target's columns get, with a finding for each that is not as it was asked for."""
    names = []
    for entry, (name, reason) in zip(selected, adapted(dialect, [item.name for item in selected]), strict=True):
        names.append(name)
        if name == entry.name:
            continue
        if name.casefold() == entry.name.casefold():
            what = f"column {entry.name!r} becomes {name!r}, which statements may write in any case, without quotes"
            plan.add("note", "name-adapted", what, entry.place)
        else:
            plan.add(
                "warning",
                "name-adapted",
                f"column {entry.name!r} becomes {name!r}: {reason}",
                entry.place,
                f"to choose the name yourself, write `{quoted(entry.name)} as …`",
            )
    return names
