"""What a run would do to the target as it is now: in a sentence, and in SQL."""

from __future__ import annotations

from contextlib import suppress

import pyarrow as pa

from ultravect.core.contracts.target import Database
from ultravect.core.contracts.write_plan import COUNTED_ROWS, Insert, Merge, Replace, WritePlan
from ultravect.core.contracts.write_session import STAGED
from ultravect.core.dialects.merge import MergeStatements
from ultravect.core.engine.plan.open_leg import OpenLeg
from ultravect.core.engine.plan.planning import Planning
from ultravect.core.errors import UltravectError
from ultravect.core.loading.counting import count_of_few, known_count
from ultravect.core.model.jobs.job import Job
from ultravect.core.types.written import plain_text
from ultravect.core.words import counted

_TRIED_KEYS = 200
_SECONDS = 3.0


def effect_of(job: Job, plan: Planning, sample: pa.RecordBatch | None) -> str:
    """What the job's mode means for this target; ``sample`` are the first rows, shaped."""
    action, live = plan.action, plan.live
    database = plan.target.database if plan.target else None
    if database is None:
        if isinstance(action, Replace):
            return f"writes {plan.table}, in the place of the files that it wrote before; each appears whole"
        return f"writes {plan.table}, or the same name with the run's number where that is taken; it appears whole"
    if live is None:
        return f"creates the table {plan.table} and fills it; both are seen in one step"
    counted_rows = _few_rows(database, plan)
    if counted_rows is None:
        there = f"the rows there ({_about(plan)})"
    else:
        there = f"the {counted_rows:,} rows there" if counted_rows != 1 else "the one row there"
    match action:
        case Insert():
            return f"adds rows to {there}"
        case Replace():
            if action.where:
                there = f"those of {there} for which {job.into.replaces} is true"
            how = "a new table takes the place of the old one" if plan.rebuilds else "in one step"
            waits = action.how == "truncate" and not plan.rebuilds
            return f"replaces {there}, {how}; readers meanwhile {'wait' if waits else 'see the old ones'}"
    shown = f"matches {there} by {', '.join(job.into.key_names)}: new keys are inserted, changed rows updated, equal ones left"
    if isinstance(action, Merge) and action.gone is not None:
        does = f"flagged in {action.gone.flag}" if action.gone.flag else "deleted"
        shown += f"; rows whose key the source has no more are {does}"
    # without an index, all rows would be looked at
    may_try = counted_rows is not None or live.keeps_apart(job.into.key_names)
    tried, matching = _matching(job, plan, database, sample) if may_try else (0, 0)
    return shown + (f"; of the first {counted(tried, 'key')}, {matching:,} would match" if tried else "")


def _few_rows(target: Database, plan: Planning) -> int | None:
    """The rows of the table, where they are few; None where they are not, or could not be counted."""
    assert plan.live is not None
    with suppress(UltravectError):
        asked = count_of_few(target.dialect, target.dialect.table(plan.live.name))
        return known_count(target.ask(asked, 1, _SECONDS).rows[0])
    return None


def _about(plan: Planning) -> str:
    """The rows of a table that are not counted, as statistics say."""
    assert plan.live is not None
    return f"more than {COUNTED_ROWS:,}" if plan.live.rows is None else f"about {plan.live.rows:,}"


def _matching(job: Job, plan: Planning, target: Database, sample: pa.RecordBatch | None) -> tuple[int, int]:
    """How many different keys were tried, and how many of them the target has."""
    if sample is None or plan.live is None or not sample.num_rows:
        return 0, 0
    kinds = {column.name: column.type for column in plan.columns}
    texts = [plain_text(sample.column(key)).to_pylist()[:_TRIED_KEYS] for key in job.into.key_names]
    keys = list(dict.fromkeys(zip(*texts, strict=True)))
    dialect = target.dialect
    tests = [
        " AND ".join(
            f"{dialect.quote(key)} = {dialect.constant(value, kinds[key])}"
            for key, value in zip(job.into.key_names, values, strict=True)
        )
        for values in keys
    ]
    where = " OR ".join(f"({test})" for test in tests)
    try:
        found = target.ask(f"SELECT count(*) FROM {dialect.table(plan.live.name)} WHERE {where}", 1, _SECONDS)
    except UltravectError:
        return 0, 0
    return len(keys), int(found.rows[0][0])


def statements_of(leg: OpenLeg) -> list[str]:
    """SQL that does what a run would do in the target in addition to loading rows, in its order; without DDL.

    A database may have a faster way to the same end: see docs/writing.md.
    """
    database = leg.target.database
    if database is None:
        return []
    plan = leg.plan.write
    table = database.dialect.table(leg.plan.live.name if leg.plan.live else plan.table)
    return [*plan.before, *_action_statements(plan, database, table), *plan.after]


def _action_statements(plan: WritePlan, target: Database, table: str) -> list[str]:
    cleared = plan.clears
    removing = "TRUNCATE" if cleared is not None and cleared.how == "truncate" else "DELETE FROM"
    removed = [f"{removing} {table}"] if cleared is not None else []
    if not plan.keys:
        return removed
    merge = MergeStatements.of(target.dialect, table, STAGED, plan.columns, plan.keys)
    repeats = [] if plan.repeats == "fail" else [merge.drop_repeats(first=plan.repeats == "first")]
    if plan.merges is None:
        return [*removed, *repeats, merge.insert_all()]
    update = merge.update()
    return [*repeats, *([update] if update else []), merge.insert()]
