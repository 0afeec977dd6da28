"""Begins a load into a table of MariaDB: locks, staging, and what forbids it."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from functools import partial
from typing import Any

import MySQLdb
from MySQLdb.constants import ER

from ultravect.core.contracts.catalogue import LiveTable
from ultravect.core.contracts.load import DELETE_AND_INSERT, LoadOrder
from ultravect.core.dialects.base import Dialect, TableName
from ultravect.core.errors import UltravectError
from ultravect.core.kinds.mariadb.load import VERSIONED, MariadbLoad
from ultravect.core.kinds.mariadb.session import translate
from ultravect.core.kinds.mariadb.staging import (
    Staging,
    clear_leftovers,
    first_row,
    make_staging,
    may_swap,
)
from ultravect.core.kinds.mariadb.table_guard import TableGuard
from ultravect.core.loading.refusals import (
    waiting_message,
)
from ultravect.core.loading.steps.marks import MarkTable
from ultravect.core.loading.steps.receipts import ReceiptTable


def _await_lock(execute: Callable[[str], Any], dialect: Dialect, order: LoadOrder, live: LiveTable | None) -> None:
    """Waits for a session that has locked the table, and says so."""

    def limit(seconds: int) -> None:
        execute(f"SET SESSION lock_wait_timeout = {seconds}, SESSION innodb_lock_wait_timeout = {seconds}")

    opened = f"SELECT 1 FROM {dialect.table(live.name)} LIMIT 0" if live else ""
    seconds = max(1, int(order.lock_seconds))
    if opened:
        limit(1)
        try:
            execute(opened)
        except MySQLdb.OperationalError as error:
            if error.args[0] != ER.LOCK_WAIT_TIMEOUT:
                raise
            order.notify(waiting_message(order))
            limit(seconds)
            execute(opened)
    limit(seconds)


@contextmanager
def open_load(
    session: Any,
    connection: str,
    dialect: Dialect,
    order: LoadOrder,
    live: LiveTable | None,
    schema: str,
    another: Callable[[], Any],
) -> Iterator[MariadbLoad]:
    """See ``Database.load``; ``live`` is the table that is there, ``schema`` that of staging, "" for the target's own.

    ``another`` opens a second session.
    """
    guard: TableGuard | None = None
    load: MariadbLoad | None = None
    staging: Staging | None = None
    home = live.name if live else order.table

    execute = partial(first_row, session)
    try:
        _await_lock(execute, dialect, order, live)
        receipts = ReceiptTable(dialect, home)
        clear_leftovers(session, dialect, receipts, schema)
        if order.receipt is not None:
            require_account(execute, connection, receipts)
        if order.marks:
            require_account(execute, connection, MarkTable(dialect, home))
        swaps = order.may_swap and may_swap(execute, dialect, order, live)
        if live is not None and (swaps or order.rebuild):
            if order.rebuild:
                _require_no_history(execute, connection, dialect, live.name)
            guard = TableGuard.of(another, dialect, live.name, order)
            if guard is None and order.rebuild:
                raise _no_guard(connection, live.name)
        staging = make_staging(execute, dialect, order, live, schema, swaps=swaps and guard is not None)
        try:
            load = MariadbLoad(session, connection, dialect, order, staging, live, guard)
            if order.removes_old and live and order.may_swap and not order.staged and not staging.renamed:
                load.strategy = DELETE_AND_INSERT
            yield load
        finally:
            if load is not None:
                load.close()
    except MySQLdb.Error as error:
        raise translate(error, connection, f"loading {order.source} into {order.table}") from None
    finally:
        if guard:
            guard.close()
        with suppress(MySQLdb.Error):
            session.rollback()
            for table in (
                {staging.final, staging.rows, staging.matched or home, staging.kept or home} - {home}
                if staging
                else ()
            ):
                execute(f"DROP TABLE IF EXISTS {dialect.table(table)}")
        session.close()


def _require_no_history(execute: Callable[[str], Any], connection: str, dialect: Dialect, table: TableName) -> None:
    schema = dialect.literal(table.schema) if table.schema else "DATABASE()"
    if execute(VERSIONED.format(schema=schema, table=dialect.literal(table.name))) is not None:
        raise UltravectError(
            "history-would-be-lost",
            f"connection {connection}: {table} keeps the history of its rows, which a rebuild would throw away; nothing was written",
            hint="write into.if_different: widen, or take the history off the table first",
            connection=connection,
            table=str(table),
        )


def _no_guard(connection: str, table: TableName) -> UltravectError:
    return UltravectError(
        "privilege-missing",
        f"connection {connection}: {table} cannot be rebuilt: its user may not keep other writers away from it meanwhile; "
        "nothing was written",
        hint="have LOCK TABLES on the database granted",
        connection=connection,
        table=str(table),
    )


def require_account(execute: Callable[[str], Any], connection: str, receipts: ReceiptTable | MarkTable) -> None:
    """Makes sure that there is a table of receipts, or of marks."""
    try:
        execute(receipts.create().replace("CREATE TABLE", "CREATE TABLE IF NOT EXISTS", 1))
    except MySQLdb.OperationalError as error:
        raise UltravectError(
            "receipts-refused",
            f"connection {connection}: the table {receipts.name}, in which loads are noted, cannot be created: {error.args[-1]}",
            hint="have CREATE granted once, or set receipts: false in the connection",
            connection=connection,
        ) from None
