"""What operators and functions compute, over Arrow arrays.

A kernel is given arrays of the types that its function asks for. It gives an array with NULL where a row cannot be
computed, and for each such reason a mask of the rows. NULL in gives NULL out, but where SQL says otherwise.
"""

from __future__ import annotations

import decimal
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from ultravect.core.types.canonical import CanonicalType
from ultravect.core.types.casting import Mask, as_mask
from ultravect.core.types.dates import ISO_DATE
from ultravect.core.types.from_text import convert
from ultravect.core.types.text_formats import NO_NULLS

Failures = list[tuple[str, Mask]]


@dataclass
class Computed:
    """An array, and the rows that could not be computed with their reasons."""

    array: pa.Array
    failures: Failures = field(default_factory=list)


Kernel = Callable[[Sequence[pa.Array], CanonicalType], Computed]


def without(array: pa.Array, lost: pa.Array, reason: str) -> Computed:
    """``array`` with NULL where ``lost``, which is reported as ``reason``."""
    mask = as_mask(lost)
    if not mask.any():
        return Computed(array)
    return Computed(pc.if_else(pa.array(mask), pa.scalar(None, array.type), array), [(reason, mask)])


def plain(function: Callable[..., pa.Array]) -> Kernel:
    return lambda arrays, kind: Computed(function(*arrays))


_BEYOND = "the result has more digits than its type holds"


def _checked(name: str) -> Kernel:
    """Arithmetic, whose overflows are failures and not wrapped values."""
    quick, rough = getattr(pc, f"{name}_checked"), getattr(pc, name)

    def compute(arrays: Sequence[pa.Array], kind: CanonicalType) -> Computed:
        try:
            return Computed(_as(quick(*arrays), kind))
        except pa.ArrowInvalid:
            near = rough(*(array.cast(pa.float64(), safe=False) for array in arrays))
            limit = 2.0**63 if kind.name == "bigint" else 10.0 ** ((kind.precision or 38) - (kind.scale or 0))
            lost = pc.greater_equal(pc.abs(near), limit)
            kept = [pc.if_else(lost, pa.scalar(None, array.type), array) for array in arrays]
            return without(_as(quick(*kept), kind), lost, _BEYOND)

    return compute


def _as(array: pa.Array, kind: CanonicalType) -> pa.Array:
    if pa.types.is_decimal(array.type) and pa.types.is_floating(kind.arrow):
        return array.cast(pa.string()).cast(kind.arrow)  # straight from one to the other, the last digit may change
    return array if array.type == kind.arrow else array.cast(kind.arrow)


add, subtract, multiply = _checked("add"), _checked("subtract"), _checked("multiply")


def _zero(kind: pa.DataType) -> pa.Scalar:
    return pa.scalar(decimal.Decimal(0) if pa.types.is_decimal(kind) else 0, kind)


def divide(arrays: Sequence[pa.Array], kind: CanonicalType) -> Computed:
    """Whole numbers divide to whole ones, cut towards zero; decimals to the places of the result's type."""
    left, right = arrays
    zero = pc.equal(right, _zero(right.type))
    safe = pc.if_else(zero, pa.scalar(None, right.type), right)
    if kind.name == "decimal":
        scale = kind.scale or 0
        more = max(0, scale - left.type.scale)
        wide = left.cast(pa.decimal256(left.type.precision + more, left.type.scale + more))
        found = pc.divide(wide, safe.cast(pa.decimal256(safe.type.precision, safe.type.scale)))
        found = pc.round(found, scale, "half_towards_infinity")
        lost = pc.greater_equal(pc.abs(found.cast(pa.float64())), 10.0 ** ((kind.precision or 38) - scale))
        result = without(pc.if_else(lost, pa.scalar(None, found.type), found).cast(kind.arrow), lost, _BEYOND)
    else:
        result = Computed(pc.divide(left, safe))
    lost = as_mask(pc.and_(zero, left.is_valid()))
    return Computed(result.array, [*result.failures, ("division by zero", lost)] if lost.any() else result.failures)


def remainder(arrays: Sequence[pa.Array], kind: CanonicalType) -> Computed:
    quotient = divide(arrays, kind)
    left, right = arrays
    return Computed(pc.subtract(left, pc.multiply(quotient.array, right)), quotient.failures)


def negative(arrays: Sequence[pa.Array], kind: CanonicalType) -> Computed:
    if pa.types.is_integer(arrays[0].type):
        lost = pc.equal(arrays[0], pa.scalar(-(2**63), pa.int64()))
        kept = pc.if_else(lost, pa.scalar(None, pa.int64()), arrays[0])
        return without(pc.negate(kept), lost, _BEYOND)
    return Computed(pc.negate(arrays[0]))


