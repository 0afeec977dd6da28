"""The ledger of MariaDB and MySQL: see ``SqlLedger``."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import AbstractContextManager, contextmanager, suppress

import MySQLdb
from MySQLdb.constants import ER

from ultravect.core.contracts.receipt import Receipt, ReceiptKey
from ultravect.core.contracts.write_session import Statements
from ultravect.core.dialects.base import Dialect, TableName
from ultravect.core.kinds.mariadb.kind import MariadbSettings
from ultravect.core.kinds.mariadb.session import LOCK_SECONDS, SessionStatements, session, transaction
from ultravect.core.kinds.mariadb.staging import clear_leftovers, end_attempt, require_tables
from ultravect.core.loading.sql_ledger import SqlLedger

_COMMIT_SECONDS = 5
"""How long an attempt that is committing may take, before its session is ended."""

_HAS = "SELECT 1 FROM information_schema.tables WHERE table_schema = {schema} AND table_name = {table}"


class MariadbLedger(SqlLedger):
    """See ``SqlLedger``. Where tables are renamed after the commit, a receipt counts once its table has its name."""

    def __init__(self, connection: str, settings: MariadbSettings, dialect: Dialect, table: TableName) -> None:
        super().__init__(dialect, table)
        self._connection, self._settings = connection, settings

    @contextmanager
    def opened(self, doing: str, *, writes: bool = False) -> Iterator[Statements]:
        with session(self._connection, self._settings, doing) as opened:
            yield SessionStatements(opened)

    def transaction(self, doing: str) -> AbstractContextManager[Statements]:
        return transaction(self._connection, self._settings, doing)

    def has(self, statements: Statements, table: TableName) -> bool:
        schema = self.dialect.literal(table.schema) if table.schema else "DATABASE()"
        return bool(statements.rows(_HAS.format(schema=schema, table=self.dialect.literal(table.name))))

    def is_taken(self, error: Exception) -> bool:
        return isinstance(error, MySQLdb.IntegrityError)

    def create_receipts(self, statements: Statements) -> None:
        require_tables(statements.changed, self._connection, [self.receipts])

    def find(self, statements: Statements, key: ReceiptKey) -> Receipt | None:
        rows = statements.rows(self.receipts.find(key))
        if not rows or (rows[0][1] and self.has(statements, self._staged(rows[0][1]))):
            return None  # a table that was not renamed yet is no load
        return Receipt.from_text(rows[0][0])

    def _staged(self, name: str) -> TableName:
        return TableName(self._settings.staging or self.table.schema, name)

    def end_attempts(self, statements: Statements, keys: Sequence[ReceiptKey]) -> None:
        assert isinstance(statements, SessionStatements)
        for key in keys:
            end_attempt(statements.session, key)
        clear_leftovers(statements.session, self.dialect, self.receipts, self._settings.staging)

    def bar(self, statements: Statements, key: ReceiptKey) -> bool:
        assert isinstance(statements, SessionStatements)
        fence = self.receipts.fence(key)
        try:
            try:
                statements.changed(f"SET SESSION innodb_lock_wait_timeout = {_COMMIT_SECONDS}")
                statements.changed(fence)
            except MySQLdb.OperationalError as error:
                if error.args[0] != ER.LOCK_WAIT_TIMEOUT:
                    raise
                # it has written its receipt, and commits it no more: whether it has, its end decides
                end_attempt(statements.session, key)
                statements.changed(f"SET SESSION innodb_lock_wait_timeout = {LOCK_SECONDS}")
                statements.changed(fence)
        except MySQLdb.IntegrityError:
            return self._bar_renaming(statements, key)
        return True

    def _bar_renaming(self, statements: Statements, key: ReceiptKey) -> bool:
        """Whether an attempt that has its receipt, but has not renamed its table, was kept from doing so."""
        ((_, pending),) = statements.rows(self.receipts.find(key))
        if not pending:
            return False
        try:
            # a table that is gone cannot be renamed any more: the first statement decides
            statements.changed(f"DROP TABLE {self.dialect.table(self._staged(pending))}")
        except MySQLdb.Error as error:
            if error.args[0] != ER.BAD_TABLE_ERROR:
                raise
            statements.changed(self.receipts.settle(key))
            return False
        statements.changed(self.receipts.withdraw(key, pending))
        with suppress(MySQLdb.ProgrammingError):  # there may be no marks at all
            statements.changed(self.marks.withdraw(key.run))
        statements.changed(self.receipts.fence(key))
        return True
