"""A large sheet of an xlsx, some thousand rows at a time: each piece is a workbook of its own with the same styles and texts."""

from __future__ import annotations

import io
import itertools
import re
import zipfile
from collections.abc import Iterator
from dataclasses import dataclass
from typing import IO

import python_calamine as calamine

from ultravect.core.layouts.workbook.cells import SheetCells, cells_of, sheet_parts

HEAD_ROWS = 2_000
"""Rows of the first piece: what they hold decides on the columns."""
_PIECE_ROWS = (10_000, 10_000, 25_000)  # of the pieces after the first, the last number for all others
_LARGE = 8 << 20  # bytes of a sheet; smaller ones are read at once
_LONGEST_TAIL = 16 << 20
_READ = 1 << 20
_LONGEST_TAG = 100
_ROW = re.compile(rb"<(?:[A-Za-z_][\w.-]*:)?row[\s/>]")
_NUMBERED = re.compile(rb"<(?:[A-Za-z_][\w.-]*:)?row\s[^>]*?\br\s*=\s*[\"']\d+[\"']")
_END = re.compile(rb"</((?:[A-Za-z_][\w.-]*:)?)sheetData\s*>")
_NEEDED = re.compile(
    r"(\[Content_Types\]\.xml|_rels/\.rels|xl/(workbook|styles|sharedStrings|_rels/workbook\.xml)\.(xml|rels))",
    re.IGNORECASE,
)


@dataclass(frozen=True)
class LargeSheet:
    """A sheet, ``part`` of the archive ``data``, whose rows say their numbers. ``rows``: about how many it has; ``tail``: what stands
    below them, with the merged cells."""

    data: bytes
    name: str
    part: str
    rows: int
    tail: bytes

    @classmethod
    def of(cls, data: bytes, name: str) -> LargeSheet | None:
        """None for one that is read at once: it is small, or of another format, or its rows have no numbers."""
        if not data.startswith(b"PK"):
            return None
        with zipfile.ZipFile(io.BytesIO(data)) as archive:
            part = sheet_parts(archive).get(name)
            if part is None or archive.getinfo(part).file_size < _LARGE:
                return None
            with archive.open(part) as stream:
                rows, tail = _count(stream)
            if not tail or len(tail) > _LONGEST_TAIL:
                return None
            with archive.open(part) as stream:
                _, first = next(_cut(stream), (b"", b""))
            return cls(data, name, part, rows, tail) if _NUMBERED.match(first) else None

    def pieces(self) -> Iterator[SheetCells]:
        """All rows, ``HEAD_ROWS`` of them first; the merged cells come with these."""
        tail = self.tail
        with zipfile.ZipFile(io.BytesIO(self.data)) as archive, archive.open(self.part) as stream:
            others = {name: archive.read(name) for name in archive.namelist() if _NEEDED.fullmatch(name)}
            for start, rows in _cut(stream):
                written = io.BytesIO()
                with zipfile.ZipFile(written, "w") as book:
                    for name, content in others.items():
                        book.writestr(name, content)
                    book.writestr(self.part, start + rows + tail)
                data = written.getvalue()
                yield cells_of(calamine.CalamineWorkbook.from_filelike(io.BytesIO(data)), data, self.name)
                end = _END.match(self.tail)
                assert end
                tail = end[0] + b"</" + end[1] + b"worksheet>"


def _count(stream: IO[bytes]) -> tuple[int, bytes]:
    """About how many rows there are, and what stands from their end on."""
    rows, before = 0, b""
    while piece := stream.read(_READ):
        rows += piece.count(b"<row") + piece.count(b":row ")
        if end := _end(before + piece, 0):
            return rows, (before + piece)[end.start() :] + stream.read(_LONGEST_TAIL + 1)
        before = piece[-_LONGEST_TAG:]
    return rows, b""


def _end(held: bytes, at: int) -> re.Match[bytes] | None:
    """Where the rows end; the word is looked for first, which takes a small part of the time."""
    while (word := held.find(b"sheetData", at)) >= 0:
        if end := _END.search(held, max(word - _LONGEST_TAG, 0), word + _LONGEST_TAG):
            return end
        at = word + 1
    return None


def _cut(stream: IO[bytes]) -> Iterator[tuple[bytes, bytes]]:
    """What stands before the first row, and whole rows, some thousand at a time."""
    start: bytes | None = None
    sizes = itertools.chain([HEAD_ROWS], _PIECE_ROWS, itertools.repeat(_PIECE_ROWS[-1]))
    held, at, count, wanted = b"", 0, 0, next(sizes)
    ended = False
    while not ended:
        piece = stream.read(_READ)
        unseen = max(len(held) - _LONGEST_TAG, 0)
        held += piece
        end = _end(held, unseen)
        ended = end is not None or not piece
        if end:
            held = held[: end.start()]
        while row := _ROW.search(held, at):
            if start is None:
                start, held, at = held[: row.start()], held[row.start() :], 0
            elif count == wanted:
                yield start, held[: row.start()]
                held, at, count, wanted = held[row.start() :], 0, 0, next(sizes)
            else:
                count, at = count + 1, row.end()
    if start is not None and held:
        yield start, held
