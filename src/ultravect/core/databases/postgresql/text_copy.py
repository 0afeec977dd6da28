"""PostgreSQL's text COPY format from Arrow batches, for columns whose type has no binary encoder.

The server's own input functions parse the values, so any type that can be written as text can be loaded.
"""

from __future__ import annotations

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

_ESCAPES = (("\\", "\\\\"), ("\n", "\\n"), ("\r", "\\r"), ("\t", "\\t"))


def _text(array: pa.Array) -> pa.Array:
    kind = array.type
    if pa.types.is_string(kind):
        for plain, escaped in _ESCAPES:
            array = pc.replace_substring(array, plain, escaped)
        return array
    if kind == pa.binary(16):
        data = array.buffers()[1]
        start = array.offset * 16
        digits = data[start : start + len(array) * 16].to_pybytes().hex()
        offsets = np.arange(0, len(digits) + 32, 32, dtype="<i4")
        text = pa.Array.from_buffers(
            pa.string(), len(array), [None, pa.py_buffer(offsets), pa.py_buffer(digits.encode())]
        )
        return pc.if_else(array.is_valid(), text, pa.scalar(None, pa.string()))
    if pa.types.is_timestamp(kind) and kind.tz:
        # the session's zone is UTC
        array = array.cast(pa.timestamp("us"))
    return array.cast(pa.string())


def encode_text(batch: pa.RecordBatch) -> pa.Buffer:
    """The rows of ``batch`` as lines of a text COPY stream."""
    columns = [_text(column) for column in batch.columns]
    lines = pc.binary_join_element_wise(*columns, "\t", null_handling="replace", null_replacement="\\N")
    ended = pc.binary_join_element_wise(lines, pa.scalar(""), "\n")
    offsets = np.frombuffer(ended.buffers()[1], "<i4", len(ended) + 1)
    return ended.buffers()[2].slice(int(offsets[0]), int(offsets[-1] - offsets[0]))
