"""Small words for messages."""

from __future__ import annotations

from collections.abc import Sequence

_NAMED = 3


def counted(number: int, singular: str, plural: str = "") -> str:
    """``1 row``, ``1,204 rows``."""
    return f"{number:,} {singular if number == 1 else plural or singular + 's'}"


def some_of(names: Sequence[str]) -> str:
    """``a.csv, b.csv, c.csv and 1,204 more``."""
    return ", ".join(names[:_NAMED]) + (f" and {len(names) - _NAMED:,} more" if len(names) > _NAMED else "")
