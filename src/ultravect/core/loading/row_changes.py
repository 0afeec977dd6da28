"""What a load changes, as a sample for anyone who looks at the run: rows before and after, and how keys compare."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

from ultravect.core.contracts.changes import Comparison, RowChange
from ultravect.core.dialects.merge import MergeStatements

_MAX_VALUE = 1000

Rows = Callable[[str], Sequence[Sequence[Any]]]
"""Runs a statement and gives its rows."""


def _shown(value: Any) -> str | None:
    if value is None:
        return None
    text = f"\\x{value.hex()}" if isinstance(value, bytes) else str(value)
    return text if len(text) <= _MAX_VALUE else text[:_MAX_VALUE] + "…"


def _row(merge: MergeStatements, values: Sequence[Any]) -> dict[str, str | None]:
    return {name: _shown(value) for name, value in zip(merge.columns, values, strict=True)}


def repeats(merge: MergeStatements, rows: Rows, limit: int, *, first: bool) -> list[RowChange]:
    """Staged rows that lose against another one of their key, with the one that wins."""
    pairs = [(int(loser), int(winner)) for loser, winner in rows(merge.losers(limit, first=first))]
    if not pairs:
        return []
    wanted = sorted({row for pair in pairs for row in pair})
    found = {int(row): _row(merge, values) for row, *values in rows(merge.rows(wanted))}
    return [RowChange("repeated", found[loser], found[winner]) for loser, winner in pairs]


def updates(merge: MergeStatements, rows: Rows, limit: int) -> list[RowChange]:
    """Rows of the target that staged ones differ from."""
    if not merge.others:
        return []
    return paired(merge, rows(merge.differing(limit)))


def paired(merge: MergeStatements, found: Sequence[Sequence[Any]]) -> list[RowChange]:
    """Updates, from rows that have the columns twice: before and after."""
    count = len(merge.columns)
    return [RowChange("updated", _row(merge, row[:count]), _row(merge, row[count:])) for row in found]


def gone_rows(merge: MergeStatements, rows: Rows, limit: int) -> list[RowChange]:
    """Rows of the target that no staged row matches."""
    return [RowChange("gone", _row(merge, row), None) for row in rows(merge.gone(limit))]


def compared(merge: MergeStatements, rows: Rows, limit: int) -> tuple[Comparison, list[RowChange]]:
    """The staged rows against those of the table that they will take the place of."""
    ((added, pairs, differing, lost),) = rows(merge.comparison())
    comparison = Comparison(int(added), int(lost), int(differing), int(pairs) - int(differing))
    new = rows(merge.unknown(limit)) if comparison.added else []
    return comparison, [
        *(updates(merge, rows, limit) if comparison.changed else []),
        *(RowChange("added", None, _row(merge, row)) for row in new),
        *(gone_rows(merge, rows, limit) if comparison.gone else []),
    ]
