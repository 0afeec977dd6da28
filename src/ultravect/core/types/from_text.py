"""Converts text to canonical types by array kernels, with a mask of the values that do not convert.

A pattern sorts out what cannot be the type; the rest is cast in one call. Where that call fails, the values are
halved until the bad ones stand alone, so that the cost follows the number of bad values, not of rows.
"""

from __future__ import annotations

import functools
from collections.abc import Callable
from contextlib import suppress

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ultravect.core.types.canonical import CanonicalType
from ultravect.core.types.casting import Converted, all_true, as_mask, cast_matching, try_cast
from ultravect.core.types.dates import CLOCK, HOUR, ISO_DATE, even_clock, iso_dates, possible_days
from ultravect.core.types.moments_from_text import moments_of, plain_moments
from ultravect.core.types.numbers_from_text import to_decimal, to_floating, to_integer
from ultravect.core.types.overflow import has_overflowed
from ultravect.core.types.text_formats import TextFormats

_ZONE = r"(?:[Zz]|[+-][0-9]{2}(?::?[0-9]{2})?)"
_HEX = r"^(?:[0-9A-Fa-f]{2})*$"
_MIDNIGHT = r"[ T](?:0?0:00(?::00(?:[.,]0+)?)?(?: ?(?i:am))?|12:00(?::00)? ?(?i:am))(?:[Zz]|[+-]00(?::?00)?)?$"
_UUID = r"[0-9a-fA-F]{8}-?(?:[0-9a-fA-F]{4}-?){3}[0-9a-fA-F]{12}"


def _boolean(values: pa.Array, wanted: CanonicalType, formats: TextFormats) -> Converted:
    lowered = pc.utf8_lower(values)
    true = pc.is_in(lowered, pa.array([word.lower() for word in formats.true_words]))
    false = pc.is_in(lowered, pa.array([word.lower() for word in formats.false_words]))
    known = pc.or_(true, false)
    present = values.is_valid()
    array = pc.if_else(pc.and_(known, present), true, pa.scalar(None, pa.bool_()))
    if "" in formats.false_words:
        array = pc.if_else(present, array, False)
    return Converted(array, as_mask(pc.and_(pc.invert(known), present)))


def _dated(values: pa.Array, rest: str, target: pa.DataType, formats: TextFormats) -> Converted:
    present = values.is_valid()
    if formats.type_is_given:
        values = plain_moments(values, formats.date_pattern)
    if rest:
        if formats.date_pattern == ISO_DATE:
            with suppress(pa.ArrowInvalid):
                return Converted(pc.cast(values, target), np.zeros(len(values), dtype=np.bool_))
        values = even_clock(values)
    iso = possible_days(iso_dates(values, formats.date_pattern, rest))
    lost = as_mask(pc.and_(iso.is_null(), present))
    cast = cast_matching(iso, r"[0-9]{4}-[0-9]{2}-[0-9]{2}" + rest, target)
    return Converted(cast.array, cast.failed | lost)


def _date(values: pa.Array, wanted: CanonicalType, formats: TextFormats) -> Converted:
    if formats.type_is_given:
        # midnight is no more than the day
        values = pc.replace_substring_regex(values, _MIDNIGHT, "")
    return _dated(values, "", wanted.arrow, formats)


def _timestamp(values: pa.Array, wanted: CanonicalType, formats: TextFormats) -> Converted:
    return _dated(values, f"(?:[ T]{HOUR})?", wanted.arrow, formats)


def _timestamptz(values: pa.Array, wanted: CanonicalType, formats: TextFormats) -> Converted:
    zoned = _dated(values, f"[ T]{HOUR}{_ZONE}", wanted.arrow, formats)
    if not formats.time_zone or not zoned.failed.any():
        return zoned
    without = pa.array(zoned.failed)
    local = _dated(
        pc.if_else(without, values, pa.scalar(None, values.type)), f"[ T]{HOUR}", pa.timestamp("us"), formats
    )
    zone = formats.time_zone
    early, late = (
        pc.assume_timezone(local.array, zone, ambiguous=which, nonexistent=which).cast(wanted.arrow)
        for which in ("earliest", "latest")
    )
    # where clocks are set back an hour comes twice, and where they are set forward it never was
    sure = pc.equal(early, late)
    moments = pc.if_else(pc.and_(without, sure), early, zoned.array)
    return Converted(moments, zoned.failed & (local.failed | as_mask(pc.invert(sure))))


def _time(values: pa.Array, wanted: CanonicalType, formats: TextFormats) -> Converted:
    # there is no kernel from text to time; a timestamp's clock is one
    clocks = even_clock(plain_moments(values) if formats.type_is_given else values)
    lost = as_mask(pc.and_(clocks.is_null(), values.is_valid()))
    moments = pc.binary_join_element_wise(pa.scalar("1970-01-01"), clocks, " ")
    cast = cast_matching(moments, r"1970-01-01 " + CLOCK, pa.timestamp("us"))
    return Converted(cast.array.cast(wanted.arrow), cast.failed | lost)


def _uuid(values: pa.Array, wanted: CanonicalType, formats: TextFormats) -> Converted:
    if formats.type_is_given:
        values = pc.replace_substring_regex(values, r"^(?:\{(.*)\}|urn:uuid:(.*))$", r"\1\2")
    matching = pc.match_substring_regex(values, f"^{_UUID}$")
    good = pc.replace_substring(pc.if_else(matching, values, pa.scalar("0" * 32)), "-", "")
    texts = pc.fill_null(good, "0" * 32)
    offsets = np.frombuffer(texts.buffers()[1], "<i4", len(texts) + 1, texts.offset * 4)
    # all are 32 digits long, one after the other
    digits = texts.buffers()[2][int(offsets[0]) : int(offsets[-1])].to_pybytes().decode("ascii")
    present = pc.and_(values.is_valid(), matching)
    validity = pa.py_buffer(np.packbits(as_mask(present), bitorder="little"))
    array = pa.Array.from_buffers(pa.binary(16), len(values), [validity, pa.py_buffer(bytes.fromhex(digits))])
    return Converted(array, as_mask(pc.invert(matching)))


