"""How the bytes of a file become rows and columns."""

from __future__ import annotations

import codecs
from typing import Annotated, Literal

from pydantic import AfterValidator, Field, model_validator

from ultravect.core.model.base import Character, Declared


def _encoding(value: str) -> str:
    try:
        codecs.lookup(value)
    except LookupError:
        raise ValueError("not an encoding known here; common ones are utf-8, utf-16, latin-1, cp1252") from None
    return value


def _date_pattern(value: str) -> str:
    for part in ("YYYY", "M", "D"):
        if part not in value:
            raise ValueError("a date pattern has YYYY, MM (or M) and DD (or D), such as DD.MM.YYYY")
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
    dates: Annotated[str, AfterValidator(_date_pattern)] | None = Field(
        default=None,
        description="Pattern of dates, such as DD.MM.YYYY. Left out: found from the data.",
        examples=["DD.MM.YYYY"],
    )
    booleans: BooleanWords = BooleanWords()


class DelimitedLayout(Declared):
    """Rows of values with a delimiter between them."""

    format: Literal["delimited"] = "delimited"
    encoding: Annotated[str, AfterValidator(_encoding)] | None = Field(
        default=None, description="Left out: detected.", examples=["utf-8", "latin-1"]
    )
    delimiter: Character | None = Field(default=None, description="Left out: found from the first rows.")
    quote: Character | Literal["none"] = '"'
    preamble: int = Field(default=0, ge=0, description="Lines before the header.")
    header: bool | None = Field(default=None, description="Whether the first row names the columns. Left out: found.")
    values: Values = Values()


Layout = DelimitedLayout
