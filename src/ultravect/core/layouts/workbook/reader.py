"""Sheets of a workbook: xlsx, and the xls, xlsb and ods files that the same library reads."""

from __future__ import annotations

import datetime as dt
import io
import itertools
import re
import zipfile
from collections import Counter
from collections.abc import Iterator, Mapping
from contextlib import closing, contextmanager
from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa
import python_calamine as calamine
from openpyxl.utils import get_column_letter

from ultravect.core.errors import UltravectError
from ultravect.core.layouts.base import BadRow, SourceFile, file_empty, require_columns, unique_names
from ultravect.core.layouts.delimited.around import counted_at_end, sums_found
from ultravect.core.layouts.documents.records import as_json, column_of, words_of
from ultravect.core.layouts.table import TableBlock, TableReader
from ultravect.core.layouts.workbook.cells import SheetCells, cells_of, named_ranges, plain_column
from ultravect.core.layouts.workbook.pieces import HEAD_ROWS, LargeSheet
from ultravect.core.layouts.workbook.table_area import SheetTable, cell_text, header_rows, is_filled, names_of_columns
from ultravect.core.model.finding import Finding, Severity
from ultravect.core.model.layout import XlsxLayout
from ultravect.core.model.problems import did_you_mean
from ultravect.core.words import counted

_MAX_UNPACKED = 2 << 30
_MAX_STORED = 512 << 20
_BLOCK_ROWS = 20_000
_LOOKED_AT_BELOW = 12
_FIRST_ROW = re.compile(r"^\$?[A-Za-z]+\$?(\d+)")
_Numbered = list[tuple[int, list[Any]]]
_CELLS = re.compile(r"^\$?[A-Za-z]{1,3}\$?[1-9]\d*(:.*)?$")


def _broken(file: SourceFile, reason: object) -> UltravectError:
    return UltravectError(
        "workbook-broken",
        f"{file.path} cannot be read as a workbook: {str(reason)[:200] or 'it is damaged'}",
        hint="it is cut off, damaged, protected by a password, or no workbook; open it and save it again",
        object=file.path,
    )


@contextmanager
def _whole(file: SourceFile) -> Iterator[None]:
    """Says of a damaged workbook that it is one, whatever its libraries raise: none of them names all errors that it may meet with."""
    try:
        yield
    except (UltravectError, MemoryError):
        raise
    except Exception as error:
        raise _broken(file, error) from None
    except BaseException as error:
        if type(error).__name__ != "PanicException":  # of a library in Rust, which is no Exception
            raise
        raise _broken(file, error) from None


def _bytes(file: SourceFile) -> bytes:
    """All of the file: a workbook's parts point at each other, so it is not a stream."""
    if file.size > _MAX_STORED:
        raise _broken(file, f"it has {file.size >> 20:,} MiB; at most {_MAX_STORED >> 20} are read")
    with closing(file.open_stored()) as stream:
        data = stream.read()
    if not data:
        raise file_empty(file.path, "is empty: it is no workbook")
    if data.startswith(b"PK"):
        with _whole(file), zipfile.ZipFile(io.BytesIO(data)) as archive:
            unpacked = sum(item.file_size for item in archive.infolist())
        if unpacked > _MAX_UNPACKED:
            raise UltravectError(
                "compression-suspicious",
                f"{file.path} would unpack to {unpacked >> 20:,} MiB; at most {_MAX_UNPACKED >> 20:,} are read",
                hint="such a file is made to fill memory; if it is honest, save its sheets as delimited files",
                object=file.path,
            )
    return data


def sheet_names(file: SourceFile) -> list[str]:
    """The sheets of a workbook that hold cells, hidden ones too."""
    with _whole(file):
        return [str(name) for name in calamine.CalamineWorkbook.from_filelike(io.BytesIO(_bytes(file))).sheet_names]


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


