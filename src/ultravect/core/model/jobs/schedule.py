"""When a job is run by itself: times in the notation of cron, in a time zone.

Where clocks are put forward or back, a time that is named by its hour comes once: one that is left out by the clock comes as much later
as the clock was put forward, one that is there twice comes the first time. Times of every hour (``*`` for the hour) come whenever the clock
shows them: not in an hour that is left out, and twice in one that is there twice.
"""

from __future__ import annotations

import datetime as dt
import functools
import re
from collections.abc import Iterator
from typing import Annotated, Literal
from zoneinfo import ZoneInfo

from croniter import croniter
from croniter.croniter import CroniterError
from pydantic import AfterValidator, Field

from ultravect.core.model.base import Declared, Duration

_FIELDS = re.compile(r"[0-9A-Za-z*/,#-]+(?: +[0-9A-Za-z*/,#-]+){4}")
_MOST = 200
_MINUTE = dt.timedelta(minutes=1)


def _cron(value: str) -> str:
    text = " ".join(value.split())
    if len(text) > _MOST or not _FIELDS.fullmatch(text):
        raise ValueError(
            f"{value[:_MOST]!r} is no time of cron: five fields, minute hour day month weekday, such as 15 2 * * *"
        )
    try:
        # a day that no month has never comes
        croniter(text, dt.datetime(2026, 1, 1)).get_next(dt.datetime)
    except (CroniterError, ValueError, OverflowError) as error:
        raise ValueError(f"{value!r} never comes, or is no time of cron: {error}") from None
    return text


def _zone(value: str) -> str:
    try:
        ZoneInfo(value)
    except (ValueError, OSError, KeyError):
        raise ValueError(f"{value!r} is no time zone: write one such as Europe/Zurich, or UTC") from None
    return value


CronText = Annotated[str, AfterValidator(_cron), Field(examples=["15 2 * * *"])]
ZoneName = Annotated[str, AfterValidator(_zone), Field(examples=["Europe/Zurich"])]


def _clock(value: str) -> str:
    if not re.fullmatch(r"([01]\d|2[0-3]):[0-5]\d", value):
        raise ValueError(f"{value!r} is no time of day: write one such as 06:00, in quotes")
    return value


ClockTime = Annotated[str, AfterValidator(_clock), Field(examples=["06:00"])]


class Schedule(Declared):
    """Times at which the job is run by itself."""

    cron: CronText = Field(description="Minute, hour, day of the month, month, day of the week.")
    timezone: ZoneName = Field(default="UTC", description="Whose clocks the times are of.")
    only_if: Literal["new_files"] | None = Field(
        default=None,
        description="A run is started only if files have arrived that were not copied yet; for jobs with from.newer: files or from.feed.",
    )
    missed: Literal["once", "none"] = Field(
        default="once",
        description="Times that came while no scheduler was running: the newest of them is made up for, or none.",
    )
    overlap: Literal["wait", "skip"] = Field(
        default="wait", description="When a run of the job is not over yet: the new one waits for it, or is left out."
    )


class Retry(Declared):
    """What happens when a leg fails by something that passes, such as a lost connection or a lock, and has written nothing."""

    attempts: int = Field(
        default=3, ge=2, le=20, description="How many times a leg is tried, the first one included."
    )
    wait: Duration = Field(
        default="30 s",
        description="How long until the second try. It is doubled for each one after it, up to an hour, and varied by a fifth.",
    )


def first_of_day(schedule: Schedule) -> str | None:
    """The earliest time of day that a schedule names, as 02:15; None where it comes every hour."""
    minute, hour = schedule.cron.split()[:2]
    return f"{int(hour):02}:{int(minute):02}" if minute.isdecimal() and hour.isdecimal() else None


def times_after(schedule: Schedule, after: dt.datetime) -> Iterator[dt.datetime]:
    """The moments that come after one, without end, in UTC."""
    every_hour = "*" in schedule.cron.split()[1]
    zone = _zoned(schedule.timezone)
    moment = after.astimezone(dt.UTC)
    return (_by_clock if every_hour else _by_name)(schedule.cron, zone, moment)


@functools.lru_cache(64)
def _zoned(name: str) -> ZoneInfo:
    return ZoneInfo(name)


def _by_name(cron: str, zone: ZoneInfo, after: dt.datetime) -> Iterator[dt.datetime]:
    shown = croniter(cron, after.astimezone(zone).replace(tzinfo=None) - dt.timedelta(hours=3))
    last = after
    while True:
        wall: dt.datetime = shown.get_next(dt.datetime)
        # of two moments the first; and one that no clock shows is as far after the gap as it is after its beginning
        moment = wall.replace(tzinfo=zone, fold=0).astimezone(dt.UTC)
        if moment > last:
            last = moment
            yield moment


def _by_clock(cron: str, zone: ZoneInfo, after: dt.datetime) -> Iterator[dt.datetime]:
    moment = after
    while True:
        offset = _offset(zone, moment)
        wall: dt.datetime = croniter(cron, (moment + offset).replace(tzinfo=None)).get_next(dt.datetime)
        found = wall.replace(tzinfo=dt.UTC) - offset
        if _offset(zone, found) == offset:
            moment = found
            yield moment
            continue
        # the clocks are changed before it: what they show from there on counts
        change = _change(zone, moment, found)
        wall = croniter(
            cron, (change + _offset(zone, change)).replace(tzinfo=None) - dt.timedelta(seconds=1)
        ).get_next(dt.datetime)
        again = wall.replace(tzinfo=dt.UTC) - _offset(zone, change)
        if _offset(zone, again) == _offset(zone, change):
            moment = again
            yield moment
        else:
            moment = change


def _offset(zone: ZoneInfo, moment: dt.datetime) -> dt.timedelta:
    return moment.astimezone(zone).utcoffset() or dt.timedelta(0)


def _change(zone: ZoneInfo, before: dt.datetime, after: dt.datetime) -> dt.datetime:
    """The first minute at which the offset is another than at ``before``."""
    offset = _offset(zone, before)
    low, high = before, after
    while high - low > _MINUTE:
        middle = (low + (high - low) / 2).replace(second=0, microsecond=0)
        if middle <= low:
            break
        if _offset(zone, middle) == offset:
            low = middle
        else:
            high = middle
    return high.replace(second=0, microsecond=0)
