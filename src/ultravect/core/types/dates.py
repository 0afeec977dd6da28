"""Dates as text: patterns such as DD.MM.YYYY, how a value is brought from one to ISO form, and clocks of 12 hours.

Two-digit years are those of POSIX: 69 to 99 are 1969 to 1999, 00 to 68 are 2000 to 2068. Months are named in English.
"""

from __future__ import annotations

import functools
import re

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ultravect.core.model.date_patterns import PARTS, pieces

ISO_DATE = "YYYY-MM-DD"
_MONTHS = (
    "january", "february", "march", "april", "may", "june",
    "july", "august", "september", "october", "november", "december",
)  # fmt: skip
_SHORT = tuple(name[:3] for name in _MONTHS)
_FORMS = {  # an expression for each part, and one for its shape
    "YYYY": (r"[0-9]{4}", "0000"),
    "YY": (r"[0-9]{2}", "00"),
    "MONTH": (f"(?i:{'|'.join(_MONTHS)})", "a{3,9}"),
    "MON": (rf"(?i:{'|'.join(_SHORT)})", "a{3}"),
    "MM": (r"[0-9]{2}", "00"),
    "M": (r"[0-9]{1,2}", "00?"),
    "DD": (r"[0-9]{2}", "00"),
    "D": (r"[0-9]{1,2}", "00?"),
}
# What is tried when the layout names no pattern: of those with one order of the parts, the strictest first.
DATE_PATTERNS = (
    ISO_DATE, "DD.MM.YYYY", "YYYY/MM/DD", "DD/MM/YYYY", "MM/DD/YYYY", "DD-MM-YYYY", "MM-DD-YYYY", "YYYY.MM.DD",
    "D.M.YYYY", "D/M/YYYY", "M/D/YYYY", "D-M-YYYY", "M-D-YYYY", "YYYY-M-D", "YYYY/M/D",
    "D MON YYYY", "D-MON-YYYY", "MON D, YYYY", "MON D YYYY", "D MONTH YYYY", "MONTH D, YYYY", "YYYY-MON-D",
    "DDMONYYYY", "D.M.YY", "D/M/YY", "M/D/YY", "D-MON-YY", "D MON YY",
)  # fmt: skip
_HALF = r"[AaPp]\.?[Mm]\.?"
CLOCK = r"[0-9]{2}:[0-9]{2}(?::[0-9]{2}(?:\.[0-9]{1,6})?)?"
HOUR = r"[0-9]{2}(?::[0-9]{2}(?::[0-9]{2}(?:\.[0-9]{1,6})?)?)?"
_UNEVEN = rf"(^|[ T])[0-9](:| ?{_HALF})|[0-9] ?{_HALF}"
_SPLIT = (
    r"^(?P<before>(?:.*[ T])?)(?P<hour>[0-9]{1,2})(?P<rest>(?::[0-9]{2}(?::[0-9]{2}(?:\.[0-9]+)?)?)?) ?"
    rf"(?P<half>(?:{_HALF})?)(?P<zone>(?:[Zz]|[+-][0-9:]+)?)$"
)


@functools.lru_cache
def date_regex(pattern: str) -> str:
    """An RE2 expression for ``pattern`` with the groups year, month and day, not anchored."""
    return "".join(
        re.escape(before) + (f"(?P<{PARTS[part]}>{_FORMS[part][0]})" if part else "")
        for before, part in pieces(pattern)
    )


def date_shape(pattern: str) -> str:
    """The same for values whose digits have become 0 and whose letters have become a, without groups."""
    return "".join(re.escape(before) + (_FORMS[part][1] if part else "") for before, part in pieces(pattern))


