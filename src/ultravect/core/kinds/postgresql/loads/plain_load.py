"""Loads into relatives of PostgreSQL: by COPY into a table, and statements that every one of them has, in one transaction."""

from __future__ import annotations

import secrets
from collections.abc import Iterator, Sequence
from contextlib import closing, contextmanager
from typing import Any

import psycopg
import pyarrow as pa

from ultravect.core.contracts.catalogue import LiveTable
from ultravect.core.contracts.load import STAGED, Counts, LoadOrder
from ultravect.core.contracts.target import Verified
from ultravect.core.dialects.base import Dialect, TableName
from ultravect.core.dialects.merge import ROW, Merge
from ultravect.core.kinds.postgresql.abilities import Abilities, is_lacking
from ultravect.core.kinds.postgresql.catalogue import Session, SessionStatements, find_table, has_table
from ultravect.core.kinds.postgresql.loads.copy_in import CopyIn
from ultravect.core.kinds.postgresql.loads.staging import require_account, staging_query
from ultravect.core.kinds.postgresql.session import translate
from ultravect.core.loading.answers import table_gone
from ultravect.core.loading.local.local_load import LocalLoad
from ultravect.core.loading.refusals import outcome_unknown
from ultravect.core.loading.steps.isolating_load import Matches
from ultravect.core.loading.steps.marks import MarkTable
from ultravect.core.loading.steps.receipts import ReceiptTable


class PlainLoad(LocalLoad):
    """See ``LocalLoad``. ``staging``: the schema of the staged rows where there are no temporary tables, "" for that of the table."""

    def __init__(
        self,
        session: Session,
        connection: str,
        dialect: Dialect,
        order: LoadOrder,
        abilities: Abilities,
        staging: str,
    ) -> None:
        self._session, self._connection, self._abilities = session, connection, abilities
        self._statements = SessionStatements(session)
        self._staged_name = TableName("pg_temp", STAGED)
        if not abilities.temporary:
            schema, number = staging or order.table.schema, secrets.token_hex(6)
            self._staged_name = TableName(schema, f"ultravect_staged_{number}")
            self._staged = dialect.table(self._staged_name)
            self._matched = dialect.table(TableName(schema, f"ultravect_matched_{number}"))
        self._locked = order.create is not None and not order.rebuild
        self._copy: CopyIn | None = None
        super().__init__(dialect, order)

    def _begin(self) -> None:
        order = self._order
        if self._locked or not (order.removes_old or order.matches_rows or order.lock_table or order.rebuild):
            return
        wait = f"SET LOCAL lock_timeout = '{int(order.lock_seconds * 1000) or 1}ms'"
        lock = f"LOCK TABLE {self._table} IN SHARE ROW EXCLUSIVE MODE"
        # some have no limit of waiting, and some no locks of tables: then others may write meanwhile, which is said
        self._locked = self._takes(wait, lock) or self._takes(lock)

    def _takes(self, *statements: str) -> bool:
        self._session.execute(b"SAVEPOINT ultravect_lock")
        try:
            for statement in statements:
                self._session.execute(statement.encode())
        except psycopg.Error as error:
            if not is_lacking(error):
                raise
            self._session.execute(b"ROLLBACK TO SAVEPOINT ultravect_lock")
            return False
        return True

    def _execute(self, statement: str) -> Sequence[Any] | None:
        cursor = self._session.execute(statement.encode())
        return cursor.fetchone() if cursor.description else None

    @property
    def _a_table(self) -> str:
        return "CREATE TEMPORARY TABLE" if self._abilities.temporary else "CREATE TABLE"

    def _stage(self) -> None:
        query = staging_query(self._dialect, self._order, self._order.table).removesuffix(" WITH NO DATA")
        self._execute(f"{self._a_table} {self._staged} AS {query} LIMIT 0")

    def _insert(self, batch: pa.RecordBatch) -> int:
        if self._copy is None:
            self._copy = CopyIn(
                self._session,
                self._dialect,
                self._filled(),
                self._order.sent,
                freeze=False,
                binary=self._abilities.binary_copy,
            )
        self._copy.write(batch)
        return int(batch.num_rows)

    def _filled(self) -> LiveTable:
        """The table that rows are copied into."""
        name = self._staged_name if self._order.staged else self._order.table
        found = find_table(self._session, self._dialect, name)
        if found is None:
            raise table_gone(self._connection, name)
        return found

    def finish(self, tolerated: int = 0, *, complete: bool = True) -> Counts:
        if self._copy is not None:
            self._written = self._copy.end()
        return super().finish(tolerated, complete=complete)

    def _find_matches(self, merge: Merge) -> Matches:
        found = f"SELECT s.{ROW} AS staged FROM {merge.staged} s JOIN {merge.table} t ON {merge.matched}"
        self._execute(f"{self._a_table} {self._matched} AS {found}")
        self._sample_updates(merge)
        return Matches(f"SELECT 1 FROM {self._matched} m WHERE m.staged = s.{ROW}")

    def _has(self, table: TableName) -> bool:
        return has_table(self._session, self._dialect.table(table))

    def _is_taken(self, error: Exception) -> bool:
        return isinstance(error, psycopg.errors.UniqueViolation)

    def _commit(self) -> None:
        try:
            self._session.commit()
        except psycopg.OperationalError as error:
            raise outcome_unknown(self._connection, self._order, "server") from error

    def verify(self) -> Verified:
        return self._verified(alone=self._locked)


@contextmanager
def open_plain_load(
    session: Session, connection: str, dialect: Dialect, order: LoadOrder, abilities: Abilities, staging: str
) -> Iterator[PlainLoad]:
    """See ``Database.load``. The session is rolled back unless the load was published."""
    with closing(session):
        try:
            if order.receipt is not None:
                require_account(session, connection, dialect, ReceiptTable(dialect, order.table))
            if order.marks:
                require_account(session, connection, dialect, MarkTable(dialect, order.table))
            session.rollback()
            yield PlainLoad(session, connection, dialect, order, abilities, staging)
        except psycopg.Error as error:
            raise translate(error, connection, f"loading {order.source} into {order.table}") from None
