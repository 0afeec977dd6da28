"""Hashes by which rows of a source are known again."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Sequence

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from ultravect.core.types.arrow import as_text


def row_hashes(rows: pa.Table, places: npt.NDArray[np.int64], columns: Sequence[str]) -> list[str]:
    """Of the rows at these places, a hash each of the values of ``columns``, which are names."""
    if not len(places):
        return []
    taken = rows.select(list(columns)).take(pa.array(places)).combine_chunks()
    texts = [as_text(column).to_pylist() for column in taken.columns]
    return [
        hashlib.sha256(json.dumps(dict(zip(columns, row, strict=True)), ensure_ascii=False).encode()).hexdigest()[:24]
        for row in zip(*texts, strict=True)
    ]


def is_value(values: pa.Array, scalar: pa.Scalar) -> npt.NDArray[np.bool_]:
    """Which values are this one."""
    return np.asarray(pc.fill_null(pc.equal(values, scalar), False).to_numpy(zero_copy_only=False), dtype=bool)