def _binary(values: pa.Array, wanted: CanonicalType, formats: TextFormats) -> Converted:
    if formats.type_is_given:
        values = pc.replace_substring_regex(values, r"^(?:\\x|0x|0X)", "")
    matching = pc.match_substring_regex(values, _HEX)
    texts = pc.fill_null(pc.if_else(matching, values, pa.scalar("")), "")
    offsets = np.frombuffer(texts.buffers()[1], "<i4", len(texts) + 1, texts.offset * 4)
    data = texts.buffers()[2]
    digits = "" if data is None else data[int(offsets[0]) : int(offsets[-1])].to_pybytes().decode("ascii")
    ends = pa.py_buffer(((offsets - offsets[0]) // 2).astype("<i4"))
    present = pa.py_buffer(np.packbits(as_mask(pc.and_(values.is_valid(), matching)), bitorder="little"))
    array = pa.Array.from_buffers(pa.binary(), len(values), [present, ends, pa.py_buffer(bytes.fromhex(digits))])
    return Converted(array, as_mask(pc.invert(matching)))


def _text(values: pa.Array, wanted: CanonicalType, formats: TextFormats) -> Converted:
    return Converted(values, np.zeros(len(values), dtype=np.bool_))


MOMENTS = frozenset(["date", "time", "timestamp", "timestamptz"])
_INTEGERS = frozenset(["smallint", "integer", "bigint"])
_CAST = frozenset(["smallint", "integer", "bigint", "decimal", "real", "double", "date", "timestamp", "timestamptz"])
_CONVERTERS: dict[str, Callable[[pa.Array, CanonicalType, TextFormats], Converted]] = {
    "boolean": _boolean,
    "smallint": to_integer,
    "integer": to_integer,
    "bigint": to_integer,
    "decimal": to_decimal,
    "real": to_floating,
    "double": to_floating,
    "date": _date,
    "time": _time,
    "timestamp": _timestamp,
    "timestamptz": _timestamptz,
    "uuid": _uuid,
    "binary": _binary,
    "text": _text,
    "json": _text,
}


@functools.lru_cache(maxsize=1000)
def _is_cast_by_library(wanted: CanonicalType, formats: TextFormats) -> bool:
    """Whether a plain cast that succeeds gives what the careful way would: no NULL word may pass for a value."""
    if (
        wanted.name not in _CAST
        or formats.thousands
        or formats.signs
        or formats.decimal_mark != "."
        or formats.time_zone
        or (formats.numbers_as and wanted.name in MOMENTS)
    ):
        return False
    if wanted.name in ("date", "timestamp", "timestamptz") and formats.date_pattern != ISO_DATE:
        return False
    if wanted.name == "decimal" and wanted.precision is None:
        return False
    return all(try_cast(pa.array([word.strip()]), wanted.arrow).failed[0] for word in formats.nulls)


def _cast_at_once(values: pa.Array, wanted: CanonicalType, formats: TextFormats) -> pa.Array | None:
    """All values by one cast, where that is the same as to look at each of them; otherwise None."""
    if not _is_cast_by_library(wanted, formats):
        return None
    if wanted.name in _INTEGERS and not all_true(pc.ascii_is_decimal(values)):
        return None  # a cast to an integer takes hexadecimals
    try:
        cast = pc.cast(values, wanted.arrow)
    except pa.ArrowInvalid:
        return None
    return None if has_overflowed(cast) else cast


def convert(values: pa.Array, wanted: CanonicalType, formats: TextFormats) -> Converted:
    """Converts UTF-8 strings to ``wanted``.

    For all types but texts and bytes, space around a value is dropped and NULL words are NULL, quoted or not.
    """
    if wanted.name not in ("text", "json", "binary"):
        if (at_once := _cast_at_once(values, wanted, formats)) is not None:
            return Converted(at_once, np.zeros(len(values), np.bool_))
        values = pc.utf8_trim_whitespace(values)
        nulls = pc.is_in(values, pa.array(formats.nulls or ("",)))
        if as_mask(nulls).any():
            values = pc.if_else(nulls, pa.scalar(None, values.type), values)
    return convert_plain(values, wanted, formats)


def convert_plain(values: pa.Array, wanted: CanonicalType, formats: TextFormats) -> Converted:
    """As ``convert``, for values that are known to have no space around them and to be no NULL words."""
    if formats.numbers_as and wanted.name in MOMENTS:
        return _numbers_or_moments(values, wanted, formats)
    return _CONVERTERS[wanted.name](values, wanted, formats)


def _numbers_or_moments(values: pa.Array, wanted: CanonicalType, formats: TextFormats) -> Converted:
    """Texts of numbers as the moments that the layout says they are; others as they are written."""
    numbers = pc.match_substring_regex(values, r"^[+-]?[0-9]+(?:\.[0-9]+)?$")
    if not as_mask(numbers).any():
        return _CONVERTERS[wanted.name](values, wanted, formats)
    counted = try_cast(pc.if_else(numbers, values, pa.scalar(None, values.type)), pa.decimal128(38, 9))
    moments = moments_of(counted.array, wanted, formats.numbers_as)
    others = _CONVERTERS[wanted.name](pc.if_else(numbers, pa.scalar(None, values.type), values), wanted, formats)
    array = pc.if_else(pc.fill_null(numbers, False), moments.array, others.array)
    return Converted(array, counted.failed | moments.failed | others.failed)