def _column(values: list[Any], seen: set[type]) -> pa.Array:
    """A column of cells; dates and timestamps together are timestamps, whole numbers and others are numbers. ``seen`` are the kinds of the
    values of earlier pieces, to which these are added: among texts, a value is written in the same way in each piece."""
    seen |= {type(value) for value in values if value is not None}
    if seen == {dt.date, dt.datetime}:
        values = [dt.datetime.combine(v, dt.time()) if type(v) is dt.date else v for v in values]
    elif seen == {int, float}:
        values = [None if value is None else float(value) for value in values]
    return words_of(values) if str in seen and len(seen) > 1 else column_of(values)


def open_workbook(file: SourceFile, layout: XlsxLayout) -> TableReader:
    """Opens a sheet. A large one is read some thousand rows at a time, where its format lets that be; the first of them say the columns."""
    with _whole(file):
        return _opened(file, layout)


def _opened(file: SourceFile, layout: XlsxLayout) -> TableReader:
    data = _bytes(file)
    workbook = calamine.CalamineWorkbook.from_filelike(io.BytesIO(data))
    findings: list[Finding] = []
    wanted, cells = layout.sheet, layout.range
    if cells and not _CELLS.match(cells):
        wanted, cells = _named(file, data, cells)
    elif isinstance(wanted, str) and wanted not in workbook.sheet_names and wanted in (named := named_ranges(data)):
        wanted, cells = named[wanted]
    name = _sheet(file, workbook, wanted, findings)
    updates: dict[str, Any] = {"sheet": name, "range": cells}
    large = None if _is_read_at_once(layout, cells) else LargeSheet.of(data, name)
    found = next(large.pieces(), None) if large else None
    table = SheetTable.of(found or cells_of(workbook, data, name), cells, layout)
    rows = _header(file, name, layout, table, findings)
    updates["header"] = (
        False if not rows else rows[0] + table.top + 1 if len(rows) == 1 else [r + table.top + 1 for r in rows]
    )
    start = rows[-1] + 1 if rows else 0
    numbered = _filled(table, start)
    if large is None:
        updates["footer"] = _footer(layout, numbered, findings)
        numbered = numbered[: len(numbered) - updates["footer"]]
    held = [row for _, row in numbered] + [table.cells[at] for at in rows]
    width = max(map(len, held), default=0)
    while width and not any(len(row) >= width and row[width - 1] is not None for row in held):
        width -= 1
    if large and (last := table.last_column) is not None:
        width = last - table.left  # those that are empty in the first rows may not be so below
    if not width:
        raise file_empty(
            file.path, f"has nothing in sheet {name!r}", "name another sheet in layout.sheet, or check layout.range"
        )
    require_columns(file.path, width, "narrow it with layout.range")
    column_names, renamed = unique_names(
        names_of_columns(table, rows, width) if rows else [f"column_{n}" for n in range(1, width + 1)]
    )
    errors = {place: text for place, text in table.errors.items() if place[0] >= start and place[1] < width}
    if errors:
        findings.append(_errors_found(errors, layout.values.errors, table))
    bad = _settle_errors(table, errors, layout.values.errors)
    content = _Content(file, layout, cells, column_names, (table.left, table.left + width), large)
    first = _Part(numbered, bad, table.top)
    return TableReader(
        file,
        layout.model_copy(update=updates),
        column_names,
        lambda: content.blocks(first),
        findings=findings + renamed,
    )


def _is_read_at_once(layout: XlsxLayout, cells: str | None) -> bool:
    """Whether the first rows of the sheet are not enough to see what the layout says of it."""
    header = layout.header if isinstance(layout.header, list) else [layout.header or 0]
    begins = int(found[1]) if (found := _FIRST_ROW.match(cells or "")) else 1
    return layout.merged == "repeat" or layout.footer > 0 or max(*header, begins) > HEAD_ROWS // 2


