"""How many rows a table had before a load, and has after it."""

from __future__ import annotations

from dataclasses import dataclass, replace

from ultravect.core.contracts.write_session import Counts


@dataclass(frozen=True)
class RowsAround:
    """None where it is not known; ``about``: from the database's statistics, and not counted."""

    before: int | None
    after: int | None
    about: bool = False

    @classmethod
    def of(cls, before: int | None, counts: Counts, *, about: bool = False) -> RowsAround:
        """``after`` follows from what the load did."""
        if counts.removed is None:
            return cls(before, counts.inserted, about)
        return cls(before, None if before is None else max(before - counts.removed, 0) + counts.inserted, about)

    def with_after(self, counted: int | None) -> RowsAround:
        return self if counted is None else replace(self, after=counted)
