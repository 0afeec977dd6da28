"""Reads a delimited file as blocks of rows, parsed into typed Arrow batches or into text."""

from __future__ import annotations

import codecs
import io
import re
from collections.abc import Iterator, Sequence
from contextlib import closing
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import BinaryIO

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.csv as pv

from ultravect.core.errors import UltravectError
from ultravect.core.layouts.base import (
    BadRow,
    Block,
    ParsedColumns,
    Rows,
    SourceFile,
    TextValues,
    WantedColumn,
    unique_names,
)
from ultravect.core.layouts.delimited.blocks import DelimitedBlock, cut_blocks
from ultravect.core.layouts.delimited.byte_parts import byte_parts, range_chunks, undivided
from ultravect.core.layouts.delimited.joined import joined
from ultravect.core.layouts.delimited.lines import (
    STAND_IN,
)
from ultravect.core.layouts.delimited.opened import BLOCK_BYTES, Opened, all_blocks, cells, data_blocks
from ultravect.core.layouts.delimited.typed import proofs, proven_by, suits, typed_columns
from ultravect.core.layouts.delimited.values import row_end
from ultravect.core.layouts.encoding import is_utf8
from ultravect.core.layouts.parts import Part
from ultravect.core.model.finding import Finding
from ultravect.core.model.layout import DelimitedLayout
from ultravect.core.types.dates import ISO_DATE
from ultravect.core.types.inference.proof import Proof
from ultravect.core.types.text_formats import TextFormats, cases
from ultravect.core.words import counted

_SMALL_BYTES = 256 << 10
_EXPONENT = re.compile(rb"[0-9.][eE][+-]?[0-9]")
_HEXADECIMAL = re.compile(rb"0[xX]")
_INTEGERS = frozenset(["smallint", "integer", "bigint"])
_NUMBERS = _INTEGERS | {"decimal", "real", "double"}
_DATED = frozenset(["date", "timestamp", "timestamptz"])
# types whose text the CSV parser of pyarrow reads as ``types.from_text`` does; the others are parsed as text first
_PARSED = _NUMBERS | _DATED | {"boolean", "text"}


def parsed_by_library(column: WantedColumn) -> bool:
    """Whether pyarrow's CSV parser reads this type as it is written here."""
    kind, formats = column.type.name, column.formats
    if kind in _DATED:
        return formats.date_pattern == ISO_DATE and not (kind == "timestamptz" and formats.time_zone)
    if kind in _NUMBERS:
        return (
            formats.thousands is None
            and not formats.signs
            and not (kind == "decimal" and column.type.precision is None)
        )
    return kind in _PARSED


