"""Loads rows into a MariaDB or MySQL table by LOAD DATA LOCAL from a pipe, in one transaction.

Rows of a transaction are invisible to others until it commits, so append needs no staging table. A new table is
filled under another name and renamed when its rows are committed, since CREATE TABLE commits by itself here.

With LOCAL, the server makes warnings out of values that it does not take, and changes them. So a load with a single
warning is undone.
"""

from __future__ import annotations

import os
import queue
import secrets
import tempfile
import threading
from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any

import MySQLdb
import pyarrow as pa

from ultravect.core.databases.base import Verified
from ultravect.core.databases.mariadb.session import translate
from ultravect.core.databases.written import tabbed_lines
from ultravect.core.dialects.base import Dialect, NewColumn, TableName
from ultravect.core.errors import UltravectError

_PIPE_SECONDS = 0.05


class MariadbLoad:
    """See ``Load``."""

    def __init__(
        self,
        session: Any,
        connection: str,
        dialect: Dialect,
        staged: TableName,
        name: TableName,
        columns: Sequence[NewColumn],
        bits: frozenset[str],
        folder: Path,
    ) -> None:
        self._session, self._connection, self._dialect = session, connection, dialect
        self._staged, self._name = staged, name
        self._table = dialect.table(staged)
        session.query(b"START TRANSACTION")
        self.rows_before = self._count()
        self._loaded = 0
        self._pipe = folder / "rows"
        os.mkfifo(self._pipe)
        self._failed: queue.Queue[BaseException | None] = queue.Queue()
        self._ending = threading.Event()
        self._loading = threading.Thread(target=self._load, args=(columns, bits), name="load data", daemon=True)
        self._loading.start()
        self._stream = self._opened()

    def _statement(self, columns: Sequence[NewColumn], bits: frozenset[str]) -> str:
        targets, settings = [], []
        for number, column in enumerate(columns):
            name = self._dialect.quote(column.name)
            form = {"binary": "UNHEX({})", "boolean": "{} = 'true'"}.get(column.type.name)
            if column.name in bits:
                form = "CAST({} = 'true' AS UNSIGNED)" if column.type.name == "boolean" else "UNHEX({})"
            if form is None:
                targets.append(name)
            else:
                targets.append(f"@v{number}")
                settings.append(f"{name} = {form.format(f'@v{number}')}")
        return (
            f"LOAD DATA LOCAL INFILE '{self._pipe}' INTO TABLE {self._table} CHARACTER SET utf8mb4 "
            "FIELDS TERMINATED BY '\\t' ESCAPED BY '\\\\' LINES TERMINATED BY '\\n' "
            f"({', '.join(targets)})" + (f" SET {', '.join(settings)}" if settings else "")
        )

    def _load(self, columns: Sequence[NewColumn], bits: frozenset[str]) -> None:
        """The statement lasts as long as rows come through the pipe."""
        error: BaseException | None = None
        try:
            self._session.query(self._statement(columns, bits).encode())
            self._loaded = self._session.affected_rows()
        except BaseException as caught:
            error = caught
        self._ending.set()
        self._failed.put(error)

    def _opened(self) -> int:
        """Opens the pipe once the other side reads from it, or raises what the statement failed with."""
        while True:
            with suppress(OSError):
                found = os.open(self._pipe, os.O_WRONLY | os.O_NONBLOCK)
                os.set_blocking(found, True)
                return found
            if self._ending.wait(_PIPE_SECONDS):
                self._raise_failure()

    def _raise_failure(self) -> None:
        error = self._failed.get()
        if error is not None:
            raise error

    def _count(self) -> int:
        with self._session.cursor() as cursor:
            cursor.execute(f"SELECT count(*) FROM {self._table}")
            return int(cursor.fetchone()[0])

    def write(self, batch: pa.RecordBatch) -> None:
        if not batch.num_rows:
            return
        rows = memoryview(tabbed_lines(batch))
        try:
            while rows:
                rows = rows[os.write(self._stream, rows) :]
        except BrokenPipeError:
            self._loading.join()
            self._raise_failure()
            raise

    def finish(self) -> int:
        self.close()
        self._raise_failure()
        with self._session.cursor() as cursor:
            cursor.execute("SHOW WARNINGS LIMIT 1")
            warning = cursor.fetchone()
        if warning is not None:
            raise UltravectError(
                "value-refused",
                f"connection {self._connection}: {self._name} does not take a value as it is: {warning[2]}; nothing was written",
                hint="give the column a type that fits, in the job or in the table",
                connection=self._connection,
                table=str(self._name),
            )
        # in the snapshot of this transaction nobody else's rows can be counted
        self._of_load = self._count() - self.rows_before
        return self._loaded

    def close(self) -> None:
        """Ends the stream of rows, and waits for the statement."""
        if self._stream >= 0:
            os.close(self._stream)
            self._stream = -1
        self._loading.join()

    def publish(self) -> None:
        try:
            self._session.commit()
            if self._staged != self._name:
                rename = f"RENAME TABLE {self._table} TO {self._dialect.table(self._name)}"
                self._session.query(rename.encode())
                self._table = self._dialect.table(self._name)
        except MySQLdb.OperationalError as error:
            raise UltravectError(
                "outcome-unknown",
                f"connection {self._connection}: the connection was lost while committing the load into {self._name}: {error.args[-1]}",
                hint="look at the table whether the rows are there, before running again",
                connection=self._connection,
            ) from error

    def verify(self) -> Verified:
        return Verified(self._count(), self._of_load)


@contextmanager
def open_load(
    session: Any,
    connection: str,
    dialect: Dialect,
    name: TableName,
    create: Sequence[NewColumn] | None,
    columns: Sequence[NewColumn],
    bits: frozenset[str],
    object_name: str,
) -> Iterator[MariadbLoad]:
    """See ``Database.load``; ``bits`` are the columns of type bit."""
    staged = name if create is None else TableName(name.schema, f"ultravect_stage_{secrets.token_hex(6)}")
    load: MariadbLoad | None = None
    try:
        if create is not None:
            session.query(dialect.create_table(staged, create).encode())
        with tempfile.TemporaryDirectory(prefix="ultravect-load-") as folder:
            try:
                load = MariadbLoad(session, connection, dialect, staged, name, columns, bits, Path(folder))
                yield load
            finally:
                if load is not None:
                    load.close()
    except MySQLdb.Error as error:
        raise translate(error, connection, f"loading {object_name} into {name}") from None
    finally:
        with suppress(MySQLdb.Error):
            session.rollback()
            if create is not None:
                session.query(f"DROP TABLE IF EXISTS {dialect.table(staged)}".encode())
        session.close()
