"""What has to be true of a load before it is published."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import AfterValidator, Field, model_validator

from ultravect.core.model.base import Declared, Duration, Size


def _share(value: str) -> str:
    share_of(value)
    return value


def share_of(text: str) -> float:
    """A share such as 5 %, as a part of one; ValueError for any other text."""
    number, sign, rest = text.partition("%")
    try:
        found = float(number)
    except ValueError:
        found = -1.0
    if not sign or rest.strip() or not 0 <= found <= 100_000:
        raise ValueError(f"{text!r} is no share: write one such as 5 %")
    return found / 100


Share = Annotated[str, AfterValidator(_share), Field(examples=["5 %"])]


class CountGuard(Declared):
    """Between which numbers a count has to be."""

    at_least: int | None = Field(default=None, ge=0)
    at_most: int | None = Field(default=None, ge=0)
    within: Share | None = Field(
        default=None,
        description="By how much it may differ from the median of the last ten runs that succeeded. With fewer than three, nothing is decided.",
        examples=["50 %"],
    )

    @model_validator(mode="after")
    def _something(self) -> CountGuard:
        if self.at_least is None and self.at_most is None and self.within is None:
            raise ValueError("name at_least, at_most or within")
        if self.at_least is not None and self.at_most is not None and self.at_most < self.at_least:
            raise ValueError("at_most is less than at_least: no count is between them")
        return self


class ColumnGuard(Declared):
    """What has to be true of the values of a column."""

    nulls: Share | None = Field(default=None, description="The largest share of rows without a value.")
    at_least: int | float | str | None = Field(
        default=None, description="No value is less: a number, a date or a time."
    )
    at_most: int | float | str | None = Field(default=None, description="No value is more.")
    newest: Duration | None = Field(
        default=None, description="The newest value, a date or a time, is at most this old.", examples=["2 d"]
    )

    @model_validator(mode="after")
    def _something(self) -> ColumnGuard:
        if all(getattr(self, key) is None for key in ("nulls", "at_least", "at_most", "newest")):
            raise ValueError("name nulls, at_least, at_most or newest")
        return self


class Guard(Declared):
    """What has to be true of a load, decided after all rows are staged, and before any is published; or of a stream, all the time."""

    rows_read: CountGuard | None = None
    rows_written: CountGuard | None = Field(default=None, description="Rows that are inserted or updated.")
    columns: dict[str, ColumnGuard] = Field(default={}, description="By the names that the target has.")
    otherwise: Literal["fail", "warn"] = Field(
        default="fail",
        description="What happens when one of these is not true: nothing is written, or the log says so.",
    )
    lag: Duration | None = Field(
        default=None,
        description="Of a stream: how long the lag of the target may be before a message is sent.",
        examples=["10 min"],
    )
    log_kept: Size | None = Field(
        default=None,
        examples=["20 GB"],
        description="Of a stream: how much of its log the source may have to keep for it. Beyond that the stream gives the log up, so that the "
        "source's disk does not run full; its tables are copied anew then.",
    )

    @property
    def of_rows(self) -> bool:
        """Whether something has to be true of the rows of a load."""
        return self.rows_read is not None or self.rows_written is not None or bool(self.columns)

    @property
    def of_stream(self) -> bool:
        """Whether something has to be true of a stream."""
        return self.lag is not None or self.log_kept is not None
