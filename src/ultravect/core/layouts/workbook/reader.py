"""Sheets of a workbook: xlsx, and the xls, xlsb and ods files that the same library reads."""

from __future__ import annotations

import datetime as dt
import io
import itertools
import re
import zipfile
from collections import Counter
from collections.abc import Iterator
from contextlib import closing, contextmanager
from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa
import python_calamine as calamine
from openpyxl.utils import get_column_letter

from ultravect.core.errors import UltravectError
from ultravect.core.layouts.base import BadRow, SourceFile, file_empty, require_columns, unique_names
from ultravect.core.layouts.documents.records import as_json, column_of
from ultravect.core.layouts.table import TableBlock, TableReader
from ultravect.core.layouts.workbook.cells import cells_of, named_ranges, plain_column
from ultravect.core.layouts.workbook.table_area import SheetTable, cell_text, header_rows, is_filled, names_of_columns
from ultravect.core.model.finding import Finding, Severity
from ultravect.core.model.layout import XlsxLayout
from ultravect.core.model.problems import did_you_mean
from ultravect.core.words import counted

_MAX_UNPACKED = 2 << 30
_MAX_STORED = 512 << 20
_BLOCK_ROWS = 20_000
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


def _column(values: list[Any]) -> Any:
    """A column of cells; dates and timestamps together are timestamps, whole numbers and others are numbers."""
    kinds = {type(value) for value in values if value is not None}
    if kinds == {dt.date, dt.datetime}:
        values = [dt.datetime.combine(v, dt.time()) if type(v) is dt.date else v for v in values]
    elif kinds == {int, float}:
        values = [None if value is None else float(value) for value in values]
    return column_of(values)


def open_workbook(file: SourceFile, layout: XlsxLayout) -> TableReader:
    """Opens a sheet; all of it is in memory, as its format wants it."""
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
    table = SheetTable.of(cells_of(workbook, data, name), cells, layout)
    rows = _header(file, name, layout, table, findings)
    updates["header"] = (
        False if not rows else rows[0] + table.top + 1 if len(rows) == 1 else [r + table.top + 1 for r in rows]
    )
    start = rows[-1] + 1 if rows else 0
    # rows keep their numbers in the sheet; empty ones are none
    numbered = [(n, row) for n, row in enumerate(table.cells[start:], start) if is_filled(row)]
    held = [row for _, row in numbered] + [table.cells[at] for at in rows]
    width = max(map(len, held), default=0)
    while width and not any(len(row) >= width and row[width - 1] is not None for row in held):
        width -= 1
    if not width:
        raise file_empty(
            file.path, f"has nothing in sheet {name!r}", "name another sheet in layout.sheet, or check layout.range"
        )
    require_columns(file.path, width, "narrow it with layout.range")
    column_names, renamed = unique_names(
        names_of_columns(table, rows, width) if rows else [f"column_{n}" for n in range(1, width + 1)]
    )
    errors = {place: text for place, text in table.errors.items() if place[0] >= start and place[1] < width}
    good, bad = _without_errors(numbered, errors, layout.values.errors, table, findings)
    columns = itertools.zip_longest(*(row[:width] for _, row in good)) if good else ()
    values = [_column(plain_column(cells)) for cells in columns]
    values += [_column([])] * (width - len(values))
    content = _Content(column_names, values, good, bad, table.top + 1)
    return TableReader(
        file,
        layout.model_copy(update=updates),
        column_names,
        lambda: content.blocks(file),
        findings=findings + renamed,
    )


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


_Numbered = list[tuple[int, list[Any]]]


def _without_errors(
    numbered: _Numbered, errors: dict[tuple[int, int], str], become: str, table: SheetTable, findings: list[Finding]
) -> tuple[_Numbered, dict[int, str]]:
    """The rows with their error cells as the layout says; the reasons of those that are rejects, by place."""
    if not errors:
        return numbered, {}
    words = Counter(errors.values())
    words_found = ", ".join(f"{word} {counted(count, 'time')}" for word, count in words.most_common(4))
    (top, left), first = min(errors.items())
    place = f"{get_column_letter(left + table.left + 1)}{top + table.top + 1}"
    what = {"null": "become NULL", "text": "are texts", "reject": "make their rows rejects"}[become]
    fix = (
        ""
        if become != "null"
        else "write layout.values.errors: text to keep them, reject to leave their rows out, null if that is right"
    )
    severity: Severity = "warning" if become == "null" else "note"
    message = f"{counted(len(errors), 'cell')} with an error {what}: {words_found}, first {first} in {place}"
    findings.append(Finding(severity, "cells-with-errors", message, "from.layout.values", fix))
    bad: dict[int, str] = {}
    for at, column in errors:
        row_at = table.cells[at]
        if become == "null":
            row_at[column] = None
        elif become == "reject":
            bad.setdefault(
                at, f"cell {get_column_letter(column + table.left + 1)}{at + table.top + 1} is {errors[at, column]}"
            )
    return numbered, bad


@dataclass(frozen=True)
class _Content:
    """A sheet's rows, in columns; ``bad`` are the reasons of rejects by their place in the sheet."""

    names: list[str]
    columns: list[Any]
    rows: _Numbered
    bad: dict[int, str]
    first: int

    def blocks(self, file: SourceFile) -> Iterator[TableBlock]:
        table = pa.table(self.columns, names=self.names)
        for start in range(0, len(self.rows), _BLOCK_ROWS):
            part = self.rows[start : start + _BLOCK_ROWS]
            lines = [number + self.first for number, _ in part]
            bad = [BadRow(at, self.bad[number]) for at, (number, _) in enumerate(part) if number in self.bad]
            texts = {item.index: as_json([cell_text(cell) for cell in part[item.index][1]]) for item in bad}
            index = np.setdiff1d(np.arange(len(part)), np.array([item.index for item in bad], np.int64))
            values = table.slice(start, _BLOCK_ROWS).take(pa.array(index))
            size = file.size * len(part) // len(self.rows)
            yield TableBlock(file.path, size, values.combine_chunks(), index, bad, texts, lines=lines)
