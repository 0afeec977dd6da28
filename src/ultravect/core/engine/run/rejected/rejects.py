"""Rows that could not be converted or written, kept with their reason; and how many of them are tolerated."""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping, Sequence
from dataclasses import asdict, dataclass
from typing import Any

from ultravect.core.errors import UltravectError
from ultravect.core.model.base import allowed_rejects
from ultravect.core.words import counted


@dataclass(frozen=True)
class Reject:
    """``row`` counts the rows of the object from 1, ``line`` its lines; ``record`` is the row as it was read.

    ``key`` is the primary key of a table's row, as a JSON object of texts; "" where there is none.
    """

    object: str
    row: int
    line: int | None
    column: str
    value: str | None
    reason: str
    record: str
    key: str = ""

    def as_dict(self) -> dict[str, Any]:
        return asdict(self)

    def __str__(self) -> str:
        column = f", column {self.column}" if self.column else ""
        value = "" if self.value is None else f" {self.value!r}:"
        return f"row {self.row:,}{f' (line {self.line:,})' if self.line else ''}{column}:{value} {self.reason}"


def key_text(key: Mapping[str, str | None]) -> str:
    """``Reject.key``; "" where a part of it is missing."""
    return json.dumps(key, ensure_ascii=False) if None not in key.values() else ""


class RejectLedger:
    """Counts rejects, hands them on, and says when there are too many."""

    def __init__(self, limit: int | str, keep: Callable[[Sequence[Reject]], None]) -> None:
        self._limit = limit
        self._keep = keep
        self.count = 0
        self.first: Reject | None = None

    def add(self, rejects: Sequence[Reject]) -> None:
        if rejects:
            self.first = self.first or rejects[0]
            self.count += len(rejects)
            self._keep(rejects)

    def count_in(self, count: int, first: Reject | None) -> None:
        """Counts rejects that others have handed on."""
        self.count += count
        self.first = self.first or first

    def tolerated(self, rows_read: int) -> int:
        """How many more rows may be rejected."""
        return max(0, allowed_rejects(self._limit, rows_read) - self.count)

    def enforce(self, rows_read: int, *, final: bool) -> None:
        """Raises when more rows were rejected than the job allows; a share is known only at the end."""
        if isinstance(self._limit, str) and not final:
            return
        allowed = allowed_rejects(self._limit, rows_read)
        if self.count <= allowed:
            return
        first = self.first
        so_far = "" if final else f" among the first {rows_read:,}"
        raise UltravectError(
            "too-many-rejects",
            f"{counted(self.count, 'row was', 'rows were')} rejected{so_far}, {allowed:,} allowed; "
            f"nothing was written" + (f". First: {first}" if first else ""),
            hint="fix the source, or tolerate bad rows with into.rejects (a count or a share)",
            **{key: value for key, value in (first.as_dict() if first else {}).items() if key != "record"},
        )