def absolute(arrays: Sequence[pa.Array], kind: CanonicalType) -> Computed:
    value = arrays[0]
    below = pc.less(value, _zero(value.type))
    inverse = negative([value], kind)
    array = pc.if_else(pc.fill_null(below, False), inverse.array, value)
    return Computed(array, inverse.failures)


def days_later(sign: int) -> Kernel:
    def compute(arrays: Sequence[pa.Array], kind: CanonicalType) -> Computed:
        days = pc.add(arrays[0].cast(pa.int32()).cast(pa.int64()), pc.multiply(arrays[1], sign))
        lost = pc.or_(pc.less(days, -719_162), pc.greater(days, 2_932_896))  # the years 1 to 9999
        kept = pc.if_else(lost, pa.scalar(None, pa.int64()), days)
        return without(kept.cast(pa.int32()).cast(pa.date32()), lost, "a day outside the years 1 to 9999")

    return compute


def days_between(arrays: Sequence[pa.Array], kind: CanonicalType) -> Computed:
    left, right = (array.cast(pa.int32()).cast(pa.int64()) for array in arrays)
    return Computed(pc.subtract(left, right))


def constant(array: pa.Array) -> Any:
    """The one value of an argument that has to be a literal."""
    return array[0].as_py() if len(array) else None


def coalesce(arrays: Sequence[pa.Array], kind: CanonicalType) -> Computed:
    return Computed(pc.coalesce(*arrays))


def null_if(arrays: Sequence[pa.Array], kind: CanonicalType) -> Computed:
    same = pc.fill_null(pc.equal(*arrays), False)
    return Computed(pc.if_else(same, pa.scalar(None, arrays[0].type), arrays[0]))


def rounded(arrays: Sequence[pa.Array], kind: CanonicalType) -> Computed:
    digits = constant(arrays[1]) if len(arrays) > 1 else 0
    exact = arrays[0].type
    places = 0 if pa.types.is_integer(exact) else exact.scale if pa.types.is_decimal(exact) else None
    if places is not None and (digits or 0) >= max(places, 0):
        return Computed(_as(arrays[0], kind))  # there is nothing to round
    return Computed(_as(pc.round(arrays[0], digits or 0, "half_towards_infinity"), kind))


def stepped(name: str) -> Kernel:
    function = getattr(pc, name)
    return lambda arrays, kind: Computed(
        arrays[0] if pa.types.is_integer(arrays[0].type) else _as(function(arrays[0]), kind)
    )


FIELDS: dict[str, Callable[[pa.Array], pa.Array]] = {
    "year": pc.year,
    "quarter": pc.quarter,
    "month": pc.month,
    "week": pc.iso_week,
    "day": pc.day,
    "doy": pc.day_of_year,
    "dow": lambda array: pc.day_of_week(array, count_from_zero=True, week_start=7),
    "hour": pc.hour,
    "minute": pc.minute,
    "second": pc.second,
}


UNITS = ("year", "quarter", "month", "week", "day", "hour", "minute", "second")


def extracted(arrays: Sequence[pa.Array], kind: CanonicalType) -> Computed:
    return Computed(
        FIELDS[constant(arrays[0])](arrays[1]).cast(pa.int64()) if len(arrays[1]) else pa.array([], pa.int64())
    )


def truncated(arrays: Sequence[pa.Array], kind: CanonicalType) -> Computed:
    if not len(arrays[1]):
        return Computed(arrays[1])
    return Computed(pc.floor_temporal(arrays[1], unit=constant(arrays[0])).cast(kind.arrow))


def in_zone(arrays: Sequence[pa.Array], kind: CanonicalType) -> Computed:
    value, zone = arrays[0], constant(arrays[1])
    if not len(value):
        return Computed(pa.array([], kind.arrow))
    if kind.name == "timestamp":
        return Computed(pc.local_timestamp(value.cast(pa.timestamp("us", zone))))
    early, late = (
        pc.assume_timezone(value, zone, ambiguous=which, nonexistent=which).cast(kind.arrow)
        for which in ("earliest", "latest")
    )
    return without(early, pc.not_equal(early, late), f"falls into an hour that the clocks of {zone} skip or repeat")


def parsed(arrays: Sequence[pa.Array], kind: CanonicalType) -> Computed:
    """Text by a date pattern, such as DD.MM.YYYY, into dates or timestamps."""
    pattern = constant(arrays[1]) if len(arrays) > 1 else None
    formats = replace(NO_NULLS, date_pattern=pattern or ISO_DATE)
    found = convert(arrays[0], kind, formats)
    written = formats.date_pattern + ("" if kind.name == "date" else " HH:MM:SS")
    return Computed(
        found.array, [(f"not a {kind.name} written as {written}", found.failed)] if found.failed.any() else []
    )
