"""The compiled loops at their edges: what cannot be is an error, and nothing is read beyond its end."""

from __future__ import annotations

import datetime as dt
import decimal
import struct
from collections.abc import Iterator
from typing import Any

import pyarrow as pa
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from ultravect.core.kinds.mariadb.read import _column
from ultravect.core.kinds.postgresql import binary_rows
from ultravect.core.kinds.postgresql.copy_in import HEADER, RowEncoder, encoding_for
from ultravect.core.loading.text_lines import tabbed_lines
from ultravect.core.types.canonical import parse_type

D = decimal.Decimal
ROW = pa.record_batch(
    {
        "n": pa.array([7, None], pa.int32()),
        "j": pa.array(['{"a": 1}', None]),
        "d": pa.array([D("1.50"), None], pa.decimal128(6, 2)),
    }
)
WIRES = [
    encoding_for(native, column.type)
    for native, column in zip(("int4", "jsonb", "numeric"), ROW.columns, strict=True)
]
CODES = [(binary_rows.FOUR, 0, 0), (binary_rows.VERSIONED, 0, 0), (binary_rows.NUMERIC, 6, 2)]


def decoded(parts: list[bytes]) -> tuple[int, Any, Any]:
    decoder = binary_rows.RowDecoder(CODES)
    coming: Iterator[bytes] = iter(parts)

    def receive(_: int) -> tuple[int, memoryview]:
        part = next(coming, b"")
        return (len(part), memoryview(part)) if part else (-1, memoryview(b""))

    assert decoder.take(receive, 1 << 20) == -1
    return decoder.finish()


def encoded() -> bytes:
    return RowEncoder([wire for wire in WIRES if wire]).encode(ROW)


def test_what_is_encoded_is_decoded_row_by_row() -> None:
    first = RowEncoder([wire for wire in WIRES if wire]).encode(ROW.slice(0, 1))
    rows, buffers, odd = decoded([HEADER, first, encoded()[len(first) :], b"\xff\xff"])
    assert (rows, odd) == (2, [])
    whole = [[None if item is None else pa.py_buffer(item) for item in column] for column in buffers]
    kinds = (pa.int32(), pa.string(), pa.decimal128(6, 2))
    read = [pa.Array.from_buffers(kind, rows, column) for kind, column in zip(kinds, whole, strict=True)]
    assert pa.RecordBatch.from_arrays(read, ROW.schema.names).equals(ROW)


@settings(max_examples=300, deadline=None)
@given(st.binary(max_size=60) | st.integers(0, 80).map(lambda cut: encoded()[:cut]), st.integers(0, 3))
def test_whatever_comes_is_rows_or_an_error(data: bytes, width: int) -> None:
    """A row that is cut off, or of bytes that are none, never reaches beyond its end."""
    for part in (HEADER + data, HEADER[:width] + data):
        try:
            rows, buffers, _ = decoded([part])
        except ValueError:
            continue
        assert all(len(column) in (2, 3) for column in buffers)
        assert rows <= len(part)


@pytest.mark.parametrize(
    "row",
    [
        struct.pack(">h", 3) + struct.pack(">i", 4) + b"\0\0",  # ends within a value
        struct.pack(">h", 2) + b"\xff" * 8,  # other columns
        struct.pack(">hi", 3, 3) + b"\0\0\1" + b"\xff" * 8,  # another width
        struct.pack(">hiii", 3, -1, 0, -1),  # no version
        struct.pack(">hiii", 3, -1, -1, 6) + b"\0\1\0\0\0\0",  # half a number
    ],
)
def test_rows_that_cannot_be_are_errors(row: bytes) -> None:
    with pytest.raises(ValueError, match=r"a row|a value|a number"):
        decoded([HEADER + row])


def test_no_rows_are_no_bytes() -> None:
    empty = ROW.slice(0, 0)
    assert RowEncoder([wire for wire in WIRES if wire]).encode(empty) == b""
    assert tabbed_lines(empty) == b""


TEXT = st.text(st.characters(exclude_categories=["Cs"]), max_size=8)


LINE = st.tuples(
    st.none() | TEXT, st.none() | st.integers(-(2**63), 2**63 - 1), st.none() | st.booleans(), st.none() | st.times()
)
KINDS = (pa.string(), pa.int64(), pa.bool_(), pa.time64("us"))


@given(st.lists(LINE, max_size=8), st.integers(0, 3))
def test_lines_give_back_what_was_written(rows: list[tuple[Any, ...]], start: int) -> None:
    arrays = [pa.array([row[at] for row in rows], kind) for at, kind in enumerate(KINDS)]
    batch = pa.RecordBatch.from_arrays(arrays, list("abcd")).slice(min(start, len(rows)))
    plain = {"\\\\": "\\", "\\t": "\t", "\\n": "\n", "\\r": "\r", "\\0": "\0"}

    def read(cell: str, kind: pa.DataType) -> Any:
        if cell == "\\N":
            return None
        if pa.types.is_string(kind):
            parts, at = [], 0
            while at < len(cell):
                parts.append(plain[cell[at : at + 2]] if cell[at] == "\\" else cell[at])
                at += 2 if cell[at] == "\\" else 1
            return "".join(parts)
        if pa.types.is_boolean(kind):
            return cell == "1"
        return int(cell) if pa.types.is_integer(kind) else dt.time.fromisoformat(cell)

    lines = tabbed_lines(batch).decode().split("\n")[:-1]
    found = [tuple(map(read, line.split("\t"), KINDS)) for line in lines]
    assert found == [tuple(row.values()) for row in batch.to_pylist()]


@pytest.mark.parametrize(
    ("kind", "values", "read"),
    [
        ("integer", [b"5", None, b"-2147483648"], [5, None, -(2**31)]),
        ("integer", [b"5", b"2147483648"], ["5", "2147483648"]),
        ("decimal(5,2)", [b"1.5", b"-0.05", b"999.99"], [D("1.50"), D("-0.05"), D("999.99")]),
        ("decimal(5,2)", [b"1000.00"], ["1000.00"]),
        ("date", [b"2024-02-29", None], [dt.date(2024, 2, 29), None]),
        ("date", [b"0000-00-00", b"2024-02-29"], ["0000-00-00", "2024-02-29"]),
        ("timestamp", [b"2024-02-29 01:02:03.5"], [dt.datetime(2024, 2, 29, 1, 2, 3, 500_000)]),
        ("boolean", [b"1", b"0", None], [True, False, None]),
        ("boolean", [b"2"], ["2"]),
        ("time", [b"-10:00:00", b"01:02:03"], ["-10:00:00", "01:02:03"]),
        ("text", ["é".encode(), b"", None], ["é", "", None]),
    ],
)  # fmt: skip
def test_bytes_of_the_server_as_their_type_or_as_they_are(
    kind: str, values: list[bytes | None], read: list[Any]
) -> None:
    assert _column(tuple((value,) for value in values), 0, parse_type(kind)).to_pylist() == read
