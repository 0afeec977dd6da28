"""Arrow's own types as canonical ones, and the conversion of typed values with a failure mask."""

from __future__ import annotations

import json
from collections.abc import Sequence

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ultravect.core.types.canonical import MAX_PRECISION, CanonicalType
from ultravect.core.types.casting import Converted, Mask, as_mask, try_cast
from ultravect.core.types.from_text import MOMENTS, convert
from ultravect.core.types.hexadecimal import hex_text, uuid_text
from ultravect.core.types.moments_from_text import moments_of
from ultravect.core.types.text_formats import TextFormats

_PLAIN = {
    pa.bool_(): "boolean",
    pa.int8(): "smallint",
    pa.int16(): "smallint",
    pa.uint8(): "smallint",
    pa.int32(): "integer",
    pa.uint16(): "integer",
    pa.int64(): "bigint",
    pa.uint32(): "bigint",
    pa.float16(): "real",
    pa.float32(): "real",
    pa.float64(): "double",
    pa.date32(): "date",
    pa.date64(): "date",
}
_MOST_DIGITS = 20  # of an integer of 64 bits without a sign
_UUID = CanonicalType("uuid").arrow
_FIRST_DAY, _END_DAY = -719_162, 2_932_897  # of the years 1 to 9999
_DAY_TICKS = {"s": 86_400, "ms": 86_400 * 10**3, "us": 86_400 * 10**6, "ns": 86_400 * 10**9}


def array_from(held: pa.DataType, rows: int, buffers: Sequence[bytes | None]) -> pa.Array:
    """The array whose buffers a compiled loop has filled; it must not be changed afterwards."""
    return pa.Array.from_buffers(held, rows, [None if buffer is None else pa.py_buffer(buffer) for buffer in buffers])


def canonical_of(kind: pa.DataType) -> CanonicalType | None:
    """The canonical type of values of an Arrow type; None for nested ones."""
    if pa.types.is_dictionary(kind):
        return canonical_of(kind.value_type)
    if kind in _PLAIN:
        return CanonicalType(_PLAIN[kind])
    if pa.types.is_uint64(kind):
        return CanonicalType("decimal", precision=20, scale=0)
    if pa.types.is_decimal(kind):
        # what has more digits than a decimal here holds travels as its digits
        fits = 0 <= kind.scale <= kind.precision <= MAX_PRECISION
        return (
            CanonicalType("decimal", precision=kind.precision, scale=kind.scale) if fits else CanonicalType("decimal")
        )
    if pa.types.is_timestamp(kind):
        return CanonicalType("timestamptz" if kind.tz else "timestamp")
    if pa.types.is_time(kind):
        return CanonicalType("time")
    if pa.types.is_fixed_size_binary(kind):
        return CanonicalType("binary", length=kind.byte_width)
    if pa.types.is_binary(kind) or pa.types.is_large_binary(kind) or pa.types.is_binary_view(kind):
        return CanonicalType("binary")
    if pa.types.is_string(kind) or pa.types.is_large_string(kind) or pa.types.is_string_view(kind):
        return CanonicalType("text")
    if isinstance(kind, pa.BaseExtensionType):
        name = kind.extension_name
        return (
            CanonicalType({"arrow.uuid": "uuid", "arrow.json": "json"}[name])
            if name in ("arrow.uuid", "arrow.json")
            else None
        )
    is_text = pa.types.is_null(kind) or pa.types.is_duration(kind) or pa.types.is_interval(kind)
    return CanonicalType("text") if is_text else None


def plain_array(array: pa.Array) -> pa.Array:
    """Without dictionary, view or extension around the values."""
    if isinstance(array, pa.ChunkedArray):
        array = array.combine_chunks()
    if isinstance(array.type, pa.BaseExtensionType):
        array = array.storage
    if pa.types.is_dictionary(array.type):
        array = array.dictionary_decode()
    if pa.types.is_large_string(array.type) or pa.types.is_string_view(array.type):
        return array.cast(pa.string())
    if pa.types.is_large_binary(array.type) or pa.types.is_binary_view(array.type):
        return array.cast(pa.binary())
    return array


