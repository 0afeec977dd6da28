"""Whether a file still fits a saved layout: its columns, by place, name and type."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from ultravect.core.model.files import ExpectedColumn
from ultravect.core.model.finding import Finding
from ultravect.core.types.inference.column_type import ColumnType
from ultravect.core.words import counted

_MOST_LISTED = 5


def misfits(
    layout: str, expects: Sequence[ExpectedColumn], names: Sequence[str], types: Mapping[int, ColumnType]
) -> list[Finding]:
    """What is different from what the layout expects; ``types`` by position, where they are known."""
    if not expects:
        return []
    found: list[str] = []
    for position, (expected, kind) in enumerate((expect.name, expect.type) for expect in expects):
        if position >= len(names):
            found.append(f"column {position + 1} {expected!r} is no longer there")
        elif names[position] != expected:
            moved = f" (it is column {names.index(expected) + 1} now)" if expected in names else ""
            found.append(f"column {position + 1} is now {names[position]!r}, it was {expected!r}{moved}")
        elif position in types and types[position].values and str(types[position].type) != kind:
            now = types[position]
            found.append(f"column {position + 1} {expected!r} is now {now.type}, it was {kind} ({now.evidence})")
    found += [f"column {number} {name!r} is new" for number, name in enumerate(names, 1) if number > len(expects)]
    more = len(found) - _MOST_LISTED
    shown = found[:_MOST_LISTED] + ([f"and {more} differences more"] if more > 0 else [])
    return [_finding(layout, what) for what in shown]


def _finding(layout: str, what: str) -> Finding:
    return Finding(
        "warning",
        "layout-outgrown",
        f"this file no longer fits layout {layout}: {what}",
        "from.layout",
        "have the file fixed, or save a new version of the layout",
    )


def uneven(layout: str, bad: int, rows: int) -> list[Finding]:
    """That rows are not whole, when they are read with the layout."""
    if not bad:
        return []
    shown = f"{bad:,} of {counted(rows, 'row')} {'is' if bad == 1 else 'are'} not whole"
    return [_finding(layout, shown)]
