"""Sends rows into a table by COPY: in its binary format where each column's type has a form in that, otherwise as text.

Which columns travel in binary form is decided here; ``binary_rows`` is compiled, and goes through the rows.
Format: https://www.postgresql.org/docs/current/sql-copy.html, section "Binary Format".
"""

from __future__ import annotations

import select
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import partial

import pyarrow as pa

from ultravect.core.contracts.catalogue import LiveTable
from ultravect.core.dialects.base import Dialect, NewColumn
from ultravect.core.kinds.postgresql import binary_rows
from ultravect.core.kinds.postgresql.array_texts import as_array_literals
from ultravect.core.kinds.postgresql.catalogue import Session
from ultravect.core.loading.text_lines import tabbed_lines

HEADER = b"PGCOPY\n\xff\r\n\0" + bytes(8)
TRAILER = b"\xff\xff"


@dataclass(frozen=True)
class Wire:
    """How the values of a column travel: ``code`` as in ``binary_rows``, ``arrow`` what they are here."""

    code: int
    arrow: pa.DataType


TEXT, _MOMENT = Wire(binary_rows.BYTES, pa.string()), pa.timestamp("us")
# by the names of pg_type
_WIRES = {
    "bool": Wire(binary_rows.BOOL, pa.bool_()),
    "int2": Wire(binary_rows.TWO, pa.int16()),
    "int4": Wire(binary_rows.FOUR, pa.int32()),
    "int8": Wire(binary_rows.EIGHT, pa.int64()),
    "float4": Wire(binary_rows.FOUR, pa.float32()),
    "float8": Wire(binary_rows.EIGHT, pa.float64()),
    "date": Wire(binary_rows.DATE, pa.date32()),
    "time": Wire(binary_rows.TIME, pa.time64("us")),
    "timestamp": Wire(binary_rows.MOMENT, _MOMENT),
    "timestamptz": Wire(binary_rows.MOMENT, pa.timestamp("us", "UTC")),
    "uuid": Wire(binary_rows.UUID, pa.binary(16)),
    "text": TEXT,
    "varchar": TEXT,
    "bpchar": TEXT,
    "name": TEXT,
    "json": TEXT,
    "jsonb": Wire(binary_rows.VERSIONED, pa.string()),
    "bytea": Wire(binary_rows.BYTES, pa.binary()),
}


def wire_of(native: str, arrow: pa.DataType) -> Wire | None:
    """How values of the PostgreSQL type ``native`` (its name in pg_type) come as ``arrow``; None: not in this format."""
    if native == "numeric":
        if pa.types.is_decimal128(arrow):
            return Wire(binary_rows.NUMERIC, arrow)
        return Wire(binary_rows.NUMERIC_TEXT, arrow) if pa.types.is_string(arrow) else None
    wire = _WIRES.get(native)
    return wire if wire is not None and wire.arrow == arrow else None


def encoding_for(native: str, arrow: pa.DataType) -> Wire | None:
    """How values of ``arrow`` go into a column of the PostgreSQL type ``native``; None: not in this format."""
    wire = wire_of(native, arrow)
    return None if wire is None or wire.code == binary_rows.NUMERIC_TEXT else wire


class RowEncoder:
    """Encodes record batches into the rows of a binary COPY stream."""

    def __init__(self, wires: Sequence[Wire]) -> None:
        self._codes = [wire.code for wire in wires]
        self._scales = [wire.arrow.scale if wire.code == binary_rows.NUMERIC else 0 for wire in wires]

    def encode(self, batch: pa.RecordBatch) -> bytes:
        """The rows of ``batch`` (columns as the wires), without the stream's header and trailer."""
        return binary_rows.encode_rows(batch, self._codes, self._scales)


class CopyIn:
    """A COPY under way into ``table``, whose ``columns`` batches have; ``freeze``: see FREEZE of COPY; ``binary``: whether there is such a form."""

    def __init__(
        self,
        session: Session,
        dialect: Dialect,
        table: LiveTable,
        columns: Sequence[NewColumn],
        *,
        freeze: bool,
        binary: bool = True,
    ) -> None:
        self._session = session
        self._encode, (header, self._trailer) = _encoder(table, columns, binary=binary)
        lives = [table.column(column.name) for column in columns]
        self._lists = [
            at
            for at, (live, column) in enumerate(zip(lives, columns, strict=True))
            if live and live.base.startswith("_") and pa.types.is_string(column.type.arrow)
        ]
        names = ", ".join(dialect.quote(column.name) for column in columns)
        options = (["FORMAT binary"] if header else []) + (["FREEZE"] if freeze else [])
        form = f" ({', '.join(options)})" if options else ""
        self._cursor = session.cursor()
        self._copying = self._cursor.copy(f"COPY {dialect.table(table.name)} ({names}) FROM STDIN{form}".encode())
        self._copy = self._copying.__enter__()
        if header:
            self._copy.write(header)

    def write(self, batch: pa.RecordBatch) -> None:
        for at in self._lists:
            batch = batch.set_column(at, batch.schema.field(at), as_array_literals(batch.column(at)))
        self._copy.write(self._encode(batch))
        if select.select([self._session.pgconn.socket], [], [], 0)[0]:
            # the server only says something in the middle of a COPY when it refuses a row
            self._copying.__exit__(None, None, None)

    def end(self) -> int:
        """How many rows the server took."""
        if self._trailer:
            self._copy.write(self._trailer)
        self._copying.__exit__(None, None, None)
        return self._cursor.rowcount


def _encoder(
    table: LiveTable, columns: Sequence[NewColumn], *, binary: bool
) -> tuple[Callable[[pa.RecordBatch], pa.Buffer], tuple[bytes, bytes]]:
    """What encodes batches, and what comes before the first and after the last of them."""
    encoders = []
    for column in columns:
        live = table.column(column.name)
        encoders.append(encoding_for(live.base, column.type.arrow) if live else None)
    known = [encoder for encoder in encoders if encoder is not None]
    if not binary or len(known) < len(columns):
        return partial(tabbed_lines, bytes_mark="\\\\x"), (b"", b"")
    return RowEncoder(known).encode, (HEADER, TRAILER)
