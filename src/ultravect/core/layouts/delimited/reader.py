"""Reads a delimited file as blocks of rows, parsed into typed Arrow batches or into text."""

from __future__ import annotations

import itertools
from collections.abc import Iterator, Sequence
from contextlib import closing
from dataclasses import dataclass, field
from typing import BinaryIO

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.csv as pv

from ultravect.core.errors import UltravectError
from ultravect.core.layouts.base import SourceFile
from ultravect.core.layouts.delimited.blocks import Block, Dialect, cut_blocks
from ultravect.core.layouts.delimited.encoding import utf8_chunks
from ultravect.core.layouts.delimited.quotes import Quotes
from ultravect.core.layouts.delimited.sniff import HEAD_BYTES, csv_reader, sniff
from ultravect.core.model.finding import Finding
from ultravect.core.model.layout import DelimitedLayout
from ultravect.core.types.canonical import CanonicalType
from ultravect.core.types.text_formats import ISO_DATE, TextFormats

# The first blocks are small, so that the first rows are there at once.
_BLOCK_BYTES = (128 << 10, 512 << 10, 2 << 20)
_LATER_BLOCK_BYTES = 4 << 20
_MAX_COLUMNS = 10_000

# Types whose text pyarrow's CSV parser reads as ``types.from_text`` does; the others are parsed as text first.
_PARSED = frozenset(
    [
        "boolean",
        "smallint",
        "integer",
        "bigint",
        "decimal",
        "real",
        "double",
        "date",
        "timestamp",
        "timestamptz",
        "text",
    ]
)


@dataclass(frozen=True)
class RaggedRow:
    """A row with another number of values than the file has columns; ``index`` counts in its block."""

    index: int
    found: int


@dataclass(frozen=True)
class TextRows:
    """A block as text: ``values`` are binary columns of the rows that are whole, ``index`` their place in the block."""

    values: pa.Table
    index: npt.NDArray[np.int64]
    ragged: Sequence[RaggedRow]

    @property
    def count(self) -> int:
        return len(self.index) + len(self.ragged)


@dataclass(frozen=True)
class WantedColumn:
    """A column of the file, by position, and the type to parse it into."""

    position: int
    type: CanonicalType
    formats: TextFormats


@dataclass
class DelimitedReader:
    """An opened layout: ``layout`` has nothing left open, ``names`` are unique and not empty."""

    file: SourceFile
    layout: DelimitedLayout
    dialect: Dialect
    names: list[str]
    findings: list[Finding] = field(default_factory=list)

    @property
    def path(self) -> str:
        return self.file.path

    @property
    def formats(self) -> TextFormats:
        """How values are written; the date pattern is that of the layout, or ISO."""
        values = self.layout.values
        return TextFormats(
            tuple(values.nulls),
            values.decimal_mark,
            values.dates or ISO_DATE,
            tuple(values.booleans.true),
            tuple(values.booleans.false),
        )

    def blocks(self) -> Iterator[Block]:
        """Whole rows after preamble and header, in the order of the file."""
        with closing(self.file.open()) as stream:
            yield from _data_blocks(stream, self.layout, self.dialect, self.path)

    def parse_text(self, block: Block) -> TextRows:
        """Every value as bytes; NULL where it is a NULL word outside quotes."""
        columns = len(self.names)
        types = {str(position): pa.binary() for position in range(columns)}
        try:
            table = self._parse(block, types, list(types), self.formats, skip_ragged=False)
            return TextRows(table, np.arange(table.num_rows), ())
        except pa.ArrowInvalid:
            pass  # some rows are ragged: find out which
        starts = block.row_starts
        buffer = np.frombuffer(block.data, np.uint8)
        delimiters = np.flatnonzero(buffer == block.dialect.delimiter)
        delimiters = delimiters[~block.quotes.inside(delimiters)]
        first = np.searchsorted(delimiters, starts)
        found = np.diff(np.append(first, len(delimiters))) + 1
        whole = found == columns
        ragged = [RaggedRow(int(index), int(found[index])) for index in np.flatnonzero(~whole)]
        if not whole.any():
            empty = pa.table({name: pa.array([], kind) for name, kind in types.items()})
            return TextRows(empty, np.empty(0, np.int64), ragged)
        table = self._parse(block, types, list(types), self.formats, skip_ragged=True)
        if table.num_rows != int(whole.sum()):
            raise UltravectError(
                "rows-uncertain",
                f"{self.path}, from line {block.line:,}: {table.num_rows:,} rows were parsed and {int(whole.sum()):,} counted",
                hint="quotes in odd places, or lone carriage returns, make the rows uncertain; set layout.quote, or mend the file",
                object=self.path,
                line=block.line,
            )
        return TextRows(table, np.flatnonzero(whole), ragged)

    def parse_typed(self, block: Block, wanted: Sequence[WantedColumn]) -> pa.RecordBatch | None:
        """The wanted columns in their types, or None where one value or row does not fit.

        Types that the parser cannot read arrive as strings.
        """
        formats = self.formats
        types = {str(position): pa.null() for position in range(len(self.names))}
        include = [str(column.position) for column in wanted]
        for column in wanted:
            types[str(column.position)] = column.type.arrow if self.parses(column) else pa.string()
        try:
            table = self._parse(block, types, include, formats, skip_ragged=False)
        except pa.ArrowInvalid:
            return None
        return table.combine_chunks().to_batches()[0] if table.num_rows else None

    @staticmethod
    def parses(column: WantedColumn) -> bool:
        """Whether ``parse_typed`` gives this column in its type."""
        dated = column.type.name in ("date", "timestamp", "timestamptz")
        unbounded = column.type.name == "decimal" and column.type.precision is None
        return (
            column.type.name in _PARSED and not unbounded and (not dated or column.formats.date_pattern == ISO_DATE)
        )

    def _parse(
        self,
        block: Block,
        types: dict[str, pa.DataType],
        include: list[str],
        formats: TextFormats,
        *,
        skip_ragged: bool,
    ) -> pa.Table:
        quote = block.dialect.quote
        return pv.read_csv(
            pa.BufferReader(block.data),
            read_options=pv.ReadOptions(
                column_names=list(types),
                # threads cost more than they give for a small block
                use_threads=not skip_ragged and len(block.data) > _BLOCK_BYTES[-1],
                block_size=len(block.data) + 1,
            ),
            parse_options=pv.ParseOptions(
                delimiter=chr(block.dialect.delimiter),
                quote_char=chr(quote) if quote is not None else False,
                newlines_in_values=quote is not None,
                invalid_row_handler=(lambda row: "skip") if skip_ragged else None,
            ),
            convert_options=pv.ConvertOptions(
                column_types={name: types[name] for name in include},
                include_columns=include,
                null_values=list(formats.nulls) or ["\0"],
                strings_can_be_null=bool(formats.nulls),
                quoted_strings_can_be_null=False,
                true_values=_cases(formats.true_words),
                false_values=_cases(formats.false_words),
                decimal_point=formats.decimal_mark,
            ),
        )


