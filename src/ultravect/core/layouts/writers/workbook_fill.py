"""Puts the rows of a written sheet into a workbook that is there: a template, or a book with other sheets."""

from __future__ import annotations

import copy
import zipfile
from collections.abc import Sequence
from pathlib import Path
from typing import Any
from xml.etree.ElementTree import ParseError

from openpyxl import Workbook, load_workbook
from openpyxl.utils.cell import column_index_from_string as number_of
from openpyxl.utils.cell import coordinate_from_string, get_column_letter
from openpyxl.utils.exceptions import InvalidFileException
from openpyxl.worksheet.worksheet import Worksheet

from ultravect.core.errors import UltravectError
from ultravect.core.model.written import WrittenXlsx

_MAX_UNPACKED = 100 << 20
_UNREADABLE = (InvalidFileException, zipfile.BadZipFile, ParseError, KeyError, ValueError, TypeError, EOFError)


def fill(rows: Path, base: Path | None, named: str, layout: WrittenXlsx, into: Path) -> None:
    """Writes a workbook to ``into``: ``base``, called ``named``, with the sheet of ``layout`` filled with ``rows``.

    ``rows`` is a workbook of one sheet, as ``WorkbookWriter`` makes it. What the sheet had from ``layout.start`` on makes place, as far as it
    is in the same columns; the formats of its first row of values are those of all. Other sheets, formulas and formats stay.
    """
    book = _opened(base, named)
    sheet = book[layout.sheet] if layout.sheet in book.sheetnames else book.create_sheet(layout.sheet)
    if not isinstance(sheet, Worksheet):
        raise UltravectError(
            "sheet-not-cells", f"{named}: {layout.sheet!r} is a chart, and has no cells", object=named
        )
    letters, first = coordinate_from_string(layout.start)
    left = number_of(letters)
    source = load_workbook(rows, read_only=True)
    width, at = 0, first
    styles: list[Any] = []
    last = sheet.max_row
    for at, cells in enumerate(source.worksheets[0].iter_rows(values_only=True), first):
        # a row ends at its last value: the first one is the widest, or names all columns
        width = max(width, len(cells))
        if at == first + layout.header:
            styles = [copy.copy(sheet.cell(at, left + place)._style) for place in range(width)]
        for place in range(width):
            written, value = sheet.cell(at, left + place), cells[place] if place < len(cells) else None
            written.value = value
            if isinstance(value, str):
                written.data_type = "s"  # a text stays one, though it looks like a formula
            if place < len(styles) and at > first + layout.header:
                written._style = copy.copy(styles[place])
    source.close()
    for row in range(at + 1, last + 1):
        for place in range(width):
            sheet.cell(row, left + place).value = None
    _stretch(sheet, left, first, width, at)
    book.save(into)


def sheet_names(path: Path, named: str) -> Sequence[str]:
    """The names of the sheets of a workbook."""
    _require_small(path, named)
    try:
        book = load_workbook(path, read_only=True)
    except _UNREADABLE as error:
        raise _damaged(named, error) from None
    names = list(book.sheetnames)
    book.close()
    return names


def _opened(base: Path | None, named: str) -> Workbook:
    if base is None:
        book = Workbook()
        for name in book.sheetnames:
            del book[name]
        return book
    _require_small(base, named)
    try:
        return load_workbook(base)
    except _UNREADABLE as error:
        raise _damaged(named, error) from None


def _require_small(path: Path, named: str) -> None:
    """A workbook that is filled is held in memory as a whole."""
    try:
        with zipfile.ZipFile(path) as archive:
            unpacked = sum(item.file_size for item in archive.infolist())
    except (zipfile.BadZipFile, EOFError) as error:
        raise _damaged(named, error) from None
    if unpacked > _MAX_UNPACKED:
        raise UltravectError(
            "too-large",
            f"{named} would unpack to {unpacked >> 20:,} MiB; at most {_MAX_UNPACKED >> 20:,} are filled",
            hint="write the rows into a workbook of their own",
            object=named,
        )


def _damaged(named: str, error: Exception) -> UltravectError:
    return UltravectError(
        "workbook-broken",
        f"{named} cannot be filled: it is no whole workbook ({type(error).__name__})",
        hint="it is cut off, damaged, protected by a password, or no .xlsx; open it and save it again",
        object=named,
    )


def _stretch(sheet: Worksheet, left: int, first: int, width: int, last: int) -> None:
    """Tables of the sheet that begin where the rows do end where they do."""
    begins = f"{get_column_letter(left)}{first}"
    for table in sheet.tables.values():
        top, _, bottom = table.ref.partition(":")
        if top == begins and width:
            letters, _ = coordinate_from_string(bottom or top)
            table.ref = f"{top}:{letters}{max(last, first + 1)}"
            if table.autoFilter is not None:
                table.autoFilter.ref = table.ref
