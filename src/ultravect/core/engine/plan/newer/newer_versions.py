"""Plans which rows of a table came with the versions after the one that was copied last."""

from __future__ import annotations

from ultravect.core.contracts.mark import MarkKey, VersionMark
from ultravect.core.engine.objects.tables import TableRows
from ultravect.core.engine.plan.newer.mark_plan import MarkEntry, MarkPlan
from ultravect.core.engine.plan.planning import Planning
from ultravect.core.errors import UltravectError
from ultravect.core.model.jobs.job import Job


def plan_newer_versions(job: Job, plan: Planning, key: MarkKey) -> None:
    """Has the reader read those rows alone, and sets the plan's mark."""
    reader = plan.reader
    assert (
        isinstance(reader, TableRows)
        and reader.live is not None
        and plan.target is not None
        and plan.table is not None
    )
    if not reader.database.keeps_versions:
        raise UltravectError(
            "versions-not-kept",
            f"connection {job.source.connection} is of a kind that keeps no versions of its tables",
            hint="name a column that grows, {by: changed_at}, or compare all rows: changed_rows",
            place="from.newer",
        )
    held = plan.target.ledger(plan.table).mark(key).get("")
    since = VersionMark.from_text(held).version if held else ""
    if since and plan.live is None:
        plan.add(
            "warning",
            "mark-without-table",
            f"{plan.table} is gone since the mark of version {since} was written: all rows are copied again",
            "into.table",
        )
        since = ""
    try:
        found = reader.database.new_rows(reader.live.name, since)
    except UltravectError as error:
        if error.code != "version-missing":
            raise
        raise UltravectError(
            "version-missing",
            f"{reader.label} no longer has version {since}, up to which it was copied: what came after it is not known",
            hint=f"copy all of it again, by an upsert: ultravect mark {job.job} --reset",
            place="from.newer",
        ) from None
    summary = f"since version {since}" if since else "from the first row"
    if since == found.version or found.rows == 0:
        plan.nothing = f"nothing is new {summary}"
    if found.repeated:
        keyed = bool(job.into.key_names)
        plan.add(
            "note" if keyed else "error",
            "versions-repeat-rows",
            f"files of {reader.label} were written anew since version {since}: rows that did not change come again with them",
            "from.newer",
            "" if keyed else "write by mode: upsert, or name into.keys, so that they are known again",
        )
    reader.origin = reader.database.dialect.table(found.table)
    plan.summary_of_mark = summary
    plan.count_new = lambda: found.rows
    entry = MarkEntry("", VersionMark(found.version).as_text(), held)
    plan.mark = MarkPlan(key, summary, (entry,), versions=(since, found.version))
