"""Reads a file for the types of its columns: all of it, or its first part."""

from __future__ import annotations

import os
from collections import deque
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import asdict, dataclass, field, replace
from typing import Any, Protocol

import numpy as np
import pyarrow as pa

from ultravect.core.layouts.base import Block, Reader, Rows, VerifiesTypes, WantedColumn
from ultravect.core.types.arrow import plain_array, text_read
from ultravect.core.types.canonical import CanonicalType
from ultravect.core.types.casting import try_cast
from ultravect.core.types.dates import DATE_PATTERNS
from ultravect.core.types.inference.column import ColumnInference, add_to_columns, has_long_digits
from ultravect.core.types.inference.column_type import ColumnType
from ultravect.core.types.inference.proof import Proof
from ultravect.core.types.overflow import has_overflowed
from ultravect.core.types.text_formats import TextFormats

SAMPLE_BYTES = 8 << 20
_KEPT_BAD = 5
_CAREFUL_BLOCKS = 3
_LARGE_BLOCK = 1 << 20
_AHEAD = 1
_LONG_COLUMN = 5000


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

    @property
    def satisfied(self) -> bool:
        """Whether it need not see more."""

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

    ``takers`` are shown every block as well; ``progress`` is given the rows and bytes seen after each block.
    """
    patterns = (reader.date_pattern,) if reader.date_pattern else DATE_PATTERNS
    formats = reader.formats
    columns = [_Column(reader, position, formats, patterns) for position in positions]
    scan = Scan({})
    size = 0
    with ThreadPoolExecutor(os.cpu_count()) as threads:
        for number, entry in enumerate(_ahead(reader, columns, threads, 0 if limit is not None else _AHEAD)):
            if limit is not None and size >= limit:
                scan.complete = False
                break
            seen = None
            if number >= _CAREFUL_BLOCKS and all(taker.satisfied for taker in takers):
                seen = _confirm(reader, entry, columns, scan.rows)
            if seen is None:
                seen = _look_closely(reader, entry.block, columns, scan, takers, threads)
            scan.rows += seen
            size += entry.block.size
            progress(scan.rows, size)
    scan.columns = {column.position: column.result() for column in columns}
    return scan


@dataclass
class _Ahead:
    """A block, and what it says about the types ``asked`` for, which another thread finds out."""

    block: Block
    asked: list[WantedColumn]
    proofs: Future[list[Proof | None] | None] | None

    def proven(self, reader: VerifiesTypes, asked: list[WantedColumn]) -> list[Proof | None] | None:
        if self.proofs is not None and asked == self.asked:
            return self.proofs.result()
        return reader.prove(self.block, asked)  # by now other types are asked for


def _ahead(reader: Reader, columns: Sequence[_Column], threads: ThreadPoolExecutor, depth: int) -> Iterator[_Ahead]:
    """The blocks of the reader, ``depth`` of them read before they are asked for and looked at meanwhile."""
    held: deque[_Ahead] = deque()
    for number, block in enumerate(reader.blocks()):
        asked = [column.wanted() for column in columns if column.guess is not None]
        proofs = None
        if depth and number >= _CAREFUL_BLOCKS and isinstance(reader, VerifiesTypes) and asked:
            proofs = threads.submit(reader.prove, block, asked)
        held.append(_Ahead(block, asked, proofs))
        if len(held) > depth:
            yield held.popleft()
    yield from held


def _look_closely(
    reader: Reader,
    block: Block,
    columns: Sequence[_Column],
    scan: Scan,
    takers: Sequence[Taker],
    threads: ThreadPoolExecutor,
) -> int:
    """Every value of a block as text, held against all that its column may be; gives the number of rows."""
    rows = reader.read(block)
    numbers = rows.index + scan.rows + 1
    if block.size > _LARGE_BLOCK and len(numbers) > _LONG_COLUMN:
        # kernels work outside Python's lock; for a small block, threads cost more than they give
        for _ in threads.map(
            lambda column: column.add(plain_array(rows.values.column(column.position)), numbers), columns
        ):
            pass
    else:
        _add_all(columns, rows, numbers)
    scan.bad_rows += len(rows.bad)
    for item in rows.bad[: _KEPT_BAD - len(scan.bad)]:
        scan.bad.append(NumberedBadRow(scan.rows + 1 + item.index, block.row_line(item.index), item.reason))
    for taker in takers:
        taker.take(rows, scan.rows)
    return rows.count


def _add_all(columns: Sequence[_Column], rows: Rows, numbers: np.ndarray[Any, Any]) -> None:
    """A small block's values, all columns at once."""
    arrays = [(column, plain_array(rows.values.column(column.position))) for column in columns]
    shown = [(column, values) for column, values in arrays if not column.counts_only(values)]
    if not shown:
        return
    if all(pa.types.is_binary(values.type) for _, values in shown):
        texts = try_cast(pa.concat_arrays([values for _, values in shown]), pa.string()).array
    else:
        texts = pa.concat_arrays([text_read(values) for _, values in shown])
    said = [column.says_text(values) for column, values in shown]
    add_to_columns([column.inference for column, _ in shown], texts, numbers, said)


