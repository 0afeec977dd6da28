"""How values are written as text: NULL words, marks in numbers, date pattern, time zone, boolean words."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass

from ultravect.core.model.layout import Values

ISO_DATE = "YYYY-MM-DD"
_TOKENS = {"YYYY": r"[0-9]{4}", "MM": r"[0-9]{2}", "DD": r"[0-9]{2}", "M": r"[0-9]{1,2}", "D": r"[0-9]{1,2}"}
_TOKEN = re.compile(r"YYYY|MM|DD|M|D")


@dataclass(frozen=True)
class TextFormats:
    """Words are compared without regard to case, except NULL words."""

    nulls: tuple[str, ...] = ("",)
    decimal_mark: str = "."
    date_pattern: str = ISO_DATE
    true_words: tuple[str, ...] = ("true", "yes")
    false_words: tuple[str, ...] = ("false", "no")
    thousands: str | None = None
    time_zone: str | None = None

    @classmethod
    def of(cls, values: Values) -> TextFormats:
        """As a layout says; the date pattern is that of the layout, or ISO."""
        return cls(
            tuple(values.nulls),
            values.decimal_mark,
            values.dates or ISO_DATE,
            tuple(values.booleans.true),
            tuple(values.booleans.false),
            values.thousands,
            values.time_zone,
        )


# where no text is a NULL word: NULL is told otherwise
NO_NULLS = TextFormats(nulls=("\0",))


def cases(words: Sequence[str]) -> list[str]:
    """Words in the cases in which they are commonly written."""
    return sorted({form for word in words for form in (word, word.lower(), word.upper(), word.capitalize())})


def date_regex(pattern: str) -> str:
    """An RE2 expression for ``pattern`` with the groups year, month and day, not anchored."""
    result, end = "", 0
    for token in _TOKEN.finditer(pattern):
        name = {"Y": "year", "M": "month", "D": "day"}[token[0][0]]
        result += re.escape(pattern[end : token.start()]) + f"(?P<{name}>{_TOKENS[token[0]]})"
        end = token.end()
    return result + re.escape(pattern[end:])
