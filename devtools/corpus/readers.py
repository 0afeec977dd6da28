"""Independent readers: names and rows of a file as other libraries give them, as text or as their own values."""

from __future__ import annotations

import bz2
import csv
import gzip
import json
import sqlite3
from collections import Counter
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import duckdb
import openpyxl
import xlrd
from lxml import etree
from odf import opendocument
from odf.table import Table, TableCell, TableRow
from odf.text import P

_ROWS = 500_000
_ENCODINGS = ("utf-8-sig", "cp1252", "latin-1")


class NotTabular(Exception):
    """The file holds no table that an independent reader finds: prose, pictures, nested documents."""


@dataclass(frozen=True)
class Table_:
    """``names`` None: whether the first row names the columns has to be judged by eye, or by the answers."""

    names: Sequence[str] | None
    rows: Sequence[Sequence[Any]]


def read(path: Path, ending: str, answer: dict[str, Any]) -> Table_:
    """What the file holds; NotTabular where no table is found."""
    reader = _READERS.get(ending, _text)
    return reader(path, answer)


def _content(path: Path) -> bytes:
    data = path.read_bytes()
    if path.suffix == ".gz":
        return gzip.decompress(data)
    return bz2.decompress(data) if path.suffix == ".bz2" else data


def _text(path: Path, answer: dict[str, Any]) -> Table_:
    data = _content(path)
    for encoding in [answer["encoding"]] if "encoding" in answer else _ENCODINGS:
        try:
            text = data.decode(encoding)
            break
        except UnicodeDecodeError:
            continue
    lines = text.replace("\r\n", "\n").replace("\r", "\n").split("\n")[answer.get("skip", 0) :]
    if mark := answer.get("comment"):
        lines = [line for line in lines if not line.startswith(mark)]
    delimiter = answer.get("delimiter") or _delimiter(lines)
    if delimiter == "blanks":
        rows = [line.split() for line in lines if line.strip()]
    else:
        rows = [
            row
            for row in csv.reader(
                (line + "\n" for line in lines), delimiter=delimiter, quotechar=answer.get("quote", '"')
            )
            if row
        ]
    if len(rows) < 2:
        raise NotTabular("fewer than two rows")
    widths = Counter(map(len, rows[1:]))
    if widths.most_common(1)[0][1] < 0.9 * (len(rows) - 1):
        raise NotTabular("rows of many lengths")
    header = answer.get("header", not any(map(_is_number, rows[0])))
    if answer.get("row_names"):
        rows[0] = ["row", *rows[0]]
    return Table_(rows[0] if header else None, rows[1:_ROWS] if header else rows[:_ROWS])


def _is_number(cell: str) -> bool:
    try:
        float(cell)
        return True
    except ValueError:
        return False


def _delimiter(lines: Sequence[str]) -> str:
    best, most = "", 0.0
    for mark in (",", ";", "\t", "|", "blanks"):
        cells = [
            line.split() if mark == "blanks" else next(csv.reader([line], delimiter=mark), [])
            for line in lines[:200]
            if line.strip()
        ]
        if not cells:
            continue
        width, count = Counter(map(len, cells)).most_common(1)[0]
        score = count / len(cells) - (0.02 if mark == "blanks" else 0)
        if width > 1 and score > most:
            best, most = mark, score
    if most < 0.9:
        raise NotTabular("no delimiter cuts its lines alike")
    return best


def _records(found: Any) -> Table_:
    if isinstance(found, dict):
        lists = [
            value for value in found.values() if isinstance(value, list) and value and isinstance(value[0], dict)
        ]
        if len(lists) == 1:
            found = lists[0]
    if not (isinstance(found, list) and found and all(isinstance(item, dict) for item in found)):
        raise NotTabular("no list of objects")
    names = list(dict.fromkeys(key for item in found for key in item))
    nested = {key for item in found for key, value in item.items() if isinstance(value, dict)}
    plain = [name for name in names if name not in nested]
    return Table_(plain, [[item.get(name) for name in plain] for item in found[:_ROWS]])


