"""Small words for messages."""

from __future__ import annotations


def counted(number: int, singular: str, plural: str = "") -> str:
    """``1 row``, ``1,204 rows``."""
    return f"{number:,} {singular if number == 1 else plural or singular + 's'}"
