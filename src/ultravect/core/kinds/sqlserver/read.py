"""Reads the rows of a statement from the bytes that the server sent, into Arrow tables."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

import pyarrow as pa
from pytds import tds_types

from ultravect.core.errors import UltravectError
from ultravect.core.kinds.sqlserver import answer
from ultravect.core.kinds.sqlserver.session import Session
from ultravect.core.types.arrow import array_from
from ultravect.core.types.canonical import CanonicalType
from ultravect.core.types.stored import stored_values

_BLOCK_ROWS = 20_000
_BLOCK_BYTES = 32 << 20
_READ_AT_ONCE = 256 << 10
_ROW_BYTES = 1 << 30
_RESULT = 0x81
# tokens that describe an answer and stand before its rows; each says its length
_SKIPPED = frozenset([0xA9, 0xA4, 0xA5])
_FIXED = {0x30: 1, 0x32: 1, 0x34: 2, 0x38: 4, 0x7F: 8, 0x3B: 4, 0x3E: 8}
_COUNTED_NUMBERS = frozenset([0x26, 0x68, 0x6D])
_WIDTHS = {1: pa.uint8(), 2: pa.int16(), 4: pa.int32(), 8: pa.int64()}
_FLOATS = {4: pa.float32(), 8: pa.float64()}
_CHUNKED = (tds_types.NVarCharMaxSerializer, tds_types.VarCharMaxSerializer, tds_types.VarBinarySerializerMax)


def _described(column: Any) -> tuple[tuple[int, int, int, int], pa.DataType]:
    """How the kernel reads a column, and the Arrow type of what it makes; ``column`` is the driver's."""
    wire = column.serializer
    code = int(wire.type)
    if code in _FIXED or code in _COUNTED_NUMBERS:
        width = _FIXED.get(code) or int(wire.size)
        form = answer.FIXED if code in _FIXED else answer.COUNTED
        held = _FLOATS[width] if code in (0x3B, 0x3E, 0x6D) else _WIDTHS[width]
        return (form, answer.NUMBER, width, 0), held
    match code:
        case 0x6A | 0x6C:
            return (answer.COUNTED, answer.DECIMAL, 0, wire.scale), pa.decimal128(wire.precision, wire.scale)
        case 0x24:
            return (answer.COUNTED, answer.GUID, 0, 0), pa.binary(16)
        case 0x28:
            return (answer.COUNTED, answer.DATE, 0, 0), pa.date32()
        case 0x29:
            return (answer.COUNTED, answer.TIME, 0, wire.precision), pa.time64("us")
        case 0x2A:
            return (answer.COUNTED, answer.MOMENT, 0, wire.precision), pa.timestamp("us")
        case 0x2B:
            return (answer.COUNTED, answer.MOMENT, 0, wire.precision), pa.timestamp("us", "UTC")
        case 0xE7 | 0xEF | 0xA5 | 0xAD:
            form = answer.CHUNKED if isinstance(wire, _CHUNKED) else answer.LONG_COUNTED
            return (form, answer.UTF16 if code in (0xE7, 0xEF) else answer.BYTES, 0, 0), pa.binary()
    raise UltravectError(
        "database-error",
        f"column {column.column_name!r} comes in a type ({code:#x}) that is not read here",
        hint="cast it to nvarchar(max) in from.query",
    )


def _column(buffers: list[bytes | None], rows: int, held: pa.DataType, kind: CanonicalType) -> pa.Array:
    array = array_from(held, rows, buffers)
    if held == pa.binary():
        return stored_values(array, kind)
    return array if array.type == kind.arrow or kind.arrow == pa.string() else array.cast(kind.arrow)


def read_rows(session: Session, statement: str, types: Sequence[CanonicalType]) -> Iterator[pa.Table]:
    """The rows of ``statement``, whose columns are of ``types`` and selected as the dialect's ``readable`` says."""
    protocol = session.protocol
    protocol.submit_plain_query(statement)
    protocol.begin_response()
    if not protocol.find_result_or_done() or protocol.res_info is None:
        return
    described = [_described(column) for column in protocol.res_info.columns]
    names = [str(position) for position in range(len(types))]
    rows = answer.Rows([form for form, _ in described])

    def block() -> pa.Table:
        count = rows.rows
        arrays = [
            _column(buffers, count, held, kind)
            for buffers, (_, held), kind in zip(rows.finished(), described, types, strict=True)
        ]
        return pa.table(arrays, names=names)

    reader = protocol._reader
    data, taken, begun = b"", 0, 0
    while True:
        place, other = rows.take(data, taken, _BLOCK_ROWS)
        begun += place - taken
        taken = place
        if rows.rows == _BLOCK_ROWS or (rows.rows and begun > _BLOCK_BYTES):
            yield block()
            begun = 0
            continue
        if other and data[taken] in _SKIPPED and len(data) >= taken + 3:
            after = taken + 3 + int.from_bytes(data[taken + 1 : taken + 3], "little")
            if len(data) >= after:
                taken = after
                continue
        elif other:
            break
        left = data[taken:]
        if len(left) > _ROW_BYTES:
            raise UltravectError(
                "row-too-large",
                f"a row of the answer has more than {_ROW_BYTES >> 20} MiB",
                hint="select fewer or shorter columns",
            )
        # a value that is larger than what was read is looked for again only when there is twice as much
        data, taken = left + _received(reader, max(_READ_AT_ONCE, len(left))), 0
        if len(data) == len(left):
            break
    if rows.rows:
        yield block()
    _give_back(reader, data[taken:])
    while not reader.stream_finished():
        protocol.process_token(protocol.get_token_id())


def _received(reader: Any, least: int) -> bytes:
    """What the server has sent: at least so many bytes, or all that is left of its answer."""
    parts: list[bytes] = []
    size = 0
    while size < least and not reader.stream_finished():
        part = bytes(reader.recv(least))
        parts.append(part)
        size += len(part)
    return b"".join(parts)


def _give_back(reader: Any, data: bytes) -> None:
    """Has the driver read on from here: errors, counts and the end of the answer are its business."""
    room = max(len(data), len(reader._buf))
    reader._buf = bytearray(data).ljust(room, b"\0")
    reader._bufview = memoryview(reader._buf)
    reader._pos, reader._size = 0, len(data)
