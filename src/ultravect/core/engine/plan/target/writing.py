"""Plans how rows are written: keys, privileges, receipts, and settings that have no effect."""

from __future__ import annotations

from contextlib import suppress
from dataclasses import replace

from ultravect.core.contracts.catalogue import LiveTable
from ultravect.core.contracts.write_plan import Merge, Replace
from ultravect.core.engine.objects.tables import TableRows
from ultravect.core.engine.plan.planning import Planning
from ultravect.core.engine.plan.suggest import nearest_in
from ultravect.core.engine.plan.target.names import quoted
from ultravect.core.engine.plan.target.statements import plan_statements
from ultravect.core.errors import UltravectError
from ultravect.core.expressions.parse import parse_condition, parse_item
from ultravect.core.expressions.tree import Star, parameters_in
from ultravect.core.loading.sql_ledger import ReceiptTable
from ultravect.core.model.edits import REMOVED
from ultravect.core.model.finding import Replacement
from ultravect.core.model.jobs.job import Job, placeholders
from ultravect.core.model.problems import did_you_mean

_DUPLICATE_SECONDS = 5.0
_RECEIPT_NEEDS = frozenset(["SELECT", "INSERT", "DELETE"])


def plan_mode(job: Job, plan: Planning) -> None:
    """Marks the key columns, and says what stands in the way of the job's mode."""
    _keys(job, plan)
    if plan.live is not None:
        _privileges(plan, plan.live)
    _without_effect(job, plan)
    plan_statements(job, plan)
    for remark in plan.target.remarks() if plan.target is not None and not plan.errors else ():
        plan.add("note", remark.code, remark.message, "into.connection", remark.fix)
    if not plan.receipts:
        plan.add(
            "note",
            "receipts-off",
            f"the connection {job.into.connection} takes no receipts: a run whose worker is lost while publishing cannot "
            "say whether its rows are in the target",
            "into.connection",
        )


def _keys(job: Job, plan: Planning) -> None:
    keys = job.into.key_names
    names = [column.name for column in plan.columns]
    for number, key in enumerate(keys):
        if key not in names:
            near = did_you_mean(key, names)
            what = f"{key!r} is no column that the rows bring to {plan.table}"
            plan.add(
                "error",
                "key-column-unknown",
                what,
                f"into.keys.{number}",
                near or f"they bring: {', '.join(names)}",
                Replacement(f"into.keys.{number}", nearest_in(near)) if near else None,
            )
    plan.columns = [replace(column, key=column.name in keys) for column in plan.columns]
    if not keys or plan.live is None or plan.is_new or plan.errors or plan.live.keeps_apart(keys):
        return
    if plan.target is not None and not plan.target.enforces_keys:
        what = f"nothing keeps {', '.join(keys)} apart in {plan.live.name} but loads with these keys: keys are not enforced there"
        plan.add("note", "keys-not-enforced", what, "into.keys")
        return
    plan.add(
        "warning",
        "key-without-index",
        f"{plan.live.name} has no unique index on {', '.join(keys)}: rows are matched more slowly, and others can add "
        "duplicates",
        "into.keys",
        f"create one: CREATE UNIQUE INDEX ON {plan.live.name} ({', '.join(map(quoted, keys))})",
    )


def find_duplicates(job: Job, plan: Planning) -> None:
    """Looks whether the target already has a key twice, where all of it may be read; only asked where no index keeps keys apart."""
    keys, live = job.into.key_names, plan.live
    if not isinstance(plan.action, Merge) or live is None or plan.is_new or plan.errors or job.into.count != "exact":
        return  # without an index that takes reading the whole table: the load finds it, at the keys that come
    database = plan.target.database if plan.target else None
    if database is None or live.keeps_apart(keys):
        return
    if any(live.column(key) is None for key in keys):
        return  # the load adds it, and no row has a value in it yet
    dialect = database.dialect
    names = ", ".join(map(dialect.quote, keys))
    sql = f"SELECT {names}, count(*) FROM {dialect.table(live.name)} GROUP BY {names} HAVING count(*) > 1"
    found = database.ask(sql, 1, _DUPLICATE_SECONDS).rows
    if found:
        values = ", ".join(map(str, found[0][:-1]))
        plan.add(
            "error",
            "key-not-unique",
            f"{live.name} already has {found[0][-1]} rows with the key ({', '.join(keys)}) = ({values}): which one to "
            "update is not known",
            "into.keys",
            "remove the duplicates from the table, or name more columns in into.keys",
        )


def _truncates(plan: Planning) -> bool:
    return isinstance(plan.action, Replace) and plan.action.how == "truncate"


