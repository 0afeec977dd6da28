"""A feed: files of one kind from many providers, each in its own form, that become one table."""

from __future__ import annotations

import datetime as dt
import re
from typing import Annotated, Any, Literal
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from pydantic import AfterValidator, Field, field_validator, model_validator

from ultravect.core.model.base import Declared, Duration, Slug
from ultravect.core.model.files import ExpectedColumn
from ultravect.core.model.layout import LayoutOrName

_EXPECTED = re.compile(r"^daily by (\d{2}):(\d{2})$")


def expected_time(text: str) -> dt.time:
    """The time of day in ``daily by 06:00``; ValueError when it is written otherwise."""
    match = _EXPECTED.match(text)
    if not match or int(match[1]) > 23 or int(match[2]) > 59:
        raise ValueError("when files are expected is written: daily by 06:00")
    return dt.time(int(match[1]), int(match[2]))


def _expected(value: str) -> str:
    expected_time(value)
    return value


def _zone(value: str) -> str:
    try:
        ZoneInfo(value)
    except (ZoneInfoNotFoundError, ValueError, OSError):
        raise ValueError(f"{value!r} is no time zone; one is called Europe/Zurich") from None
    return value


class FeedVersion(Declared):
    """How a provider's files are read, from some day on."""

    valid_from: str | None = Field(
        default=None,
        description="The day of the first file of this version, by its last change.",
        examples=["2026-07-01"],
    )
    files: str | None = Field(
        default=None, min_length=1, description="A pattern of this version's files. Left out: the provider's."
    )
    layout: LayoutOrName | None = Field(
        default=None, description="How the files are cut: a mapping, or a saved layout's name. Left out: found."
    )
    columns: list[str] = Field(
        min_length=1,
        description="A select list that gives each column of the feed, from this version's own.",
        examples=[["Nr as booking_id", "Hütte as hut"]],
    )

    @field_validator("valid_from", mode="before")
    @classmethod
    def _day(cls, value: Any) -> Any:
        if value is None or isinstance(value, dt.date):
            return value.isoformat() if value else None
        try:
            return dt.date.fromisoformat(str(value)).isoformat()
        except ValueError:
            raise ValueError(f"{value!r} is no day; write one as 2026-07-01") from None


class FeedProvider(Declared):
    """Who sends files, and in which versions; a file is of the newest one that it fits."""

    about: str = ""
    files: str = Field(
        min_length=1, description="A pattern of this provider's files.", examples=["agencies/bergfrei-*.csv"]
    )
    versions: list[FeedVersion] = Field(min_length=1, description="The oldest first.")


class FeedFile(Declared):
    """Files of many providers that become rows of one form."""

    ultravect: Literal[1] = Field(description="Version of the file format.")
    feed: Slug
    about: str = ""
    connection: Slug = Field(description="Where the files are.")
    files: str | list[str] = Field(
        min_length=1,
        description="A pattern of all files that belong to the feed, or several; one of them that fits no provider is reported.",
        examples=["agencies/*", ["agencies/*.csv", "agencies/*.zip/*.tsv"]],
    )
    columns: list[ExpectedColumn] = Field(min_length=1, description="What every file becomes.")
    providers: dict[Slug, FeedProvider] = Field(min_length=1, description="By their names.")
    expected: Annotated[str, AfterValidator(_expected)] | None = Field(
        default=None, description="When each provider's file is there on every day.", examples=["daily by 06:00"]
    )
    timezone: Annotated[str, AfterValidator(_zone)] = Field(
        default="UTC", description="Of that time and of the days."
    )
    settled: Duration | None = Field(
        default=None,
        description="Files that were changed within this time are left for the next run: they may still grow.",
        examples=["2 min"],
    )

    @property
    def patterns(self) -> list[str]:
        return [self.files] if isinstance(self.files, str) else self.files

    @model_validator(mode="after")
    def _columns(self) -> FeedFile:
        names = [column.name for column in self.columns]
        if len(set(names)) < len(names):
            raise ValueError("columns names one twice")
        return self


class FeedPart(Declared):
    """Which files of a feed a leg copies; a run writes it, and no one by hand."""

    feed: Slug
    provider: Slug
    version: int
    paths: list[str]
