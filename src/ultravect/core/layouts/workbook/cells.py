"""The cells of a workbook's sheets: as the library gives them, and what it leaves out: errors, names of ranges."""

from __future__ import annotations

import datetime as dt
import io
import re
import zipfile
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import openpyxl
import python_calamine as calamine
import xlrd
from lxml import etree
from openpyxl.utils import coordinate_to_tuple

_MAIN = "{http://schemas.openxmlformats.org/spreadsheetml/2006/main}"
_RELATION = "{http://schemas.openxmlformats.org/officeDocument/2006/relationships}id"
_ISO_DURATION = re.compile(r"^PT(\d+)H(\d+)M([\d.]+)S$")
_ERROR_MARK = re.compile(rb"""\st\s*=\s*["']e["']""")
_PIECE = 1 << 20
_XLS_ERRORS = {0: "#NULL!", 7: "#DIV/0!", 15: "#VALUE!", 23: "#REF!", 29: "#NAME?", 36: "#NUM!", 42: "#N/A"}
_BOOK = re.compile(r"^(?P<book>.*?\.(?:xlsx|xlsm|xlsb|xls|ods))/(?P<sheet>.+)$", re.IGNORECASE)


@dataclass(frozen=True)
class SheetCells:
    """Rows of a sheet that follow each other: ``rows`` of values, "" where a cell is empty or an error, from row ``first`` of the sheet;
    ``errors`` by row and column of the sheet, from 0; ``merged`` ranges as their first and last row and column."""

    rows: list[list[Any]]
    errors: Mapping[tuple[int, int], str]
    merged: list[tuple[tuple[int, int], tuple[int, int]]]
    first: int = 0


def split_book(path: str) -> tuple[str, str] | None:
    """The path of a workbook and the sheet in it, when a path names both: ``book.xlsx/data``."""
    match = _BOOK.match(path)
    return (match["book"], match["sheet"]) if match else None


def cells_of(workbook: Any, data: bytes, name: str) -> SheetCells:
    """The cells of one sheet; of a damaged one, whatever its libraries raise."""
    try:
        sheet = workbook.get_sheet_by_name(name)
        merged = list(sheet.merged_cell_ranges or [])
        first, left = sheet.start or (0, 0)
        around = [""] * left
        rows = [[*around, *row] for row in sheet.to_python()] if sheet.start else []
    except calamine.CalamineError:
        # it minds what others let pass, such as blanks around a number
        rows, merged, first = _by_another_library(data, name), [], 0
    return SheetCells(rows, _errors(data, name), merged, first)


def _by_another_library(data: bytes, name: str) -> list[list[Any]]:
    book = openpyxl.load_workbook(io.BytesIO(data), read_only=True, data_only=True)
    try:
        return [["" if cell is None else cell for cell in row] for row in book[name].iter_rows(values_only=True)]
    finally:
        book.close()


def _errors(data: bytes, name: str) -> dict[tuple[int, int], str]:
    """Cells whose formula failed, which the library gives as empty ones."""
    if data.startswith(b"\xd0\xcf\x11\xe0"):
        return _xls_errors(data, name)
    if not data.startswith(b"PK"):
        return {}
    with zipfile.ZipFile(io.BytesIO(data)) as archive:
        part = sheet_parts(archive).get(name)
        if part is None:
            return {}
        if not _has_errors(archive, part):
            return {}
        found = {}
        with archive.open(part) as stream:
            for _, cell in etree.iterparse(
                stream, tag=f"{_MAIN}c", resolve_entities=False, no_network=True, load_dtd=False
            ):
                if cell.get("t") == "e" and cell.get("r"):
                    row, column = coordinate_to_tuple(cell.get("r"))
                    found[row - 1, column - 1] = cell.findtext(f"{_MAIN}v") or "#N/A"
                cell.clear()
    return found


def _has_errors(archive: zipfile.ZipFile, part: str) -> bool:
    """Whether any cell may be an error: to look for the mark takes a small part of the time that it takes to read all cells."""
    before = b""
    with archive.open(part) as stream:
        while piece := stream.read(_PIECE):
            if _ERROR_MARK.search(before + piece):
                return True
            before = piece[-16:]
    return False


