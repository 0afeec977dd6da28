"""Opens loads: what comes before their transaction, the load in it, and its end."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import closing, contextmanager

import psycopg

from ultravect.core.contracts.load import LoadOrder
from ultravect.core.dialects.base import Dialect
from ultravect.core.kinds.postgresql.catalogue import Session, find_table
from ultravect.core.kinds.postgresql.loads.load import PostgresqlLoad
from ultravect.core.kinds.postgresql.loads.locks import end_holders
from ultravect.core.kinds.postgresql.loads.rebuild import take_name
from ultravect.core.kinds.postgresql.loads.staging import require_account, run_apart
from ultravect.core.kinds.postgresql.session import translate
from ultravect.core.loading.answers import table_gone
from ultravect.core.loading.steps.marks import MarkTable
from ultravect.core.loading.steps.receipts import ReceiptTable


def prepare(session: Session, connection: str, dialect: Dialect, order: LoadOrder) -> None:
    """What comes before the transaction of a load."""
    session.execute(f"SET lock_timeout = '{int(order.lock_seconds * 1000) or 1}ms'".encode())
    session.execute(b"SET work_mem = '128MB'")
    # a load whose process is gone is given up while it waits for a lock, too; servers before version 14 do not know this
    session.execute(
        b"SELECT set_config(name, '2s', false) FROM pg_settings WHERE name = 'client_connection_check_interval'"
    )
    if order.staged_in is not None:
        # slices that were given up may still be writing into it
        end_holders(session, dialect.table(order.staged_in))
    session.commit()
    live = find_table(session, dialect, order.table)
    home = live.name if live else order.table
    if order.receipt is not None:
        require_account(session, connection, dialect, ReceiptTable(dialect, home))
    if order.marks:
        require_account(session, connection, dialect, MarkTable(dialect, home))


@contextmanager
def opened(
    session: Session,
    connection: str,
    dialect: Dialect,
    order: LoadOrder,
    staging: str,
    *,
    alone: bool,
    binary: bool = True,
) -> Iterator[PostgresqlLoad]:
    """A load in the transaction that the session is in, or begins; ``alone``: it is all that this publishes."""
    load: PostgresqlLoad | None = None
    try:
        if alone:
            prepare(session, connection, dialect, order)
        run_apart(session, order.before)
        if order.create is not None and not order.rebuild:
            if order.filled and order.staged_in is not None:
                take_name(session, dialect, order.staged_in, order.table, order.create)
            else:
                for statement in dialect.create_table(order.table, order.create):
                    session.execute(statement.encode())
        table = find_table(session, dialect, order.table)
        if table is None:
            raise table_gone(connection, order.table)
        load = PostgresqlLoad(session, connection, dialect, order, table, staging, alone=alone, binary=binary)
        load.prepare()
        yield load
    except psycopg.Error as error:
        named = load.named if load else str
        raise translate(error, connection, f"loading {order.source} into {order.table}", named) from None


@contextmanager
def open_load(
    session: Session,
    connection: str,
    dialect: Dialect,
    order: LoadOrder,
    staging: str = "",
    *,
    binary: bool = True,
) -> Iterator[PostgresqlLoad]:
    """See ``Database.load``. The session is rolled back unless the load was published."""
    # closing a session in the middle of a COPY makes the server drop the transaction
    with closing(session), opened(session, connection, dialect, order, staging, alone=True, binary=binary) as load:
        yield load
