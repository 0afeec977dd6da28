"""Writes into relatives of PostgreSQL: by COPY into a table, and statements that every one of them has, in one transaction."""

from __future__ import annotations

import secrets
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from typing import Any

import psycopg
import pyarrow as pa

from ultravect.core.contracts.catalogue import LiveTable
from ultravect.core.contracts.write_plan import Attempt
from ultravect.core.contracts.write_session import STAGED, Matches
from ultravect.core.dialects.base import Dialect, TableName
from ultravect.core.dialects.merge import ROW, MergeStatements
from ultravect.core.kinds.postgresql.abilities import Abilities, is_lacking
from ultravect.core.kinds.postgresql.catalogue import Session, SessionStatements, find_table, has_table
from ultravect.core.kinds.postgresql.copy_in import CopyIn
from ultravect.core.kinds.postgresql.ledger import require_tables
from ultravect.core.kinds.postgresql.session import translate
from ultravect.core.kinds.postgresql.write import staging_query
from ultravect.core.loading.questions import table_gone
from ultravect.core.loading.refusals import doing_of, outcome_unknown
from ultravect.core.loading.sql_session import InsertingSession


class PlainSession(InsertingSession):
    """See ``InsertingSession``. ``staging``: the schema of the staged rows where there are no temporary tables, "" for that of the table."""

    def __init__(
        self,
        session: Session,
        connection: str,
        dialect: Dialect,
        attempt: Attempt,
        abilities: Abilities,
        staging: str,
    ) -> None:
        super().__init__(dialect, attempt, SessionStatements(session))
        self._session, self._connection, self._abilities = session, connection, abilities
        self._staged_name = TableName("pg_temp", STAGED)
        if not abilities.temporary:
            schema, number = staging or attempt.plan.table.schema, secrets.token_hex(6)
            self._staged_name = TableName(schema, f"ultravect_staged_{number}")
            self.staged_table = dialect.table(self._staged_name)
            self.matched_table = dialect.table(TableName(schema, f"ultravect_matched_{number}"))
        self._locked = attempt.plan.is_new
        self._copy: CopyIn | None = None

    def begin(self) -> None:
        plan = self.plan
        require_tables(self._session, self._connection, self.dialect, self.ledger.needed(plan, self.attempt.key))
        self._session.rollback()
        looks = (
            plan.replaces is not None
            or plan.merges is not None
            or plan.removes is not None
            or plan.lock_table
            or plan.rebuild
        )
        if self._locked or not looks:
            return
        wait = f"SET LOCAL lock_timeout = '{int(plan.lock_seconds * 1000) or 1}ms'"
        lock = f"LOCK TABLE {self.table} IN SHARE ROW EXCLUSIVE MODE"
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

    def execute(self, statement: str) -> Sequence[Any] | None:
        cursor = self._session.execute(statement.encode())
        return cursor.fetchone() if cursor.description else None

    @property
    def _a_table(self) -> str:
        return "CREATE TEMPORARY TABLE" if self._abilities.temporary else "CREATE TABLE"

    def make_stage(self) -> None:
        query = staging_query(self.dialect, self.attempt, self.plan.table).removesuffix(" WITH NO DATA")
        self.execute(f"{self._a_table} {self.staged_table} AS {query} LIMIT 0")

    def insert(self, batch: pa.RecordBatch) -> int:
        if self._copy is None:
            self._copy = CopyIn(
                self._session,
                self.dialect,
                self._filled(),
                self.attempt.sent,
                freeze=False,
                binary=self._abilities.binary_copy,
            )
        self._copy.write(batch)
        return int(batch.num_rows)

    def _filled(self) -> LiveTable:
        """The table that rows are copied into."""
        name = self._staged_name if self.stages else self.plan.table
        found = find_table(self._session, self.dialect, name, whole=False)
        if found is None:
            raise table_gone(self._connection, name)
        return found

    def end_rows(self) -> int:
        return self._copy.end() if self._copy is not None else 0

    def find_matches(self, merge: MergeStatements) -> Matches:
        found = f"SELECT s.{ROW} AS staged FROM {merge.staged} s JOIN {merge.table} t ON {merge.matched}"
        self.execute(f"{self._a_table} {self.matched_table} AS {found}")
        return Matches(f"SELECT 1 FROM {self.matched_table} m WHERE m.staged = s.{ROW}")

    def has(self, table: TableName) -> bool:
        return has_table(self._session, self.dialect.table(table))

    def is_taken(self, error: Exception) -> bool:
        return isinstance(error, psycopg.errors.UniqueViolation)

    def end_transaction(self) -> None:
        try:
            self._session.commit()
        except psycopg.OperationalError as error:
            raise outcome_unknown(self._connection, self.plan, "server") from error

    @property
    def alone(self) -> bool:
        return self._locked


@contextmanager
def open_plain_session(
    session: Session, connection: str, dialect: Dialect, attempt: Attempt, abilities: Abilities, staging: str
) -> Iterator[PlainSession]:
    """See ``Target.write``. Who has opened the session rolls back what was not published."""
    try:
        yield PlainSession(session, connection, dialect, attempt, abilities, staging)
    except psycopg.Error as error:
        raise translate(error, connection, doing_of(attempt)) from None
