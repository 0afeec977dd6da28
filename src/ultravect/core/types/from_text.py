"""Converts text to canonical types by array kernels, with a mask of the values that do not convert.

A pattern sorts out what cannot be the type; the rest is cast in one call. Where that call fails, the values are
halved until the bad ones stand alone, so that the cost follows the number of bad values, not of rows.
"""

from __future__ import annotations

import decimal
import functools
import re
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from ultravect.core.types.canonical import CanonicalType
from ultravect.core.types.dates import CLOCK, HOUR, ISO_DATE, even_clock, iso_dates, possible_days
from ultravect.core.types.overflow import has_overflowed
from ultravect.core.types.text_formats import TextFormats
from ultravect.core.words import counted

Mask = npt.NDArray[np.bool_]

_NUMBER = r"[+-]?(?:[0-9]+(?:\.[0-9]*)?|\.[0-9]+)"
_SPECIAL = r"[+-]?(?i:nan|inf|infinity)"
_ZONE = r"(?:[Zz]|[+-][0-9]{2}(?::?[0-9]{2})?)"
_HEX = r"^(?:[0-9A-Fa-f]{2})*$"
_UUID = r"[0-9a-fA-F]{8}-?(?:[0-9a-fA-F]{4}-?){3}[0-9a-fA-F]{12}"
_SPAN = {"smallint": "-32768 to 32767", "integer": "-2147483648 to 2147483647", "bigint": "64 bits"}


_MOST_PLACES = 80


@dataclass(frozen=True)
class Converted:
    """``array`` has NULL where ``failed`` is true."""

    array: pa.Array
    failed: Mask


def as_mask(mask: pa.BooleanArray) -> Mask:
    """An Arrow mask as numpy; NULL counts as false."""
    return np.asarray(mask.fill_null(False).to_numpy(zero_copy_only=False), dtype=np.bool_)


def try_cast(values: pa.Array, target: pa.DataType) -> Converted:
    """Casts what can be cast, halving on failure."""
    try:
        return Converted(pc.cast(values, target), np.zeros(len(values), dtype=np.bool_))
    except (pa.ArrowInvalid, pa.ArrowNotImplementedError):
        if len(values) == 1:
            return Converted(pa.nulls(1, target), np.ones(1, dtype=np.bool_))
    half = len(values) // 2
    left, right = try_cast(values.slice(0, half), target), try_cast(values.slice(half), target)
    return Converted(pa.concat_arrays([left.array, right.array]), np.concatenate([left.failed, right.failed]))


def _all(mask: pa.Array) -> bool:
    return bool(pc.all(mask, min_count=0).as_py())


def _cast_matching(values: pa.Array, regex: str, target: pa.DataType) -> Converted:
    """Casts the values that match ``regex`` as a whole; the others have failed."""
    if not (pa.types.is_integer(target) or pa.types.is_string(target)):
        # what these casts take, the patterns take too, so there is no need to look when all goes well; a cast to an
        # integer takes hexadecimals, and one to a string takes anything
        with suppress(pa.ArrowInvalid):
            return Converted(pc.cast(values, target), np.zeros(len(values), dtype=np.bool_))
    matching = pc.match_substring_regex(values, f"^(?:{regex})$")
    misfits = as_mask(pc.invert(matching))
    if misfits.any():
        values = pc.if_else(matching, values, pa.scalar(None, values.type))
    cast = try_cast(values, target)
    return Converted(cast.array, cast.failed | misfits)


def _without_signs(values: pa.Array, signs: tuple[str, ...]) -> pa.Array:
    any_sign = "|".join(re.escape(sign) for sign in signs)
    if not pc.any(pc.match_substring_regex(values, any_sign), min_count=0).as_py():
        return values
    values = pc.replace_substring_regex(values, rf"^([+-]?)(?:{any_sign})\s*([+-]?)([0-9.,])", r"\1\2\3")
    return pc.replace_substring_regex(values, rf"([0-9.,])\s*(?:{any_sign})$", r"\1")


def _plain_number(values: pa.Array, formats: TextFormats) -> pa.Array:
    if formats.signs:
        values = _without_signs(values, formats.signs)
    if formats.thousands:
        mark, point = re.escape(formats.thousands), re.escape(formats.decimal_mark)
        grouped = pc.match_substring_regex(values, rf"^[+-]?[0-9]{{1,3}}(?:{mark}[0-9]{{3}})+(?:{point}[0-9]*)?$")
        if as_mask(grouped).any():
            values = pc.if_else(grouped, pc.replace_substring(values, formats.thousands, ""), values)
    if formats.decimal_mark != ".":
        # a point in such a file is no decimal mark; it must not pass as one
        values = pc.replace_substring(values, ".", "\N{NO-BREAK SPACE}")
        values = pc.replace_substring(values, formats.decimal_mark, ".")
    if as_mask(pc.starts_with(values, "+")).any():
        values = pc.replace_substring_regex(values, r"^\+", "")
    return values


