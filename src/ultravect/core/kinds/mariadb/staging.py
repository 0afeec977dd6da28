"""Tables next to the target: what rows go into before they are published, and how one takes the place of the target."""

from __future__ import annotations

import hashlib
import re
import secrets
import time
from collections.abc import Callable, Sequence
from contextlib import suppress
from dataclasses import dataclass
from typing import Any

import MySQLdb

from ultravect.core.contracts.catalogue import LiveTable
from ultravect.core.contracts.mark import MARKS
from ultravect.core.contracts.receipt import RECEIPTS, ReceiptKey
from ultravect.core.contracts.target import SwapNeeds
from ultravect.core.contracts.write_plan import Attempt, WritePlan
from ultravect.core.dialects.base import Dialect, TableName
from ultravect.core.dialects.merge import ROW
from ultravect.core.errors import UltravectError
from ultravect.core.loading.sql_ledger import MarkTable, ReceiptTable

# types that an index takes only the start of
_LONG, _PREFIX = re.compile(r"text|blob|json|\((?:[2-9]\d\d|\d{4,})\)"), "(100)"
_SESSIONS, _END_SECONDS = 3, 5.0
STAGE, _OLD = "ultravect_stage_", "ultravect_old_"
_DIGITS = 12

_LEFT = (
    "SELECT table_name FROM information_schema.tables WHERE table_schema = {schema} "
    f"AND (table_name REGEXP '^({STAGE}|{_OLD})[0-9a-f]+$' OR table_name IN ('{RECEIPTS}', '{MARKS}'))"
)


_COUNTER = (
    "SELECT auto_increment FROM information_schema.tables WHERE table_schema = {schema} AND table_name = {table}"
)


# foreign keys in either direction, and triggers; histories, and files in a place of their own
_TIED = """
SELECT 1 FROM information_schema.referential_constraints
WHERE (constraint_schema = {schema} AND table_name = {table}) OR (unique_constraint_schema = {schema} AND referenced_table_name = {table})
UNION ALL SELECT 1 FROM information_schema.triggers WHERE event_object_schema = {schema} AND event_object_table = {table}
UNION ALL SELECT 1 FROM information_schema.tables WHERE table_schema = {schema} AND table_name = {table}
  AND (table_type = 'SYSTEM VERSIONED' OR create_options LIKE '%DIRECTORY%')
LIMIT 1
"""


@dataclass(frozen=True)
class Staging:
    """Where rows go: first into ``rows``, then into ``final``, which at the end takes the name of the target ``home``."""

    home: TableName
    final: TableName
    rows: TableName
    matched: TableName | None = None
    """Where the numbers of rows go whose key is there already."""

    kept: TableName | None = None
    """A copy of the rows that are replaced, where their table stays."""

    @property
    def renamed(self) -> bool:
        return self.final != self.home

    @property
    def merged(self) -> bool:
        return self.rows != self.final


def first_row(session: Any, statement: str) -> tuple[Any, ...] | None:
    """Runs a statement; the first row of its answer, where it has one."""
    with session.cursor() as cursor:
        # the driver looks for placeholders only where it is given values
        cursor.execute(statement)
        row: tuple[Any, ...] | None = cursor.fetchone() if cursor.description else None
    return row


def session_locks(attempt: ReceiptKey) -> Sequence[str]:
    """The names of locks of the server that the sessions of an attempt hold, one each, by which the attempt after it finds them."""
    digest = hashlib.sha256(attempt.session.encode()).hexdigest()[:40]
    return [f"ultravect_{digest}_{number}" for number in range(_SESSIONS)]


def end_attempt(session: Any, attempt: ReceiptKey) -> None:
    """Ends the sessions of an attempt whose worker is lost, or paused: they hold locks for as long as the server waits for them."""
    until = time.monotonic() + _END_SECONDS
    for name in session_locks(attempt):
        ended = False
        while (row := first_row(session, f"SELECT IS_USED_LOCK('{name}')")) and row[0] and time.monotonic() < until:
            if not ended:
                ended = True
                with suppress(MySQLdb.Error):
                    first_row(session, f"KILL CONNECTION {int(row[0])}")
            time.sleep(0.05)


