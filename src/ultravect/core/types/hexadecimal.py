"""Bytes and UUIDs as their digits, by kernels."""

from __future__ import annotations

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

_DASHES = (8, 13, 18, 23)


def hex_text(array: pa.Array) -> pa.Array:
    """The bytes of each value as hexadecimal digits."""
    plain = array.cast(pa.binary())
    filled = plain.fill_null(b"") if plain.null_count else plain
    offsets = np.frombuffer(filled.buffers()[1], "<i4", len(filled) + 1, filled.offset * 4)
    data = filled.buffers()[2]
    digits = b"" if data is None else data[int(offsets[0]) : int(offsets[-1])].to_pybytes().hex().encode()
    ends = ((offsets - offsets[0]) * 2).astype("<i4")
    text = pa.StringArray.from_buffers(len(array), pa.py_buffer(ends), pa.py_buffer(digits))
    return pc.if_else(array.is_valid(), text, pa.scalar(None, pa.string())) if array.null_count else text


def uuid_text(array: pa.Array) -> pa.Array:
    """UUIDs of 16 bytes, as 36 characters with dashes."""
    data = array.buffers()[1]
    start = array.offset * 16
    digits = data[start : start + len(array) * 16].to_pybytes().hex().encode() if len(array) else b""
    cells = np.full((len(array), 36), ord("-"), np.uint8)
    cells[:, [place for place in range(36) if place not in _DASHES]] = np.frombuffer(digits, np.uint8).reshape(-1, 32)
    ends = np.arange(0, len(array) * 36 + 1, 36, dtype="<i4")
    text = pa.StringArray.from_buffers(len(array), pa.py_buffer(ends), pa.py_buffer(cells))
    return pc.if_else(array.is_valid(), text, pa.scalar(None, pa.string()))
