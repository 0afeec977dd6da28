"""How the values of a column are spread: their range in equal parts, and how many values lie in each."""

from __future__ import annotations

from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

BINS = 16
MOST_VALUES = 10_000
"""Of so many first values; a picture of more says the same."""

_NUMBERS = ("smallint", "integer", "bigint", "decimal", "real", "double")
_MOMENTS = ("date", "timestamptz", "timestamp")


def histogram(texts: pa.Array, kind: str) -> list[dict[str, Any]] | None:
    """Parts of the range, each with its ends and the count of values, the highest end included.

    ``texts`` are values as they are shown; ``kind`` is their canonical type. None for types without an order that can be drawn, for
    values that are not written plainly, and where all are equal.
    """
    name = kind.partition("(")[0]
    try:
        if name in _NUMBERS:
            values = pc.cast(texts.drop_null(), pa.float64()).to_numpy(zero_copy_only=False)
        elif name in _MOMENTS:
            zone = "UTC" if name == "timestamptz" else None
            moments = pc.cast(texts.drop_null(), pa.timestamp("us", zone))
            values = moments.cast(pa.int64()).to_numpy(zero_copy_only=False).astype(float)
        else:
            return None
    except pa.ArrowInvalid:
        return None
    values = values[np.isfinite(values)]
    if not len(values) or values.min() == values.max():
        return None
    counts, edges = np.histogram(values, bins=BINS)
    shown = [_shown(edge, name) for edge in edges]
    return [
        {"low": low, "high": high, "count": int(count)}
        for low, high, count in zip(shown, shown[1:], counts, strict=False)
    ]


def _shown(value: float, name: str) -> str:
    if name in _NUMBERS:
        return f"{value:.4g}" if abs(value) < 1e4 else f"{value:.0f}"
    moment = np.datetime64(int(value), "us")
    return str(moment.astype("datetime64[D]" if name == "date" else "datetime64[s]")).replace("T", " ")