def _footer(layout: XlsxLayout, numbered: _Numbered, findings: list[Finding]) -> int:
    """How many rows at the end are none of the table; those that may be sums are proposed."""
    if "footer" in layout.model_fields_set:
        return layout.footer
    rows = [[cell_text(cell) for cell in row] for _, row in numbered[-_LOOKED_AT_BELOW:]]
    found = counted_at_end(rows)
    if found:
        said = f"the last {counted(found, 'row')} count the others: {', '.join(filter(None, rows[-found]))[:80]}"
        findings.append(Finding("note", "footer-found", said, "from.layout"))
        rows = rows[:-found]
    if sums := sums_found(rows):
        findings.append(sums)
    return found


def _filled(table: SheetTable, start: int = 0) -> _Numbered:
    """The rows that hold something, each with its place in the table."""
    return [(at, row) for at, row in enumerate(table.cells[start:], start) if is_filled(row)]


def _named(file: SourceFile, data: bytes, name: str) -> tuple[str, str]:
    found = named_ranges(data)
    if name in found:
        return found[name]
    raise UltravectError(
        "range-missing",
        f"{file.path} has no table or range that is called {name!r}",
        hint=did_you_mean(name, list(found)) or f"it has: {', '.join(list(found)[:10]) or 'none'}",
        object=file.path,
        place="from.layout.range",
    )


def _sheet(file: SourceFile, workbook: Any, wanted: str | int | None, findings: list[Finding]) -> str:
    names = [str(name) for name in workbook.sheet_names]
    visible = [
        str(item.name) for item in workbook.sheets_metadata if item.visible == calamine.SheetVisibleEnum.Visible
    ]
    name = _sheet_name(file, visible or names if wanted is None else names, wanted)
    if wanted is None and len(names) > 1:
        hidden = set(names) - set(visible)
        others = ", ".join(f"{item} (hidden)" if item in hidden else item for item in names if item != name)
        words_found = f"the sheet {name!r} is read; others: {others}"
        findings.append(Finding("note", "sheet-found", words_found, "from.layout", "name one in layout.sheet"))
    return name


def _header(file: SourceFile, name: str, layout: XlsxLayout, table: SheetTable, findings: list[Finding]) -> list[int]:
    header = layout.header
    if header is None:
        rows, guess = header_rows(table)
        shown = " and ".join(str(at + table.top + 1) for at in rows)
        words_found = (
            f"row {shown} names the columns"
            if len(rows) == 1
            else f"rows {shown} name the columns"
            if rows
            else "no row names the columns"
        )
        severity: Severity = "note" if guess.sure else "warning"
        fix = "" if guess.sure else "if that is wrong, write layout.header: the number of the row, or false"
        findings.append(
            Finding(
                severity,
                "header-found",
                f"{words_found}{'' if guess.sure else f': {guess.reason}'}",
                "from.layout",
                fix,
            )
        )
        return rows
    if isinstance(header, bool):
        return [at for at, row in enumerate(table.cells) if is_filled(row)][:1] if header else []
    rows = [item - table.top - 1 for item in ([header] if isinstance(header, int) else header)]
    if any(not 0 <= at < len(table.cells) for at in rows):
        raise UltravectError(
            "layout-misfit",
            f"{file.path}, sheet {name!r}: there is no row {header} in what is read",
            hint=f"the rows are {table.top + 1} to {table.top + len(table.cells)}; correct layout.header or layout.range",
            object=file.path,
            place="from.layout.header",
        )
    return rows


def _errors_found(errors: Mapping[tuple[int, int], str], become: str, table: SheetTable) -> Finding:
    words = Counter(errors.values())
    words_found = ", ".join(f"{word} {counted(count, 'time')}" for word, count in words.most_common(4))
    (top, left), first = min(errors.items())
    what = {"null": "become NULL", "text": "are texts", "reject": "make their rows rejects"}[become]
    fix = (
        ""
        if become != "null"
        else "write layout.values.errors: text to keep them, reject to leave their rows out, null if that is right"
    )
    severity: Severity = "warning" if become == "null" else "note"
    place = _cell_name(table, top, left)
    message = f"{counted(len(errors), 'cell')} with an error {what}: {words_found}, first {first} in {place}"
    return Finding(severity, "cells-with-errors", message, "from.layout.values", fix)


