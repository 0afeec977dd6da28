"""Receipts and marks in MariaDB: asked for, set, and attempts that must not commit any more."""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Mapping, Sequence
from contextlib import suppress

import MySQLdb
import MySQLdb.cursors
from MySQLdb.constants import ER

from ultravect.core.contracts.catalogue import LiveTable
from ultravect.core.contracts.load import ReceiptKey
from ultravect.core.contracts.mark import MarkKey
from ultravect.core.contracts.receipt import Receipt
from ultravect.core.dialects.base import Dialect, TableName
from ultravect.core.kinds.mariadb.load import LOCK_SECONDS
from ultravect.core.kinds.mariadb.open_load import require_account
from ultravect.core.kinds.mariadb.session import SessionStatements, session
from ultravect.core.kinds.mariadb.settings import MariadbSettings
from ultravect.core.kinds.mariadb.staging import clear_leftovers, end_attempt
from ultravect.core.loading.steps.marks import MarkTable, entries
from ultravect.core.loading.steps.receipts import ReceiptTable, committed_or_barred
from ultravect.core.loading.usual_database import UsualDatabase

_COMMIT_SECONDS = 5


class MariadbAccounts(UsualDatabase):
    """The part of a database that answers for its receipts and marks."""

    _name: str
    _settings: MariadbSettings
    dialect: Dialect

    @abstractmethod
    def table(self, name: TableName) -> LiveTable | None: ...

    def receipt(self, table: TableName, key: ReceiptKey) -> Receipt | None:
        receipts = ReceiptTable(self.dialect, table)
        with session(self._name, self._settings, "looking for a receipt") as opened, opened.cursor() as cursor:
            try:
                cursor.execute(receipts.find(key))
            except MySQLdb.ProgrammingError:
                return None  # there is no such table
            row = cursor.fetchone()
        if row is None or (row[1] and self.table(self._staged(table, row[1])) is not None):
            return None  # a table that was not renamed yet is no load
        found = Receipt.from_text(row[0])
        return None if found.bars else found

    def _staged(self, table: TableName, name: str) -> TableName:
        return TableName(self._settings.staging or table.schema, name)

    def mark(self, table: TableName, key: MarkKey) -> Mapping[str, str]:
        marks = MarkTable(self.dialect, table)
        with session(self._name, self._settings, "looking for a mark") as opened, opened.cursor() as cursor:
            try:
                cursor.execute(marks.find(key))
            except MySQLdb.ProgrammingError:
                return {}  # there is no such table
            return entries(cursor.fetchall())

    def committed(self, table: TableName, keys: Sequence[ReceiptKey]) -> Receipt | None:
        receipts = ReceiptTable(self.dialect, table)
        with session(self._name, self._settings, "asking which attempt was committed") as opened:
            statements = SessionStatements(opened)
            require_account(statements.changed, self._name, receipts)

            def written(key: ReceiptKey) -> bool:
                try:
                    try:
                        statements.changed(f"SET SESSION innodb_lock_wait_timeout = {_COMMIT_SECONDS}")
                        statements.changed(receipts.fence(key))
                    except MySQLdb.OperationalError as error:
                        if error.args[0] != ER.LOCK_WAIT_TIMEOUT:
                            raise
                        # it has written its receipt, and commits it no more: whether it has, its end decides
                        end_attempt(opened, key)
                        statements.changed(f"SET SESSION innodb_lock_wait_timeout = {LOCK_SECONDS}")
                        statements.changed(receipts.fence(key))
                except MySQLdb.IntegrityError:
                    return self._barred_late(statements, receipts, table, key)
                return True

            found = committed_or_barred(receipts, keys, written, statements.rows)
            for key in keys:
                end_attempt(opened, key)
            clear_leftovers(opened, self.dialect, receipts, self._settings.staging)
        return found

    def _barred_late(
        self, statements: SessionStatements, receipts: ReceiptTable, table: TableName, key: ReceiptKey
    ) -> bool:
        """Whether an attempt that has its receipt, but has not renamed its table, was kept from doing so."""
        ((_, pending),) = statements.rows(receipts.find(key))
        if not pending:
            return False
        try:
            # a table that is gone cannot be renamed any more: the first statement decides
            statements.changed(f"DROP TABLE {self.dialect.table(self._staged(table, pending))}")
        except MySQLdb.Error as error:
            if error.args[0] != ER.BAD_TABLE_ERROR:
                raise
            statements.changed(receipts.settle(key))
            return False
        statements.changed(receipts.withdraw(key, pending))
        with suppress(MySQLdb.ProgrammingError):  # there may be no marks at all
            statements.changed(MarkTable(self.dialect, table).withdraw(key.run))
        statements.changed(receipts.fence(key))
        return True
