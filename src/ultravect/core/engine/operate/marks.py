"""Shows, sets and resets the marks of a job, in its target."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

from ultravect.core.contracts.change_log import LogMark
from ultravect.core.contracts.mark import ColumnMark, FileMark, VersionMark
from ultravect.core.engine.objects.connections import ConnectionSpec
from ultravect.core.engine.objects.names import RunFacts
from ultravect.core.engine.objects.tables import open_rows
from ultravect.core.engine.objects.targets import open_target
from ultravect.core.engine.plan.legs import legs_now
from ultravect.core.engine.plan.newer.mark_values import as_mark, family, parsed
from ultravect.core.engine.plan.newer.newer_rows import key_of_mark
from ultravect.core.errors import UltravectError
from ultravect.core.expressions.bind import column_position
from ultravect.core.model.jobs.job import Job
from ultravect.core.model.problems import did_you_mean
from ultravect.core.types.canonical import CanonicalType

_NAMED_FILES = 200
_OF_ANSWERS = [CanonicalType(name) for name in ("decimal", "date", "timestamp", "timestamptz")]
"""What a mark of a server's answers may be; the first that fits."""


@dataclass(frozen=True)
class ShownMark:
    """The mark of one object: of a column its ``value``, or how many ``files`` were copied, and the names of some."""

    object: str
    target: str
    column: str = ""
    value: str = ""
    files: int = 0
    names: Sequence[str] = ()

    def as_dict(self) -> dict[str, Any]:
        return {**self.__dict__, "names": list(self.names)}


def marks_of(job: Job, source: ConnectionSpec, target: ConnectionSpec) -> list[ShownMark]:
    """The marks of a job as they are in its target, one for each object that it copies now."""
    return [_shown(name, leg, target) for name, leg in _legs(job, source, target)]


def set_mark(job: Job, source: ConnectionSpec, target: ConnectionSpec, name: str, value: str) -> list[ShownMark]:
    """Has the next run of the object ``name``, "" for all of them, begin above ``value``."""
    return _change(job, source, target, name, lambda leg: _as_mark(leg, source, value))


def reset_mark(job: Job, source: ConnectionSpec, target: ConnectionSpec, name: str) -> list[ShownMark]:
    """Forgets what was copied of the object ``name``, "" for all of them: the next run copies all there is."""
    return _change(job, source, target, name, lambda leg: None)


def _legs(job: Job, source: ConnectionSpec, target: ConnectionSpec) -> list[tuple[str, Job]]:
    """The objects of which the job keeps a mark, each with the job of its leg."""
    if job.source.feed is not None:
        return [(job.source.object_name, job)]
    legs = [
        (name, leg)
        for name, leg in legs_now(job, source, target, RunFacts())
        if leg.source.newer and leg.source.newer.has_mark
    ]
    if not legs:
        raise UltravectError(
            "job-without-mark",
            f"job {job.job} copies all rows each time, and keeps no mark",
            hint="from.newer says how to copy only what is new",
            place="from.newer",
        )
    return legs


def _shown(name: str, job: Job, target: ConnectionSpec) -> ShownMark:
    opened, table = open_target(job, target, RunFacts())
    entries = opened.ledger(table).mark(key_of_mark(job))
    newer = job.source.newer
    if newer is not None and newer.by is not None:
        held = entries.get("")
        value = ColumnMark.from_text(held).value if held else ""
        return ShownMark(name, job.into.object_name, newer.by, value)
    if newer is not None and newer.log:
        held = entries.get("")
        return ShownMark(
            name, job.into.object_name, "log", f"copied up to {LogMark.from_text(held).position}" if held else ""
        )
    if newer is not None and newer.version:
        held = entries.get("")
        return ShownMark(name, job.into.object_name, "version", VersionMark.from_text(held).version if held else "")
    names = sorted(path for path, text in entries.items() if FileMark.from_text(text))
    return ShownMark(name, job.into.object_name, files=len(names), names=names[:_NAMED_FILES])


def _as_mark(job: Job, source: ConnectionSpec, value: str) -> str:
    """The entry that a value makes, once it was found to be one of the column."""
    if job.source.newer is not None and job.source.newer.version:
        return VersionMark(_known_version(job, source, value)).as_text()
    if job.source.newer is not None and job.source.newer.log:
        raise UltravectError(
            "mark-not-of-column",
            f"job {job.job} follows a log: where it goes on in it cannot be set by hand",
            hint="reset the mark of a table, and it is copied anew: ultravect mark JOB --reset --object TABLE",
        )
    if job.source.newer is None or job.source.newer.by is None:
        raise UltravectError(
            "mark-not-of-column",
            f"job {job.job} notes the files of {job.source.object_name} one by one: there is no value to be set",
            hint="reset the mark, and all files are copied again: ultravect mark JOB --reset",
        )
    if job.source.asks_by_mark:
        found = next((kind for kind in _OF_ANSWERS if _is_one(value, kind)), _OF_ANSWERS[-1])
        return ColumnMark(family(found), as_mark(parsed(value, found, "value"), found)).as_text()
    table = job.source.table and job.source.table.replace("{{", "{").replace("}}", "}")
    rows = open_rows(source, job.source.model_copy(update={"table": table}))
    kind = rows.columns[column_position(job.source.newer.by, rows.names, "from.newer.by")].type
    if kind is None:
        raise UltravectError(
            "mark-column-unordered", f"{job.source.newer.by} has no type by which a mark can be kept"
        )
    return ColumnMark(family(kind), as_mark(parsed(value, kind, "value"), kind)).as_text()


def _is_one(value: str, kind: CanonicalType) -> bool:
    try:
        parsed(value, kind, "value")
    except UltravectError:
        return False
    return True


def _known_version(job: Job, source: ConnectionSpec, value: str) -> str:
    """A version that the table has; UltravectError for another one."""
    rows = open_rows(source, job.source)
    assert rows.live is not None
    if not value.isdecimal():
        raise UltravectError(
            "mark-value-invalid", f"{value!r} is no version of {rows.label}", hint="write its number", place="value"
        )
    rows.database.new_rows(rows.live.name, value)
    return value


def _change(
    job: Job, source: ConnectionSpec, target: ConnectionSpec, name: str, made: Callable[[Job], str | None]
) -> list[ShownMark]:
    legs = _legs(job, source, target)
    chosen = [(known, leg) for known, leg in legs if name in ("", known)]
    if not chosen:
        names = [known for known, _ in legs]
        raise UltravectError(
            "object-unknown",
            f"{name!r} is none of the objects of the job",
            hint=did_you_mean(name, names) or f"objects: {', '.join(names[:10])}",
        )
    for _, leg in chosen:
        opened, table = open_target(leg, target, RunFacts())
        opened.ledger(table).set_mark(key_of_mark(leg), made(leg))
    return [_shown(known, leg, target) for known, leg in chosen]
