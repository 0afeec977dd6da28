"""Times of cron in time zones, above all where clocks are changed."""

from __future__ import annotations

import datetime as dt
import itertools
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from ultravect.core.errors import UltravectError
from ultravect.core.model.document import job_from_data
from ultravect.core.model.jobs.schedule import Schedule, times_after

ZURICH = "Europe/Zurich"


def _shown(cron: str, after: str, count: int, zone: str = ZURICH) -> list[str]:
    moments = itertools.islice(
        times_after(Schedule(cron=cron, timezone=zone), dt.datetime.fromisoformat(after)), count
    )
    return [moment.astimezone(ZoneInfo(zone)).strftime("%d %H:%M%z") for moment in moments]


@pytest.mark.parametrize(
    ("cron", "after", "wanted"),
    [
        # 02:00 to 03:00 is left out on 29 March: a time in it comes as much later
        ("15 2 * * *", "2026-03-27T12:00Z", ["28 02:15+0100", "29 03:15+0200", "30 02:15+0200"]),
        ("15,45 2 * * *", "2026-03-28T12:00Z", ["29 03:15+0200", "29 03:45+0200", "30 02:15+0200"]),
        ("*/30 * * * *", "2026-03-29T00:29Z", ["29 01:30+0100", "29 03:00+0200", "29 03:30+0200"]),
        # 02:00 to 03:00 is there twice on 25 October
        ("15 2 * * *", "2026-10-23T12:00Z", ["24 02:15+0200", "25 02:15+0200", "26 02:15+0100"]),
        ("15 2 * * *", "2026-10-25T00:30Z", ["26 02:15+0100", "27 02:15+0100"]),
        ("*/30 * * * *", "2026-10-25T00:00Z", ["25 02:30+0200", "25 02:00+0100", "25 02:30+0100", "25 03:00+0100"]),
        ("0 0 29 2 *", "2026-01-01T00:00Z", ["29 00:00+0100"]),
        ("30 6 * * mon-fri", "2026-07-03T12:00Z", ["06 06:30+0200", "07 06:30+0200"]),
    ],
)
def test_clocks_that_are_changed(cron: str, after: str, wanted: list[str]) -> None:
    assert _shown(cron, after, len(wanted)) == wanted


@given(
    minute=st.sampled_from(["*", "*/20", "7", "0,59"]),
    hour=st.sampled_from(["*", "*/3", "2", "1-3", "0"]),
    zone=st.sampled_from([ZURICH, "UTC", "America/St_Johns", "Australia/Lord_Howe", "Asia/Kathmandu"]),
    start=st.datetimes(dt.datetime(2026, 1, 1), dt.datetime(2026, 12, 31)),
)
@settings(max_examples=60, deadline=None)
def test_times_are_those_that_clocks_show(minute: str, hour: str, zone: str, start: dt.datetime) -> None:
    """Each moment is one that the cron names, or of an hour that the clock leaves out; they grow, and none is left out."""
    schedule = Schedule(cron=f"{minute} {hour} * * *", timezone=zone)
    after = start.replace(tzinfo=dt.UTC, second=0, microsecond=0)
    found = list(itertools.islice(times_after(schedule, after), 40))
    assert all(one < other for one, other in itertools.pairwise([after, *found]))
    place = ZoneInfo(zone)
    if "*" in hour:
        # whenever the clock shows it: minute by minute
        wanted, moment = [], after
        while len(wanted) < 12:
            moment += dt.timedelta(minutes=1)
            local = moment.astimezone(place)
            minutes = {"*": range(60), "*/20": (0, 20, 40), "7": (7,), "0,59": (0, 59)}[minute]
            if local.minute in minutes and (hour == "*" or local.hour % 3 == 0):
                wanted.append(moment)
        assert found[:12] == wanted
    else:
        for moment in found:
            local = moment.astimezone(place)
            assert local.fold == 0
        # from any of them on, the rest is the same
        assert list(itertools.islice(times_after(schedule, found[5]), 5)) == found[6:11]


@pytest.mark.parametrize(
    ("run", "part"),
    [
        ({"schedule": {"cron": "0 0 31 2 *"}}, "never comes"),
        ({"schedule": {"cron": "61 * * * *"}}, "no time of cron"),
        ({"schedule": {"cron": "@daily"}}, "five fields"),
        ({"schedule": {"cron": "* * * * * *"}}, "five fields"),
        ({"schedule": {"cron": "0 0 * * *", "timezone": "Europe/Zurisch"}}, "no time zone"),
        ({"schedule": {"cron": "0 0 * * *", "timezone": "../etc/passwd"}}, "no time zone"),
        ({"schedule": [{"cron": "0 0 * * *"}, {"cron": "x"}]}, "five fields"),
        ({"schedule": {"cron": "0 0 * * *", "misssed": "once"}}, "did you mean"),
        ({"retry": {"attempts": 1}}, "greater than or equal to 2"),
        ({"retry": {"wait": "soon"}}, "number and a unit"),
        ({"after": ["No Name"]}, "after"),
    ],
)
def test_what_a_job_cannot_declare(run: dict[str, object], part: str) -> None:
    file = {
        "ultravect": 1,
        "job": "j",
        "from": {"connection": "a", "table": "t"},
        "into": {"connection": "b", "table": "t"},
        "run": run,
    }
    with pytest.raises(UltravectError) as refused:
        job_from_data(file)
    shown = f"{refused.value.detail} {refused.value.where} {refused.value.hint}"
    problems = getattr(refused.value, "problems", [])
    assert part in shown + " ".join(f"{item.place} {item.message} {item.hint}" for item in problems)
