"""What operators and functions compute, over Arrow arrays.

A kernel is given arrays of the types that its function asks for. It gives an array with NULL where a row cannot be
computed, and for each such reason a mask of the rows. NULL in gives NULL out, but where SQL says otherwise.
"""

from __future__ import annotations

import decimal
import hashlib
import hmac as hmac_module
import json
import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
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


def cased(name: str) -> Kernel:
    """Upper or lower case; for what is ASCII there is a quicker way."""
    plain_case, any_case = getattr(pc, f"ascii_{name}"), getattr(pc, f"utf8_{name}")
    return lambda arrays, kind: Computed((plain_case if is_ascii(arrays[0]) else any_case)(arrays[0]))


def is_ascii(text: pa.Array) -> bool:
    """Whether all bytes after the texts are ASCII."""
    data = text.buffers()[2]
    return data is None or data.size == 0 or int(np.frombuffer(data, np.uint8).max()) < 0x80


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


def concatenated(arrays: Sequence[pa.Array], kind: CanonicalType) -> Computed:
    return Computed(pc.binary_join_element_wise(*arrays, ""))


def _sliced(text: pa.Array, first: int, count: int | None) -> pa.Array:
    begin = max(first - 1, 0)
    return pc.utf8_slice_codeunits(text, begin, None if count is None else max(first - 1 + count, begin))


def substring(arrays: Sequence[pa.Array], kind: CanonicalType) -> Computed:
    """One slice of all texts for each pair of start and length that occurs, which mostly is one."""
    text, *bounds = arrays
    names = ["start", "length"][: len(bounds)]
    result: pa.Array = pa.nulls(len(text), pa.string())
    negative_length = pa.array(np.zeros(len(text), np.bool_))
    for pair in pa.table(bounds, names=names).group_by(names).aggregate([]).to_pylist():
        if None in pair.values():
            continue
        chosen = pc.fill_null(pc.equal(bounds[0], pair["start"]), False)
        if len(bounds) > 1:
            chosen = pc.and_(chosen, pc.fill_null(pc.equal(bounds[1], pair["length"]), False))
        if pair.get("length", 0) < 0:
            negative_length = pc.or_(negative_length, pc.and_(chosen, text.is_valid()))
        else:
            result = pc.if_else(chosen, _sliced(text, pair["start"], pair.get("length")), result)
    return without(result, negative_length, "a negative length")


def constant(array: pa.Array) -> Any:
    """The one value of an argument that has to be a literal."""
    return array[0].as_py() if len(array) else None


def replaced(arrays: Sequence[pa.Array], kind: CanonicalType) -> Computed:
    pattern, by = constant(arrays[1]), constant(arrays[2])
    if pattern is None or by is None:
        return Computed(pa.nulls(len(arrays[0]), pa.string()))
    return Computed(pc.replace_substring(arrays[0], pattern, by) if pattern else arrays[0])


def like(arrays: Sequence[pa.Array], kind: CanonicalType) -> Computed:
    pattern = constant(arrays[1])
    if pattern is None:
        return Computed(pa.nulls(len(arrays[0]), pa.bool_()))
    # ISO SQL has no escape character unless one is named
    body = "".join({"%": ".*", "_": "."}.get(character, re.escape(character)) for character in pattern)
    return Computed(pc.match_substring_regex(arrays[0], f"^(?s:{body})$"))


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


def each_value(function: Callable[[str], str | None]) -> Kernel:
    """For what no kernel computes: once for each distinct value."""

    def compute(arrays: Sequence[pa.Array], kind: CanonicalType) -> Computed:
        codes = arrays[0].dictionary_encode()
        values = pa.array([function(value) for value in codes.dictionary.to_pylist()], pa.string())
        return Computed(values.take(codes.indices))

    return compute


sha256 = each_value(lambda value: hashlib.sha256(value.encode()).hexdigest())
md5 = each_value(lambda value: hashlib.md5(value.encode(), usedforsecurity=False).hexdigest())


def keyed(key: str) -> Kernel:
    return each_value(lambda value: hmac_module.new(key.encode(), value.encode(), "sha256").hexdigest())


def keep_last(arrays: Sequence[pa.Array], kind: CanonicalType) -> Computed:
    count = constant(arrays[1])
    if count is None:
        return Computed(pa.nulls(len(arrays[0]), pa.string()))
    length = pc.utf8_length(arrays[0])
    hidden = pc.max_element_wise(pc.subtract(length, count), 0, skip_nulls=False)
    stars = pc.binary_repeat(pa.scalar("*"), hidden)
    kept = pc.utf8_slice_codeunits(arrays[0], -count) if count else pa.repeat("", len(arrays[0]))
    return Computed(pc.binary_join_element_wise(stars, pc.if_else(length.is_valid(), kept, None), ""))


def json_path(path: str) -> list[str | int]:
    """The steps of ``$.a[0].b`` or of a JSON Pointer ``/a/0/b``; ValueError where it is neither."""
    if path == "" or path.startswith("/"):
        return [step.replace("~1", "/").replace("~0", "~") for step in path.split("/")[1:]]
    if not re.fullmatch(r"\$(?:\.[^.\[\]]+|\[\d+\])*", path):
        raise ValueError(f"{path!r} is neither a path such as $.wind.speed nor a JSON Pointer such as /wind/speed")
    return [int(step[1:-1]) if step[0] == "[" else step[1:] for step in re.findall(r"\.[^.\[\]]+|\[\d+\]", path)]


def _stepped_into(value: Any, steps: Sequence[str | int]) -> str | None:
    for step in steps:
        try:
            value = value[int(step)] if isinstance(value, list) else value[str(step)]
        except (KeyError, IndexError, ValueError, TypeError):
            return None
    if value is None or isinstance(value, str):
        return value
    return json.dumps(value, ensure_ascii=False, separators=(",", ":"))


def json_value(arrays: Sequence[pa.Array], kind: CanonicalType) -> Computed:
    steps = json_path(constant(arrays[1]) or "")
    codes = arrays[0].dictionary_encode()
    values: list[str | None] = []
    broken: list[bool] = []
    for text in codes.dictionary.to_pylist():
        try:
            values.append(_stepped_into(json.loads(text, parse_float=str), steps))
            broken.append(False)
        except ValueError:
            values.append(None)
            broken.append(True)
    array = pa.array(values, pa.string()).take(codes.indices)
    failed = as_mask(pa.array(broken, pa.bool_()).take(codes.indices))
    return Computed(array, [("not JSON", failed)] if failed.any() else [])
