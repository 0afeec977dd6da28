"""Stages of PostgreSQL: tables that several sessions fill, each its slice in a transaction of its own.

A new table is filled itself, under another name and without its key, which is added when it takes its own. So is one like a table that
is empty, which takes the place of that: a reader with an old snapshot sees no rows in either. All other rows are staged in an
unlogged table, as a load of one session stages them in a temporary one. A stage belongs to the session that made it, by an advisory
lock: a stage without an owner was left by a session that was lost, and the next one that makes a stage removes it.
"""

from __future__ import annotations

import secrets
from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager
from dataclasses import replace

import psycopg
import pyarrow as pa

from ultravect.core.contracts.catalogue import LiveTable
from ultravect.core.contracts.ledger import Entry
from ultravect.core.contracts.receipt import Receipt, ReceiptKey
from ultravect.core.contracts.write_plan import Attempt, Stage, WritePlan
from ultravect.core.dialects.base import Dialect, NewColumn, NewTable, TableName
from ultravect.core.dialects.merge import ROW
from ultravect.core.kinds.postgresql.catalogue import Session, SessionStatements, find_table, resolved
from ultravect.core.kinds.postgresql.copy_in import CopyIn
from ultravect.core.kinds.postgresql.ledger import require_tables
from ultravect.core.kinds.postgresql.locks import end_holders
from ultravect.core.kinds.postgresql.session import explained
from ultravect.core.kinds.postgresql.table_swap import ShadowTable, replaces_empty
from ultravect.core.kinds.postgresql.write import staging_query
from ultravect.core.loading.questions import table_gone
from ultravect.core.loading.row_numbers import RowNumbers
from ultravect.core.loading.sql_ledger import LedgerTables, ReceiptTable
from ultravect.core.types.canonical import CanonicalType

_PREFIX = "ultravect_slices_"
_LEFT = """
SELECT n.nspname, c.relname FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE c.relkind = 'r' AND starts_with(c.relname, %s) AND pg_get_userbyid(c.relowner) = current_user
"""
_OWN = "SELECT pg_try_advisory_lock(hashtextextended(%s, 0))"


