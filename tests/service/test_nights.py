"""Nights by a clock that is set: what runs and what is said when files are late, a database is down, or no service runs."""

from __future__ import annotations

import datetime as dt
from collections import Counter
from collections.abc import Iterator

import pytest
from devtools.week import ZONE, Week, nights, runs_of, week_of_nights
from tests.service.test_schedules import _until

from ultravect.client import Run


@pytest.fixture(scope="module")
def week() -> Iterator[Week]:
    with week_of_nights() as made:
        yield made


def _lived(runs: list[Run]) -> list[tuple[str, str, str]]:
    """Time, job and state of each."""
    found = []
    for run in runs:
        assert run.scheduled_for is not None
        found.append(
            (f"{run.scheduled_for.astimezone(ZONE):%H:%M}", run.job, run.error["code"] if run.error else run.state)
        )
    return sorted(found)


def test_what_goes_wrong_at_night_is_made_good_and_said(week: Week) -> None:
    good = "succeeded"
    wanted = {
        "a late file": (
            [
                ("02:00", "bookings", good), ("02:00", "guests", good), ("02:00", "occupancy", good),
                ("03:00", "weigh-slips", "file-missing"), ("05:00", "bookings", good), ("07:00", "weigh-slips", good),
            ],
            {"weigh-slips: file missing", "weigh-slips: failed", "weigh-slips: recovered"},
        ),
        # what waits for others has no run of its own, since they failed for that time
        "a database that is down": (
            [
                ("02:00", "bookings", "port-refused"), ("02:00", "guests", "port-refused"),
                ("03:00", "weigh-slips", good), ("05:00", "bookings", good), ("07:00", "weigh-slips", good),
            ],
            {"2 jobs: failed", "bookings: late", "bookings: recovered"},
        ),
        # the newest of the times that were missed is made up for, one run a schedule
        "no service": (
            [
                ("02:00", "bookings", good), ("02:00", "guests", good), ("02:00", "occupancy", good),
                ("03:00", "weigh-slips", good), ("05:00", "bookings", good),
            ],
            {"bookings: late", "guests: recovered"},
        ),
    }  # fmt: skip
    last, said = 0, 0
    for day, kind in nights(week, list(wanted)):
        runs = runs_of(week, last)
        last = max(run.id for run in runs)
        lived = [item for item in _lived(runs) if kind != "no service" or item[:2] != ("07:00", "weigh-slips")]
        messages = {str(message["Subject"]) for message in week.mail.taken[said:]}
        said = len(week.mail.taken)
        assert (kind, lived, messages) == (kind, *wanted[kind])
        assert {run.queued_at.astimezone(ZONE).date() for run in runs} == {day}
        kept = [(item.job, item.waits_for) for item in week.client.today().waiting]
        assert kept == ([("occupancy", ["bookings", "guests"])] if kind == "a database that is down" else [])
    today = week.client.today()
    assert (today.failed, today.late) == ([], [])


def test_a_clock_that_is_set_back_starts_nothing_twice(week: Week) -> None:
    day = dt.date(2027, 6, 14)
    week.slip(day)
    week.booked(day)
    week.pass_to(day, "02:30")
    before = {run.id for run in week.client.runs().items}
    week.pass_to(day, "01:30", "02:10", "02:30")
    assert {run.id for run in week.client.runs().items} == before
    week.pass_to(day, "03:10")
    assert [job for _, job, _ in _lived(runs_of(week, max(before)))] == ["weigh-slips"]


def test_records_that_are_restarted_while_schedules_are_due_lose_and_repeat_nothing(week: Week) -> None:
    last = max(run.id for run in week.client.runs().items)
    for number in range(2):
        day = dt.date(2027, 6, 15 + number)
        week.slip(day)
        week.booked(day)
        week.night(day, "02:00")
        week.stack.postgres.stop("immediate")
        week.stack.postgres.start()
        _until(lambda: bool(week.client.runs().items))
        week.settle()
    by_time = Counter((run.job, run.scheduled_for) for run in runs_of(week, last) if run.trigger == "schedule")
    assert set(by_time.values()) == {1}
    nightly = Counter(job for job, moment in by_time if moment and moment.astimezone(ZONE).hour == 2)
    assert nightly == {"bookings": 2, "guests": 2}