def _cases(words: Sequence[str]) -> list[str]:
    return sorted({form for word in words for form in (word, word.lower(), word.upper(), word.capitalize())})


def _dialect(layout: DelimitedLayout, head: bytes) -> Dialect:
    text = head.decode(layout.encoding or "utf-8", "replace")
    newline = 0x0D if "\n" not in text and "\r" in text else 0x0A
    quote = None if layout.quote == "none" else ord(layout.quote)
    return Dialect(ord(layout.delimiter or ","), quote, newline)


def _skip_lines(chunks: Iterator[bytes], count: int, newline: int) -> Iterator[bytes]:
    """The chunks after the first ``count`` lines."""
    for chunk in chunks:
        while count:
            end = chunk.find(newline)
            if end < 0:
                break
            chunk, count = chunk[end + 1 :], count - 1
        if count == 0:
            yield chunk
            break
    yield from chunks


def _all_blocks(stream: BinaryIO, layout: DelimitedLayout, dialect: Dialect, path: str) -> Iterator[Block]:
    sizes = itertools.chain(_BLOCK_BYTES, itertools.repeat(_LATER_BLOCK_BYTES))
    chunks = utf8_chunks(stream, layout.encoding or "utf-8", sizes, path)
    chunks = _skip_lines(chunks, layout.preamble, dialect.newline)
    return cut_blocks(chunks, dialect, layout.preamble + 1, path)


def _data_blocks(stream: BinaryIO, layout: DelimitedLayout, dialect: Dialect, path: str) -> Iterator[Block]:
    header = bool(layout.header)
    for block in _all_blocks(stream, layout, dialect, path):
        if header and len(block.row_starts):
            header = False
            if len(block.row_starts) < 2:
                continue
            start = int(block.row_starts[1])
            line = block.row_line(1)
            kept = block.quotes.positions[block.quotes.positions >= start] - start
            block = Block(block.data[start:], line, dialect, Quotes(kept))
        if block.data.strip(b"\r\n"):
            yield block


def _unique(names: Sequence[str]) -> tuple[list[str], list[Finding]]:
    """Names trimmed, the empty ones and repeats renamed."""
    findings: list[Finding] = []
    taken: set[str] = set()
    result: list[str] = []
    given = {name.strip() for name in names}
    for position, raw in enumerate(names, 1):
        name = raw.strip()
        final = name or f"column_{position}"
        for number in itertools.count(2):
            if final not in taken and (final == name or final not in given):
                break
            final = f"{name or f'column_{position}'}_{number}"
        if final != name:
            what = (
                f"column {position} has no name"
                if not name
                else f"the name {name!r} stands in the header more than once"
            )
            findings.append(Finding("note", "column-renamed", f"{what}; it is called {final!r} here", "from.layout"))
        taken.add(final)
        result.append(final)
    return result, findings


def open_delimited(file: SourceFile, layout: DelimitedLayout | None) -> DelimitedReader:
    """Opens a file, completes its layout and reads the names of its columns."""
    path = file.path
    with closing(file.open()) as stream:
        head = stream.read(HEAD_BYTES)
        if not head:
            raise UltravectError(
                "file-empty",
                f"{path} is empty: it has no header and no rows",
                hint="check that it was written completely",
                object=path,
            )
        sniffed = sniff(head, layout or DelimitedLayout(), len(head) == file.size)
        dialect = _dialect(sniffed.layout, head)
        stream.seek(0)
        blocks = _all_blocks(stream, sniffed.layout, dialect, path)
        first = next((block for block in blocks if len(block.row_starts)), None)
    if first is None:
        raise UltravectError(
            "file-empty",
            f"{path} has no rows and no header after its {sniffed.layout.preamble} preamble lines",
            hint="check layout.preamble",
            object=path,
        )
    row = next(csv_reader(first.row_text(0), chr(dialect.delimiter), sniffed.layout.quote), [])
    if len(row) > _MAX_COLUMNS:
        raise UltravectError(
            "too-many-columns",
            f"{path} has {len(row):,} columns; at most {_MAX_COLUMNS:,} can be read",
            hint="is layout.delimiter right?",
            object=path,
        )
    if sniffed.layout.header:
        names, findings = _unique(row)
    else:
        names, findings = [f"column_{position}" for position in range(1, len(row) + 1)], []
    return DelimitedReader(file, sniffed.layout, dialect, names, sniffed.findings + findings)
