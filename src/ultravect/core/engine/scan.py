"""Reads a file for the types of its columns: all of it, or its first part."""

from __future__ import annotations

import os
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import asdict, dataclass, field
from typing import Any, Protocol

import pyarrow as pa

from ultravect.core.layouts.base import Reader, Rows
from ultravect.core.types.arrow import as_text, plain_array
from ultravect.core.types.from_text import try_cast
from ultravect.core.types.inference import DATE_PATTERNS, ColumnInference, ColumnType

SAMPLE_BYTES = 8 << 20
_KEPT_BAD = 5
_LARGE_BLOCK = 1 << 20


@dataclass(frozen=True)
class NumberedBadRow:
    """A row that is not whole, by its number among the rows read and its line in its file."""

    row: int
    line: int | None
    reason: str

    def as_dict(self) -> dict[str, Any]:
        return asdict(self)


class Taker(Protocol):
    """Is shown the rows of every block of a scan, in their order."""

    def take(self, rows: Rows, rows_before: int) -> None: ...


@dataclass
class Scan:
    """``columns`` by position; ``rows`` were looked at; ``complete`` when they are all rows of the file."""

    columns: dict[int, ColumnType]
    rows: int = 0
    complete: bool = True
    bad_rows: int = 0
    bad: list[NumberedBadRow] = field(default_factory=list)


def scan_columns(
    reader: Reader,
    positions: Sequence[int],
    *,
    limit: int | None = None,
    takers: Sequence[Taker] = (),
    progress: Callable[[int, int], None] = lambda rows, size: None,
) -> Scan:
    """Infers the types of the columns at ``positions`` from at most ``limit`` bytes (None: the whole file).

    ``takers`` are shown every block as well; ``progress`` is told the rows and bytes seen after each block.
    """
    patterns = (reader.layout.values.dates,) if reader.layout.values.dates else DATE_PATTERNS
    columns = [_Column(reader, position, patterns) for position in positions]
    scan = Scan({})
    size = 0
    with ThreadPoolExecutor(os.cpu_count()) as threads:
        for block in reader.blocks():
            if limit is not None and size >= limit:
                scan.complete = False
                break
            rows = reader.read(block)
            # kernels work outside Python's lock; for a small block, threads cost more than they give
            mapping = threads.map if block.size > _LARGE_BLOCK else map
            for _ in mapping(lambda column, rows=rows: column.add(rows, scan.rows), columns):  # type: ignore[misc]
                pass
            scan.bad_rows += len(rows.bad)
            for one in rows.bad[: _KEPT_BAD - len(scan.bad)]:
                scan.bad.append(NumberedBadRow(scan.rows + 1 + one.index, block.row_line(one.index), one.reason))
            for taker in takers:
                taker.take(rows, scan.rows)
            scan.rows += rows.count
            size += block.size
            progress(scan.rows, size)
    scan.columns = {column.position: column.result() for column in columns}
    return scan


class _Column:
    """One column's type: what the format declares, or what its text tells."""

    def __init__(self, reader: Reader, position: int, patterns: Sequence[str]) -> None:
        self.position = position
        self._name = reader.names[position]
        self._given = reader.given[position]
        self._typed_values = reader.typed_values
        self._inference = ColumnInference(self._name, reader.formats, patterns)
        self._values = self._nulls = 0

    def add(self, rows: Rows, rows_before: int) -> None:
        values = plain_array(rows.values.column(self.position))
        if self._given is not None:
            self._nulls += values.null_count
            self._values += len(values) - values.null_count
            return
        said = self._typed_values and pa.types.is_string(values.type)
        text = try_cast(values, pa.string()).array if pa.types.is_binary(values.type) else as_text(values)
        self._inference.add(text, rows.index + rows_before + 1, is_text=said)

    def result(self) -> ColumnType:
        if self._given is None:
            return self._inference.result()
        evidence = f"declared by the file; {self._values:,} values"
        return ColumnType(self._name, self._given, self._values, self._nulls, evidence)
