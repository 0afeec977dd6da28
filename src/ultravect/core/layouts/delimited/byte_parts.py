"""Divides a delimited file into ranges of bytes, each of which starts where a row starts."""

from __future__ import annotations

import codecs
from collections.abc import Iterator
from contextlib import closing
from typing import BinaryIO

import numpy as np

from ultravect.core.errors import UltravectError
from ultravect.core.layouts.base import SourceFile
from ultravect.core.layouts.delimited.blocks import DelimitedBlock, Dialect
from ultravect.core.layouts.encoding import is_utf8
from ultravect.core.layouts.parts import Part
from ultravect.core.model.layout import BLANKS, DelimitedLayout

_CHUNK = 2 << 20


def undivided(file: SourceFile, layout: DelimitedLayout, dialect: Dialect, *, carriage_returns: bool) -> str:
    """Why the bytes of a file cannot be read from its middle; "" where they can."""
    if file.compressed:
        return "a compressed file can only be read from its start"
    if not is_utf8(layout.encoding or "utf-8"):
        return f"text in {layout.encoding} is read from its start"
    if layout.footer:
        return "the last lines of the file (layout.footer) are known only at its end"
    special = (
        layout.comment,
        layout.skip_blanks,
        layout.delimiter == BLANKS,
        dialect.long_delimiter,
        layout.codes,
        layout.escape,
        layout.frame,
        layout.header_rows > 1,
    )
    if any(special) or carriage_returns:
        return "the lines of this layout are changed before they are cut, from the start of the file"
    return ""


def byte_parts(file: SourceFile, layout: DelimitedLayout, blocks: Iterator[DelimitedBlock], count: int) -> list[Part]:
    """At most ``count`` parts; ``blocks`` are those after the preamble, which are read up to the last cut."""
    offset, rows = _bytes_of_preamble(file, layout.preamble or 0), 0
    starts: list[tuple[int, int, int]] = []
    wanted: list[int] = []
    for block in blocks:
        places = block.row_starts
        if not starts and len(places):
            starts.append((offset, 0, block.line) if not layout.header else _after_header(block, offset))
            first = starts[0][0]
            wanted = [first + (file.size - first) * number // count for number in range(1, count)]
            rows -= bool(layout.header)
        while wanted and wanted[0] < offset + block.size:
            at = int(np.searchsorted(places, wanted[0] - offset))
            if at == len(places):
                break  # the next row starts in the next block
            del wanted[0]
            if (place := offset + int(places[at])) > starts[-1][0]:
                starts.append((place, rows + at, block.row_line(at)))
        if starts and not wanted:
            break
        offset += block.size
        rows += len(places)
    ends = [*(start for start, _, _ in starts[1:]), file.size]
    return [
        Part(f"bytes {start:,} to {end:,} of {file.path}", first=start, last=end, rows_before=before, line=line)
        for (start, before, line), end in zip(starts, ends, strict=True)
    ]


def _after_header(block: DelimitedBlock, offset: int) -> tuple[int, int, int]:
    """Where the rows begin, in the file's bytes, and at which line."""
    if len(block.row_starts) > 1:
        return offset + int(block.row_starts[1]), 0, block.row_line(1)
    return offset + block.size, 0, block.line + block.data.count(block.dialect.newline)


def _bytes_of_preamble(file: SourceFile, lines: int) -> int:
    """How many bytes come before the rows and their header."""
    with closing(file.open()) as stream:
        chunk = stream.read(_CHUNK)
        skipped = len(codecs.BOM_UTF8) if chunk.startswith(codecs.BOM_UTF8) else 0
        before, at = 0, skipped
        while lines:
            end = chunk.find(b"\n", at)
            if end < 0:
                before += len(chunk)
                chunk, at = stream.read(_CHUNK), 0
                if not chunk:
                    return before
                continue
            at, lines = end + 1, lines - 1
        return before + at


def range_chunks(stream: BinaryIO, part: Part, path: str) -> Iterator[bytes]:
    """The bytes of a part; UltravectError where the file has fewer."""
    stream.seek(part.first)
    left = part.last - part.first
    while left:
        chunk = stream.read(min(left, _CHUNK))
        if not chunk:
            raise UltravectError(
                "file-changed",
                f"{path} changed while it was read: it ends {left:,} bytes before the end of the part {part.label}",
                hint="copy it when its writer is done; writers should write under another name and rename at the end",
                object=path,
            )
        left -= len(chunk)
        yield chunk
