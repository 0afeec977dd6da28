"""What all databases ask of a statement that may only read."""

from __future__ import annotations

import re
from collections.abc import Sequence

from ultravect.core.errors import UltravectError


def require_reading(connection: str, sql: str, words: Sequence[str]) -> None:
    """UltravectError unless a statement starts with one of the words that read."""
    start = rf"^(?:\s|--[^\n]*(?:\n|$)|/\*.*?\*/)*\(*\s*({'|'.join(words)})\b"
    if not re.match(start, sql, re.I | re.S):
        told = ", ".join(word.upper() for word in words[:-1])
        raise UltravectError(
            "not-a-question",
            f"only a statement that reads can be asked: {told} or {words[-1].upper()}",
            hint="write to the target with a job",
            connection=connection,
        )
