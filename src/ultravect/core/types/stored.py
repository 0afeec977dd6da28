"""Values as databases give them: in their Arrow type, or as text where one of them is beyond it."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import suppress
from dataclasses import replace
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from ultravect.core.types.arrow import as_text
from ultravect.core.types.canonical import CanonicalType
from ultravect.core.types.casting import try_cast
from ultravect.core.types.from_text import convert
from ultravect.core.types.numbers_from_text import without_exponents
from ultravect.core.types.text_formats import NO_NULLS

# no text is a NULL word: a database says itself what is NULL
_CAST = frozenset(
    ["boolean", "smallint", "integer", "bigint", "decimal", "real", "double", "date", "timestamp", "timestamptz"]
)
STORED = replace(NO_NULLS, true_words=("true", "t", "1"), false_words=("false", "f", "0"))


def stored_values(values: pa.Array, kind: CanonicalType) -> pa.Array:
    """``values`` are binary or strings. They come back as ``kind``, as strings where some are no such value
    (an infinite date, a day that is not), and as bytes where some are no UTF-8: the shape phase says which."""
    if kind.name == "binary":
        return values
    if pa.types.is_binary(values.type):
        text = try_cast(values, pa.string())
        if text.failed.any():
            return values
        values = text.array
    if kind.arrow == pa.string():
        return values
    if kind.name in _CAST:
        # a database writes what it holds in one form only, which a cast takes as it is
        plain = without_exponents(values) if kind.name == "decimal" else values
        with suppress(pa.ArrowInvalid):
            return pc.cast(plain, kind.arrow)
    converted = convert(values, kind, STORED)
    return values if converted.failed.any() else converted.array


def bounded(values: pa.Array) -> pa.Array:
    """Dates and timestamps, as text where some are infinite: such a value stands at the end of its type's range."""
    kind = values.type
    if not (pa.types.is_date(kind) or pa.types.is_timestamp(kind)) or not len(values):
        return values
    numbers = values.cast(pa.int32() if pa.types.is_date32(kind) else pa.int64())
    most = 2**31 - 1 if pa.types.is_date32(kind) else 2**63 - 1
    span = pc.min_max(numbers)
    if (span["max"].as_py() or 0) < most and (span["min"].as_py() or 0) > -most:
        return values
    infinite = pc.greater_equal(pc.abs_checked(pc.max_element_wise(numbers, -most)), most)
    words = pc.if_else(pc.greater(numbers, 0), "infinity", "-infinity")
    finite = pc.if_else(infinite, pa.scalar(None, kind), values)
    return pc.if_else(infinite, words, as_text(finite))


def loose_values(values: Sequence[Any], kind: CanonicalType) -> pa.Array:
    """Values of a database that holds any kind of value in any column, as what they are where they are alike."""
    wanted = pa.binary() if kind.name == "binary" else None
    try:
        array = pa.array(values, wanted)
    except (pa.ArrowInvalid, pa.ArrowTypeError, OverflowError, UnicodeEncodeError):
        return pa.array([_written(value) for value in values], pa.string())
    if pa.types.is_binary(array.type) and kind.name != "binary":
        return pa.array([_written(value) for value in values], pa.string())
    return stored_values(array, kind) if pa.types.is_string(array.type) else array


def _written(value: Any) -> str | None:
    if value is None or isinstance(value, str):
        return value
    return value.hex() if isinstance(value, bytes) else repr(value)
