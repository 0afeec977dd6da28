"""Values in the form in which they are compared: those that are equal have the same bytes."""

from __future__ import annotations

import json
from collections.abc import Sequence

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from ultravect.core.engine.operate.row_hashes import add_column
from ultravect.core.types.arrow import plain_array
from ultravect.core.types.casting import as_mask


def comparable_array(array: pa.Array, *, is_json: bool = False) -> pa.Array:
    """-0.0 as 0.0 and every NaN as one; JSON by its content, whatever the order of its keys. Decimals and moments have one form each in the
    type that both sides are read into."""
    array = plain_array(array)
    if pa.types.is_floating(array.type):
        values = array.cast(pa.float64())
        values = pc.if_else(pc.is_nan(values), pa.scalar(float("nan")), values)
        return pc.add(values, 0.0)
    if is_json:
        return pa.array([None if text is None else _plain_json(text) for text in array.to_pylist()], pa.string())
    return array


def _plain_json(text: str) -> str:
    try:
        return json.dumps(json.loads(text, parse_float=str), sort_keys=True, separators=(",", ":"))
    except (ValueError, RecursionError):
        return text


def hashes_of(columns: Sequence[pa.Array], seed: tuple[int, int]) -> npt.NDArray[np.uint64]:
    """A hash for each row; ``columns`` as ``comparable_array`` gives them."""
    hashes = np.zeros(len(columns[0]), np.uint64)
    for column in columns:
        valid = as_mask(column.is_valid()).astype(np.uint8) if column.null_count else _NONE
        if pa.types.is_boolean(column.type):
            column = column.cast(pa.uint8())
        _, *buffers = column.buffers()
        if pa.types.is_string(column.type) or pa.types.is_binary(column.type):
            offsets = np.frombuffer(buffers[0], np.int32)[column.offset : column.offset + len(column) + 1]
            values = np.frombuffer(buffers[1], np.uint8) if buffers[1] is not None else _NONE
            add_column(hashes, *seed, valid, offsets, values, 0)
        else:
            width = column.type.byte_width
            values = np.frombuffer(buffers[0], np.uint8)[
                column.offset * width : (column.offset + len(column)) * width
            ]
            add_column(hashes, *seed, valid, _NO_OFFSETS, values, width)
    return hashes


_NONE, _NO_OFFSETS = np.zeros(0, np.uint8), np.zeros(0, np.int32)