def as_text(array: pa.Array) -> pa.Array:
    """Values as they would be written into a text file; UUIDs with their dashes, other bytes as hexadecimal digits."""
    array = plain_array(array)
    kind = array.type
    if pa.types.is_string(kind):
        return array
    if kind == _UUID:
        return uuid_text(array)
    if pa.types.is_binary(kind) or pa.types.is_fixed_size_binary(kind):
        return hex_text(array)
    if pa.types.is_timestamp(kind) and kind.tz:
        plain = array.cast(pa.timestamp(kind.unit, "UTC")).cast(pa.timestamp(kind.unit))
        return pc.binary_join_element_wise(plain.cast(pa.string()), pa.scalar("Z"), "")
    if pa.types.is_floating(kind):
        # Arrow writes 2.0 as 2: an integer's form, which would lose what the type was
        text = array.cast(pa.string())
        whole = pc.match_substring_regex(text, r"^-?[0-9]+$")
        return pc.if_else(whole, pc.binary_join_element_wise(text, pa.scalar(".0"), ""), text)
    if pa.types.is_decimal(kind):
        return _decimal_text(array)
    if pa.types.is_duration(kind) or pa.types.is_interval(kind):
        return pa.array([None if value.as_py() is None else duration_text(value) for value in array], pa.string())
    if pa.types.is_nested(kind):
        return pa.array(
            [None if v is None else json.dumps(v, default=str, ensure_ascii=False) for v in array.to_pylist()],
            pa.string(),
        )
    return array.cast(pa.string())


def text_read(values: pa.Array) -> pa.Array:
    """Values that a reader gave as text: bytes are the text itself, and NULL where they are not UTF-8."""
    return try_cast(values, pa.string()).array if pa.types.is_binary(values.type) else as_text(values)


def duration_text(value: pa.Scalar) -> str:
    """A span of time as ISO 8601 writes it: PT36H0.5S; nothing in it is rounded."""
    months = days = 0
    if pa.types.is_interval(value.type):
        months, days, nanoseconds = value.as_py()
    else:
        nanoseconds = value.value * {"s": 10**9, "ms": 10**6, "us": 10**3, "ns": 1}[value.type.unit]
    sign, nanoseconds = ("-", -nanoseconds) if nanoseconds < 0 else ("", nanoseconds)
    minutes, rest = divmod(nanoseconds, 60 * 10**9)
    hours, minutes = divmod(minutes, 60)
    seconds = f"{rest // 10**9}.{rest % 10**9:09d}".rstrip("0").rstrip(".")
    clock = "".join(f"{sign}{part}{mark}" for part, mark in ((hours, "H"), (minutes, "M")) if part)
    clock += f"{sign}{seconds}S" if seconds != "0" or not (clock or months or days) else ""
    dates = (f"{months}M" if months else "") + (f"{days}D" if days else "")
    return f"P{dates}" + (f"T{clock}" if clock else "")


def beyond_four_digits(array: pa.Array) -> bool:
    """Whether a date or a timestamp is of a year before 1 or after 9999."""
    kind = array.type
    if not (pa.types.is_date32(kind) or pa.types.is_timestamp(kind)) or array.null_count == len(array):
        return False
    days = pa.types.is_date32(kind)
    ticks = 1 if days else _DAY_TICKS[kind.unit]
    span = pc.min_max(array.view(pa.int32() if days else pa.int64()))
    return bool(span["min"].as_py() < _FIRST_DAY * ticks or span["max"].as_py() >= _END_DAY * ticks)


