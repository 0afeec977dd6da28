"""Rows in the protocol's bytes, both ways, against another implementation: that of the stand-in."""

from __future__ import annotations

import datetime as dt
import struct
from decimal import Decimal
from typing import Any

import pyarrow as pa
from hypothesis import given, settings
from hypothesis import strategies as st
from standins.sqlserver.session import bulk_rows as decoded
from standins.sqlserver.types import Native, Wire

from ultravect.core.dialects.base import NewColumn
from ultravect.core.kinds.sqlserver import answer
from ultravect.core.kinds.sqlserver.bulk import BulkLoad
from ultravect.core.kinds.sqlserver.dialect import SqlserverDialect
from ultravect.core.kinds.sqlserver.read import _column
from ultravect.core.types.canonical import CanonicalType, parse_type

_TEXT = st.text(st.characters(exclude_categories=["Cs"], exclude_characters="\0\U0010ffff"), max_size=12)
_MOMENT = st.datetimes(dt.datetime(1, 1, 1), dt.datetime(9999, 12, 31, 23, 59, 59, 999999))


def _cut(value: Any, digits: int) -> Any:
    return value.replace(microsecond=value.microsecond // 10 ** (6 - digits) * 10 ** (6 - digits))


# canonical type, the native one it is sent as, and its values
COLUMNS: list[tuple[str, str, st.SearchStrategy[Any]]] = [
    ("boolean", "bit", st.booleans()),
    ("smallint", "smallint", st.integers(-(2**15), 2**15 - 1)),
    ("integer", "int", st.integers(-(2**31), 2**31 - 1)),
    ("bigint", "bigint", st.integers(-(2**63), 2**63 - 1)),
    ("decimal(9,2)", "decimal(9,2)", st.decimals(-9999999, 9999999, places=2)),
    (
        "decimal(38,10)",
        "decimal(38,10)",
        st.integers(-(10**38) + 1, 10**38 - 1).map(lambda unscaled: Decimal(f"{unscaled}e-10")),
    ),
    ("double", "float", st.floats(allow_nan=False, allow_infinity=False)),
    ("real", "real", st.floats(width=32, allow_nan=False, allow_infinity=False)),
    ("text(20)", "nvarchar(40)", _TEXT),
    ("text", "nvarchar(max)", _TEXT),
    ("binary(12)", "varbinary(12)", st.binary(max_size=12)),
    ("binary", "varbinary(max)", st.binary(max_size=40)),
    ("date", "date", st.dates()),
    ("time(3)", "time(3)", st.times().map(lambda value: _cut(value, 3))),
    ("time(6)", "time(6)", st.times()),
    ("timestamp(0)", "datetime2(0)", _MOMENT.map(lambda value: _cut(value, 0))),
    ("timestamp(6)", "datetime2(6)", _MOMENT),
    ("timestamptz(6)", "datetimeoffset(6)", _MOMENT.map(lambda value: value.replace(tzinfo=dt.UTC))),
    ("uuid", "uniqueidentifier", st.uuids()),
]
_ROWS = st.lists(st.tuples(*(st.none() | values for _, _, values in COLUMNS)), max_size=6)


def _array(kind: CanonicalType, values: list[Any]) -> pa.Array:
    if kind.name == "uuid":
        values = [value and value.bytes for value in values]
    return pa.array(values, kind.arrow)


class _NoSession:
    class protocol:
        class conn:
            collation = None


@given(rows=_ROWS)
@settings(max_examples=60, deadline=None)
def test_what_is_sent_is_what_the_other_side_reads(rows: list[tuple[Any, ...]]) -> None:
    columns = [NewColumn(f"c{at}", parse_type(kind)) for at, (kind, _, _) in enumerate(COLUMNS)]
    load = BulkLoad(_NoSession(), SqlserverDialect(), "[t]", columns, lock=False)  # type: ignore[arg-type]
    assert list(load.natives) == [native for _, native, _ in COLUMNS]
    arrays = [_array(column.type, [row[at] for row in rows]) for at, column in enumerate(columns)]
    batch = pa.RecordBatch.from_arrays(arrays, names=[column.name for column in columns])
    # a slice, so that arrays begin in the middle of their buffers
    doubled = pa.concat_batches([batch, batch]).slice(len(rows), len(rows)) if rows else batch
    sent = load.head + load.encoded(doubled) + struct.pack("<BHHQ", 0xFD, 0, 0, 0)
    got = [tuple(row) for row in decoded(sent, len(columns))]
    assert got == [tuple(int(value) if isinstance(value, bool) else value for value in row) for row in rows]


@given(rows=_ROWS, cuts=st.lists(st.integers(1, 200), max_size=8), nulls=st.booleans())
@settings(max_examples=60, deadline=None)
def test_what_the_other_side_sends_is_read(rows: list[tuple[Any, ...]], cuts: list[int], nulls: bool) -> None:
    """Whatever the pieces in which it arrives, and with NULLs in each of the two forms."""
    wires = [Wire(Native.parse(native)) for _, native, _ in COLUMNS]
    written = []
    for row in rows:
        if nulls:
            bits = bytearray((len(row) + 7) // 8)
            for at, value in enumerate(row):
                bits[at >> 3] |= (value is None) << (at & 7)
            body = b"".join(wire.write(value) for wire, value in zip(wires, row, strict=True) if value is not None)
            written.append(b"\xd2" + bytes(bits) + body)
        else:
            written.append(b"\xd1" + b"".join(wire.write(value) for wire, value in zip(wires, row, strict=True)))
    data = b"".join(written) + b"\xfd" + bytes(12)
    described, held = zip(*(_form(native) for _, native, _ in COLUMNS), strict=True)
    reader = answer.Rows(list(described))
    pending, place, ended = b"", 0, False
    pieces = [*cuts, len(data)]
    while not ended and pieces:
        size = pieces.pop(0)
        pending, data = pending + data[:size], data[size:]
        place, ended = reader.take(pending, 0, 1000)
        pending = pending[place:]
    assert ended
    assert reader.rows == len(rows)
    kinds = [parse_type(kind) for kind, _, _ in COLUMNS]
    got = [
        _column(buffers, len(rows), form, kind)
        for buffers, form, kind in zip(reader.finished(), held, kinds, strict=True)
    ]
    for at, kind in enumerate(kinds):
        assert got[at].equals(_array(kind, [row[at] for row in rows])), COLUMNS[at]


def _form(native: str) -> tuple[tuple[int, int, int, int], pa.DataType]:
    """As ``read`` describes a column, from the type itself."""
    parsed = Native.parse(native)
    numbers = {
        "bit": pa.uint8(),
        "smallint": pa.int16(),
        "int": pa.int32(),
        "bigint": pa.int64(),
        "real": pa.float32(),
        "float": pa.float64(),
    }
    if parsed.base in numbers:
        held = numbers[parsed.base]
        return (answer.COUNTED, answer.NUMBER, held.bit_width // 8, 0), held
    if parsed.base == "decimal":
        return (answer.COUNTED, answer.DECIMAL, 0, parsed.second or 0), pa.decimal128(
            parsed.first or 18, parsed.second or 0
        )
    if parsed.base in ("nvarchar", "varbinary"):
        form = answer.CHUNKED if parsed.first == -1 else answer.LONG_COUNTED
        return (form, answer.UTF16 if parsed.base == "nvarchar" else answer.BYTES, 0, 0), pa.binary()
    moments = {"time": (answer.TIME, pa.time64("us")), "datetime2": (answer.MOMENT, pa.timestamp("us")),
               "datetimeoffset": (answer.MOMENT, pa.timestamp("us", "UTC"))}  # fmt: skip
    if parsed.base in moments:
        code, held = moments[parsed.base]
        return (answer.COUNTED, code, 0, parsed.first or 0), held
    if parsed.base == "date":
        return (answer.COUNTED, answer.DATE, 0, 0), pa.date32()
    return (answer.COUNTED, answer.GUID, 0, 0), pa.binary(16)


def test_a_value_in_many_chunks_and_lone_surrogates() -> None:
    text = "hütte" * 3
    data = text.encode("utf-16-le")
    chunks = (
        b"".join(struct.pack("<I", 4) + data[at : at + 4] for at in range(0, len(data) - 2, 4))
        + struct.pack("<I", 2)
        + data[-2:]
    )
    rows = answer.Rows([(answer.CHUNKED, answer.UTF16, 0, 0)])
    written = b"\xd1" + struct.pack("<Q", len(data)) + chunks + bytes(4)
    lone = "\ud800x".encode("utf-16-le", "surrogatepass")
    written += b"\xd1" + struct.pack("<Q", len(lone)) + struct.pack("<I", len(lone)) + lone + bytes(4)
    assert rows.take(written, 0, 10) == (len(written), False)
    (buffers,) = rows.finished()
    found = pa.Array.from_buffers(pa.binary(), 2, [None if item is None else pa.py_buffer(item) for item in buffers])
    # bytes that are no UTF-8, so that the row is seen and rejected
    assert found.to_pylist() == [text.encode(), b"\xed\xa0\x80x"]
