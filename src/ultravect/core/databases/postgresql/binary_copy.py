"""PostgreSQL's binary COPY format, built from Arrow batches by array kernels.

Every column becomes a binary array whose values are "length prefix + big-endian value"; the columns are joined
element by element, and the value buffer of the result is the stream to send. A NULL is a missing value in such
an array, which the join replaces by the length -1.

Format: https://www.postgresql.org/docs/current/sql-copy.html, section "Binary Format".
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from ultravect.core.types.from_text import as_mask

HEADER = b"PGCOPY\n\xff\r\n\0" + bytes(8)
TRAILER = b"\xff\xff"

_NULL_FIELD = b"\xff\xff\xff\xff"
_EPOCH_DAYS = 10_957  # 1970-01-01 to 2000-01-01
_EPOCH_MICROSECONDS = _EPOCH_DAYS * 86_400_000_000
_MAX_NUMERIC_PRECISION = 18  # unscaled values of more digits do not fit 64 bits


@dataclass(frozen=True)
class _Fixed:
    """A column of equally wide values: ``data`` has one record a row, prefix included; ``valid`` None: no NULLs."""

    data: npt.NDArray[np.void]
    valid: npt.NDArray[np.bool_] | None


_Encoded = _Fixed | list[pa.Array]
_Encoder = Callable[[pa.Array], _Encoded]


def _valid(array: pa.Array) -> npt.NDArray[np.bool_] | None:
    if array.null_count == 0:
        return None
    return as_mask(array.is_valid())


def _values(array: pa.Array, dtype: str) -> npt.NDArray[Any]:
    """The fixed-width values buffer of ``array`` as numpy, whatever stands in its NULL slots."""
    data = array.buffers()[1]
    width = np.dtype(dtype).itemsize
    return np.frombuffer(data, dtype=dtype, count=len(array), offset=array.offset * width)


def _record(values: npt.NDArray[Any], wire: str, array: pa.Array) -> _Fixed:
    width = np.dtype(wire).itemsize
    data = np.empty(len(array), dtype=[("length", ">i4"), ("value", wire)])
    data["length"] = width
    data["value"] = values
    return _Fixed(data, _valid(array))


def _integer(width: int) -> _Encoder:
    return lambda array: _record(_values(array, f"<i{width}"), f">i{width}", array)


def _float(width: int) -> _Encoder:
    return lambda array: _record(_values(array, f"<f{width}"), f">f{width}", array)


def _boolean(array: pa.Array) -> _Encoded:
    return _record(_values(array.cast(pa.uint8()), "u1"), "u1", array)


def _date(array: pa.Array) -> _Encoded:
    return _record(_values(array, "<i4") - np.int32(_EPOCH_DAYS), ">i4", array)


def _timestamp(array: pa.Array) -> _Encoded:
    return _record(_values(array, "<i8") - np.int64(_EPOCH_MICROSECONDS), ">i8", array)


def _bytes_value(prefix: bytes = b"") -> _Encoder:
    """Text, binary and other values of varying length; ``prefix`` is the version byte that jsonb wants."""

    def encode(array: pa.Array) -> _Encoded:
        array = array.cast(pa.binary())
        if array.null_count:
            filled = array.fill_null(b"")
        else:
            filled = array
        offsets = np.frombuffer(filled.buffers()[1], "<i4", len(filled) + 1, filled.offset * 4)
        lengths = (np.diff(offsets) + np.int32(len(prefix))).astype(">i4")
        head = np.empty(len(array), dtype=[("length", ">i4"), ("prefix", f"S{len(prefix)}" if prefix else "V0")])
        head["length"] = lengths
        if prefix:
            head["prefix"] = prefix
        return [_fixed_to_binary(_Fixed(head, _valid(array))), filled]

    return encode


def _uuid(array: pa.Array) -> _Encoded:
    return _record(_values(array, "V16"), "V16", array)


def _numeric(precision: int, scale: int) -> _Encoder:
    """Base-10000 digits aligned at the decimal point; the server strips leading and trailing zero digits."""
    fraction_groups = -(-scale // 4)
    integer_groups = max(1, -(-(precision - scale) // 4))
    groups = integer_groups + fraction_groups
    wire = np.dtype(
        [
            ("length", ">i4"),
            ("ndigits", ">i2"),
            ("weight", ">i2"),
            ("sign", ">u2"),
            ("dscale", ">i2"),
            ("digits", ">i2", (groups,)),
        ]
    )

    def encode(array: pa.Array) -> _Encoded:
        low_words = _values(array, "<i8,<i8")["f0"] if len(array) else np.empty(0, "<i8")
        data = np.zeros(len(array), dtype=wire)
        data["length"] = wire.itemsize - 4
        data["ndigits"] = groups
        data["weight"] = integer_groups - 1
        data["dscale"] = scale
        valid = _valid(array)
        unscaled = low_words if valid is None else np.where(valid, low_words, 0)
        data["sign"] = np.where(unscaled < 0, 0x4000, 0)
        magnitude = np.abs(unscaled)
        one = np.int64(10**scale)
        whole, fraction = (magnitude, None) if scale == 0 else np.divmod(magnitude, one)
        if fraction is not None:
            fraction = fraction.astype(np.uint64) * np.uint64(10 ** (fraction_groups * 4 - scale))
            for index in range(groups - 1, integer_groups - 1, -1):
                fraction, digit = np.divmod(fraction, np.uint64(10_000))
                data["digits"][:, index] = digit
        for index in range(integer_groups - 1, -1, -1):
            if index == 0:
                data["digits"][:, index] = whole
            else:
                whole, digit = np.divmod(whole, 10_000)
                data["digits"][:, index] = digit
        return _Fixed(data, valid)

    return encode


def encoder_for(native: str, arrow: pa.DataType) -> _Encoder | None:
    """The encoder of ``arrow`` values for a column of PostgreSQL type ``native`` (its pg_type name), if there is one."""
    simple: dict[str, tuple[pa.DataType, _Encoder]] = {
        "bool": (pa.bool_(), _boolean),
        "int2": (pa.int16(), _integer(2)),
        "int4": (pa.int32(), _integer(4)),
        "int8": (pa.int64(), _integer(8)),
        "float4": (pa.float32(), _float(4)),
        "float8": (pa.float64(), _float(8)),
        "date": (pa.date32(), _date),
        "time": (pa.time64("us"), _integer(8)),
        "timestamp": (pa.timestamp("us"), _timestamp),
        "timestamptz": (pa.timestamp("us", "UTC"), _timestamp),
        "uuid": (pa.binary(16), _uuid),
        "text": (pa.string(), _bytes_value()),
        "varchar": (pa.string(), _bytes_value()),
        "bpchar": (pa.string(), _bytes_value()),
        "json": (pa.string(), _bytes_value()),
        "bytea": (pa.binary(), _bytes_value()),
        "jsonb": (pa.string(), _bytes_value(b"\x01")),
    }
    if native == "numeric" and pa.types.is_decimal128(arrow) and arrow.precision <= _MAX_NUMERIC_PRECISION:
        return _numeric(arrow.precision, arrow.scale)
    expected, encoder = simple.get(native, (None, None))
    return encoder if expected == arrow else None


def _fixed_to_binary(column: _Fixed) -> pa.Array:
    """One binary value a row, the NULL rows missing."""
    width = column.data.dtype.itemsize
    count = len(column.data)
    offsets = pa.py_buffer(np.arange(0, (count + 1) * width, width, dtype="<i4"))
    validity = None
    if column.valid is not None:
        validity = pa.py_buffer(np.packbits(column.valid, bitorder="little"))
    return pa.Array.from_buffers(pa.binary(), count, [validity, offsets, pa.py_buffer(column.data)])


def _merge(columns: Sequence[_Fixed]) -> _Fixed:
    """Neighbouring columns without NULLs as one array of wider records."""
    if len(columns) == 1:
        return columns[0]
    merged = np.empty(
        len(columns[0].data), dtype=[(f"c{index}", column.data.dtype) for index, column in enumerate(columns)]
    )
    for index, column in enumerate(columns):
        merged[f"c{index}"] = column.data
    return _Fixed(merged, None)


class RowEncoder:
    """Encodes record batches with one encoder a column into the rows of a binary COPY stream."""

    def __init__(self, encoders: Sequence[_Encoder]) -> None:
        self._encoders = encoders

    def encode(self, batch: pa.RecordBatch) -> pa.Buffer:
        """The rows of ``batch`` (column order of the encoders), without the stream's header and trailer."""
        count = np.zeros(batch.num_rows, dtype=[("count", ">i2")])
        count["count"] = len(self._encoders)
        pending: list[_Fixed] = [_Fixed(count, None)]
        pieces: list[pa.Array] = []

        def flush() -> None:
            if pending:
                pieces.append(_fixed_to_binary(_merge(pending)))
                pending.clear()

        for encoder, array in zip(self._encoders, batch.columns, strict=True):
            encoded = encoder(array)
            if isinstance(encoded, list):
                flush()
                pieces.extend(encoded)
            elif encoded.valid is None:
                pending.append(encoded)
            else:
                flush()
                pieces.append(_fixed_to_binary(encoded))
        flush()
        joined = pc.binary_join_element_wise(
            *pieces, pa.scalar(b""), null_handling="replace", null_replacement=_NULL_FIELD
        )
        offsets = np.frombuffer(joined.buffers()[1], "<i4", len(joined) + 1)
        return joined.buffers()[2].slice(int(offsets[0]), int(offsets[-1] - offsets[0]))