def _decimal_text(array: pa.Array) -> pa.Array:
    """Digits without exponent; zeros after the last digit are those of the type, not of the value."""
    text = array.cast(pa.string())
    small = pc.match_substring(text, "E")
    if as_mask(small).any():
        plain = pa.array(
            [None if value is None else format(value, "f") for value in array.filter(small).to_pylist()], pa.string()
        )
        text = pc.replace_with_mask(text, small.fill_null(False), plain)
    return pc.replace_substring_regex(pc.replace_substring_regex(text, r"(\.[0-9]*[1-9])0+$", r"\1"), r"\.0*$", "")


def convert_typed(array: pa.Array, wanted: CanonicalType, formats: TextFormats) -> Converted:
    """Converts values of any Arrow type to ``wanted``; what does not fit has failed."""
    array = plain_array(array)
    kind = array.type
    if pa.types.is_string(kind):
        return convert(array, wanted, formats)
    target = wanted.arrow
    if kind == target:
        return Converted(array, np.zeros(len(array), np.bool_))
    if pa.types.is_string(target) or wanted.name == "uuid":
        text = as_text(array)
        return (
            Converted(text, np.zeros(len(array), np.bool_))
            if pa.types.is_string(target)
            else convert(text, wanted, formats)
        )
    if pa.types.is_timestamp(kind) and kind.tz and target == pa.timestamp("us"):
        return Converted(array.cast(pa.timestamp("us", "UTC")).cast(target), np.zeros(len(array), np.bool_))
    if pa.types.is_timestamp(kind) and pa.types.is_timestamp(target) and not kind.tz and target.tz:
        # a zone out of nowhere: only as the layout says
        return convert(as_text(array), wanted, formats)
    if pa.types.is_floating(kind) and not pa.types.is_floating(target) and wanted.name not in MOMENTS:
        return convert(_whole(as_text(array)), wanted, formats)
    if wanted.name in MOMENTS and (
        pa.types.is_integer(kind) or pa.types.is_floating(kind) or pa.types.is_decimal(kind)
    ):
        return moments_of(array, wanted, formats.numbers_as)
    if pa.types.is_boolean(target) and pa.types.is_integer(kind):
        lost = pc.invert(pc.is_in(array, pa.array([0, 1], kind)))
        return _without(try_cast(array, target), pc.and_(lost, array.is_valid()))
    if pa.types.is_decimal(kind) and pa.types.is_floating(target):
        return try_cast(array.cast(pa.string()), target)  # straight from one to the other, the last digit may change
    if pa.types.is_integer(kind) and pa.types.is_decimal(target):
        # a cast wants room for the largest integer that there is, whatever the values are
        digits = _MOST_DIGITS + target.scale
        if digits > MAX_PRECISION:
            return convert(as_text(array), wanted, formats)
        array = array.cast(pa.decimal128(digits, target.scale))
    converted = try_cast(array, target)
    if pa.types.is_floating(target) and pa.types.is_floating(kind):
        return _without(converted, pc.and_(pc.is_inf(converted.array), pc.invert(pc.is_inf(array))))
    if pa.types.is_timestamp(kind) and pa.types.is_date(target):
        # a time of day is not to be dropped in silence
        return _without(converted, pc.not_equal(converted.array.cast(kind), array))
    return converted


def _without(converted: Converted, lost: pa.Array) -> Converted:
    """Values that came out otherwise than they went in have failed."""
    mask: Mask = as_mask(lost)
    if not mask.any():
        return converted
    array = pc.if_else(lost.fill_null(False), pa.scalar(None, converted.array.type), converted.array)
    return Converted(array, converted.failed | mask)


def _whole(text: pa.Array) -> pa.Array:
    """2.0 as 2, which an integer takes."""
    return pc.replace_substring_regex(text, r"\.0$", "")


def text_at(values: pa.Array, at: int) -> str | None:
    """A value as text, for a message."""
    text: str | None = as_text(values.slice(at, 1)).to_pylist()[0]
    return text
