"""The type that was inferred for a column, with the evidence."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from ultravect.core.types.canonical import CanonicalType

_MAX_SHOWN = 40


@dataclass(frozen=True)
class ColumnType:
    """An inferred type: ``date_pattern`` when it holds dates, ``ambiguous`` when day and month cannot be distinguished;
    ``longest`` is how many characters a text of it has at most. ``proposes`` is what the layout's ``values`` may say more, with
    which the column would be of type ``would_be``."""

    name: str
    type: CanonicalType
    values: int
    nulls: int
    evidence: str
    exceptions: Sequence[tuple[int, str]] = ()
    date_pattern: str | None = None
    ambiguous: bool = False
    low: str | None = None
    high: str | None = None
    longest: int | None = None
    proposes: dict[str, Any] | None = None
    would_be: CanonicalType | None = None

    def as_dict(self) -> dict[str, Any]:
        return {
            "name": self.name,
            "type": str(self.type),
            "values": self.values,
            "nulls": self.nulls,
            "evidence": self.evidence,
            "exceptions": [{"row": row, "value": value} for row, value in self.exceptions],
            "date_pattern": self.date_pattern,
        }


def shown(value: str) -> str:
    """A value cut to a length that fits into a message."""
    return value if len(value) <= _MAX_SHOWN else value[: _MAX_SHOWN - 1] + "…"