def aside(staged: TableName) -> TableName:
    """What the replaced table is called until it is dropped."""
    return TableName(staged.schema, staged.name.replace(STAGE, _OLD))


def begin_in_place(dialect: Dialect, staged: TableName, name: TableName, previous: str, *, replaces: bool) -> str:
    """The statement that gives the staged table the name of the target, whose old table is called ``previous`` then."""
    into = dialect.table(name)
    if not replaces:
        return f"RENAME TABLE {dialect.table(staged)} TO {into}"
    old = TableName(name.schema, previous) if previous else aside(staged)
    return f"RENAME TABLE {into} TO {dialect.table(old)}, {dialect.table(staged)} TO {into}"


def keep_counter(execute: Callable[[str], Any], dialect: Dialect, old: TableName, new: TableName) -> None:
    """The next number of an AUTO_INCREMENT column goes on where it was."""
    schema = dialect.literal(old.schema) if old.schema else "DATABASE()"
    found = execute(_COUNTER.format(schema=schema, table=dialect.literal(old.name)))
    if found and found[0]:
        execute(f"ALTER TABLE {dialect.table(new)} AUTO_INCREMENT = {int(found[0])}")


def make_staging(
    execute: Callable[[str], Any],
    dialect: Dialect,
    attempt: Attempt,
    live: LiveTable | None,
    schema: str,
    stage: str,
    *,
    swaps: bool,
    temporary: bool = False,
) -> Staging:
    """Creates what rows go into, where that is not the table itself, in ``schema`` or that of the table; ``stage``: see ``new_stage``.

    ``swaps``: another table takes the place of the one that is overwritten; ``temporary``: what is made is the session's own, which ends no
    transaction.
    """
    plan = attempt.plan
    home = live.name if live else plan.table
    names = (TableName(schema or home.schema, f"{stage}{number}") for number in range(10))
    final = rows = home
    if plan.create is not None:
        final = next(names)
        for statement in dialect.create_table(final, plan.create):
            execute(statement)
    elif swaps:
        final = next(names)
        execute(f"CREATE TABLE {dialect.table(final)} LIKE {dialect.table(home)}")
        for statement in dialect.alter_table(final, plan.changes):
            execute(statement)
    if attempt.staged or plan.changes:
        rows = next(names)
        execute(_staging_table(dialect, attempt, final, rows, live, temporary=temporary))
    matched = None
    if plan.merges is not None:
        matched = next(names)
        execute(f"{_create(temporary)} {dialect.table(matched)} (staged bigint, KEY (staged))")
    kept = None
    if plan.replaces is not None and plan.replaces.keep_previous and live and final == home:
        kept = next(names)
        execute(f"CREATE TABLE {dialect.table(kept)} AS SELECT * FROM {dialect.table(home)}")
    return Staging(home, final, final if rows == home else rows, matched, kept)


