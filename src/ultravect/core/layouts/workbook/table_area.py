"""The part of a sheet that holds a table: which cells, and which of their rows name the columns."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Any

from ultravect.core.layouts.headers import HeaderGuess, judge_header, title_rows
from ultravect.core.layouts.workbook.cells import SheetCells, plain_value
from ultravect.core.model.layout import XlsxLayout

_LOOK_ROWS = 30
_CELL = re.compile(r"^([A-Z]+)(\d*)$")


def _column_number(letters: str) -> int:
    number = 0
    for letter in letters:
        number = number * 26 + ord(letter) - 64
    return number - 1


def _bounds(text: str | None) -> tuple[int, int, int | None, int | None]:
    """First row and column, and those after the last; counted from 0."""
    if text is None:
        return 0, 0, None, None
    first, _, last = text.replace("$", "").upper().partition(":")
    start = _CELL.match(first)
    end = _CELL.match(last) if last else None
    assert start
    row, column = int(start[2]) - 1, _column_number(start[1])
    if end is None:
        return row, column, None, None
    return row, column, int(end[2]) if end[2] else None, _column_number(end[1]) + 1


def is_filled(row: list[Any]) -> bool:
    return row.count(None) != len(row)


@dataclass
class SheetTable:
    """The wanted cells, None where they are empty; ``top`` and ``left`` are where they begin in the sheet, from 0, and ``last_column`` where
    the layout says that they end."""

    cells: list[list[Any]]
    errors: dict[tuple[int, int], str]
    spans: list[tuple[int, int, int]]
    top: int
    left: int
    last_column: int | None

    @classmethod
    def of(
        cls, found: SheetCells, cells: str | None, layout: XlsxLayout, columns: tuple[int, int] | None = None
    ) -> SheetTable:
        """``columns``: the first and the one after the last, where these are known; else those of ``cells``, or from the first that holds
        something."""
        rows, first = found.rows, found.first
        if found.errors and (above := first - min(row for row, _ in found.errors)) > 0:
            rows, first = [[] for _ in range(above)] + rows, first - above
        if layout.merged == "repeat":
            for (top, left), (bottom, right) in found.merged:
                at = top - first
                value = rows[at][left] if 0 <= at < len(rows) and left < len(rows[at]) else ""
                for row in rows[max(at, 0) : bottom + 1 - first]:
                    row[left : right + 1] = [value] * len(row[left : right + 1])
        for (row_number, column), text in found.errors.items():
            at = row_number - first
            while len(rows) <= at:
                rows.append([])
            rows[at] += [""] * (column + 1 - len(rows[at]))
            rows[at][column] = text
        first_row, left, last_row, last_column = _bounds(cells)
        if columns is not None:
            left, last_column = columns
        top = max(first, first_row)
        wanted = rows[top - first : None if last_row is None else max(last_row - first, 0)]
        whole = [[None if cell == "" else cell for cell in row[left:last_column]] for row in wanted]
        if cells is None and columns is None:
            # what stands around the cells that hold something is no part of the table
            widest = max(map(len, whole), default=0)
            skipped = next(
                (at for at in range(widest) if any(len(row) > at and row[at] is not None for row in whole)), 0
            )
            whole, left = [row[skipped:] for row in whole], left + skipped
        inside = {
            (row - top, column - left): text
            for (row, column), text in found.errors.items()
            if top <= row < (last_row or row + 1) and left <= column < (last_column or column + 1)
        }
        spans = [(t - top, a - left, z - left) for (t, a), (_, z) in found.merged if z > a and t >= top]
        return cls(whole, inside, spans, top, left, last_column)


def header_rows(table: SheetTable) -> tuple[list[int], HeaderGuess]:
    """The rows that name the columns, from 0, none where the first is one of values; and why."""
    numbers = [at for at, row in enumerate(table.cells[:_LOOK_ROWS]) if is_filled(row)]
    width = max((len(table.cells[at]) for at in numbers), default=0)
    texts = [[cell_text(cell) for cell in table.cells[at]] + [""] * (width - len(table.cells[at])) for at in numbers]
    start = title_rows(texts)
    if start == 0 and len(numbers) > 1:
        widest = max(sum(map(bool, row)) for row in texts)
        start = next((at for at, row in enumerate(texts) if sum(map(bool, row)) >= max(1, widest * 0.6)), 0)
    if not numbers:
        return [], HeaderGuess(False, "the sheet is empty", True)
    at = numbers[start]
    if any(not isinstance(cell, str | type(None)) for cell in table.cells[at]) or len(texts) - start < 2:
        alone = all(isinstance(cell, str | type(None)) for cell in table.cells[at])
        guess = judge_header(texts[start:]) if not alone else HeaderGuess(True, "", True)
        return ([at] if guess.present else []), guess
    kinds = [
        {type(table.cells[n][c]) for n in numbers[start + 1 :] if c < len(table.cells[n])} - {str, type(None)}
        for c in range(width)
    ]
    if any(kinds):
        guess = HeaderGuess(True, "there is text above numbers or dates", True)
    else:
        guess = judge_header(texts[start:])
    if not guess.present:
        return [], guess
    spanned = [span for span in table.spans if span[0] == at]
    below = at + 1
    two = spanned and below < len(table.cells) and all(isinstance(c, str | type(None)) for c in table.cells[below])
    return ([at, below] if two and is_filled(table.cells[below]) else [at]), guess


def cell_text(cell: Any) -> str:
    return "" if cell is None else str(plain_value(cell))


def names_of_columns(table: SheetTable, rows: list[int], width: int) -> list[str]:
    """Names from the header rows; one above several columns is part of the names of all of them."""
    parts: list[list[str]] = []
    for at in rows:
        row = [cell_text(cell) for cell in table.cells[at]] + [""] * width
        for top, first, last in table.spans:
            if top == at and len(rows) > 1:
                row[first : last + 1] = [row[first]] * (last + 1 - first)
        parts.append(row[:width])
    return [" ".join(dict.fromkeys(part[at] for part in parts if part[at])) for at in range(width)]
