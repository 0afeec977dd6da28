"""Dates and times as other programs write them, brought to the forms that are read; and numbers that stand for moments.

Only what loses nothing is rewritten: names of months in other languages, fractions of seconds whose further digits are zeros, a zone's name
after its offset, times without colons.
"""

from __future__ import annotations

import functools
import re
from decimal import Decimal
from typing import Literal

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ultravect.core.types.canonical import CanonicalType
from ultravect.core.types.casting import Converted, as_mask, try_cast

NumbersAs = Literal["epoch_s", "epoch_ms", "epoch_us", "excel_days"]
"""What a number means where a moment is wanted: units since 1970-01-01 in UTC, or days since 1899-12-30, as spreadsheets count them."""

_MONTHS = {
    "Jan": "januar janvier enero gennaio janeiro januari jänner janv ene gen styczeń stycznia ledna január",
    "Feb": "februar février fevrier febrero febbraio fevereiro februari févr fév fev luty lutego února",
    "Mar": "märz maerz mars marzo março marco maart mär mrz marzec marca března",
    "Apr": "avril abril aprile avr abr kwiecień kwietnia dubna april",
    "May": "mai mayo maggio maio mei mag maj maja května",
    "Jun": "juni juin junio giugno junho giu czerwiec czerwca června",
    "Jul": "juli juillet julio luglio julho juil lug lipiec lipca července",
    "Aug": "august août aout agosto augustus ago sierpień sierpnia srpna",
    "Sep": "september septembre septiembre settembre setembro sept set wrzesień września září",
    "Oct": "oktober octobre octubre ottobre outubro okt ott out październik października října",
    "Nov": "november novembre noviembre novembro listopad listopada listopadu",
    "Dec": "dezember décembre decembre diciembre dicembre dezembro december déc dez dic grudzień grudnia prosince",
}
_LETTERS = r"\p{L}{3,}"
_FINER = r"(:[0-9]{2}[.,][0-9]{6})0+"
_COMMA = r"(:[0-9]{2}),([0-9])"
_ZONE_NAME = r"((?:[Zz]|[+-][0-9]{2}(?::?[0-9]{2})?))\[[A-Za-z_/+-]+\]$"
# of mails and logs: a day of the week first, the year last; of a database whose clocks have points
_WEEKDAY = r"^(?i:mon|tue|wed|thu|fri|sat|sun)[a-z]*,? +"
_YEAR_LAST = r"^(\p{L}{3}) +([0-9]{1,2}) ([0-9]{2}:[0-9]{2}:[0-9]{2}) ([0-9]{4})$"
_YEAR_LAST_UTC = r"^(\p{L}{3}) +([0-9]{1,2}) ([0-9]{2}:[0-9]{2}:[0-9]{2}) (?:UTC|GMT) ([0-9]{4})$"
_OF_LOGS = r"^([0-9]{1,2})/(\p{L}{3})/([0-9]{4}):([0-9]{2}:[0-9]{2}:[0-9]{2})"
_POINTS = r" ([0-9]{1,2})\.([0-9]{2})\.([0-9]{2})"
_OTHER_ORDER = r"^\p{L}{3,}|^[0-9]+/\p{L}|[0-9] +[+-][0-9]{2}:?[0-9]{2}$| [0-9]{1,2}\.[0-9]{2}\.[0-9]{2}"
_NAMED_UTC = r" ?(?:UTC|GMT)$"
_COMPACT = r"^([0-9]{4})([0-9]{2})([0-9]{2})[T ]?([0-9]{2})([0-9]{2})([0-9]{2})"
_DAY_US = 86_400 * 10**6
_FIRST_TICK, _LAST_TICK = -62_135_596_800_000_000, 253_402_300_799_999_999  # of the years 1 to 9999
_EXCEL_DAYS = 25_569  # from 1899-12-30 to 1970-01-01


@functools.cache
def _months() -> tuple[tuple[str, str], ...]:
    """An expression for the names of each month in other languages, with its short name in English."""
    return tuple(
        (rf"(?i)(^|[^\p{{L}}])(?:{'|'.join(sorted(names.split(), key=len, reverse=True))})\.?([^\p{{L}}]|$)", short)
        for short, names in _MONTHS.items()
    )