class PostgresqlStages:
    """See ``Stages``; ``sign_in`` opens a session with a name."""

    def __init__(self, connection: str, dialect: Dialect, staging: str, sign_in: Callable[[str], Session]) -> None:
        self._connection, self._dialect, self._staging, self._sign_in = connection, dialect, staging, sign_in

    def obstacle(self, plan: WritePlan) -> str:
        if plan.create is not None or plan.keys or plan.changes:
            return ""
        with (
            closing(self._sign_in("plan")) as session,
            explained(self._connection, f"looking whether {plan.table} is empty"),
        ):
            if self._replaced(session, plan) is not None:
                return ""
        if plan.replaces is not None:
            return (
                "a table that is overwritten would be filled from a staging table: every row would be written twice"
            )
        return "rows go straight into the table; from a staging table, every row would be written twice"

    @contextmanager
    def stage(self, attempt: Attempt) -> Iterator[Stage]:
        plan = attempt.plan
        with (
            closing(self._sign_in(f"slices {plan.table}")) as session,
            explained(self._connection, f"making a staging table for {plan.table}"),
        ):
            session.autocommit = True
            self._remove_left(session)
            home = resolved(session, plan.table)
            name = TableName(self._staging or home.schema, f"{_PREFIX}{secrets.token_hex(6)}")
            session.execute(_OWN, (name.name,))
            becomes_target = self._make(session, attempt, name, home)
            made = find_table(session, self._dialect, name)
            assert made is not None, "the table was created a moment ago"
            try:
                yield Stage(made.name, becomes_target)
            finally:
                end_holders(session, self._dialect.table(made.name))
                session.execute(f"DROP TABLE IF EXISTS {self._dialect.table(made.name)}".encode())
                if attempt.key is not None:
                    receipts = ReceiptTable(self._dialect, home)
                    session.execute(receipts.forget_slices(attempt.key).encode())

    def _replaced(self, session: Session, plan: WritePlan) -> LiveTable | None:
        """The table that is empty, and whose place another one can take when the load is published."""
        keeps = plan.replaces is not None and plan.replaces.keep_previous
        if plan.create is not None or plan.keys or plan.changes or plan.after or keeps:
            return None
        live = find_table(session, self._dialect, plan.table)
        staging = self._staging or (live.name.schema if live else None)
        return live if live and replaces_empty(session, self._dialect, live, staging) else None

    def _make(self, session: Session, attempt: Attempt, name: TableName, home: TableName) -> bool:
        """Makes the stage; whether it is to become the load's table."""
        plan = attempt.plan
        if attempt.key is not None:
            session.autocommit = False
            require_tables(session, self._connection, self._dialect, [ReceiptTable(self._dialect, home)])
            session.rollback()
            session.autocommit = True
        table = self._dialect.table(name)
        if plan.create is not None and not attempt.staged:
            for statement in self._dialect.create_table(name, replace(plan.create, keys=())):
                session.execute(statement.encode())
            return True
        if not attempt.staged and (empty := self._replaced(session, plan)) is not None:
            if ShadowTable.made_like(session, self._dialect, empty, name, analyzed=False) is not None:
                return True
            session.execute(f"DROP TABLE {table}".encode())
        if plan.create is not None:
            columns = [*plan.columns, _NUMBER]
            for statement in self._dialect.create_table(name, NewTable(columns)):
                session.execute(statement.encode())
            session.execute(f"ALTER TABLE {table} SET UNLOGGED".encode())
        else:
            session.execute(
                f"CREATE UNLOGGED TABLE {table} AS {staging_query(self._dialect, attempt, home)}".encode()
            )
        return False

    def _remove_left(self, session: Session) -> None:
        for schema, table in session.execute(_LEFT, (_PREFIX,)).fetchall():
            row = session.execute(_OWN, (table,)).fetchone()
            if row and row[0]:
                session.execute(f"DROP TABLE IF EXISTS {self._dialect.table(TableName(schema, table))}".encode())
                session.execute("SELECT pg_advisory_unlock(hashtextextended(%s, 0))", (table,))

    @contextmanager
    def slice(self, attempt: Attempt, stage: Stage, key: ReceiptKey, first_row: int) -> Iterator[PostgresqlSlice]:
        plan = attempt.plan
        with (
            closing(self._sign_in(f"slice {key.slice} {plan.table}")) as session,
            explained(self._connection, f"loading {plan.source} into the staging table of {plan.table}"),
        ):
            session.execute(f"SET lock_timeout = '{int(plan.lock_seconds * 1000) or 1}ms'".encode())
            session.commit()
            ledger = LedgerTables(self._dialect, resolved(session, plan.table))
            yield PostgresqlSlice(session, self._connection, attempt, stage, ledger, key, first_row)


_NUMBER = NewColumn(ROW, CanonicalType("bigint"))


class PostgresqlSlice:
    """See ``SliceLoad``."""

    def __init__(
        self,
        session: Session,
        connection: str,
        attempt: Attempt,
        stage: Stage,
        ledger: LedgerTables,
        key: ReceiptKey,
        first_row: int,
    ) -> None:
        self._session, self._plan, self._ledger, self._key = session, attempt.plan, ledger, key
        table = find_table(session, ledger.dialect, stage.table)
        if table is None:
            raise table_gone(connection, stage.table)
        self._numbers = RowNumbers(first_row) if attempt.staged else None
        self._copy = CopyIn(session, ledger.dialect, table, attempt.sent, freeze=False)

    def write(self, batch: pa.RecordBatch) -> None:
        if batch.num_rows:
            self._copy.write(self._numbers.added(batch) if self._numbers else batch)

    def publish(self, receipt: Receipt) -> None:
        self._copy.end()
        self._ledger.record(
            self._plan, SessionStatements(self._session), Entry(self._key, receipt), _is_taken, prunes=False
        )
        self._session.commit()


def _is_taken(error: Exception) -> bool:
    return isinstance(error, psycopg.errors.UniqueViolation)
