"""How rows get to the server: by LOAD DATA LOCAL from a pipe, or by INSERT where the server takes no files of its clients.

With LOCAL, the server makes warnings out of values that it does not take, and changes them; so a load looks for warnings afterwards.
"""

from __future__ import annotations

import fcntl
import os
import queue
import secrets
import threading
from collections.abc import Iterator, Sequence
from contextlib import suppress
from typing import Any, Protocol

import pyarrow as pa

from ultravect.core.contracts.catalogue import LiveColumn, Remark
from ultravect.core.dialects.base import Dialect, NewColumn
from ultravect.core.loading.text_lines import tabbed_lines

_GEOMETRIES = frozenset(
    [
        "geometry",
        "point",
        "linestring",
        "polygon",
        "multipoint",
        "multilinestring",
        "multipolygon",
        "geometrycollection",
    ]
)
_PIPE_BYTES = 1 << 20  # so that neither side waits for the other at every page
_STATEMENT_BYTES = 1 << 20


class Transfer(Protocol):
    """Rows into one table."""

    def write(self, batch: pa.RecordBatch) -> None:
        """Sends rows."""

    def close(self) -> None:
        """Ends the rows; it may be called again."""

    def loaded(self) -> int:
        """After ``close``: how many rows the server says it took. Raises what has failed."""


def forms_of(columns: Sequence[NewColumn], live: Sequence[LiveColumn]) -> Sequence[str]:
    """For each column the expression that makes its value of the text that is sent; "" where the text is the value."""
    base = {column.name: column.base for column in live}
    forms = []
    for column in columns:
        form = "UNHEX({})" if column.type.name == "binary" else ""
        if base.get(column.name) in _GEOMETRIES:
            form = "ST_GeomFromText({})"
        if base.get(column.name) == "bit":
            form = "CAST({} AS UNSIGNED)" if column.type.name == "boolean" else "UNHEX({})"
        forms.append(form)
    return forms


class FileTransfer:
    """See ``Transfer``. One statement, which lasts as long as rows come through the pipe."""

    def __init__(
        self, session: Any, dialect: Dialect, table: str, columns: Sequence[NewColumn], forms: Sequence[str]
    ) -> None:
        self._session = session
        self._loaded = 0
        self._pipe = f"ultravect-{secrets.token_hex(8)}"
        self._reading, self._stream = os.pipe()
        with suppress(OSError):  # a user may own only so many pages of pipes
            fcntl.fcntl(self._stream, fcntl.F_SETPIPE_SZ, _PIPE_BYTES)
        session.files.offer(self._pipe.encode(), self._reading)
        self._failed: queue.Queue[BaseException | None] = queue.Queue()
        statement = self._statement(dialect, table, columns, forms)
        self._loading = threading.Thread(target=self._load, args=(statement,), name="load data", daemon=True)
        self._loading.start()

    def _statement(self, dialect: Dialect, table: str, columns: Sequence[NewColumn], forms: Sequence[str]) -> str:
        targets, settings = [], []
        for number, (column, form) in enumerate(zip(columns, forms, strict=True)):
            name = dialect.quote(column.name)
            targets.append(f"@v{number}" if form else name)
            if form:
                settings.append(f"{name} = {form.format(f'@v{number}')}")
        return (
            f"LOAD DATA LOCAL INFILE '{self._pipe}' INTO TABLE {table} CHARACTER SET utf8mb4 "
            "FIELDS TERMINATED BY '\\t' ESCAPED BY '\\\\' LINES TERMINATED BY '\\n' "
            f"({', '.join(targets)})" + (f" SET {', '.join(settings)}" if settings else "")
        )

    def _load(self, statement: str) -> None:
        error: BaseException | None = None
        try:
            self._session.query(statement.encode())
            self._loaded = self._session.affected_rows()
        except BaseException as caught:
            error = caught
        self._failed.put(error)
        self._session.files.withdraw()
        # a thread that still writes must not wait for a reader
        os.close(self._reading)

    def write(self, batch: pa.RecordBatch) -> None:
        rows = memoryview(tabbed_lines(batch))
        try:
            while rows:
                rows = rows[os.write(self._stream, rows) :]
        except BrokenPipeError:
            self._loading.join()
            self._raise_failure()
            raise

    def _raise_failure(self) -> None:
        error = self._failed.get()
        if error is not None:
            raise error

    def close(self) -> None:
        if self._stream >= 0:
            os.close(self._stream)
            self._stream = -1
        self._loading.join()

    def loaded(self) -> int:
        self._raise_failure()
        return self._loaded


