"""The register of a feed: every file that was seen, what it was matched to, and which run has loaded it."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from typing import Any

from django.utils import timezone
from django.utils.dateparse import parse_datetime

from ultravect.service.records.models import FeedEntry, FileState, Leg, Outcome, State
from ultravect.service.records.resolved import find_feed


def enter_seen(name: str, files: Sequence[dict[str, Any]]) -> None:
    """Enters the files of a feed as they were matched; one that was loaded and has not changed stays as it is."""
    feed = find_feed(name)
    if feed is None:
        return
    held = {
        entry.path: entry for entry in FeedEntry.objects.filter(feed=feed, path__in=[file["path"] for file in files])
    }
    now = timezone.now()
    new, changed = [], []
    for file in files:
        entry = held.get(file["path"])
        if entry is not None and file["state"] == "known":
            continue
        entry = entry or FeedEntry(feed=feed, path=file["path"], found_at=now)
        entry.size, entry.modified_at = file["size"], parse_datetime(file["modified"]) if file["modified"] else None
        entry.provider, entry.version, entry.reason = file["provider"], file["version"], file["reason"]
        entry.state = {"new": FileState.FOUND, "known": FileState.LOADED}.get(file["state"], file["state"])
        (changed if entry.pk else new).append(entry)
    FeedEntry.objects.bulk_create(new)
    fields = ["size", "modified_at", "provider", "version", "reason", "state"]
    FeedEntry.objects.bulk_update(changed, fields, batch_size=500)


def unmatched_files(name: str) -> dict[str, str]:
    """The files of a feed that fit no version, each with its size and time as ``engine.look.arrivals`` notes them."""
    entries = FeedEntry.objects.filter(feed__name=name, state__in=[FileState.UNMATCHED, FileState.DISPUTED])
    return {
        entry.path: f"{entry.size} {entry.modified_at.isoformat() if entry.modified_at else ''}" for entry in entries
    }


def enter_leg(leg: Leg, result: dict[str, Any]) -> None:
    """Enters how the leg of a feed has ended, for each of its files."""
    part = ((leg.structure or {}).get("from") or {}).get("part")
    feed = find_feed(part["feed"]) if part else None
    if part is None or feed is None:
        return
    loaded = leg.state == State.SUCCEEDED or leg.outcome == Outcome.COMMITTED
    rows: dict[str, int] = result.get("files") or {}
    rejects = Counter(leg.rejects.values_list("object", flat=True))
    reason = "" if loaded else (leg.error or {}).get("detail", leg.state)
    entries = list(FeedEntry.objects.filter(feed=feed, path__in=part["paths"]))
    for entry in entries:
        entry.state = FileState.LOADED if loaded else FileState.FAILED
        entry.run_id, entry.leg, entry.reason = leg.run_id, leg.number, reason
        entry.rows, entry.rejected = rows.get(entry.path, 0), rejects[entry.path]
    FeedEntry.objects.bulk_update(entries, ["state", "run", "leg", "reason", "rows", "rejected"], batch_size=500)
