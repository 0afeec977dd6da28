"""Why a text does not convert to a type, in words for the user."""

from __future__ import annotations

import functools
import re

import pyarrow as pa
import pyarrow.compute as pc

from ultravect.core.types.canonical import CanonicalType
from ultravect.core.types.from_text import convert
from ultravect.core.types.numbers_from_text import NUMBER
from ultravect.core.types.text_formats import TextFormats
from ultravect.core.words import counted

_SPAN = {"smallint": "-32768 to 32767", "integer": "-2147483648 to 2147483647", "bigint": "64 bits"}
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
            if re.fullmatch(r"[+-]?\d{1,3}\.000", value.strip()):
                return "a whole number, or thousands with a mark between them"
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
            matches = pc.match_substring_regex(pa.array([value.strip()]), f"^{NUMBER}(?:[eE][+-]?[0-9]+)?$")
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
