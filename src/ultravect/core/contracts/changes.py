"""Rows that a load changes, for a reader."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict, dataclass
from typing import Any, Literal


@dataclass(frozen=True)
class RowChange:
    """A row ``before`` and ``after`` the load, its values as text.

    ``updated``: a row of the target and what it became. ``added`` and ``gone``: rows that only the new or the old content
    of an overwritten table has. ``repeated``: a row that was dropped, and the one of the same key that won.
    """

    kind: Literal["updated", "added", "gone", "repeated"]
    before: Mapping[str, str | None] | None
    after: Mapping[str, str | None] | None

    def as_dict(self) -> dict[str, Any]:
        """``columns`` in their order, and the values of each side."""
        columns = list(self.after or self.before or {})
        sides = {"before": self.before, "after": self.after}
        values = {name: None if row is None else [row[column] for column in columns] for name, row in sides.items()}
        return {"kind": self.kind, "columns": columns, **values}


@dataclass(frozen=True)
class Comparison:
    """The keys of an overwritten table against those that it had."""

    added: int
    gone: int
    changed: int
    equal: int

    def as_dict(self) -> dict[str, int]:
        return asdict(self)
