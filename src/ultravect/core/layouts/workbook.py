"""Sheets of a workbook: xlsx, and the xls, xlsb and ods files that the same library reads."""

from __future__ import annotations

import datetime as dt
import io
import re
import zipfile
from collections.abc import Iterator
from contextlib import closing
from typing import Any

import pyarrow as pa
import python_calamine as calamine

from ultravect.core.errors import UltravectError
from ultravect.core.layouts.base import SourceFile, file_empty, require_columns, unique_names
from ultravect.core.layouts.records import column_of
from ultravect.core.layouts.table import TableBlock, TableReader
from ultravect.core.model.finding import Finding
from ultravect.core.model.layout import XlsxLayout
from ultravect.core.model.problems import did_you_mean

_MAX_UNPACKED = 2 << 30
_MAX_STORED = 512 << 20
_BLOCK_ROWS = 20_000
_LOOK_ROWS = 30
_CELL = re.compile(r"^([A-Z]+)(\d*)$")
_FAILURES = (calamine.CalamineError, zipfile.BadZipFile, OSError, ValueError, UnicodeDecodeError)


def _broken(file: SourceFile, reason: object) -> UltravectError:
    return UltravectError(
        "workbook-broken",
        f"{file.path} cannot be read as a workbook: {str(reason)[:200] or 'it is damaged'}",
        hint="it is cut off, damaged, protected by a password, or no workbook; open it and save it again",
        object=file.path,
    )


def _bytes(file: SourceFile) -> bytes:
    """All of the file: a workbook's parts point at each other, so it is not a stream."""
    if file.size > _MAX_STORED:
        raise _broken(file, f"it has {file.size >> 20:,} MiB; at most {_MAX_STORED >> 20} are read")
    with closing(file.open_stored()) as stream:
        data = stream.read()
    if not data:
        raise file_empty(file.path, "is empty: it is no workbook")
    if data.startswith(b"PK"):
        try:
            with zipfile.ZipFile(io.BytesIO(data)) as archive:
                unpacked = sum(one.file_size for one in archive.infolist())
        except _FAILURES as error:
            raise _broken(file, error) from None
        if unpacked > _MAX_UNPACKED:
            raise UltravectError(
                "compression-suspicious",
                f"{file.path} would unpack to {unpacked >> 20:,} MiB; at most {_MAX_UNPACKED >> 20:,} are read",
                hint="such a file is made to fill memory; if it is honest, save its sheets as delimited files",
                object=file.path,
            )
    return data


def _workbook(file: SourceFile) -> Any:
    try:
        return calamine.CalamineWorkbook.from_filelike(io.BytesIO(_bytes(file)))
    except _FAILURES as error:
        raise _broken(file, error) from None


def sheet_names(file: SourceFile) -> list[str]:
    """The sheets of a workbook that hold cells, hidden ones too."""
    return [str(name) for name in _workbook(file).sheet_names]


def _sheet_name(file: SourceFile, names: list[str], wanted: str | int | None) -> str:
    if wanted is None and names:
        return names[0]
    if isinstance(wanted, int) and 1 <= wanted <= len(names):
        return names[wanted - 1]
    if wanted in names:
        return str(wanted)
    raise UltravectError(
        "sheet-missing",
        f"{file.path} has no sheet {wanted!r}",
        hint=did_you_mean(str(wanted), names) or f"its sheets: {', '.join(names) or 'none'}",
        object=file.path,
        place="from.layout.sheet",
    )


def _column_number(letters: str) -> int:
    number = 0
    for letter in letters:
        number = number * 26 + ord(letter) - 64
    return number - 1


def _bounds(text: str | None) -> tuple[int, int, int | None, int | None]:
    """First row and column, and those behind the last; counted from 0."""
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


def _cells(sheet: Any, layout: XlsxLayout) -> list[list[Any]]:
    """The wanted cells with empty ones as None; merged ones as the layout says."""
    rows: list[list[Any]] = [list(row) for row in sheet.to_python(skip_empty_area=False)]
    if layout.merged == "repeat":
        for (top, left), (bottom, right) in sheet.merged_cell_ranges or []:
            value = rows[top][left] if top < len(rows) and left < len(rows[top]) else ""
            for row in rows[top : bottom + 1]:
                row[left : right + 1] = [value] * len(row[left : right + 1])
    top, left, bottom, right = _bounds(layout.range)
    return [[None if cell == "" else cell for cell in row[left:right]] for row in rows[top:bottom]]


