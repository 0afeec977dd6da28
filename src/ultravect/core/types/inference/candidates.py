"""The ways in which a column of text may be read, and which of them a value's look allows at all."""

from __future__ import annotations

import datetime as dt
import functools
import math
import re
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from typing import Any

from ultravect.core.types.canonical import CanonicalType
from ultravect.core.types.dates import date_shape
from ultravect.core.types.text_formats import TextFormats

# digits become 0 and letters a: values of one shape can be read in the same ways
_SHAPE = {
    **{ord(item): "0" for item in "123456789"},
    **{ord(item): "a" for item in "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ"},
}
_SPECIAL = re.compile(r"[+-]?(nan|inf|infinity)", re.IGNORECASE)
_NUMBER = re.compile(r"[+-]?[0.,][0.,'’ \u00a0_]*(a[+-]?0+)?")
_CLOCK = re.compile(r"00?:00(:00(\.0+)?)?( ?a\.?a\.?)?")
_UUID = re.compile(r"[0a]{8}-[0a]{4}-[0a]{4}-[0a]{4}-[0a]{12}")
_SIGNED = re.compile(r"[+-]?(?P<before>[$€£¥₹])\s*[+-]?0[0.,']*|[+-]?0[0.,']*\s*(?P<after>[$€£¥₹%])")
_GROUPED = re.compile(r"[+-]?00?0?(,000)+(\.0*)?")
_MOST_SHAPED = 80  # a longer value is text
WORDS_FOR_NULL = frozenset(
    ["NA", "N/A", "n/a", "na", "#N/A", "#NA", "null", "NULL", "Null", "None", "none", "nil", "NIL", "\\N", "-", "--", "?", ".",
     "..", "...", "*", "missing", "Missing", "(null)", "<NA>", "n.a.", "N.A.", "#DIV/0!", "#VALUE!", "#REF!", "#NAME?", "#NUM!",
     "#NULL!", "unknown", "Unknown"]
)  # fmt: skip


@dataclass
class Candidate:
    """One way to read a column, with how many values agree and the first that do not.

    ``proposes`` is what the layout's ``values`` would have to say for it, where they do not say it.
    """

    type: CanonicalType
    label: str
    formats: TextFormats
    pattern: str | None = None
    narrower: Candidate | None = None
    proposes: dict[str, Any] | None = None
    matched: int = 0
    misfits: int = 0
    exceptions: list[tuple[int, str]] = field(default_factory=list)
    low: Any = None
    high: Any = None

    def include(self, low: Any, high: Any) -> None:
        """Widens the span of values seen; a narrower type's values are brought to this type first."""
        if low is None:
            return
        if self.type.name == "double":
            low, high = float(low), float(high)
            if math.isnan(low):
                return  # all of them were no numbers
        elif self.type.name == "timestamp" and not isinstance(low, dt.datetime):
            low, high = (dt.datetime.combine(day, dt.time()) for day in (low, high))
        self.low = low if self.low is None else min(low, self.low)
        self.high = high if self.high is None else max(high, self.high)


@functools.lru_cache(64)
def _dated(patterns: tuple[str, ...]) -> list[tuple[re.Pattern[str], re.Pattern[str], str]]:
    """For each pattern: the shape of a date alone, and of one with a time of day."""
    return [
        (
            re.compile(date_shape(pattern)),
            re.compile(date_shape(pattern) + r"[ a]00?[: a].*|" + date_shape(pattern) + r"[ a]00"),
            pattern,
        )
        for pattern in patterns
    ]


@functools.lru_cache(20_000)
def _ways(shape: str, patterns: tuple[str, ...]) -> frozenset[str]:
    found = set()
    if _NUMBER.fullmatch(shape):
        found.add("number")
        if _GROUPED.fullmatch(shape):
            found.add("grouped")
    if _CLOCK.fullmatch(shape):
        found.add("time")
    if _UUID.fullmatch(shape):
        found.add("uuid")
    if sign := _SIGNED.fullmatch(shape):
        found.add("sign " + (sign["before"] or sign["after"]))
    for alone, timed, pattern in _dated(patterns):
        if alone.fullmatch(shape):
            found.add("dated " + pattern)
        elif timed.fullmatch(shape):
            found |= {"dated " + pattern, "timed " + pattern}
    return frozenset(found)


def ways_of(values: Sequence[str], formats: TextFormats, patterns: tuple[str, ...]) -> set[str]:
    """In which ways some of these values may be read; a way that is not named none of them allows."""
    found: set[str] = set()
    words = _boolean_words(formats)
    for value in values:
        if len(value) > _MOST_SHAPED:
            continue
        found |= _ways(value.translate(_SHAPE), patterns)
        if value.lower() in words:
            found.add("boolean")
        elif _SPECIAL.fullmatch(value) or formats.signs or (formats.thousands and formats.thousands in value):
            found.add("number")
    return found


@functools.lru_cache(64)
def _boolean_words(formats: TextFormats) -> frozenset[str]:
    return frozenset(word.lower() for word in (*formats.true_words, *formats.false_words))


def candidates_of(ways: set[str], formats: TextFormats, patterns: tuple[str, ...]) -> list[Candidate]:
    """The narrowest first; those that propose something last."""
    found = []
    if "boolean" in ways:
        found.append(Candidate(CanonicalType("boolean"), "words for true and false", formats))
    if "number" in ways:
        found += _numbers(formats)
    if "time" in ways:
        found.append(Candidate(CanonicalType("time"), "times of day", formats))
    if "uuid" in ways:
        found.append(Candidate(CanonicalType("uuid"), "UUIDs", formats))
    for pattern in patterns:
        if "dated " + pattern in ways:
            written = replace(formats, date_pattern=pattern)
            day = Candidate(CanonicalType("date"), f"dates ({pattern})", written, pattern)
            label = f"timestamps ({pattern} HH:MM:SS)"
            found += [
                day,
                Candidate(CanonicalType("timestamp"), label, written, pattern, narrower=day),
            ]
            if "timed " + pattern in ways:
                found.append(Candidate(CanonicalType("timestamptz"), label, written, pattern))
    comma = formats.thousands is None and formats.decimal_mark == "."
    for way in sorted(ways):
        if way.startswith("sign "):
            sign = way.removeprefix("sign ")
            said: dict[str, Any] = {"signs": [sign]} | ({"thousands": ","} if comma else {})
            written = replace(formats, signs=(sign,), thousands="," if comma else formats.thousands)
            found += _numbers(written, f" with {sign}", said)[1:2]
    if "grouped" in ways and comma:
        found += _numbers(replace(formats, thousands=","), " with a comma between thousands", {"thousands": ","})[1:2]
    return found


def _numbers(formats: TextFormats, label: str = "", proposes: dict[str, Any] | None = None) -> list[Candidate]:
    whole = Candidate(CanonicalType("bigint"), f"whole numbers{label}", formats, proposes=proposes)
    exact = Candidate(
        CanonicalType("decimal", precision=38, scale=18),
        f"decimal numbers{label}",
        formats,
        narrower=whole,
        proposes=proposes,
    )
    measured = Candidate(CanonicalType("double"), f"numbers with exponents{label}", formats, narrower=exact)
    return [whole, exact, measured]
