"""Rows as SQL databases read them from a stream: lines with tabs between the values."""

from __future__ import annotations

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ultravect.core.types.written import plain_text

_ESCAPES = (("\\", "\\\\"), ("\n", "\\n"), ("\r", "\\r"), ("\t", "\\t"), ("\0", "\\0"))


def tabbed_lines(batch: pa.RecordBatch, *, bytes_mark: str = "") -> pa.Buffer:
    r"""A line a row, tabs between the values, \N for NULL; tabs, line ends and NUL in texts escaped."""
    columns = []
    for array in batch.columns:
        text = plain_text(array, bytes_mark=bytes_mark)
        if pa.types.is_string(array.type):
            for plain, escaped in _ESCAPES:
                text = pc.replace_substring(text, plain, escaped)
        columns.append(text)
    lines = pc.binary_join_element_wise(*columns, "\t", null_handling="replace", null_replacement="\\N")
    ended = pc.binary_join_element_wise(lines, pa.scalar(""), "\n")
    offsets = np.frombuffer(ended.buffers()[1], "<i4", len(ended) + 1)
    return ended.buffers()[2].slice(int(offsets[0]), int(offsets[-1] - offsets[0]))