def _integer(values: pa.Array, wanted: CanonicalType, formats: TextFormats) -> Converted:
    if _all(pc.ascii_is_decimal(values)):
        return try_cast(values, wanted.arrow)
    return _cast_matching(_plain_number(values, formats), r"-?[0-9]+", wanted.arrow)


def without_exponents(values: pa.Array) -> pa.Array:
    """Numbers with exponents as plain ones, before they are cast to decimals: there, the library loses small ones without a
    word, and crashes on exponents without end. Those beyond any decimal become a word that is no number."""
    mask = pc.match_substring_regex(values, r"^[+-]?[0-9.]+[eE]")
    found = as_mask(mask)
    if not found.any():
        return values
    plain = pa.array([_plain_decimal(text) for text in values.filter(pa.array(found)).to_pylist()], values.type)
    return pc.replace_with_mask(values, pa.array(found), plain)


def _plain_decimal(text: str) -> str:
    try:
        number = decimal.Decimal(text)
    except decimal.InvalidOperation:
        return text
    beyond = not number.is_finite() or abs(number.adjusted()) > _MOST_PLACES or len(number.as_tuple().digits) > 80
    return "beyond" if beyond and number else format(number.normalize() if number else decimal.Decimal(0), "f")


def _decimal(values: pa.Array, wanted: CanonicalType, formats: TextFormats) -> Converted:
    plain = _plain_number(values, formats)
    if wanted.precision is not None:
        plain = without_exponents(plain)
    if wanted.precision is None:
        return _cast_matching(plain, _NUMBER + r"(?:[eE][+-]?[0-9]{1,3})?", pa.string())
    has_zeros = pc.match_substring_regex(plain, r"\.[0-9]*0$")
    if as_mask(has_zeros).any():
        # 1.500 fits two decimals: zeros at the end carry nothing; .0 has to keep one
        whole = pc.replace_substring_regex(plain, r"^([+-]?)\.", r"\10.")
        plain = pc.if_else(has_zeros, pc.replace_substring_regex(whole, r"\.?0+$", ""), plain)
    with suppress(pa.ArrowInvalid):
        return Converted(pc.cast(plain, wanted.arrow), np.zeros(len(plain), dtype=np.bool_))
    # where digits are too many for many values, halving would look at each of them alone
    scale = wanted.scale or 0
    before = max(wanted.precision - scale, 0)
    too_long = as_mask(pc.match_substring_regex(plain, rf"\.[0-9]{{{scale + 1}}}|^[+-]?0*[1-9][0-9]{{{before}}}"))
    if too_long.any():
        plain = pc.if_else(pa.array(too_long), pa.scalar(None, plain.type), plain)
    cast = _cast_matching(plain, _NUMBER + r"(?:[eE][+-]?[0-9]{1,3})?", wanted.arrow)
    return Converted(cast.array, cast.failed | too_long)


def _floating(values: pa.Array, wanted: CanonicalType, formats: TextFormats) -> Converted:
    plain = _plain_number(values, formats)
    cast = _cast_matching(plain, _NUMBER + r"(?:[eE][+-]?[0-9]+)?|" + _SPECIAL, wanted.arrow)
    infinite = pc.is_inf(cast.array)
    if not as_mask(infinite).any():
        return cast
    # infinite is what was written so, not what is too large to hold
    overflow = pc.and_(infinite, pc.invert(pc.match_substring_regex(plain, f"^(?:{_SPECIAL})$")))
    array = pc.if_else(overflow, pa.scalar(None, wanted.arrow), cast.array)
    return Converted(array, cast.failed | as_mask(overflow))


def _boolean(values: pa.Array, wanted: CanonicalType, formats: TextFormats) -> Converted:
    lowered = pc.utf8_lower(values)
    true = pc.is_in(lowered, pa.array([word.lower() for word in formats.true_words]))
    false = pc.is_in(lowered, pa.array([word.lower() for word in formats.false_words]))
    known = pc.or_(true, false)
    present = values.is_valid()
    array = pc.if_else(pc.and_(known, present), true, pa.scalar(None, pa.bool_()))
    return Converted(array, as_mask(pc.and_(pc.invert(known), present)))


