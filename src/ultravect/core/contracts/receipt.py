"""The account of a load that was committed, as the target keeps it."""

from __future__ import annotations

import json
from dataclasses import asdict, dataclass, field
from typing import Any

from ultravect.core.contracts.mark import MarkChange, MarkKey

RECEIPTS = "ultravect_receipt"


FENCE = "fence"
"""The mode of a receipt that no load wrote: it bars an attempt, whose own receipt would have the same key."""


@dataclass(frozen=True)
class ReceiptKey:
    """Which load a receipt is of: each is written once."""

    run: str
    leg: int = 1
    slice: int = 0

    @property
    def session(self) -> str:
        """Names the sessions of the attempt in the target, by which the one after it ends them."""
        return f"{self.run}/{self.leg}"


@dataclass(frozen=True)
class Receipt:
    """What a load that was committed reports."""

    table: str
    mode: str
    tally: dict[str, int] = field(default_factory=dict)
    rows_before: int | None = 0
    rows_after: int | None = None
    created: bool = False
    previous: str = ""
    """The table in which an overwrite kept what it replaced."""

    files: dict[str, int] = field(default_factory=dict)
    """How many rows were read of each file, in the receipt of a slice."""

    first_reject: dict[str, Any] | None = None
    """In the receipt of a slice, the first row that it rejected."""

    marks: list[dict[str, Any]] = field(default_factory=list)
    """What was noted with it, where that is not part of one transaction; see ``mark_changes``."""

    @property
    def mark_changes(self) -> list[MarkChange]:
        return [
            MarkChange(MarkKey(**item["key"]), item["item"], item["value"], item["before"]) for item in self.marks
        ]

    @property
    def bars(self) -> bool:
        """Whether this is no load's receipt, but keeps an attempt from committing."""
        return self.mode == FENCE

    def as_dict(self) -> dict[str, Any]:
        return asdict(self)

    def as_text(self) -> str:
        return json.dumps(self.as_dict())

    @classmethod
    def from_text(cls, text: str) -> Receipt:
        values: dict[str, Any] = json.loads(text)
        return cls(**values)