def _privileges(plan: Planning, live: LiveTable) -> None:
    assert plan.target is not None
    mode = plan.action.mode
    needed = plan.target.needs.get(mode, frozenset())
    if _truncates(plan):
        needed = needed - {"DELETE"} | {"TRUNCATE"}
        _readers_wait(plan, live)
    missing = sorted(needed - live.granted)
    if missing:
        plan.add(
            "error",
            "privilege-missing",
            f"mode {mode} needs {', '.join(missing)} for {live.name}, which the connection's user has not",
            "into.table",
            f"have it granted: GRANT {', '.join(missing)} ON {'DATABASE' if missing == ['TEMPORARY'] else str(live.name)} …",
        )


def _readers_wait(plan: Planning, live: LiveTable) -> None:
    """What comes with taking all rows away at once."""
    keys = [dependent for dependent in live.dependents if dependent.startswith("foreign key")]
    if keys:
        plan.add(
            "error",
            "target-depended-on",
            f"{live.name} cannot be emptied by TRUNCATE: {', '.join(keys)} depend{'s' if len(keys) == 1 else ''} on it",
            "into.old_rows",
            "write into.old_rows: delete",
            Replacement("into.old_rows", "delete"),
        )
    plan.add(
        "warning",
        "readers-wait",
        f"readers of {live.name} wait until the load is done, transactions that began before it no longer see the "
        "old rows, and triggers on DELETE do not run",
        "into.old_rows",
        "take it out if readers must not wait",
    )


def find_receipts(plan: Planning) -> None:
    """Looks whether the table of receipts is there, or can be created."""
    if not plan.receipts or plan.table is None or plan.target is None or plan.target.database is None:
        return
    home = plan.live.name if plan.live else plan.table
    name = ReceiptTable(plan.target.dialect, home).name
    held = plan.target.table(name)
    obstacle = plan.target.may_create(name) if held is None else ""
    missing = sorted(_RECEIPT_NEEDS - held.granted) if held else []
    if obstacle or missing:
        shown = (
            f"cannot be created: {obstacle}" if obstacle else f"needs {', '.join(missing)}, which the user has not"
        )
        plan.add(
            "error",
            "receipts-refused",
            f"the table of receipts, {name}, {shown}",
            "into.connection",
            "have it granted, or set receipts: false in the connection",
        )


def _without_effect(job: Job, plan: Planning) -> None:
    def unused(setting: str, why: str) -> None:
        plan.add(
            "note",
            "setting-unused",
            f"{setting} has no effect: {why}",
            setting,
            "take it out",
            Replacement(setting, REMOVED),
        )

    into = job.into
    if "repeats" in into.model_fields_set and not into.key_names:
        unused("into.repeats", "no keys are named by which rows could repeat")
    if into.carry and not plan.is_new:
        unused("into.carry", "the table is there already")
    elif into.carry and (not isinstance(plan.reader, TableRows) or plan.reader.live is None):
        unused("into.carry", "only a table has keys, defaults and comments to carry along")
    elif "comments" in into.carry and plan.target and not plan.target.dialect.keeps_comments:
        unused("into.carry", f"{plan.target.dialect.name} keeps no comments")
    if into.lock_table and not (plan.target and plan.target.locks_tables):
        unused(
            "into.lock_table", "the target has no lock that leaves readers alone, or lets one write at a time anyway"
        )
    if into.old_rows == "truncate" and not _truncates(plan):
        unused("into.old_rows", "the target takes old rows away as quickly as it can anyway")
    if into.checksums and not _may_sum(plan):
        unused("into.checksums", "the rows of an upsert, and files, are not distinguished afterwards")
    if into.keep_previous and not plan.receipts:
        unused("into.keep_previous", "without receipts nothing says which load the kept rows are from")
    used = _parameters(job)
    for name in job.parameters:
        if name not in used:
            unused(f"parameters.{name}", "nothing names it")


def _may_sum(plan: Planning) -> bool:
    return not isinstance(plan.action, Merge) and plan.target is not None and plan.target.database is not None


def deciding_parameters(job: Job) -> list[str]:
    """The parameters that decide which rows or files are copied."""
    named = {*placeholders(job.source.files or ""), *placeholders(job.source.table or "")}
    if job.source.where:
        with suppress(UltravectError):  # binding it says what is wrong
            named |= set(parameters_in(parse_condition(job.source.where, "from.where")))
    return sorted(named.intersection(job.parameters))


def _parameters(job: Job) -> set[str]:
    items = [parse_item(item, "columns") for item in job.columns]
    nodes = [item.value for item in items if not isinstance(item, Star)]
    if job.source.where:
        nodes.append(parse_condition(job.source.where, "from.where"))
    if job.into.replaces:
        nodes.append(parse_condition(job.into.replaces, "into.replaces"))
    return {name for node in nodes for name in parameters_in(node)}
