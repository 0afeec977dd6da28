"""How values are written as text: NULL words, marks in numbers, date pattern, time zone, boolean words."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from ultravect.core.model.layout_values import Values
from ultravect.core.types.dates import ISO_DATE
from ultravect.core.types.moments_from_text import NumbersAs


@dataclass(frozen=True)
class TextFormats:
    """Words are compared without regard to case, except NULL words."""

    nulls: tuple[str, ...] = ("",)
    decimal_mark: str = "."
    date_pattern: str = ISO_DATE
    true_words: tuple[str, ...] = ("true", "yes")
    false_words: tuple[str, ...] = ("false", "no")
    thousands: str | None = None
    signs: tuple[str, ...] = ()
    time_zone: str | None = None
    numbers_as: NumbersAs | None = None
    type_is_given: bool = False
    """Whether a table or the job says the type, so that values need not show it: each way to write one that loses nothing is taken."""

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
            tuple(values.signs),
            values.time_zone,
            values.numbers_as,
        )


# where no text is a NULL word: NULL is represented otherwise
NO_NULLS = TextFormats(nulls=("\0",))


def cases(words: Sequence[str]) -> list[str]:
    """Words in the cases in which they are commonly written."""
    return sorted({form for word in words for form in (word, word.lower(), word.upper(), word.capitalize())})
