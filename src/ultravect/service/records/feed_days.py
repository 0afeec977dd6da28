"""What came of a feed, by providers and days."""

from __future__ import annotations

import datetime as dt
from collections import Counter
from typing import Any
from zoneinfo import ZoneInfo

from ultravect.core.model.feed import expected_time
from ultravect.service.records.models import Feed, FeedEntry


def feed_days(feed: Feed, count: int, now: dt.datetime) -> dict[str, Any]:
    """For each provider and day how many files came, by their state; ``missing``: expected by now, and not there."""
    structure = feed.revision.structure
    zone = ZoneInfo(structure.get("timezone", "UTC"))
    today = now.astimezone(zone).date()
    days = [today - dt.timedelta(days=back) for back in range(count - 1, -1, -1)]
    counts: dict[tuple[str, dt.date], Counter[str]] = {}
    since = dt.datetime.combine(days[0], dt.time.min, zone)
    for entry in FeedEntry.objects.filter(feed=feed):
        moment = entry.modified_at or entry.found_at
        if moment >= since:
            counts.setdefault((entry.provider, moment.astimezone(zone).date()), Counter())[entry.state] += 1
    expected = structure.get("expected")
    late = expected is not None and now.astimezone(zone).time() >= expected_time(expected)
    first = feed.created_at.astimezone(zone).date()

    def cell(provider: str, day: dt.date) -> dict[str, Any]:
        found = counts.get((provider, day), Counter())
        due = day < today or late
        missing = expected is not None and bool(provider) and due and day >= first and not found
        return {"day": day, "files": dict(found), "missing": missing}

    names = [*structure["providers"], *([""] if any(provider == "" for provider, _ in counts) else [])]
    return {
        "days": days,
        "providers": [{"name": provider, "days": [cell(provider, day) for day in days]} for provider in names],
    }