def _json(path: Path, answer: dict[str, Any]) -> Table_:
    data = _content(path).decode("utf-8-sig", "replace")
    try:
        return _records(json.loads(data))
    except json.JSONDecodeError:
        lines = [json.loads(line) for line in data.splitlines() if line.strip()]
        return _records(lines)


def _xlsx(path: Path, answer: dict[str, Any]) -> Table_:
    book = openpyxl.load_workbook(path, read_only=False, data_only=True)
    return _cells([list(row) for row in book.worksheets[0].iter_rows(values_only=True)], answer)


def _xls(path: Path, answer: dict[str, Any]) -> Table_:
    book = xlrd.open_workbook(path)
    sheet = book.sheet_by_index(0)
    rows = []
    for number in range(sheet.nrows):
        row: list[Any] = []
        for cell in sheet.row(number):
            if cell.ctype == xlrd.XL_CELL_DATE:
                row.append(xlrd.xldate_as_datetime(cell.value, book.datemode))
            elif cell.ctype == xlrd.XL_CELL_BOOLEAN:
                row.append(bool(cell.value))
            else:
                row.append(None if cell.ctype in (xlrd.XL_CELL_EMPTY, xlrd.XL_CELL_BLANK) else cell.value)
        rows.append(row)
    return _cells(rows, answer)


def _ods(path: Path, answer: dict[str, Any]) -> Table_:
    sheet = opendocument.load(str(path)).spreadsheet.getElementsByType(Table)[0]
    rows = []
    for row in sheet.getElementsByType(TableRow):
        cells: list[Any] = []
        for cell in row.getElementsByType(TableCell):
            text = "\n".join("".join(str(part) for part in item.childNodes) for item in cell.getElementsByType(P))
            value = (
                cell.getAttribute("value")
                or cell.getAttribute("datevalue")
                or cell.getAttribute("booleanvalue")
                or text
                or None
            )
            cells += [value] * min(int(cell.getAttribute("numbercolumnsrepeated") or 1), 100)
        rows.append(cells)
    return _cells(rows, answer)


def _cells(rows: list[list[Any]], answer: dict[str, Any]) -> Table_:
    rows = [row for row in rows if any(cell not in (None, "") for cell in row)][answer.get("skip", 0) :]
    if len(rows) < 2:
        raise NotTabular("fewer than two rows")
    filled = [
        at for at in range(max(map(len, rows))) if any(at < len(row) and row[at] not in (None, "") for row in rows)
    ]
    rows = [[row[at] if at < len(row) else None for at in filled] for row in rows]
    header = answer.get("header", all(isinstance(cell, str) for cell in rows[0] if cell is not None))
    return Table_([str(cell or "") for cell in rows[0]] if header else None, rows[1:] if header else rows)


def _parquet(path: Path, answer: dict[str, Any]) -> Table_:
    found = duckdb.sql(f"select * from read_parquet('{path}') limit {_ROWS}")
    return Table_(found.columns, found.fetchall())


def _sqlite(path: Path, answer: dict[str, Any]) -> Table_:
    with sqlite3.connect(path) as database:
        found = database.execute(f'select * from "{answer["table"]}" limit {_ROWS}')
        return Table_([item[0] for item in found.description], found.fetchall())


def _xml(path: Path, answer: dict[str, Any]) -> Table_:
    try:
        root = etree.parse(path, etree.XMLParser(resolve_entities=False)).getroot()
    except etree.XMLSyntaxError:
        raise NotTabular("not XML") from None
    counts = Counter(child.tag for child in root if isinstance(child.tag, str))
    if not counts or counts.most_common(1)[0][1] < 2:
        raise NotTabular("no element repeats in the root")
    ((_, count),) = counts.most_common(1)
    return Table_([], [[]] * count)


_READERS: dict[str, Callable[[Path, dict[str, Any]], Table_]] = {
    ".json": _json,
    ".jsonl": _json,
    ".ndjson": _json,
    ".xlsx": _xlsx,
    ".xls": _xls,
    ".ods": _ods,
    ".parquet": _parquet,
    ".sqlite": _sqlite,
    ".db": _sqlite,
    ".xml": _xml,
}
