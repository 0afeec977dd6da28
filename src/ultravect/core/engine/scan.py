"""Reads a file for the types of its columns: all of it, or its first part."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field

import pyarrow as pa

from ultravect.core.layouts.delimited.reader import DelimitedReader, RaggedRow, TextRows
from ultravect.core.types.from_text import try_cast
from ultravect.core.types.inference import DATE_PATTERNS, ColumnInference, ColumnType

SAMPLE_BYTES = 8 << 20
_KEPT_RAGGED = 5
_LARGE_BLOCK = 1 << 20


@dataclass
class Scan:
    """``columns`` by position; ``rows`` were looked at; ``complete`` when they are all rows of the file."""

    columns: dict[int, ColumnType]
    rows: int = 0
    complete: bool = True
    ragged_rows: int = 0
    ragged: list[tuple[int, RaggedRow]] = field(default_factory=list)
    head: list[list[str | None]] = field(default_factory=list)


def scan_columns(
    reader: DelimitedReader,
    positions: Sequence[int],
    *,
    limit: int | None = None,
    head_rows: int = 0,
    progress: Callable[[int, int], None] = lambda rows, size: None,
) -> Scan:
    """Infers the types of the columns at ``positions`` from at most ``limit`` bytes (None: the whole file).

    ``progress`` is told the rows and bytes seen after each block.
    """
    patterns = (reader.layout.values.dates,) if reader.layout.values.dates else DATE_PATTERNS
    inferences = {
        position: ColumnInference(reader.names[position], reader.formats, patterns) for position in positions
    }
    scan = Scan({})
    size = 0
    with ThreadPoolExecutor(os.cpu_count()) as threads:
        for block in reader.blocks():
            if limit is not None and size >= limit:
                scan.complete = False
                break
            rows = reader.parse_text(block)
            # kernels work outside Python's lock; for a small block, threads cost more than they give
            _infer(inferences, rows, scan.rows, threads.map if len(block.data) > _LARGE_BLOCK else map)
            scan.ragged_rows += len(rows.ragged)
            for one in rows.ragged[: _KEPT_RAGGED - len(scan.ragged)]:
                scan.ragged.append((scan.rows + 1 + one.index, one))
            if len(scan.head) < head_rows:
                scan.head += _text_rows(rows.values.slice(0, head_rows - len(scan.head)))
            scan.rows += rows.count
            size += len(block.data)
            progress(scan.rows, size)
    scan.columns = {position: inference.result() for position, inference in inferences.items()}
    return scan


def _infer(
    inferences: Mapping[int, ColumnInference],
    rows: TextRows,
    rows_before: int,
    mapping: Callable[..., Iterable[None]],
) -> None:
    """Hands every column of a block to its inference, by ``mapping``: one after the other, or at once."""
    numbers = rows.index + rows_before + 1

    def infer(position: int) -> None:
        values = rows.values.column(position).combine_chunks()
        inferences[position].add(try_cast(values, pa.string()).array, numbers)

    for _ in mapping(infer, inferences):
        pass


def _text_rows(table: pa.Table) -> list[list[str | None]]:
    columns = [
        [None if value is None else value.decode("utf-8", "replace") for value in column.to_pylist()]
        for column in table.columns
    ]
    return [list(row) for row in zip(*columns, strict=True)]
