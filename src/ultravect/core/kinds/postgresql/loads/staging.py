"""What loads need before and next to their rows: a table to stage them in, the account of loads, statements of the job's own."""

from __future__ import annotations

from collections.abc import Sequence

import psycopg

from ultravect.core.contracts.load import LoadOrder
from ultravect.core.dialects.base import Dialect, TableName
from ultravect.core.dialects.merge import ROW
from ultravect.core.errors import UltravectError
from ultravect.core.kinds.postgresql.catalogue import Session, has_table
from ultravect.core.loading.steps.marks import MarkTable
from ultravect.core.loading.steps.receipts import ReceiptTable


def staging_query(dialect: Dialect, order: LoadOrder, table: TableName) -> str:
    """A select without rows whose columns are those that rows are staged with, as ``table`` will have them."""
    changed = {change.column.name: change.column for change in order.changes}
    parts = []
    for column in order.columns:
        name = dialect.quote(column.name)
        if column.name in changed:
            native = dialect.from_canonical(changed[column.name].type).native
            parts.append(f"NULL::{native} AS {name}")
        else:
            parts.append(name)
    if order.staged:
        parts.append(f"0::bigint AS {ROW}")
    return f"SELECT {', '.join(parts)} FROM {dialect.table(table)} WITH NO DATA"


def run_apart(session: Session, statements: Sequence[str]) -> None:
    """Runs statements that are no part of the load's own writing: see above."""
    if statements:
        session.execute(b"SAVEPOINT ultravect_apart")
        for statement in statements:
            session.execute(statement.encode())
        session.execute(b"RELEASE SAVEPOINT ultravect_apart")


def require_account(session: Session, connection: str, dialect: Dialect, receipts: ReceiptTable | MarkTable) -> None:
    """Makes sure that there is a table of receipts, or of marks, before anything is loaded."""
    if has_table(session, dialect.table(receipts.name)):
        return
    try:
        session.execute(receipts.create().encode())
        session.commit()
    except (psycopg.errors.DuplicateTable, psycopg.errors.UniqueViolation):
        session.rollback()  # another load was first
    except psycopg.errors.InsufficientPrivilege as error:
        raise UltravectError(
            "receipts-refused",
            f"connection {connection}: the table {receipts.name}, in which loads are noted, cannot be created: {error.diag.message_primary}",
            hint="have CREATE on the schema granted once, or set receipts: false in the connection",
            connection=connection,
        ) from None


def commit(session: Session, connection: str, what: str, transaction: str) -> None:
    """Commits the transaction of loads."""
    try:
        session.commit()
    except psycopg.OperationalError as error:
        raise UltravectError(
            "outcome-unknown",
            f"connection {connection}: the connection was lost while committing {what}",
            hint=f"whether it took place is for the database to say: SELECT pg_xact_status('{transaction}')",
            connection=connection,
            transaction=transaction,
        ) from error
