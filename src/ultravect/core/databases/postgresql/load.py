"""Loads rows into a PostgreSQL table by COPY, in one transaction.

Append needs no staging table: rows copied in a transaction are invisible to others until it commits, and a lost
session undoes them. The price is dead space in the table after a failed load, which vacuum takes back.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from functools import partial
from typing import Any

import psycopg
import pyarrow as pa
from psycopg import sql

from ultravect.core.databases.base import LiveTable, Verified, table_gone
from ultravect.core.databases.postgresql.binary_copy import HEADER, TRAILER, RowEncoder, encoder_for
from ultravect.core.databases.postgresql.catalogue import Session, find_table
from ultravect.core.databases.postgresql.session import translate
from ultravect.core.databases.written import tabbed_lines
from ultravect.core.dialects.base import Dialect, NewColumn, TableName
from ultravect.core.errors import UltravectError


class PostgresqlLoad:
    """See ``Load``."""

    def __init__(
        self,
        session: Session,
        connection: str,
        dialect: Dialect,
        table: LiveTable,
        columns: Sequence[NewColumn],
    ) -> None:
        self._session = session
        self._connection = connection
        self._name = sql.Identifier(*filter(None, (table.name.schema, table.name.name)))
        self._label = str(table.name)
        self.rows_before = self._count()
        self._transaction = str(self._scalar(sql.SQL("SELECT pg_current_xact_id()::text")))
        self._encode, self._ends = self._encoder(table, columns)
        names = sql.SQL(", ").join(sql.Identifier(column.name) for column in columns)
        form = sql.SQL(" (FORMAT binary)") if self._ends[0] else sql.SQL("")
        self._cursor = session.cursor()
        self._copying = self._cursor.copy(sql.SQL("COPY {} ({}) FROM STDIN{}").format(self._name, names, form))
        self._copy = self._copying.__enter__()
        if self._ends[0]:
            self._copy.write(self._ends[0])

    @staticmethod
    def _encoder(
        table: LiveTable, columns: Sequence[NewColumn]
    ) -> tuple[Callable[[pa.RecordBatch], pa.Buffer], tuple[bytes, bytes]]:
        encoders = []
        for column in columns:
            live = table.column(column.name)
            encoders.append(encoder_for(live.base, column.type.arrow) if live else None)
        known = [encoder for encoder in encoders if encoder is not None]
        if len(known) < len(columns):
            return partial(tabbed_lines, bytes_mark="\\\\x"), (b"", b"")
        return RowEncoder(known).encode, (HEADER, TRAILER)

    def _scalar(self, query: sql.SQL | sql.Composed) -> Any:
        row = self._session.execute(query).fetchone()
        return row[0] if row else None

    def _count(self) -> int:
        return int(self._scalar(sql.SQL("SELECT count(*) FROM {}").format(self._name)))

    def write(self, batch: pa.RecordBatch) -> None:
        if batch.num_rows:
            self._copy.write(memoryview(self._encode(batch)))

    def finish(self) -> int:
        if self._ends[1]:
            self._copy.write(self._ends[1])
        self._copying.__exit__(None, None, None)
        return self._cursor.rowcount

    def publish(self) -> None:
        try:
            self._session.commit()
        except psycopg.OperationalError as error:
            raise UltravectError(
                "outcome-unknown",
                f"connection {self._connection}: the connection was lost while committing the load into {self._label}",
                hint=f"whether it took place is for the database to tell: SELECT pg_xact_status('{self._transaction}')",
                connection=self._connection,
                transaction=self._transaction,
            ) from error

    def verify(self) -> Verified:
        # xmin holds the low 32 bits of the transaction that wrote a row
        mark = str(int(self._transaction) % 2**32)
        row = self._session.execute(
            sql.SQL("SELECT count(*), count(*) FILTER (WHERE xmin = {}::xid) FROM {}").format(
                sql.Literal(mark), self._name
            )
        ).fetchone()
        self._session.commit()
        after, of_load = row or (0, 0)
        return Verified(int(after), int(of_load))


@contextmanager
def open_load(
    session: Session,
    connection: str,
    dialect: Dialect,
    name: TableName,
    create: Sequence[NewColumn] | None,
    columns: Sequence[NewColumn],
    object_name: str,
) -> Iterator[PostgresqlLoad]:
    """See ``Database.load``. The session is rolled back unless the load was published."""
    try:
        if create is not None:
            session.execute(dialect.create_table(name, create).encode())
        table = find_table(session, dialect, name)
        if table is None:
            raise table_gone(connection, name)
        yield PostgresqlLoad(session, connection, dialect, table, columns)
    except psycopg.Error as error:
        raise translate(error, connection, f"loading {object_name} into {name}") from None
    finally:
        # closing a session in the middle of a COPY makes the server drop the transaction
        session.close()
