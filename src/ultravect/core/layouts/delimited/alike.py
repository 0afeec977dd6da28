"""Where the rows of a table begin below lines of another kind: a description, a title, a ruler, a line of counts."""

from __future__ import annotations

import re
from collections.abc import Sequence

from ultravect.core.layouts.headers import kind_of

MAX_PREAMBLE = 30
_FEWEST = 4
_RULER = re.compile(r"^[-=_+|*~\s]+$")
_RULER_MARK = re.compile(r"^([-=_~])\1{1,2}")
_SHORT_RULER = 10


def is_ruler(row: Sequence[str]) -> bool:
    """Whether a row is a line drawn below names or around a title."""
    text = "".join(row)
    return bool(_RULER.match(text)) and bool(re.search(r"([-=_~*])\1", text))


def ruler_mark(lines: Sequence[str]) -> str:
    """What a line that is drawn below the names starts with, where no row starts so; "" where there is none."""
    drawn = [
        (found[0], line)
        for line in lines[: MAX_PREAMBLE + 2]
        if is_ruler([line]) and (found := _RULER_MARK.match(line))
    ]
    if not drawn:
        return ""
    mark, ruler = drawn[-1]
    alike = [line for line in lines if line.startswith(mark)]
    # a row of values that are missing may look like a short one
    if not all(is_ruler([line]) for line in alike) or (len(alike) > 1 and len(ruler.strip()) < _SHORT_RULER):
        return ""
    return mark


def first_alike(rows: Sequence[tuple[int, list[str]]], columns: int) -> int:
    """How many of the first rows stand above the names of a table whose rows are ``columns`` values, some always numbers.

    0 where that is not sure: a row that has lost a value, or a header that does not match its rows, is no description.
    """
    # values are looked at only where some line is cut otherwise: no description is as wide as the rows, all along
    if len(rows) <= _FEWEST or all(len(row) == columns for _, row in rows[:MAX_PREAMBLE]):
        return 0
    body = [row for _, row in rows[len(rows) // 2 :] if len(row) == columns]
    numbers = [
        at
        for at in range(columns)
        if sum(kind_of(row[at]) not in ("number", "moment", "") for row in body) <= 0.05 * len(body)
        and any(kind_of(row[at]) for row in body)
    ]
    if len(body) < _FEWEST or not numbers:
        return 0

    def fits(row: Sequence[str]) -> bool:
        return len(row) == columns and all(kind_of(row[at]) in ("number", "moment", "") for at in numbers)

    first = next((at for at, (_, row) in enumerate(rows) if fits(row)), 0)
    start = first
    while start and is_ruler(rows[start - 1][1]):
        start -= 1
    if start and _names(rows[start - 1][1], columns):
        start -= 1
    else:
        start = first
    above = [row for _, row in rows[:start]]
    if not above or len(above) > MAX_PREAMBLE:
        return 0
    if _names_above(above[0], columns, numbers) and not any(is_ruler(row) for row in above):
        return 0
    if any(_is_row(row, columns) for row in above) or all(len(row) == columns for row in above):
        return 0
    return start


def counts_above(rows: Sequence[tuple[int, list[str]]]) -> bool:
    """Whether the first of all rows begins with the number of the rows below it, above values of other kinds."""
    if len(rows) < _FEWEST or rows[0][1][0].strip() != str(len(rows) - 1):
        return False
    first, columns = rows[0][1], list(zip(*(row for _, row in rows[1:]), strict=False))
    return any(
        kind_of(cell) == "text" and all(kind_of(value) == "number" for value in column)
        for cell, column in zip(first, columns, strict=False)
    )


def _names(row: Sequence[str], columns: int) -> bool:
    return len(row) in (columns, columns - 1) and all(kind_of(cell) == "text" for cell in row)


def _names_above(row: Sequence[str], columns: int, numbers: Sequence[int]) -> bool:
    """Whether the very first row is a header: what follows it are then rows, good or bad."""
    return len(row) == columns and all(kind_of(row[at]) == "text" for at in numbers) and not row[0].startswith("/*")


def _is_row(row: Sequence[str], columns: int) -> bool:
    """Whether a line looks like one of the rows, with a value too few or too many."""
    numbers = sum(kind_of(cell) in ("number", "moment") for cell in row)
    return abs(len(row) - columns) <= max(1, columns // 4) and numbers >= len(row) / 2 and not is_ruler(row)
