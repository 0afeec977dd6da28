"""What is committed to lake tables: files that were written, and what a commit says of itself."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any


class CommitNotedError(Exception):
    """Another commit was made in the same name."""


@dataclass(frozen=True)
class Notes:
    """What a commit says of itself: ``names`` it is made in, each with a number, and texts for its history."""

    names: Mapping[str, int]
    texts: Mapping[str, str]


@dataclass(frozen=True)
class NewFile:
    """A file that was written and is not yet part of a version.

    ``partition``: what its rows have in common, by the names of the table's partition fields; ``statistics`` is the text that Delta Lake wants.
    """

    path: str
    size: int
    rows: int
    partition: Mapping[str, Any]
    statistics: str


def partition_text(value: Any) -> str | None:
    """A value as the format writes it in the description of a partition."""
    if value is None or isinstance(value, str):
        return value
    if isinstance(value, bool):
        return str(value).lower()
    if isinstance(value, dt.datetime):
        return (
            value.astimezone(dt.UTC).strftime("%Y-%m-%dT%H:%M:%S.%fZ")
            if value.tzinfo
            else value.strftime("%Y-%m-%d %H:%M:%S.%f")
        )
    return value.isoformat() if isinstance(value, dt.date) else str(value)
