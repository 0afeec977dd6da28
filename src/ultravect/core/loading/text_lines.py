"""Rows as SQL databases read them from a stream: lines with tabs between the values."""

from __future__ import annotations

import pyarrow as pa

from ultravect.core.loading import lines
from ultravect.core.types.arrow import beyond_four_digits
from ultravect.core.types.written import plain_text

_CODES = {
    pa.string(): lines.TEXT,
    pa.bool_(): lines.BOOL,
    pa.int16(): lines.TWO,
    pa.int32(): lines.FOUR,
    pa.int64(): lines.EIGHT,
    pa.date32(): lines.DATE,
    pa.time64("us"): lines.TIME,
    pa.timestamp("us"): lines.MOMENT,
    pa.timestamp("us", "UTC"): lines.MOMENT,
}


def tabbed_lines(batch: pa.RecordBatch, *, bytes_mark: str = "") -> bytes:
    r"""A line a row, tabs between the values, \N for NULL; tabs, line ends and NUL in texts escaped."""
    arrays, codes, scales = [], [], []
    for array in batch.columns:
        code = lines.DECIMAL if pa.types.is_decimal128(array.type) else _CODES.get(array.type)
        scales.append(array.type.scale if code == lines.DECIMAL else 0)
        if code is None or beyond_four_digits(array):
            array, code = plain_text(array, bytes_mark=bytes_mark), lines.PLAIN
        arrays.append(array)
        codes.append(code)
    return lines.write_lines(batch.num_rows, arrays, codes, scales)
