"""Formats that can be written, one module each, registered here."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from ultravect.core.layouts.writers.base import FileTypes, Writer
from ultravect.core.layouts.writers.delimited import DelimitedTypes, DelimitedWriter
from ultravect.core.layouts.writers.json_lines import JsonLinesTypes, JsonLinesWriter
from ultravect.core.layouts.writers.parquet import ParquetTypes, ParquetWriter
from ultravect.core.layouts.writers.workbook import WorkbookTypes, WorkbookWriter
from ultravect.core.types.canonical import CanonicalType


@dataclass(frozen=True)
class WrittenFormat:
    """``writer`` takes a path, the columns with their types, the format's layout, and the ending of a compression."""

    types: FileTypes
    writer: Callable[[Path, Sequence[tuple[str, CanonicalType]], Any, str], Writer]


WRITTEN_FORMATS: dict[str, WrittenFormat] = {
    "delimited": WrittenFormat(DelimitedTypes(), DelimitedWriter),
    "jsonl": WrittenFormat(JsonLinesTypes(), JsonLinesWriter),
    "parquet": WrittenFormat(ParquetTypes(), ParquetWriter),
    "xlsx": WrittenFormat(WorkbookTypes(), WorkbookWriter),
}