def _settle_errors(table: SheetTable, errors: Mapping[tuple[int, int], str], become: str) -> dict[int, str]:
    """Takes the cells with an error as the layout says; the reasons of rows that are rejects, by place."""
    bad: dict[int, str] = {}
    for at, column in errors:
        if become == "null":
            table.cells[at][column] = None
        elif become == "reject":
            bad.setdefault(at, f"cell {_cell_name(table, at, column)} is {errors[at, column]}")
    return bad


def _cell_name(table: SheetTable, row: int, column: int) -> str:
    return f"{get_column_letter(column + table.left + 1)}{row + table.top + 1}"


@dataclass(frozen=True)
class _Part:
    """Rows of a sheet with their places in it, from ``top``; ``bad`` are the reasons of rejects by place."""

    rows: _Numbered
    bad: Mapping[int, str]
    top: int


@dataclass(frozen=True)
class _Content:
    """The rows below the header of a sheet, in ``columns``, from the first to the one after the last; ``large`` has those that are not read
    when the sheet is opened."""

    file: SourceFile
    layout: XlsxLayout
    cells: str | None
    names: list[str]
    columns: tuple[int, int]
    large: LargeSheet | None

    def blocks(self, first: _Part) -> Iterator[TableBlock]:
        total = len(first.rows) if self.large is None else max(self.large.rows, len(first.rows))
        seen: list[set[type]] = [set() for _ in self.names]
        yield from self._blocks(first, seen, total)
        if self.large is None:
            return
        with _whole(self.file):
            for found in itertools.islice(self.large.pieces(), 1, None):
                yield from self._blocks(self._part(found), seen, total)

    def _part(self, found: SheetCells) -> _Part:
        left, right = self.columns
        around: dict[int, str] = {}
        if self.cells is None:
            for number, row in enumerate(found.rows, found.first + 1):
                outside = next((at for at, cell in enumerate(row) if cell != "" and not left <= at < right), None)
                if outside is not None:
                    around[number] = (
                        f"cell {get_column_letter(outside + 1)}{number} is outside the columns of the first {HEAD_ROWS:,} rows, "
                        f"{get_column_letter(left + 1)} to {get_column_letter(right)}; name all columns in layout.range"
                    )
        table = SheetTable.of(found, self.cells, self.layout, self.columns)
        rows = _filled(table)
        bad = _settle_errors(table, table.errors, self.layout.values.errors)
        bad |= {number - 1 - table.top: reason for number, reason in around.items()}
        return _Part(rows, bad, table.top)

    def _blocks(self, part: _Part, seen: list[set[type]], total: int) -> Iterator[TableBlock]:
        width = len(self.names)
        good = [row[:width] for number, row in part.rows if number not in part.bad]
        cells = list(itertools.zip_longest(*good)) if good else []
        cells += [()] * (width - len(cells))
        columns = [_column(plain_column(column), kinds) for column, kinds in zip(cells, seen, strict=True)]
        columns = [column if len(column) else pa.nulls(len(good), pa.string()) for column in columns]
        table = pa.table(columns, names=self.names)
        taken = 0
        for start in range(0, len(part.rows), _BLOCK_ROWS):
            rows = part.rows[start : start + _BLOCK_ROWS]
            bad = [BadRow(at, part.bad[number]) for at, (number, _) in enumerate(rows) if number in part.bad]
            count = len(rows) - len(bad)
            yield TableBlock(
                self.file.path,
                self.file.size * len(rows) // total,
                table.slice(taken, count).combine_chunks(),
                np.setdiff1d(np.arange(len(rows)), np.array([item.index for item in bad], np.int64)),
                bad,
                {item.index: as_json([cell_text(cell) for cell in rows[item.index][1]]) for item in bad},
                [number + part.top + 1 for number, _ in rows],
            )
            taken += count
