"""PostgreSQL's binary COPY format, to and from Arrow.

Which columns travel in it is decided here; ``binary_rows`` is compiled, and goes through the rows.

Format: https://www.postgresql.org/docs/current/sql-copy.html, section "Binary Format".
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import pyarrow as pa

from ultravect.core.kinds.postgresql import binary_rows

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
