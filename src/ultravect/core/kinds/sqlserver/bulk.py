"""Sends Arrow batches as a bulk load: INSERT BULK, and the rows as a message of their own.

The protocol: MS-TDS 2.2.6.1 and 2.2.7.4.
"""

from __future__ import annotations

import struct
from collections.abc import Sequence
from dataclasses import dataclass

import pyarrow as pa
from pytds import tds_base

from ultravect.core.contracts.statements import noted
from ultravect.core.dialects.base import Dialect, NewColumn
from ultravect.core.kinds.sqlserver import bulk_rows
from ultravect.core.kinds.sqlserver.session import Session
from ultravect.core.types.arrow import convert_typed, plain_array
from ultravect.core.types.canonical import CanonicalType
from ultravect.core.types.stored import STORED

# NULLs are NULLs and no defaults, and rows meet the table's constraints and triggers
_OPTIONS = "KEEP_NULLS, CHECK_CONSTRAINTS, FIRE_TRIGGERS"
_NUMBERS = {"smallint": (0x26, 2), "integer": (0x26, 4), "bigint": (0x26, 8), "real": (0x6D, 4), "double": (0x6D, 8)}
_MOMENTS = {
    "time": (0x29, bulk_rows.TIME),
    "timestamp": (0x2A, bulk_rows.MOMENT),
    "timestamptz": (0x2B, bulk_rows.ZONED),
}
_CHUNKED, _NULLABLE = 0xFFFF, 1
_ROWS_AT_ONCE = 50_000


@dataclass(frozen=True)
class _Sent:
    """How a column is sent: its type in SQL, its TYPE_INFO, and what the kernel has to know."""

    native: str
    info: bytes
    code: int
    width: int = 0
    scale: int = 0


def _sent(kind: CanonicalType, dialect: Dialect, collation: bytes) -> _Sent:
    native = dialect.from_canonical(kind).native
    if kind.name == "boolean":
        return _Sent(native, bytes([0x68, 1]), bulk_rows.BOOL)
    if kind.name in _NUMBERS:
        code, width = _NUMBERS[kind.name]
        return _Sent(native, bytes([code, width]), bulk_rows.NUMBER, width)
    if kind.name == "decimal":
        precision, scale = (38, 18) if kind.precision is None else (kind.precision, kind.scale or 0)
        width = 4 if precision <= 9 else 8 if precision <= 19 else 12 if precision <= 28 else 16
        return _Sent(native, bytes([0x6A, width + 1, precision, scale]), bulk_rows.DECIMAL, width)
    if kind.name == "date":
        return _Sent(native, bytes([0x28]), bulk_rows.DATE)
    if kind.name in _MOMENTS:
        code, form = _MOMENTS[kind.name]
        scale = 6 if kind.precision is None else kind.precision
        return _Sent(native, bytes([code, scale]), form, scale=scale)
    if kind.name == "uuid":
        return _Sent(native, bytes([0x24, 16]), bulk_rows.GUID)
    long = native.endswith("(max)")
    length = 0 if long else int(native.partition("(")[2][:-1])
    if kind.name == "binary":
        info = struct.pack("<BH", 0xA5, _CHUNKED if long else length)
        return _Sent(native, info, bulk_rows.LONG_BYTES if long else bulk_rows.SHORT_BYTES)
    info = struct.pack("<BH", 0xE7, _CHUNKED if long else length * 2) + collation
    return _Sent(native, info, bulk_rows.LONG_TEXT if long else bulk_rows.SHORT_TEXT)


class BulkLoad:
    """Rows with these columns into one table, whose name is quoted."""

    def __init__(
        self, session: Session, dialect: Dialect, table: str, columns: Sequence[NewColumn], *, lock: bool
    ) -> None:
        self._session = session
        found = session.protocol.conn.collation
        collation = found.pack() if found is not None else bytes(5)
        self._kinds = [column.type for column in columns]
        self._sent = [_sent(column.type, dialect, collation) for column in columns]
        declared = ", ".join(
            f"{dialect.quote(column.name)} {sent.native}" for column, sent in zip(columns, self._sent, strict=True)
        )
        options = f"{_OPTIONS}, TABLOCK" if lock else _OPTIONS
        self._statement = f"INSERT BULK {table} ({declared}) WITH ({options})"
        self.head = struct.pack("<BH", 0x81, len(columns)) + b"".join(
            struct.pack("<IH", 0, _NULLABLE) + sent.info + bytes([len(name) // 2]) + name
            for name, sent in zip((column.name.encode("utf-16-le") for column in columns), self._sent, strict=True)
        )

    @property
    def natives(self) -> Sequence[str]:
        """The types in which the columns are sent."""
        return [sent.native for sent in self._sent]

    def send(self, batch: pa.RecordBatch) -> int:
        """Sends rows; how many the server says it took."""
        return sum(self._send(batch.slice(start, _ROWS_AT_ONCE)) for start in range(0, batch.num_rows, _ROWS_AT_ONCE))

    def encoded(self, batch: pa.RecordBatch) -> bytes:
        """The rows as the protocol has them."""
        arrays = [_held(array, kind) for array, kind in zip(batch.columns, self._kinds, strict=True)]
        return bulk_rows.rows_of(
            arrays,
            [sent.code for sent in self._sent],
            [sent.width for sent in self._sent],
            [sent.scale for sent in self._sent],
        )

    def _send(self, batch: pa.RecordBatch) -> int:
        rows = self.encoded(batch)
        self._session.changed(self._statement)
        protocol = self._session.protocol
        protocol.messages = []
        with noted(f"rows of {self._statement}") as ran:
            with protocol.querying_context(tds_base.PacketType.BULK):
                writer = protocol._writer
                writer.write(self.head)
                writer.write(memoryview(rows))
                writer.write(struct.pack("<BHHQ", 0xFD, 0, 0, 0))
            protocol.process_simple_request()
            ran.rows = int(protocol.rows_affected)
        return ran.rows


def _held(array: pa.Array, kind: CanonicalType) -> pa.Array:
    """The values in the form that the kernel takes; decimals without precision travel as their digits."""
    array = plain_array(array)
    if kind.name == "decimal" and kind.precision is None:
        return convert_typed(array, CanonicalType("decimal", precision=38, scale=18), STORED).array
    return array
