"""How values are written in a file: words for NULL and booleans, marks, dates."""

from __future__ import annotations

import re
import zoneinfo
from typing import Annotated, Literal

from pydantic import AfterValidator, Field, field_validator, model_validator

from ultravect.core.model.base import Declared
from ultravect.core.model.date_patterns import check_pattern


def _time_zone(value: str) -> str:
    try:
        zoneinfo.ZoneInfo(value)
    except (zoneinfo.ZoneInfoNotFoundError, ValueError, OSError):
        raise ValueError("not a time zone known here; write it like Europe/Zurich or UTC") from None
    return value


class BooleanWords(Declared):
    """Words that stand for true and for false, in any case."""

    true: list[str] = Field(default=["true", "yes"], min_length=1)
    false: list[str] = Field(default=["false", "no"], min_length=1)

    @model_validator(mode="after")
    def _distinct(self) -> BooleanWords:
        both = {word.lower() for word in self.true} & {word.lower() for word in self.false}
        if both:
            raise ValueError(f"{sorted(both)[0]!r} stands for both true and false")
        return self


class Values(Declared):
    """How values are written in a text file."""

    nulls: list[str] = Field(default=[""], description="Words that mean NULL.")
    decimal_mark: Literal[".", ","] = "."
    thousands: Literal[",", ".", "'", "’", " ", "\u00a0", "\u202f", "\u2009", "_"] | None = Field(
        default=None, description="Mark between groups of three digits, such as ' in 1'250.00.", examples=["'"]
    )
    signs: list[Annotated[str, Field(min_length=1, max_length=8)]] = Field(
        default=[],
        max_length=16,
        description="Signs before or after numbers, which are left out: $1,200 is 1200, and 12% is 12.",
        examples=[["$"]],
    )
    dates: Annotated[str, AfterValidator(check_pattern)] | None = Field(
        default=None,
        description="Pattern of dates: YYYY or YY, MM, M, MON (Jul) or MONTH (July), DD or D. Left out: found from the data.",
        examples=["DD.MM.YYYY"],
    )
    time_zone: Annotated[str, AfterValidator(_time_zone)] | None = Field(
        default=None,
        description="The zone of timestamps written without one; they become moments (timestamptz).",
        examples=["Europe/Zurich"],
    )
    numbers_as: Literal["epoch_s", "epoch_ms", "epoch_us", "excel_days"] | None = Field(
        default=None,
        description="What a number means where a date, a time or a moment is wanted: seconds, milliseconds or microseconds since 1970-01-01 in "
        "UTC, or days as a spreadsheet counts them. Left out: a number is no moment.",
        examples=["epoch_ms"],
    )
    booleans: BooleanWords = BooleanWords()
    errors: Literal["null", "text", "reject"] = Field(
        default="null", description="What cells of a workbook become whose formula failed, such as #DIV/0!."
    )

    @field_validator("signs")
    @classmethod
    def _no_minus(cls, signs: list[str]) -> list[str]:
        if any(re.search(r"[-+0-9.,()\N{MINUS SIGN}]", sign) for sign in signs):
            raise ValueError(
                "a minus, digits, marks and parentheses are part of a number; 12.50- and (12.50) are read as -12.50"
            )
        return signs

    @model_validator(mode="after")
    def _marks(self) -> Values:
        if self.thousands == self.decimal_mark:
            raise ValueError(f"thousands and decimal_mark are both {self.thousands!r}")
        return self
