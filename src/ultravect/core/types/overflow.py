"""What a parser lets through that its type does not hold."""

from __future__ import annotations

import decimal

import pyarrow as pa
import pyarrow.compute as pc


def has_overflowed(array: pa.Array) -> bool:
    """Whether the parser let something through that its type does not hold: it minds neither a decimal's precision
    once the scale is filled up, nor that a number too large has become infinite."""
    if pa.types.is_floating(array.type):
        return bool(pc.any(pc.is_inf(array)).as_py())
    if pa.types.is_decimal(array.type):
        span = pc.min_max(array).as_py()
        limit = decimal.Decimal(10) ** (array.type.precision - array.type.scale)
        return any(value is not None and abs(value) >= limit for value in span.values())
    return False