def new_stage() -> str:
    """How the names of a load's tables begin, and the name of the lock of the server by which its session says that they are in use."""
    return STAGE + secrets.token_hex(_DIGITS // 2)


def _lock_of(table: str) -> str:
    # an old table goes with the session whose staging took its place
    return table.replace(_OLD, STAGE)[: len(STAGE) + _DIGITS]


def _create(temporary: bool) -> str:
    return "CREATE TEMPORARY TABLE" if temporary else "CREATE TABLE"


def _staging_table(
    dialect: Dialect, attempt: Attempt, final: TableName, rows: TableName, live: LiveTable | None, *, temporary: bool
) -> str:
    """The statement that creates a table for rows as ``final`` will have them."""
    plan = attempt.plan
    changed = {change.column.name: change.column for change in plan.changes}
    declared = [
        f"{dialect.quote(name)} {dialect.from_canonical(column.type).native}" for name, column in changed.items()
    ]
    declared.append(f"{ROW} bigint, KEY ({ROW})" if attempt.isolates else f"{ROW} bigint")
    if plan.keys:
        # without an index each row of one table would be compared with each of the other
        natives = {column.name: dialect.from_canonical(column.type).native for column in plan.columns}
        natives |= {column.name: column.native for column in (live.columns if live and not plan.create else ())}
        parts = [f"{dialect.quote(key)}{_PREFIX if _LONG.search(natives[key]) else ''}" for key in plan.keys]
        declared.append(f"KEY ({', '.join(parts)})")
    kept = [dialect.quote(column.name) for column in plan.columns if column.name not in changed]
    selected = f" AS SELECT {', '.join(kept)} FROM {dialect.table(final)} LIMIT 0" if kept else ""
    return f"{_create(temporary)} {dialect.table(rows)} ({', '.join(declared)}){selected}"


def may_swap(execute: Callable[[str], Any], dialect: Dialect, plan: WritePlan, live: LiveTable | None) -> bool:
    """Whether another table takes this one's place, as was planned, and nothing stays with the old one that was made since."""
    if live is None or plan.clears is None or plan.clears.how != "swap":
        return False
    needs = SwapNeeds(before=bool(plan.before), after=bool(plan.after))
    return not swap_obstacle(execute, dialect, live, needs)


def swap_obstacle(execute: Callable[[str], Any], dialect: Dialect, live: LiveTable, needs: SwapNeeds) -> str:
    """See ``Target.swap_obstacle``, but for privileges."""
    if needs.before or needs.after:
        return "the statements of into.before and into.after need the table itself"
    if _is_tied(execute, dialect, live.name):
        return "foreign keys, triggers or the history of its rows belong to the table that is there"
    return ""


def _is_tied(execute: Callable[[str], Any], dialect: Dialect, table: TableName) -> bool:
    schema = dialect.literal(table.schema) if table.schema else "DATABASE()"
    return execute(_TIED.format(schema=schema, table=dialect.literal(table.name))) is not None


def clear_leftovers(session: Any, dialect: Dialect, receipts: ReceiptTable, schema: str = "") -> frozenset[str]:
    """Drops staging tables whose session is gone, unless a receipt says that they are to be renamed; ``schema`` is that
    of staging, "" for the session's own. Gives the tables of a ledger that are seen there."""
    with session.cursor() as cursor:
        cursor.execute(_LEFT.format(schema=dialect.literal(schema) if schema else "DATABASE()"))
        found = frozenset(name for (name,) in cursor.fetchall())
        left = found - {RECEIPTS, MARKS}
        if not left:
            return found
        pending: set[str] = set()
        with suppress(MySQLdb.ProgrammingError):
            cursor.execute(receipts.pending())
            pending = {name for (name,) in cursor.fetchall()}
        for name in sorted(left):
            cursor.execute(f"SELECT IS_FREE_LOCK('{_lock_of(name)}')")
            if name not in pending and cursor.fetchone()[0] == 1:
                cursor.execute(f"DROP TABLE IF EXISTS {dialect.table(TableName(schema or None, name))}")
    return found - left


def require_tables(
    execute: Callable[[str], Any], connection: str, tables: Sequence[ReceiptTable | MarkTable]
) -> None:
    """Makes sure that the tables of a ledger are there, before anything is loaded."""
    for table in tables:
        _require(execute, connection, table)


def _require(execute: Callable[[str], Any], connection: str, table: ReceiptTable | MarkTable) -> None:
    try:
        execute(table.create().replace("CREATE TABLE", "CREATE TABLE IF NOT EXISTS", 1))
    except MySQLdb.OperationalError as error:
        raise UltravectError(
            "receipts-refused",
            f"connection {connection}: the table {table.name}, in which loads are noted, cannot be created: {error.args[-1]}",
            hint="have CREATE granted once, or set receipts: false in the connection",
            connection=connection,
        ) from None