def _xls_errors(data: bytes, name: str) -> dict[tuple[int, int], str]:
    try:
        sheet = xlrd.open_workbook(file_contents=data, logfile=io.StringIO()).sheet_by_name(name)
    except (xlrd.XLRDError, AssertionError, IndexError, LookupError):
        return {}  # older than what it reads; the other library read it
    return {
        (row, column): _XLS_ERRORS.get(sheet.cell_value(row, column), "#N/A")
        for row in range(sheet.nrows)
        for column, kind in enumerate(sheet.row_types(row))
        if kind == xlrd.XL_CELL_ERROR
    }


def _root(archive: zipfile.ZipFile, part: str) -> Any:
    parser = etree.XMLParser(resolve_entities=False, no_network=True, load_dtd=False)
    return etree.fromstring(archive.read(part), parser)


def sheet_parts(archive: zipfile.ZipFile) -> dict[str, str]:
    """The file of each sheet in the archive of an xlsx."""
    names = set(archive.namelist())
    if "xl/workbook.xml" not in names or "xl/_rels/workbook.xml.rels" not in names:
        return {}
    targets = {item.get("Id"): str(item.get("Target")) for item in _root(archive, "xl/_rels/workbook.xml.rels")}
    found = {}
    for sheet in _root(archive, "xl/workbook.xml").iter(f"{_MAIN}sheet"):
        target = targets.get(sheet.get(_RELATION), "")
        part = target.lstrip("/") if target.startswith("/") else f"xl/{target}"
        if part in names and part.endswith(".xml"):
            found[str(sheet.get("name"))] = part
    return found


def named_ranges(data: bytes) -> dict[str, tuple[str, str]]:
    """The sheet and the cells of each table and each named range of an xlsx."""
    if not data.startswith(b"PK"):
        return {}
    found: dict[str, tuple[str, str]] = {}
    with zipfile.ZipFile(io.BytesIO(data)) as archive:
        parts = sheet_parts(archive)
        if not parts:
            return {}
        for item in _root(archive, "xl/workbook.xml").iter(f"{_MAIN}definedName"):
            sheet, mark, cells = (item.text or "").rpartition("!")
            if mark and "," not in cells and not item.get("hidden"):
                found[str(item.get("name"))] = (sheet.strip("'").replace("''", "'"), cells.replace("$", ""))
        by_part = {part: sheet for sheet, part in parts.items()}
        for part, sheet in by_part.items():
            relations = part.replace("worksheets/", "worksheets/_rels/") + ".rels"
            if relations not in archive.namelist():
                continue
            for relation in _root(archive, relations):
                target = str(relation.get("Target"))
                if "/tables/" in target or "tables/" in target:
                    table = _root(archive, "xl/tables/" + target.rsplit("/", 1)[-1])
                    found[str(table.get("displayName") or table.get("name"))] = (sheet, str(table.get("ref")))
    return found


def plain_value(cell: Any) -> Any:
    """A cell's value: whole numbers as such, durations as hours, minutes and seconds."""
    if isinstance(cell, float) and cell.is_integer() and abs(cell) < 2**53:
        return int(cell)
    if isinstance(cell, dt.timedelta):
        return _clock(cell.total_seconds())
    if isinstance(cell, str) and (duration := _ISO_DURATION.match(cell)):
        return _clock(int(duration[1]) * 3600 + int(duration[2]) * 60 + float(duration[3]))
    return cell


def plain_column(cells: Sequence[Any]) -> list[Any]:
    """The values of a column's cells, see ``plain_value``; of kinds that stay as they are, none is looked at by itself."""
    kinds = set(map(type, cells))
    if not kinds & {float, dt.timedelta} and not (
        str in kinds and any(type(cell) is str and cell[:2] == "PT" for cell in cells)
    ):
        return list(cells)
    return [plain_value(cell) for cell in cells]


def _clock(seconds: float) -> str:
    sign, seconds = ("-", -seconds) if seconds < 0 else ("", seconds)
    whole = int(seconds)
    rest = f"{seconds - whole:.6f}".rstrip("0")[1:].rstrip(".")
    return f"{sign}{whole // 3600:02d}:{whole // 60 % 60:02d}:{whole % 60:02d}{rest}"
