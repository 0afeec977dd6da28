"""A delimited file opened: the bytes that cut it, and its blocks from the start."""

from __future__ import annotations

import itertools
from collections.abc import Iterator
from dataclasses import dataclass
from typing import BinaryIO

from ultravect.core.layouts.delimited.around import unframed
from ultravect.core.layouts.delimited.blocks import DelimitedBlock, Dialect, cut_blocks
from ultravect.core.layouts.delimited.client_codes import decoded, with_null_kept
from ultravect.core.layouts.delimited.cuts import csv_reader
from ultravect.core.layouts.delimited.lines import (
    STAND_IN,
    blank_comments,
    delimit_blanks,
    drop_footer,
    line_feeds,
    quotes_after_blanks,
    replace_delimiter,
    skip_lines,
    whole_lines,
)
from ultravect.core.layouts.encoding import utf8_chunks
from ultravect.core.model.layout import BLANKS, DelimitedLayout

# The first blocks are small, so that the first rows are there at once.
BLOCK_BYTES = (128 << 10, 512 << 10, 2 << 20)
LATER_BLOCK_BYTES = 2 << 20


@dataclass(frozen=True)
class Opened:
    """A file's complete layout, and the bytes that cut it; ``carriage_returns`` end its lines where it has no line feeds."""

    path: str
    layout: DelimitedLayout
    dialect: Dialect
    carriage_returns: bool


def dialect_of(layout: DelimitedLayout) -> Dialect:
    quote = None if layout.quote == "none" else ord(layout.quote)
    delimiter = (layout.delimiter or ",").encode()
    escape = ord(layout.escape) if layout.escape else None
    if layout.delimiter == BLANKS:
        return Dialect(STAND_IN, quote, 0x0A, escape, b" ")
    long = delimiter if len(delimiter) > 1 or delimiter == b"\x00" else None
    return Dialect(STAND_IN if long else delimiter[0], quote, 0x0A, escape, long)


def all_blocks(stream: BinaryIO, opened: Opened) -> Iterator[DelimitedBlock]:
    layout, dialect, path = opened.layout, opened.dialect, opened.path
    sizes = itertools.chain(BLOCK_BYTES, itertools.repeat(LATER_BLOCK_BYTES))
    chunks = utf8_chunks(stream, layout.encoding or "utf-8", sizes, path)
    if opened.carriage_returns:
        chunks = line_feeds(chunks, dialect.quote)
    preamble = layout.preamble or 0
    if preamble:
        chunks = skip_lines(chunks, preamble, dialect.newline)
    keeps_null = layout.escape == "\\" and "\\N" in layout.values.nulls
    if (
        layout.comment
        or layout.footer
        or dialect.long_delimiter
        or layout.skip_blanks
        or layout.codes
        or layout.frame
        or keeps_null
    ):
        chunks = whole_lines(chunks, dialect.newline, path)
    if layout.comment:
        chunks = blank_comments(chunks, layout.comment.encode(), dialect.newline)
    if layout.footer:
        chunks = drop_footer(chunks, layout.footer, dialect.newline)
    if layout.frame:
        chunks = unframed(chunks)
    if layout.codes:
        chunks = decoded(chunks, dialect.delimiter)
    elif keeps_null:
        chunks = with_null_kept(chunks, dialect.delimiter)
    if layout.delimiter == BLANKS:
        chunks = delimit_blanks(chunks, dialect.quote, path)
    elif dialect.long_delimiter:
        chunks = replace_delimiter(chunks, dialect.long_delimiter, path)
    if layout.skip_blanks and dialect.quote is not None:
        chunks = quotes_after_blanks(chunks, dialect.delimiter, dialect.quote)
    return cut_blocks(chunks, dialect, preamble + 1, path)


def data_blocks(stream: BinaryIO, opened: Opened) -> Iterator[DelimitedBlock]:
    header = opened.layout.header_rows
    for block in all_blocks(stream, opened):
        if header and len(block.row_starts):
            skipped, header = header, max(0, header - len(block.row_starts))
            if len(block.row_starts) <= skipped:
                continue
            start = int(block.row_starts[skipped])
            line = block.row_line(skipped)
            block = DelimitedBlock(block.path, block.data[start:], line, block.dialect)
        if not block.data.isspace() or block.data.strip(b"\r\n"):
            yield block


def cells(block: DelimitedBlock, index: int, layout: DelimitedLayout) -> list[str]:
    """The values of one row of a block."""
    text = block.row_bytes(index).decode("utf-8", "replace").rstrip("\r\n")
    row = next(csv_reader(text, chr(block.dialect.delimiter), layout), [])
    if block.dialect.long_delimiter:
        row = [cell.replace(chr(STAND_IN), block.dialect.long_delimiter.decode()) for cell in row]
    return row