def plain_moments(values: pa.Array, pattern: str = "YYYY-MM-DD") -> pa.Array:
    """Texts of dates and times without what other programs write otherwise, as far as nothing is lost by it; ``pattern``: that of the dates."""
    if _any(values, r"[.,][0-9]{7}|,[0-9]|\]$|(?:UTC|GMT)$"):
        values = pc.replace_substring_regex(values, _FINER, r"\1")
        values = pc.replace_substring_regex(values, _COMMA, r"\1.\2")
        values = pc.replace_substring_regex(values, _ZONE_NAME, r"\1")
        values = pc.replace_substring_regex(values, _NAMED_UTC, "Z")
    if _any(values, _COMPACT + r"(?:[.Zz+-]|$)"):
        date = r"\1\2\3" if pattern == "YYYYMMDD" else r"\1-\2-\3"
        values = pc.replace_substring_regex(values, _COMPACT, rf"{date} \4:\5:\6")
    if _any(values, _OTHER_ORDER):
        values = pc.replace_substring_regex(values, _WEEKDAY, "")
        values = pc.replace_substring_regex(values, _YEAR_LAST_UTC, r"\2 \1 \4 \3Z")
        values = pc.replace_substring_regex(values, _YEAR_LAST, r"\2 \1 \4 \3")
        values = pc.replace_substring_regex(values, _OF_LOGS, r"\1 \2 \3 \4")
        values = pc.replace_substring_regex(values, _POINTS, r" \1:\2:\3")
        values = pc.replace_substring_regex(values, _FINER, r"\1")
        values = pc.replace_substring_regex(values, r"([0-9]) +([+-][0-9]{2}:?[0-9]{2})$", r"\1\2")
    if _any(values, _LETTERS):
        for names, short in _months():
            values = pc.replace_substring_regex(values, names, rf"\1{short}\2")
        values = pc.replace_substring_regex(
            values, r"^([0-9]{1,2})(?:\.|er|º|st|nd|rd|th)? (?:de )?(\p{L}{3,})\.?(?: de)? ([0-9]{4})", r"\1 \2 \3"
        )
    return values


def _any(values: pa.Array, regex: str) -> bool:
    return bool(pc.any(pc.match_substring_regex(values, regex), min_count=0).as_py())


def moments_of(numbers: pa.Array, wanted: CanonicalType, numbers_as: NumbersAs | None) -> Converted:
    """Numbers as moments, dates or times of day; without ``numbers_as`` none of them is one. What does not come out whole has failed."""
    nothing = Converted(pa.nulls(len(numbers), wanted.arrow), as_mask(numbers.is_valid()))
    if numbers_as is None:
        return nothing
    if numbers_as == "excel_days":
        days = pc.cast(numbers, pa.float64())
        days = pc.if_else(pc.less(pc.abs(days), 3_000_000.0), days, pa.scalar(None, pa.float64()))
        since = pc.subtract(days, float(0 if wanted.name == "time" else _EXCEL_DAYS))
        # a day in binary has its seconds in it only about: to the millisecond they are exact
        ticks = pc.multiply(pc.cast(pc.round(pc.multiply(since, 86_400_000.0)), pa.int64()), 1000)
    else:
        scale = {"epoch_s": 10**6, "epoch_ms": 10**3, "epoch_us": 1}[numbers_as]
        exact = try_cast(numbers, pa.decimal128(25, 6)).array
        scaled = pc.multiply(exact, pa.scalar(Decimal(scale), pa.decimal128(7, 0)))
        ticks = try_cast(try_cast(scaled, pa.decimal128(33, 0)).array, pa.int64()).array
    return _from_ticks(numbers, ticks, wanted)


def _from_ticks(numbers: pa.Array, ticks: pa.Array, wanted: CanonicalType) -> Converted:
    """``ticks``: microseconds since 1970 or, of a time of day, since midnight."""
    known = pc.and_(pc.greater_equal(ticks, _FIRST_TICK), pc.less_equal(ticks, _LAST_TICK))
    ticks = pc.if_else(known, ticks, pa.scalar(None, pa.int64()))
    if wanted.name == "time":
        sure = pc.and_(pc.greater_equal(ticks, 0), pc.less(ticks, _DAY_US))
        array = pc.if_else(sure, ticks, pa.scalar(None, pa.int64())).cast(pa.time64("us"))
    elif wanted.name == "date":
        days = pc.floor(pc.divide(pc.cast(ticks, pa.float64()), float(_DAY_US)))
        whole = pc.equal(pc.multiply(pc.cast(days, pa.int64()), _DAY_US), ticks)
        array = pc.if_else(whole, pc.cast(days, pa.int32()), pa.scalar(None, pa.int32())).cast(pa.date32())
    else:
        array = ticks.cast(pa.timestamp("us"))
        array = array.cast(wanted.arrow) if wanted.name == "timestamp" else array.view(wanted.arrow)
    failed = np.asarray(as_mask(numbers.is_valid())) & ~as_mask(array.is_valid())
    return Converted(array.cast(wanted.arrow), failed)


_DIGITS = re.compile(r"[+-]?[0-9]+(?:\.[0-9]+)?")


def reading_of(low: str, high: str) -> tuple[NumbersAs, str] | None:
    """What numbers from ``low`` to ``high`` most likely count, with the moments that they are then; None where they look like none.

    Moments of 1980 to 2100 are likely; days of a spreadsheet from 1980 on.
    """
    if not (_DIGITS.fullmatch(low) and _DIGITS.fullmatch(high)):
        return None
    first, last = float(low), float(high)
    for kind, unit, least, most in (
        ("epoch_s", "seconds since 1970", 315_532_800, 4_102_444_800),
        ("epoch_ms", "milliseconds since 1970", 315_532_800e3, 4_102_444_800e3),
        ("epoch_us", "microseconds since 1970", 315_532_800e6, 4_102_444_800e6),
        ("excel_days", "days of a spreadsheet", 29_221, 73_051),
    ):
        if least <= first and last <= most:
            shown = moments_of(pa.array([first, last]), CanonicalType("timestamp"), kind).array  # type: ignore[arg-type]
            days = [str(item)[:10] for item in shown.to_pylist()]
            return kind, f"as {unit} these are {days[0]} to {days[1]}"  # type: ignore[return-value]
    return None
