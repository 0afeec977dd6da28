"""The ledger of PostgreSQL: see ``SqlLedger``."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from contextlib import AbstractContextManager, contextmanager

import psycopg

from ultravect.core.contracts.receipt import ReceiptKey
from ultravect.core.contracts.write_session import Statements
from ultravect.core.dialects.base import Dialect, TableName
from ultravect.core.errors import UltravectError
from ultravect.core.kinds.postgresql.catalogue import Session, SessionStatements, has_table
from ultravect.core.kinds.postgresql.locks import end_attempt
from ultravect.core.kinds.postgresql.session import explained
from ultravect.core.loading.sql_ledger import MarkTable, ReceiptTable, SqlLedger

LOCK_SECONDS = 60
_COMMIT_SECONDS = 5
"""How long an attempt that is committing may take, before its session is ended."""


class PostgresqlLedger(SqlLedger):
    """See ``SqlLedger``. ``ends_sessions``: whether the sessions of an attempt can be ended by the one after it."""

    def __init__(
        self,
        connection: str,
        dialect: Dialect,
        table: TableName,
        session: Callable[[str], AbstractContextManager[Session]],
        *,
        ends_sessions: bool,
    ) -> None:
        super().__init__(dialect, table)
        self._connection, self._session, self._ends_sessions = connection, session, ends_sessions

    @contextmanager
    def opened(self, doing: str, *, writes: bool = False) -> Iterator[Statements]:
        with self._session("receipt") as session, explained(self._connection, doing):
            session.autocommit = True
            seconds = _COMMIT_SECONDS if self._ends_sessions else LOCK_SECONDS
            if writes:
                session.execute(f"SET lock_timeout = '{seconds}s'".encode())
            yield SessionStatements(session)
            session.autocommit = False

    @contextmanager
    def transaction(self, doing: str) -> Iterator[Statements]:
        with self._session("mark") as session, explained(self._connection, doing):
            session.execute(f"SET lock_timeout = '{LOCK_SECONDS}s'".encode())
            yield SessionStatements(session)
            session.commit()

    def has(self, statements: Statements, table: TableName) -> bool:
        return bool(
            statements.rows(
                f"SELECT 1 WHERE to_regclass({self.dialect.literal(self.dialect.table(table))}) IS NOT NULL"
            )
        )

    def is_taken(self, error: Exception) -> bool:
        return isinstance(error, psycopg.errors.UniqueViolation)

    def create_receipts(self, statements: Statements) -> None:
        assert isinstance(statements, SessionStatements)
        _create(statements.session, self._connection, self.receipts)

    def bar(self, statements: Statements, key: ReceiptKey) -> bool:
        assert isinstance(statements, SessionStatements)
        fence = f"{self.receipts.fence(key)} ON CONFLICT DO NOTHING"
        try:
            return bool(statements.changed(fence))
        except psycopg.errors.LockNotAvailable:
            if not self._ends_sessions:
                raise
            # it has written its receipt, and does not commit: what becomes of it, the end of its session decides
            end_attempt(statements.session, key)
            return bool(statements.changed(fence))

    def end_attempts(self, statements: Statements, keys: Sequence[ReceiptKey]) -> None:
        assert isinstance(statements, SessionStatements)
        for key in keys if self._ends_sessions else ():
            end_attempt(statements.session, key)


def require_tables(
    session: Session, connection: str, dialect: Dialect, tables: Sequence[ReceiptTable | MarkTable]
) -> None:
    """Makes sure that the tables of a ledger are there, before anything is loaded."""
    for table in tables:
        if not has_table(session, dialect.table(table.name)):
            _create(session, connection, table)


def _create(session: Session, connection: str, table: ReceiptTable | MarkTable) -> None:
    try:
        session.execute(table.create().encode())
        session.commit()
    except (psycopg.errors.DuplicateTable, psycopg.errors.DuplicateObject, psycopg.errors.UniqueViolation):
        session.rollback()  # another load was first; the server says so in one of these ways, by what it meets first
    except psycopg.errors.InsufficientPrivilege as error:
        raise UltravectError(
            "receipts-refused",
            f"connection {connection}: the table {table.name}, in which loads are noted, cannot be created: {error.diag.message_primary}",
            hint="have CREATE on the schema granted once, or set receipts: false in the connection",
            connection=connection,
        ) from None
