"""Keeps other writers away from a table that another one is about to replace, while readers go on."""

from __future__ import annotations

import threading
from collections.abc import Callable
from contextlib import suppress
from typing import Any

import MySQLdb
from MySQLdb.constants import ER

from ultravect.core.contracts.write_plan import WritePlan
from ultravect.core.dialects.base import Dialect, TableName
from ultravect.core.errors import UltravectError

_DENIED = {
    ER.DBACCESS_DENIED_ERROR,
    ER.TABLEACCESS_DENIED_ERROR,
    ER.ACCESS_DENIED_ERROR,
    ER.SPECIFIC_ACCESS_DENIED_ERROR,
}
_POLL_SECONDS = 0.01
_WAITING = "SELECT 1 FROM information_schema.processlist WHERE id = {id} AND state LIKE 'Waiting for table%'"


class TableGuard:
    """A session of its own that holds a read lock: rows of the table stay as they are.

    An ALTER by others can begin meanwhile, and waits in its last step. So before the table is replaced, a write lock is taken
    after those that wait so, and the table is looked at again.
    """

    def __init__(self, another: Callable[[], Any], table: str) -> None:
        self._another, self._table = another, table
        self._session = another()
        self._definition = ""

    @classmethod
    def of(cls, another: Callable[[], Any], dialect: Dialect, table: TableName) -> TableGuard | None:
        """Waits for those who write, as long as its session does; None where the user may not lock tables."""
        guard = cls(another, dialect.table(table))
        try:
            _run(guard._session, f"LOCK TABLES {guard._table} READ")
            guard._definition = guard._defined(guard._session)
        except MySQLdb.Error as error:
            guard.close()
            if error.args[0] in _DENIED:
                return None
            raise
        return guard

    def _defined(self, session: Any) -> str:
        return str(_run(session, f"SHOW CREATE TABLE {self._table}")[0][1])

    def require(self) -> None:
        """Raises the database's error when the lock is lost, because the session is."""
        self._session.ping()

    def let_pass(self, session: Any, statement: str, plan: WritePlan) -> None:
        """Runs a statement that replaces the table, ahead of all who wait to write to it.

        UltravectError where others have altered the table meanwhile, with the table as they left it.
        """
        last = self._another()
        try:
            self._hand_over(self._session, last, f"LOCK TABLES {self._table} WRITE")
            if self._defined(last) != self._definition:
                raise UltravectError(
                    "table-changed",
                    f"{plan.table} was altered by others during the load; nothing was written",
                    hint="run again: the plan is made anew",
                    table=str(plan.table),
                )
            self._hand_over(last, session, statement)
        finally:
            with suppress(MySQLdb.Error):
                last.close()

    def _hand_over(self, holder: Any, session: Any, statement: str) -> None:
        """Lets ``session`` wait for its statement before ``holder`` gives its lock up: what waits for so strong a lock comes
        before all who wait to read or to write."""
        failed: list[MySQLdb.Error] = []

        def run() -> None:
            try:
                session.query(statement.encode())
            except MySQLdb.Error as error:
                failed.append(error)

        waits = _WAITING.format(id=int(session.thread_id()))
        running = threading.Thread(target=run, name="hand over", daemon=True)
        running.start()
        running.join(_POLL_SECONDS)
        while running.is_alive() and not _run(holder, waits):
            running.join(_POLL_SECONDS)
        _run(holder, "UNLOCK TABLES")
        running.join()
        if failed:
            raise failed[0]

    def close(self) -> None:
        with suppress(MySQLdb.Error):
            self._session.close()


def _run(session: Any, statement: str) -> Any:
    with session.cursor() as cursor:
        cursor.execute(statement)
        return cursor.fetchall() if cursor.description else ()