def _header_row(cells: list[list[Any]]) -> int | None:
    """The first row that names columns: text in nearly all of the cells that are filled below it."""
    width = max((sum(cell is not None for cell in row) for row in cells[:_LOOK_ROWS]), default=0)
    for number, row in enumerate(cells[:_LOOK_ROWS]):
        filled = [cell for cell in row if cell is not None]
        if len(filled) >= max(1, width * 0.6):
            return number if all(isinstance(cell, str) for cell in filled) else None
    return None


def _value(cell: Any) -> Any:
    if isinstance(cell, float) and cell.is_integer() and abs(cell) < 2**53:
        return int(cell)
    if isinstance(cell, dt.timedelta):
        return str(cell)
    return cell


def _column(values: list[Any]) -> Any:
    """A column of cells; dates beside timestamps are timestamps, whole numbers beside others are numbers."""
    kinds = {type(value) for value in values if value is not None}
    if kinds == {dt.date, dt.datetime}:
        values = [dt.datetime.combine(v, dt.time()) if type(v) is dt.date else v for v in values]
    elif kinds == {int, float}:
        values = [None if value is None else float(value) for value in values]
    return column_of(values)


def open_workbook(file: SourceFile, layout: XlsxLayout) -> TableReader:
    """Opens a sheet; all of it is in memory, as its format wants it."""
    workbook = _workbook(file)
    names = [str(name) for name in workbook.sheet_names]
    name = _sheet_name(file, names, layout.sheet)
    findings: list[Finding] = []
    updates: dict[str, Any] = {"sheet": name}
    if layout.sheet is None and len(names) > 1:
        others = ", ".join(one for one in names if one != name)
        findings.append(
            Finding(
                "note",
                "sheet-found",
                f"the sheet {name!r} is read; others: {others}",
                "from.layout",
                "name one in layout.sheet",
            )
        )
    try:
        cells = _cells(workbook.get_sheet_by_name(name), layout)
    except _FAILURES as error:
        raise _broken(file, error) from None
    first_row = _bounds(layout.range)[0] + 1
    header = layout.header
    at: int | None
    if header is None:
        at = _header_row(cells)
        updates["header"] = False if at is None else at + first_row
        told = "no row names the columns" if at is None else f"row {at + first_row} names the columns"
        findings.append(Finding("note", "header-found", told, "from.layout"))
    elif isinstance(header, bool):
        at = next((n for n, row in enumerate(cells) if any(c is not None for c in row)), None) if header else None
    else:
        at = header - first_row
        if not 0 <= at < len(cells):
            raise UltravectError(
                "layout-misfit",
                f"{file.path}, sheet {name!r}: there is no row {header} in what is read",
                hint=f"the rows are {first_row} to {first_row + len(cells) - 1}; correct layout.header or layout.range",
                object=file.path,
                place="from.layout.header",
            )
    start = 0 if at is None else at + 1
    # rows keep their numbers in the sheet; empty ones are none
    numbered = [(n + first_row, row) for n, row in enumerate(cells[start:], start) if any(c is not None for c in row)]
    width = max([len(row) for _, row in numbered] + ([len(cells[at])] if at is not None else [0]))
    while (
        width
        and at is not None
        and cells[at][width - 1 : width] in ([], [None])
        and not any(row[width - 1 : width] not in ([], [None]) for _, row in numbered)
    ):
        width -= 1
    if not width:
        raise file_empty(
            file.path, f"has nothing in sheet {name!r}", "name another sheet in layout.sheet, or check layout.range"
        )
    require_columns(file.path, width, "narrow it with layout.range")
    above = (
        [f"column_{position}" for position in range(1, width + 1)] if at is None else [*cells[at], *[None] * width]
    )
    column_names, renamed = unique_names(["" if cell is None else str(cell) for cell in above[:width]])
    values = [_column([_value(row[p]) if p < len(row) else None for _, row in numbered]) for p in range(width)]
    lines = [number for number, _ in numbered]
    return TableReader(
        file,
        layout.model_copy(update=updates),
        column_names,
        lambda: _blocks(file, column_names, values, lines),
        findings=findings + renamed,
    )


def _blocks(file: SourceFile, names: list[str], columns: list[Any], lines: list[int]) -> Iterator[TableBlock]:
    table = pa.table(columns, names=names)
    for start in range(0, len(lines), _BLOCK_ROWS):
        part = table.slice(start, _BLOCK_ROWS)
        size = file.size * part.num_rows // len(lines)
        yield TableBlock(file.path, size, part.combine_chunks(), lines=lines[start : start + _BLOCK_ROWS])
