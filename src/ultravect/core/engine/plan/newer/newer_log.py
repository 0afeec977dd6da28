"""Plans a leg of a job that follows the log of its source: what is missing there, and how its rows are read."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

from ultravect.core.contracts.change_log import WARNINGS, ChangeLog, LogMark
from ultravect.core.contracts.mark import MarkKey
from ultravect.core.engine.objects.connections import ConnectionSpec
from ultravect.core.engine.objects.tables import TableRows
from ultravect.core.engine.plan.newer.mark_plan import MarkEntry, MarkPlan
from ultravect.core.engine.plan.planning import Planning
from ultravect.core.errors import UltravectError
from ultravect.core.expressions.bind import columns_in
from ultravect.core.model.finding import Severity
from ultravect.core.model.jobs.job import Job
from ultravect.core.words import counted


@dataclass(frozen=True)
class LogReading:
    """How the rows of a leg are read. ``snapshot`` names the one that is read, with ``mark``, which the load notes instead of ``held``, the
    entry as it is; "": what is read are changes.

    ``logged``: see ``TableRows``.
    """

    snapshot: str = ""
    mark: LogMark | None = None
    held: str | None = None
    logged: Mapping[str, Any] = field(default_factory=dict)


def owner_of(job: Job, target: ConnectionSpec) -> str:
    """What distinguishes a job that follows a log from one of the same name elsewhere: where it writes."""
    place = sorted((name, str(value)) for name, value in target.settings.items() if name in _PLACE)
    return f"{job.job} {target.kind} {place}"


_PLACE = ("host", "port", "database", "path", "file", "url", "folder", "schema")


def open_log(job: Job, source: ConnectionSpec, target: ConnectionSpec, database: Any) -> ChangeLog:
    """The log of the job's source; UltravectError where its kind has none."""
    newer = job.source.newer
    assert newer is not None, "the job follows a log"
    found: ChangeLog | None = database.change_log(job.job, owner_of(job, target), newer.publication or "")
    if found is None:
        has = (
            "its versions: from.newer: version"
            if database.keeps_versions
            else "a column that grows: from.newer: {by: COLUMN}"
        )
        raise UltravectError(
            "log-missing",
            f"connection {source.name} is of kind {source.kind}, whose log is not followed",
            hint=f"copy what is new by {has}; or compare all rows: from.newer: changed_rows",
            place="from.newer",
        )
    return found


def log_rows(rows: TableRows, sent: Sequence[str], reading: LogReading | None) -> TableRows:
    """The rows with those columns alone that the log has; without ``reading``, as a check reads them."""
    columns = [column for column in rows.columns if column.name in sent]
    findings = [finding for finding in rows.findings if finding.place != "columns"]
    found = replace(rows, columns=columns, findings=findings)
    if reading is None:
        return found
    return replace(
        found, findings=[], is_asked=bool(reading.snapshot), snapshot=reading.snapshot, logged=reading.logged
    )


def plan_newer_log(
    job: Job, plan: Planning, reading: LogReading | None, key: MarkKey, log: ChangeLog, left_out: Sequence[str]
) -> None:
    """Sets the mark of a snapshot, or finds what is missing to follow the log."""
    reader = plan.reader
    assert isinstance(reader, TableRows) and reader.live is not None
    if reading is not None:
        if reading.mark is not None:
            entry = MarkEntry("", reading.mark.as_text(), reading.held)
            plan.mark = MarkPlan(key, "from a snapshot of all rows", (entry,))
        return
    for lack in log.lacks([reader.live]):
        severity: Severity = "warning" if lack.code in WARNINGS else "error"
        plan.add(severity, lack.code, lack.message, "from.newer", lack.fix)
    if left_out:
        shown = (
            f"{', '.join(left_out)} of {reader.label} {'is' if len(left_out) == 1 else 'are'} computed by the source"
        )
        what = f"{shown}: its log does not have {counted(len(left_out), 'such column')}, and they are not copied"
        plan.add("warning", "log-without-column", what, "columns", "compute them again in columns")
    plan.summary_of_mark = "first all rows as they are, then what the log says"


def find_unnamed_keys(job: Job, plan: Planning, log: ChangeLog) -> None:
    """A deleted row is found by the keys of the target: the log has to say what they are made of."""
    reader = plan.reader
    if not isinstance(reader, TableRows) or reader.live is None or not job.into.matches_rows:
        return
    identity = log.identity(reader.live)
    if identity is None:
        return  # said already
    missing = [reader.names[place] for place in key_places(plan) if reader.names[place] not in identity]
    if missing:
        dialect = reader.database.dialect
        plan.add(
            "error",
            "log-identity",
            f"the log names a row of {reader.label} by {', '.join(identity)}; the keys of {plan.table} also need {', '.join(missing)}",
            "into.keys",
            f"write into.keys: primary; or ALTER TABLE {dialect.table(reader.live.name)} REPLICA IDENTITY FULL",
        )


def key_places(plan: Planning) -> list[int]:
    """The columns of the source that the keys of the target are made of, by their places."""
    found: set[int] = set()
    for column in plan.columns:
        if column.key:
            found |= {column.position} if column.expression is None else columns_in(plan.bound[column.source])
    return sorted(found)
