"""The patterns by which a layout says how dates are written, such as DD.MM.YYYY or D-MON-YY."""

from __future__ import annotations

import re
from collections.abc import Iterator

PARTS = {
    "YYYY": "year",
    "YY": "year",
    "MONTH": "month",
    "MON": "month",
    "MM": "month",
    "M": "month",
    "DD": "day",
    "D": "day",
}
_PART = re.compile("|".join(PARTS))


def pieces(pattern: str) -> Iterator[tuple[str, str]]:
    """The pattern from left to right: each part such as YYYY with the text before it; at the end "" with the last text."""
    end = 0
    for part in _PART.finditer(pattern):
        yield pattern[end : part.start()], part[0]
        end = part.end()
    yield pattern[end:], ""


def order_of(pattern: str) -> str:
    """The order of year, month and day, such as ``dmy``; a named month cannot be mistaken for a day and counts as n."""
    return "".join("n" if part.startswith("MON") else PARTS[part][0] for _, part in pieces(pattern) if part)


def check_pattern(pattern: str) -> str:
    """The pattern itself; ValueError says what it lacks."""
    if sorted(PARTS[part] for _, part in pieces(pattern) if part) != ["day", "month", "year"]:
        raise ValueError(
            "a date pattern has a year (YYYY or YY), a month (MM, M, MON or MONTH) and a day (DD or D), each once, such as "
            "DD.MM.YYYY, M/D/YYYY or D-MON-YY"
        )
    return pattern
