"""Writes a sheet of an XLSX workbook, with numbers, dates and truth values as such."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from openpyxl import Workbook
from openpyxl.cell import WriteOnlyCell

from ultravect.core.dialects.base import Translation
from ultravect.core.errors import UltravectError
from ultravect.core.layouts.writers.base import FileTypes
from ultravect.core.model.written import WrittenXlsx
from ultravect.core.types.canonical import CanonicalType, Fit
from ultravect.core.types.written import plain_text

MAX_ROWS = 1_048_576
_NUMBERS = frozenset(["smallint", "integer", "bigint", "decimal", "real", "double"])


class WorkbookTypes(FileTypes):
    """See ``FileTypes``. A sheet's numbers have 15 digits, its dates begin in 1900, its texts end at 32,767 characters."""

    name = "xlsx"
    refuses = frozenset(
        {"nul", "not finite", "long numbers", "long integers", "early years", "control characters", "long texts"}
    )

    def from_canonical(self, wanted: CanonicalType) -> Translation:
        if wanted.name in _NUMBERS:
            return Translation("number", Fit.WIDER)
        match wanted.name:
            case "boolean" | "date" | "time":
                return Translation(wanted.name, Fit.EXACT)
            case "timestamp":
                return Translation("date and time", Fit.DIFFERENT, "seconds are rounded to thousandths")
            case "timestamptz":
                return Translation("date and time", Fit.DIFFERENT, "in UTC, without its zone")
        return super().from_canonical(wanted)


class WorkbookWriter:
    """See ``Writer``. Rows stream to the disk; a cell has to be an object of Python's, whatever writes it."""

    def __init__(
        self, path: Path, columns: Sequence[tuple[str, CanonicalType]], layout: WrittenXlsx, compression: str
    ) -> None:
        self._path = path
        self._columns = columns
        self._book = Workbook(write_only=True)
        self._sheet = self._book.create_sheet(layout.sheet)
        self._rows = 0
        if layout.header:
            self._sheet.append([self._text(name) for name, _ in columns])
            self._rows = 1

    def write(self, batch: pa.RecordBatch) -> None:
        self._rows += batch.num_rows
        if self._rows > MAX_ROWS:
            raise UltravectError(
                "sheet-full",
                f"a sheet holds at most {MAX_ROWS:,} rows, and there are more",
                hint="write into.split: {rows: 1000000} for several workbooks, or write another format",
            )
        values = [
            self._texts(_cells(array, kind)) for array, (_, kind) in zip(batch.columns, self._columns, strict=True)
        ]
        for row in zip(*values, strict=True):
            self._sheet.append(row)

    def _texts(self, cells: pa.Array) -> list[Any]:
        """The cells of a column; a text stays one, though it looks like a formula or an error."""
        values: list[Any] = cells.to_pylist()
        if pa.types.is_string(cells.type):
            for row in np.flatnonzero(pc.match_substring_regex(cells, "^[=#]").fill_null(False)):
                values[row] = self._text(values[row])
        return values

    def _text(self, value: str) -> WriteOnlyCell:
        cell = WriteOnlyCell(self._sheet, value)
        cell.data_type = "s"
        return cell

    def close(self) -> None:
        self._book.save(self._path)


def _cells(array: pa.Array, kind: CanonicalType) -> pa.Array:
    if kind.name == "timestamptz":
        return array.cast(pa.timestamp("us"))
    if kind.name == "decimal":
        return array.cast(pa.float64())
    if kind.name in _NUMBERS or kind.name in ("boolean", "date", "time", "timestamp"):
        return array
    return plain_text(array)