def _dated(values: pa.Array, rest: str, target: pa.DataType, formats: TextFormats) -> Converted:
    present = values.is_valid()
    if rest:
        if formats.date_pattern == ISO_DATE:
            with suppress(pa.ArrowInvalid):
                return Converted(pc.cast(values, target), np.zeros(len(values), dtype=np.bool_))
        values = even_clock(values)
    iso = possible_days(iso_dates(values, formats.date_pattern, rest))
    lost = as_mask(pc.and_(iso.is_null(), present))
    cast = _cast_matching(iso, r"[0-9]{4}-[0-9]{2}-[0-9]{2}" + rest, target)
    return Converted(cast.array, cast.failed | lost)


def _date(values: pa.Array, wanted: CanonicalType, formats: TextFormats) -> Converted:
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
    clocks = even_clock(values)
    lost = as_mask(pc.and_(clocks.is_null(), values.is_valid()))
    moments = pc.binary_join_element_wise(pa.scalar("1970-01-01"), clocks, " ")
    cast = _cast_matching(moments, r"1970-01-01 " + CLOCK, pa.timestamp("us"))
    return Converted(cast.array.cast(wanted.arrow), cast.failed | lost)


def _uuid(values: pa.Array, wanted: CanonicalType, formats: TextFormats) -> Converted:
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


_CAST = frozenset(["smallint", "integer", "bigint", "decimal", "real", "double", "date", "timestamp", "timestamptz"])
_CONVERTERS: dict[str, Callable[[pa.Array, CanonicalType, TextFormats], Converted]] = {
    "boolean": _boolean,
    "smallint": _integer,
    "integer": _integer,
    "bigint": _integer,
    "decimal": _decimal,
    "real": _floating,
    "double": _floating,
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
    if wanted.name in _SPAN and not _all(pc.ascii_is_decimal(values)):
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
    return _CONVERTERS[wanted.name](values, wanted, formats)


_FINER = re.compile(r":[0-9]{2}\.[0-9]{7,}")


@functools.lru_cache(maxsize=10_000)  # the same mistakes come again and again
def explain(value: str, wanted: CanonicalType, formats: TextFormats) -> str:
    """Why ``value`` does not convert to ``wanted``, for one value that has failed."""

    def fits(name: str, **arguments: int) -> bool:
        return not convert(pa.array([value]), CanonicalType(name, **arguments), formats).failed[0]

    if wanted.name in ("date", "timestamp", "timestamptz"):
        if value.strip().lower().lstrip("+-") == "infinity":
            return f"infinite, which no {wanted.name} of others can be"
        if value.rstrip(" )").endswith("BC"):
            return "before the year 1"
        if _FINER.search(value):
            return "more than 6 fractional digits of seconds"
    match wanted.name:
        case "smallint" | "integer" | "bigint":
            if fits("decimal", precision=38, scale=0):
                return f"out of range for {wanted}: {_SPAN[wanted.name]}"
            return "not a whole number" if fits("double") else "not a number"
        case "decimal":
            if value.strip().lower().lstrip("+-") in ("nan", "inf", "infinity"):
                return "no finite number, which a decimal has to be"
            if fits("decimal", precision=38, scale=wanted.scale or 0):
                room = (wanted.precision or 38) - (wanted.scale or 0)
                return f"out of range for {wanted}: more than {room} digits before the decimal mark"
            if fits("decimal", precision=38, scale=18) or fits("double"):
                return f"more than {counted(wanted.scale or 0, 'decimal')}"
            return "not a number"
        case "real" | "double":
            matches = pc.match_substring_regex(pa.array([value.strip()]), f"^{_NUMBER}(?:[eE][+-]?[0-9]+)?$")
            return f"out of range for {wanted}" if matches[0].as_py() else "not a number"
        case "boolean":
            return f"not one of {', '.join((*formats.true_words, *formats.false_words))}"
        case "date":
            return f"not a date written as {formats.date_pattern}, or no such day"
        case "time":
            return "not a time of day written as HH:MM:SS"
        case "timestamp":
            if fits("timestamptz"):
                return "has a time zone, which a timestamp without zone would lose"
            return f"not a timestamp written as {formats.date_pattern} HH:MM:SS, or no such moment"
        case "timestamptz":
            if fits("timestamp") and formats.time_zone:
                return f"falls into an hour that the clocks of {formats.time_zone} skip or repeat"
            if fits("timestamp"):
                return "has no time zone (such as Z or +01:00), so its moment is not known"
            return f"not a timestamp with zone, written as {formats.date_pattern} HH:MM:SS+00:00"
        case "binary":
            return "not bytes written as pairs of hexadecimal digits"
        case _:
            return f"not a value of type {wanted}"