def even_clock(values: pa.Array) -> pa.Array:
    """Texts that end in a time of day with its hour in two digits, of 24; NULL where there is no such hour."""
    uneven = pc.match_substring_regex(values, _UNEVEN)
    if not pc.any(uneven, min_count=0).as_py():
        return values
    parts = pc.extract_regex(values, _SPLIT)
    before, hour, rest, half, zone = (
        pc.struct_field(parts, item) for item in ("before", "hour", "rest", "half", "zone")
    )
    number = pc.cast(hour, pa.int32())
    has_half = pc.greater(pc.binary_length(half), 0)
    sure = pc.or_(pc.invert(has_half), pc.and_(pc.greater_equal(number, 1), pc.less_equal(number, 12)))
    noon = pc.if_else(pc.equal(number, 12), 0, number)
    late = pc.starts_with(pc.utf8_lower(half), "p")
    number = pc.if_else(has_half, pc.if_else(late, pc.add(noon, 12), noon), number)
    two = pc.utf8_lpad(pc.cast(number, pa.string()), 2, "0")
    minutes = pc.if_else(pc.and_(has_half, pc.equal(rest, "")), ":00", rest)
    even = pc.binary_join_element_wise(before, two, minutes, zone, "")
    even = pc.if_else(sure, even, pa.scalar(None, even.type))
    return pc.if_else(pc.fill_null(uneven, False), even, values)


def iso_dates(values: pa.Array, pattern: str, rest: str = "") -> pa.Array:
    """Rewrites dates of ``pattern`` (with ``rest`` after them) as ISO dates; others become NULL."""
    if pattern == ISO_DATE:
        return values
    if not rest and (moved := _at_once(values, pattern)) is not None:
        return moved
    parts = pc.extract_regex(values, f"^{date_regex(pattern)}(?P<rest>{rest})$")
    year, month, day, after = (pc.struct_field(parts, name) for name in ("year", "month", "day", "rest"))
    if "YYYY" not in pattern:
        year = pc.binary_join_element_wise(pc.if_else(pc.greater_equal(year, "69"), "19", "20"), year, "")
    if "MON" in pattern:
        names = pc.utf8_slice_codeunits(pc.utf8_lower(month), 0, 3)
        month = pc.cast(pc.add(pc.index_in(names, pa.array(_SHORT)), 1), pa.string())
    date = pc.binary_join_element_wise(year, pc.utf8_lpad(month, 2, "0"), pc.utf8_lpad(day, 2, "0"), "-")
    return pc.binary_join_element_wise(date, after, "")


def possible_days(iso: pa.Array) -> pa.Array:
    """ISO dates without those of a thirteenth month or a thirty-second day, of which a file with day and month in the other
    order has many: to a cast, each of them is one to be looked for."""
    month, day = pc.utf8_slice_codeunits(iso, 5, 7), pc.utf8_slice_codeunits(iso, 8, 10)
    impossible = pc.or_(pc.greater(month, "12"), pc.greater(day, "31"))
    if not pc.any(impossible, min_count=0).as_py():
        return iso
    return pc.if_else(pc.fill_null(impossible, False), pa.scalar(None, iso.type), iso)


def _at_once(values: pa.Array, pattern: str) -> pa.Array | None:
    """The same for values that all have the length of the pattern and its marks in their places; otherwise None."""
    length = len(pattern)
    places = [pattern.find(token) for token in ("YYYY", "MM", "DD")]
    if length != 10 or min(places) < 0 or not len(values):
        return None
    filled = pc.fill_null(values, " " * length) if values.null_count else values
    span = pc.min_max(pc.binary_length(filled)).as_py()
    if span != {"min": length, "max": length}:
        return None
    start = filled.offset
    offsets = np.frombuffer(filled.buffers()[1], np.int32, len(filled) + 1, start * 4)
    text = np.frombuffer(filled.buffers()[2], np.uint8, len(filled) * length, int(offsets[0])).reshape(-1, length)
    marks = [place for place, character in enumerate(pattern) if character not in "YMD"]
    present = slice(None) if not values.null_count else values.is_valid().to_numpy(zero_copy_only=False)
    if any((text[present, place] != ord(pattern[place])).any() for place in marks):
        return None
    year, month, day = places
    iso = np.full((len(filled), length), ord("-"), np.uint8)
    iso[:, 0:4], iso[:, 5:7], iso[:, 8:10] = (
        text[:, year : year + 4],
        text[:, month : month + 2],
        text[:, day : day + 2],
    )
    ends = np.arange(0, iso.size + 1, length, dtype=np.int32)
    moved = pa.StringArray.from_buffers(len(filled), pa.py_buffer(ends), pa.py_buffer(iso))
    return pc.if_else(values.is_valid(), moved, pa.scalar(None, pa.string())) if values.null_count else moved
