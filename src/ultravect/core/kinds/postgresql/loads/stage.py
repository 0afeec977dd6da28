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
from ultravect.core.contracts.load import LoadOrder, ReceiptKey
from ultravect.core.contracts.receipt import Receipt
from ultravect.core.contracts.stage import Stage
from ultravect.core.dialects.base import Dialect, NewColumn, NewTable, TableName
from ultravect.core.dialects.merge import ROW
from ultravect.core.kinds.postgresql.catalogue import Session, find_table
from ultravect.core.kinds.postgresql.loads.copy_in import CopyIn
from ultravect.core.kinds.postgresql.loads.locks import end_holders
from ultravect.core.kinds.postgresql.loads.shadow_table import ShadowTable, replaces_empty
from ultravect.core.kinds.postgresql.loads.staging import require_account, staging_query
from ultravect.core.kinds.postgresql.session import explained
from ultravect.core.loading.answers import table_gone
from ultravect.core.loading.refusals import attempt_replaced
from ultravect.core.loading.steps.numbered import RowNumbers
from ultravect.core.loading.steps.receipts import ReceiptTable
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

    def obstacle(self, order: LoadOrder) -> str:
        if order.create is not None or order.staged or order.changes:
            return ""
        with (
            closing(self._sign_in("plan")) as session,
            explained(self._connection, f"looking whether {order.table} is empty"),
        ):
            if self._replaced(session, order) is not None:
                return ""
        if order.removes_old:
            return (
                "a table that is overwritten would be filled from a staging table: every row would be written twice"
            )
        return "rows go straight into the table; from a staging table, every row would be written twice"

    @contextmanager
    def stage(self, order: LoadOrder) -> Iterator[Stage]:
        with (
            closing(self._sign_in(f"slices {order.table}")) as session,
            explained(self._connection, f"making a staging table for {order.table}"),
        ):
            session.autocommit = True
            self._remove_left(session)
            live = find_table(session, self._dialect, order.table)
            home = live.name if live else order.table
            name = TableName(self._staging or home.schema, f"{_PREFIX}{secrets.token_hex(6)}")
            session.execute(_OWN, (name.name,))
            becomes_target = self._make(session, order, name, home)
            made = find_table(session, self._dialect, name)
            assert made is not None, "the table was created a moment ago"
            try:
                yield Stage(made.name, becomes_target)
            finally:
                end_holders(session, self._dialect.table(made.name))
                session.execute(f"DROP TABLE IF EXISTS {self._dialect.table(made.name)}".encode())
                if order.receipt is not None:
                    receipts = ReceiptTable(self._dialect, home)
                    session.execute(receipts.forget_slices(order.receipt).encode())

    def _replaced(self, session: Session, order: LoadOrder) -> LiveTable | None:
        """The table that is empty, and whose place another one can take when the load is published."""
        if order.create is not None or order.staged or order.changes or order.after or order.keep_previous:
            return None
        live = find_table(session, self._dialect, order.table)
        staging = self._staging or (live.name.schema if live else None)
        return live if live and replaces_empty(session, self._dialect, live, staging) else None

    def _make(self, session: Session, order: LoadOrder, name: TableName, home: TableName) -> bool:
        """Makes the stage; whether it is to become the load's table."""
        if order.receipt is not None:
            session.autocommit = False
            require_account(session, self._connection, self._dialect, ReceiptTable(self._dialect, home))
            session.rollback()
            session.autocommit = True
        table = self._dialect.table(name)
        if order.create is not None and not order.staged:
            for statement in self._dialect.create_table(name, replace(order.create, keys=())):
                session.execute(statement.encode())
            return True
        if (empty := self._replaced(session, order)) is not None:
            if ShadowTable.made_like(session, self._dialect, empty, name, analyzed=False) is not None:
                return True
            session.execute(f"DROP TABLE {table}".encode())
        if order.create is not None:
            columns = [*(NewColumn(column.name, column.type) for column in order.columns), _NUMBER]
            for statement in self._dialect.create_table(name, NewTable(columns)):
                session.execute(statement.encode())
            session.execute(f"ALTER TABLE {table} SET UNLOGGED".encode())
        else:
            session.execute(f"CREATE UNLOGGED TABLE {table} AS {staging_query(self._dialect, order, home)}".encode())
        return False

    def _remove_left(self, session: Session) -> None:
        for schema, table in session.execute(_LEFT, (_PREFIX,)).fetchall():
            row = session.execute(_OWN, (table,)).fetchone()
            if row and row[0]:
                session.execute(f"DROP TABLE IF EXISTS {self._dialect.table(TableName(schema, table))}".encode())
                session.execute("SELECT pg_advisory_unlock(hashtextextended(%s, 0))", (table,))

    @contextmanager
    def slice(self, order: LoadOrder, stage: Stage, key: ReceiptKey, first_row: int) -> Iterator[PostgresqlSlice]:
        with (
            closing(self._sign_in(f"slice {key.slice} {order.table}")) as session,
            explained(self._connection, f"loading {order.source} into the staging table of {order.table}"),
        ):
            session.execute(f"SET lock_timeout = '{int(order.lock_seconds * 1000) or 1}ms'".encode())
            session.commit()
            live = find_table(session, self._dialect, order.table)
            receipts = ReceiptTable(self._dialect, live.name if live else order.table)
            yield PostgresqlSlice(session, self._connection, self._dialect, order, stage, receipts, key, first_row)


_NUMBER = NewColumn(ROW, CanonicalType("bigint"))


class PostgresqlSlice:
    """See ``SliceLoad``."""

    def __init__(
        self,
        session: Session,
        connection: str,
        dialect: Dialect,
        order: LoadOrder,
        stage: Stage,
        receipts: ReceiptTable,
        key: ReceiptKey,
        first_row: int,
    ) -> None:
        self._session, self._order, self._receipts, self._key = session, order, receipts, key
        table = find_table(session, dialect, stage.table)
        if table is None:
            raise table_gone(connection, stage.table)
        self._numbers = RowNumbers(first_row) if order.staged else None
        self._copy = CopyIn(session, dialect, table, order.sent, freeze=False)

    def write(self, batch: pa.RecordBatch) -> None:
        if batch.num_rows:
            self._copy.write(self._numbers.added(batch) if self._numbers else batch)

    def publish(self, receipt: Receipt) -> None:
        self._copy.end()
        try:
            self._session.execute(self._receipts.write(self._key, receipt).encode())
        except psycopg.errors.UniqueViolation:
            raise attempt_replaced(self._order) from None
        self._session.commit()