def _confirm(reader: Reader, entry: _Ahead, columns: Sequence[_Column], rows_before: int) -> int | None:
    """A block held against what its columns were so far; None where a value or a row does not fit."""
    sure = [column for column in columns if column.guess is not None]
    asked = [column.wanted() for column in sure]
    proofs = entry.proven(reader, asked) if isinstance(reader, VerifiesTypes) and sure else None
    proven = [(column, proof) for column, proof in zip(sure, proofs or (), strict=False) if proof is not None]
    shown = {column.position for column, _ in proven}
    left = [column for column in columns if column.position not in shown]
    # nothing is counted before all is known to fit
    wanted = [column.wanted() for column in left]
    guesses = [column.guess for column in left]
    batch = reader.read_typed(entry.block, wanted) if wanted else None
    if batch is None and (wanted or not proven):
        return None
    if batch is not None and any(has_overflowed(values) or has_long_digits(values) for values in batch.columns):
        return None
    count = batch.num_rows if batch is not None else proven[0][1].rows
    numbers = np.arange(rows_before + 1, rows_before + 1 + count)
    for column, proof in proven:
        column.take(proof, numbers)
    read = batch.columns if batch is not None else []
    for column, guess, want, values in zip(left, guesses, wanted, read, strict=True):
        if guess is not None and (reader.parses(want) or guess.name == "text"):
            column.confirm(values)
        else:
            column.add(values, numbers)
    return count


class _Column:
    """One column's type: what the format declares, or what its text says."""

    def __init__(self, reader: Reader, position: int, formats: TextFormats, patterns: Sequence[str]) -> None:
        self.position = position
        self._name = reader.names[position]
        self._given = reader.given[position]
        self._typed_values = reader.typed_values
        self._formats = formats
        self.inference = ColumnInference(self._name, formats, patterns)
        self._values = self._nulls = 0

    @property
    def guess(self) -> CanonicalType | None:
        """What all its values so far are; None where that is not sure."""
        return None if self._given is not None else self.inference.guess()

    def wanted(self) -> WantedColumn:
        """The column as it is asked for, to find out whether it goes on as it was."""
        guess = self.guess
        pattern = self.inference.date_pattern
        formats = replace(self._formats, date_pattern=pattern) if pattern else self._formats
        return WantedColumn(self.position, guess or CanonicalType("text"), formats, plain=True)

    def confirm(self, values: pa.Array) -> None:
        self.inference.confirm(values)

    def take(self, proof: Proof, numbers: np.ndarray[Any, Any]) -> None:
        self.inference.take(proof, numbers)

    def add(self, values: pa.Array, numbers: np.ndarray[Any, Any]) -> None:
        if not self.counts_only(values):
            self.inference.add(text_read(values), numbers, is_text=self.says_text(values))

    def says_text(self, values: pa.Array) -> bool:
        """Whether the format says that these values are text."""
        return self._typed_values and bool(pa.types.is_string(values.type))

    def counts_only(self, values: pa.Array) -> bool:
        """Whether the type is given, so that the values need no look; they are counted then."""
        if self._given is None:
            return False
        self._nulls += values.null_count
        self._values += len(values) - values.null_count
        return True

    def result(self) -> ColumnType:
        if self._given is None:
            return self.inference.result()
        evidence = f"declared by the file; {self._values:,} values"
        return ColumnType(self._name, self._given, self._values, self._nulls, evidence)
