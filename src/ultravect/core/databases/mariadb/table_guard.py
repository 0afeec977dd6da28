"""Keeps other writers away from a table that another one is about to replace, while readers go on."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable
from contextlib import suppress
from typing import Any

import MySQLdb
from MySQLdb.constants import ER

from ultravect.core.databases.order import LoadOrder, told_waiting
from ultravect.core.dialects.base import Dialect, TableName

_DENIED = {
    ER.DBACCESS_DENIED_ERROR,
    ER.TABLEACCESS_DENIED_ERROR,
    ER.ACCESS_DENIED_ERROR,
    ER.SPECIFIC_ACCESS_DENIED_ERROR,
}
_POLL_SECONDS = 0.01
_WAITING = "SELECT 1 FROM information_schema.processlist WHERE id = {id} AND state LIKE 'Waiting for table%'"


class TableGuard:
    """A session of its own that holds a read lock: rows, columns and indexes of the table stay as they are."""

    def __init__(self, session: Any) -> None:
        self._session = session

    @classmethod
    def of(
        cls, another: Callable[[], Any], dialect: Dialect, table: TableName, order: LoadOrder
    ) -> TableGuard | None:
        """Waits for those who write; None where the user may not lock tables."""
        session = another()
        guard = cls(session)
        try:
            try:
                guard._lock(dialect.table(table), 1)
            except MySQLdb.OperationalError as error:
                if error.args[0] != ER.LOCK_WAIT_TIMEOUT:
                    raise
                order.tell(told_waiting(order))
                guard._lock(dialect.table(table), max(1, int(order.lock_seconds)))
        except MySQLdb.Error as error:
            guard.close()
            if error.args[0] in _DENIED:
                return None
            raise
        return guard

    def _lock(self, table: str, seconds: int) -> None:
        with self._session.cursor() as cursor:
            cursor.execute(f"SET SESSION lock_wait_timeout = {seconds}")
            cursor.execute(f"LOCK TABLES {table} READ")

    def require(self) -> None:
        """Raises the database's error when the lock is lost, because the session is."""
        with self._session.cursor() as cursor:
            cursor.execute("SELECT 1 FROM information_schema.processlist LIMIT 1")

    def let_pass(self, session: Any, statement: str) -> None:
        """Runs a statement that changes what the table is, ahead of all who wait to write to it."""
        failed: list[MySQLdb.Error] = []

        def run() -> None:
            try:
                session.query(statement.encode())
            except MySQLdb.Error as error:
                failed.append(error)

        number = session.thread_id()
        running = threading.Thread(target=run, name="rename", daemon=True)
        running.start()
        # once it waits, it comes before those who began to wait for the same table, and those who come after
        while running.is_alive() and not self._waits(number):
            time.sleep(_POLL_SECONDS)
        with self._session.cursor() as cursor:
            cursor.execute("UNLOCK TABLES")
        running.join()
        if failed:
            raise failed[0]

    def _waits(self, number: int) -> bool:
        with self._session.cursor() as cursor:
            cursor.execute(_WAITING.format(id=int(number)))
            return cursor.fetchone() is not None

    def close(self) -> None:
        with suppress(MySQLdb.Error):
            self._session.close()
