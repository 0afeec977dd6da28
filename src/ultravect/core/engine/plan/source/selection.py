"""Which columns a leg copies under which names, and by which of them rows are identified."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from ultravect.core.contracts.catalogue import LiveTable
from ultravect.core.dialects.base import Dialect
from ultravect.core.engine.objects.tables import TableRows
from ultravect.core.engine.plan.target.names import fitted, loosely_matched
from ultravect.core.errors import UltravectError
from ultravect.core.expressions.select_list import Selected, resolve
from ultravect.core.layouts.base import Reader
from ultravect.core.model.jobs.job import Job
from ultravect.core.words import counted


def select_columns(job: Job, reader: Reader) -> list[Selected]:
    """The job's select list; a column that the job gives no name is renamed by its rule."""
    rename = job.into.rename
    found = [
        entry if entry.renamed else replace(entry, name=rename.column(entry.name))
        for entry in resolve(job.columns, reader.names)
    ]
    origins: dict[str, str] = {}
    for entry in found:
        origin = reader.names[entry.position] if entry.position is not None else entry.name
        if entry.name in origins:
            raise UltravectError(
                "column-twice",
                f"the columns {origins[entry.name]!r} and {origin!r} would both be called {entry.name!r} in the target",
                hint="give one of them a name of its own with `as`",
                place=entry.place,
                column=entry.name,
            )
        origins[entry.name] = origin
    return found


def with_target_names(
    job: Job, reader: Reader, selected: Sequence[Selected], dialect: Dialect, target: LiveTable | None
) -> Job:
    """The job with the names in the target wherever it names columns of it: those of its key, and those that arrange a new table.

    A name that no column of the target has stays as it is, for the findings to say so.
    """
    wanted = [entry.name for entry in selected]
    called = fitted(dialect, wanted)
    if target is not None:
        called = {**called, **loosely_matched(wanted, [column.name for column in target.columns])}
    brought = {called.get(name, name) for name in wanted}
    into = job.into

    def named(names: Sequence[str]) -> list[str]:
        return [name if name in brought else called.get(name, name) for name in names]

    if into.keys == "primary":
        keys = [called.get(name, name) for name in _primary_key(job, reader, selected)]
    else:
        keys = named(into.key_names)
    changed = {
        "keys": keys or into.keys,
        "sort_by": named(into.sort_by),
        "partition_by": named(into.partition_by),
        "encode": dict(zip(named(list(into.encode)), into.encode.values(), strict=True)),
        "distribute_by": named([into.distribute_by])[0] if into.distribute_by else None,
    }
    return job.model_copy(update={"into": into.model_copy(update=changed)})


def _primary_key(job: Job, reader: Reader, selected: Sequence[Selected]) -> Sequence[str]:
    """The names under which the columns of the source's primary key are copied."""
    live = reader.live if isinstance(reader, TableRows) else None
    columns = [place for place, column in enumerate(live.columns) if column.key] if live else []
    if not columns:
        raise UltravectError(
            "primary-key-missing",
            f"{reader.label} has no primary key, which into.keys: primary takes",
            hint="name the columns that identify its rows in into.keys",
            place="into.keys",
        )
    names = {entry.position: entry.name for entry in selected if entry.position is not None}
    missing = [reader.names[place] for place in columns if place not in names]
    if missing:
        raise UltravectError(
            "key-column-missing",
            f"the primary key of {reader.label} has {counted(len(columns), 'column')}, of which the job leaves out "
            f"{', '.join(missing)}",
            hint="copy them too, or name other columns in into.keys",
            place="into.keys",
        )
    return [names[place] for place in columns]