@dataclass
class DelimitedReader(TextValues):
    """See ``Reader``."""

    file: SourceFile
    layout: DelimitedLayout
    opened: Opened
    names: list[str]
    findings: list[Finding] = field(default_factory=list)
    part: Part | None = None
    """What is read of the file; None for all."""

    def like(self, file: SourceFile) -> DelimitedReader | None:
        """A reader of another file that is cut as this one; None where it has to be looked at more closely."""
        with closing(file.open()) as stream:
            head = stream.read(_SMALL_BYTES)
        whole = len(head) < _SMALL_BYTES
        if whole:
            # so that it is not opened again
            file = replace(file, open=lambda: io.BytesIO(head))
        opened = replace(self.opened, path=file.path)
        returns = b"\n" not in head and b"\r" in head
        first = next((block for block in all_blocks(io.BytesIO(head), opened) if len(block.row_starts)), None)
        if first is None or returns != opened.carriage_returns or (not whole and len(first.row_starts) < 2):
            return None
        row = cells(first, 0, self.layout)
        same = (
            unique_names(row)[0] == self.names
            if self.layout.header and not self.layout.names
            else len(row) == self.width
        )
        return replace(self, file=file, opened=opened, findings=[]) if same else None

    def small(self, file: SourceFile) -> Block | None:
        head = self._plain_head
        if head is None:
            return None
        with closing(file.open()) as stream:
            data = stream.read(_SMALL_BYTES).removeprefix(codecs.BOM_UTF8)
        if len(data) >= _SMALL_BYTES or not data.startswith(head):
            return None
        if not data.endswith(b"\n"):
            data += b"\n"
        dialect = self.opened.dialect
        if row_end(data, dialect.delimiter, dialect.quote_byte, dialect.newline) != (len(data), data.count(b"\n")):
            return None  # a quote in it needs a closer look
        return DelimitedBlock(file.path, data[len(head) :], 2, dialect)

    @cached_property
    def _plain_head(self) -> bytes | None:
        """The bytes of the header, where a file that begins with these, of this layout, has nothing else around its rows."""
        layout, dialect = self.layout, self.opened.dialect
        around = (
            layout.preamble or layout.comment or layout.footer or layout.frame or layout.codes or layout.skip_blanks
        )
        if (
            around
            or layout.header_rows != 1
            or layout.names
            or layout.ragged != "reject"
            or self.opened.carriage_returns
        ):
            return None
        if dialect.escape is not None or dialect.long_delimiter or not is_utf8(layout.encoding or "utf-8"):
            return None
        with closing(self.file.open()) as stream:
            data = stream.read(_SMALL_BYTES).removeprefix(codecs.BOM_UTF8)
        end = data.find(b"\n") + 1
        found = row_end(data[:end], dialect.delimiter, dialect.quote_byte, dialect.newline) if end else None
        return data[:end] if found == (end, 1) and data[:end].strip() else None

    def join(self, blocks: Sequence[Block]) -> Block:
        return joined([block for block in blocks if isinstance(block, DelimitedBlock)])

    @property
    def undivided(self) -> str:
        return undivided(self.file, self.layout, self.opened.dialect, carriage_returns=self.opened.carriage_returns)

    def parts(self, count: int) -> Sequence[Part]:
        with closing(self.file.open()) as stream:
            return byte_parts(self.file, self.layout, all_blocks(stream, self.opened), count)

    def only_part(self, part: Part) -> DelimitedReader:
        return replace(self, part=part, findings=[])

    @property
    def size(self) -> int:
        return self.part.last - self.part.first if self.part else self.file.size

    @property
    def width(self) -> int:
        """How many values a row has; the last is none where rows end with a delimiter."""
        return len(self.names) + bool(self.layout.trailing)

    def blocks(self) -> Iterator[Block]:
        """Whole rows after preamble and header."""
        with closing(self.file.open_stored() if self.part else self.file.open()) as stream:
            for block in self._blocks(stream):
                yield block if self.layout.ragged == "reject" else self._fitted(block)

    def _blocks(self, stream: BinaryIO) -> Iterator[DelimitedBlock]:
        if self.part is None:
            yield from data_blocks(stream, self.opened)
            return
        path = self.file.path
        for block in cut_blocks(range_chunks(stream, self.part, path), self.opened.dialect, self.part.line, path):
            if block.data.strip(b"\r\n"):
                yield block

    def _fitted(self, block: DelimitedBlock) -> DelimitedBlock:
        """Short rows filled up and, when asked for, long ones cut: the layout wants it so."""
        columns = self.width
        odd = block.widths < columns if self.layout.ragged == "pad" else block.widths != columns
        if not odd.any():
            return block
        rows = [block.row_bytes(index) for index in range(len(block.row_starts))]
        fill = bytes([self.opened.dialect.delimiter])
        for index in np.flatnonzero(odd):
            width, row = int(block.widths[index]), rows[index]
            body = row.rstrip(b"\r\n")
            if width < columns:
                rows[index] = body + fill * (columns - width) + row[len(body) :]
            else:
                first = int(np.searchsorted(block.delimiters, block.row_starts[index]))
                end = int(block.delimiters[first + columns - 1] - block.row_starts[index])
                rows[index] = body[:end] + row[len(body) :]
        return DelimitedBlock(block.path, b"".join(rows), block.line, block.dialect)

    def read(self, block: Block) -> Rows:
        """Every value as bytes; NULL where it is a NULL word outside quotes."""
        assert isinstance(block, DelimitedBlock)
        columns = self.width
        types = {str(position): pa.binary() for position in range(columns)}
        include = list(types)[: len(self.names)]
        try:
            table = self._parse(block, types, include, self.formats, skip_ragged=False)
            return Rows(table, np.arange(table.num_rows))
        except pa.ArrowInvalid:
            pass  # some rows are ragged: find out which
        whole = block.widths == columns
        bad = [
            BadRow(
                int(index),
                f"{counted(int(block.widths[index]), 'value')} where the header has {counted(columns, 'column')}",
            )
            for index in np.flatnonzero(~whole)
        ]
        if not whole.any():
            empty = pa.table({name: pa.array([], types[name]) for name in include})
            return Rows(empty, np.empty(0, np.int64), bad)
        table = self._parse(block, types, include, self.formats, skip_ragged=True)
        if table.num_rows != int(whole.sum()):
            raise UltravectError(
                "rows-uncertain",
                f"{block.path}, from line {block.line:,}: {table.num_rows:,} rows were parsed and {int(whole.sum()):,} counted",
                hint="quotes in odd places, or lone carriage returns, make the rows uncertain; set layout.quote, or fix the file",
                object=self.file.path,
                line=block.line,
            )
        return Rows(table, np.flatnonzero(whole), bad)

    def read_typed(self, block: Block, wanted: Sequence[WantedColumn]) -> pa.RecordBatch | None:
        assert isinstance(block, DelimitedBlock)
        if suits(block.dialect):
            found = typed_columns(block, self.width, wanted)
            if found is None or len(found.odd) or not len(found.columns[0]):
                return None
            return pa.RecordBatch.from_arrays(found.columns, [str(column.position) for column in wanted])
        if any(column.plain for column in wanted):
            return None
        if any(column.type.name in _INTEGERS for column in wanted) and _HEXADECIMAL.search(block.data):
            # the parser takes 0x1F for a number; the careful way does not
            return None
        if any(column.type.name == "decimal" for column in wanted) and _EXPONENT.search(block.data):
            # see without_exponents
            return None
        types = {str(position): pa.null() for position in range(self.width)}
        include = [str(column.position) for column in wanted]
        for column in wanted:
            types[str(column.position)] = column.type.arrow if self.parses(column) else pa.string()
        try:
            table = self._parse(block, types, include, self.formats, skip_ragged=False)
        except pa.ArrowInvalid:
            return None
        return table.combine_chunks().to_batches()[0] if table.num_rows else None

    def read_parsed(self, block: Block, wanted: Sequence[WantedColumn]) -> ParsedColumns | None:
        assert isinstance(block, DelimitedBlock)
        if suits(block.dialect):
            return typed_columns(block, self.width, wanted)
        batch = self.read_typed(block, wanted)
        return None if batch is None else ParsedColumns(batch.columns, np.empty(0, np.int64))

    def only(self, block: Block, places: npt.NDArray[np.int64]) -> Rows:
        assert isinstance(block, DelimitedBlock)
        data = b"".join(block.row_bytes(int(place)) for place in places)
        rows = self.read(DelimitedBlock(block.path, data, block.line, block.dialect))
        return Rows(
            rows.values, places[rows.index], [replace(item, index=int(places[item.index])) for item in rows.bad]
        )

    def prove(self, block: Block, wanted: Sequence[WantedColumn]) -> list[Proof | None] | None:
        assert isinstance(block, DelimitedBlock)
        return proofs(block, self.width, wanted) if suits(block.dialect) and block.is_utf8 else None

    def parses(self, column: WantedColumn) -> bool:
        return proven_by(column) is not None if suits(self.opened.dialect) else parsed_by_library(column)

    def _parse(
        self,
        block: DelimitedBlock,
        types: dict[str, pa.DataType],
        include: list[str],
        formats: TextFormats,
        *,
        skip_ragged: bool,
    ) -> pa.Table:
        quote, escape = block.dialect.quote, block.dialect.escape
        table = pv.read_csv(
            pa.BufferReader(block.data),
            read_options=pv.ReadOptions(
                column_names=list(types),
                # threads cost more than they give for a small block
                use_threads=not skip_ragged and len(block.data) > BLOCK_BYTES[-1],
                block_size=len(block.data) + 1,
            ),
            parse_options=pv.ParseOptions(
                delimiter=chr(block.dialect.delimiter),
                quote_char=chr(quote) if quote is not None else False,
                escape_char=chr(escape) if escape is not None else False,
                newlines_in_values=quote is not None or escape is not None,
                invalid_row_handler=(lambda row: "skip") if skip_ragged else None,
            ),
            convert_options=pv.ConvertOptions(
                column_types={name: types[name] for name in include},
                include_columns=include,
                null_values=list(formats.nulls) or ["\0"],
                strings_can_be_null=bool(formats.nulls),
                quoted_strings_can_be_null=False,
                true_values=cases(formats.true_words),
                false_values=cases(formats.false_words),
                decimal_point=formats.decimal_mark,
            ),
        )
        long = block.dialect.long_delimiter
        if long is None or not len(block.quotes.positions):
            return table
        # inside quotes the delimiter was text
        return pa.table(
            [
                pc.replace_substring(column, chr(STAND_IN), long.decode()) if _is_text(column.type) else column
                for column in table.columns
            ],
            names=table.column_names,
        )


def _is_text(kind: pa.DataType) -> bool:
    return bool(pa.types.is_string(kind) or pa.types.is_binary(kind))