class InsertTransfer:
    """See ``Transfer``. Statements of many rows each, some five times slower."""

    def __init__(
        self,
        session: Any,
        dialect: Dialect,
        table: str,
        columns: Sequence[NewColumn],
        forms: Sequence[str],
        room: int,
    ) -> None:
        """``room``: the largest statement that the server takes, in bytes."""
        self._session, self._forms = session, forms
        names = ", ".join(dialect.quote(column.name) for column in columns)
        self._head = f"INSERT INTO {table} ({names}) VALUES ".encode()
        # a value that is larger than this makes a statement of its own row
        self._most = min(_STATEMENT_BYTES, max(room // 2, 1 << 14))
        self._loaded = 0

    def write(self, batch: pa.RecordBatch) -> None:
        for rows in self._parts(tabbed_lines(batch)):
            self._session.query(self._head + self._values(rows))
            self._loaded += int(self._session.affected_rows())

    def _parts(self, lines: bytes) -> Iterator[bytes]:
        """Whole lines, as many as a statement holds."""
        start = 0
        while start < len(lines):
            end = lines.rfind(b"\n", start, start + self._most) + 1
            if not end:
                end = lines.index(b"\n", start) + 1
            yield lines[start : end - 1]
            start = end

    def _values(self, lines: bytes) -> bytes:
        """The rows of lines with tabs; escapes in them mean the same in a text of SQL."""
        quoted = lines.replace(b"'", b"\\'")
        if not any(self._forms):
            rows = quoted.replace(b"\t", b"','").replace(b"\n", b"'),('")
            return (b"('" + rows + b"')").replace(b"'\\N'", b"NULL")
        forms = [(form or "{}").encode().replace(b"{}", b"%s") for form in self._forms]
        shape = b"(" + b",".join(forms) + b")"
        texts = (
            tuple(b"NULL" if value == b"\\N" else b"'" + value + b"'" for value in line.split(b"\t"))
            for line in quoted.split(b"\n")
        )
        return b",".join(shape % row for row in texts)

    def close(self) -> None:
        pass

    def loaded(self) -> int:
        return self._loaded


def transfer(
    session: Any,
    dialect: Dialect,
    table: str,
    columns: Sequence[NewColumn],
    live: Sequence[LiveColumn],
    sending: tuple[bool, int],
) -> Transfer:
    """The quickest way that the server allows (``sending``: see ``file_settings``); ``table`` is quoted."""
    forms = forms_of(columns, live)
    allowed, room = sending
    if allowed:
        return FileTransfer(session, dialect, table, columns, forms)
    return InsertTransfer(session, dialect, table, columns, forms, room)


def file_settings(session: Any) -> tuple[bool, int]:
    """Whether the server takes files of its clients, and how large a statement may be."""
    with session.cursor() as cursor:
        cursor.execute("SELECT @@global.local_infile, @@max_allowed_packet")
        allowed, room = cursor.fetchone()
    return bool(int(allowed)), int(room)


def remarks_of(connection: str, sending: tuple[bool, int]) -> Sequence[Remark]:
    """What is to be known of loads by this server; ``sending``: see ``file_settings``."""
    if sending[0]:
        return ()
    what = f"connection {connection}: its server takes no LOAD DATA LOCAL, so rows are sent by INSERT, some five times slower"
    return (Remark("load-by-inserts", what, "have local_infile switched on: SET GLOBAL local_infile = 1"),)
