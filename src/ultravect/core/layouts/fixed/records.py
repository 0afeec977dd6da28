"""Cuts text into records of one length, with or without line ends between them."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from ultravect.core.layouts.base import BadRow
from ultravect.core.model.layout import FixedField
from ultravect.core.words import counted

Characters = npt.NDArray[np.uint8] | npt.NDArray[np.uint32]
_SPACE = 0x20
_BREAKS = (0x0A, 0x0D)
_ASCII_TRIMS = {
    "both": pc.ascii_trim_whitespace,
    "left": pc.ascii_ltrim_whitespace,
    "right": pc.ascii_rtrim_whitespace,
    "none": lambda values: values,
}
_TRIMS = {
    "both": pc.utf8_trim_whitespace,
    "left": pc.utf8_ltrim_whitespace,
    "right": pc.utf8_rtrim_whitespace,
    "none": lambda values: values,
}


@dataclass(frozen=True)
class Span:
    """A field's characters in a record, from 0."""

    name: str
    begin: int
    end: int
    trim: str


def spans_of(fields: Iterable[FixedField]) -> list[Span]:
    """Fields by width or by position, as positions."""
    found: list[Span] = []
    end = 0
    for declared in fields:
        begin = declared.start - 1 if declared.start else end
        end = begin + declared.width
        found.append(Span(declared.name, begin, end, declared.trim))
    return found


def characters(text: bytes) -> Characters:
    """UTF-8 as one number a character; bytes that are not UTF-8 count as one each."""
    if text.isascii():
        return np.frombuffer(text, np.uint8)
    return np.frombuffer(text.decode("utf-8", "surrogateescape").encode("utf-32-le", "surrogatepass"), np.uint32)


def text_of(row: Characters) -> str:
    """The text of some characters."""
    if row.dtype == np.uint8:
        return row.tobytes().decode("ascii")
    return (
        row.tobytes()
        .decode("utf-32-le", "surrogatepass")
        .encode("utf-8", "surrogateescape")
        .decode("utf-8", "replace")
    )


@dataclass(frozen=True)
class FixedBlock:
    """Records as a matrix of characters; ``bad`` ones are left out of it, ``index`` says the places of the others."""

    path: str
    size: int
    matrix: Characters
    index: npt.NDArray[np.int64]
    first_line: int | None
    bad: list[BadRow] = field(default_factory=list)
    bad_texts: dict[int, str] = field(default_factory=dict)

    @cached_property
    def has_nul(self) -> bool:
        return bool((self.matrix == 0).any())

    def row_line(self, index: int) -> int | None:
        """The line of a record; None where all records stand on one."""
        return None if self.first_line is None else self.first_line + index

    def row_text(self, index: int) -> str:
        if index in self.bad_texts:
            return self.bad_texts[index]
        return text_of(self.matrix[int(np.searchsorted(self.index, index))])

    def column(self, span: Span) -> pa.Array:
        """A field's values as strings, trimmed; as bytes where they are not UTF-8."""
        part: Characters = np.ascontiguousarray(self.matrix[:, span.begin : span.end])  # type: ignore[assignment]
        rows, width = part.shape
        trim = _TRIMS[span.trim]
        if part.dtype == np.uint8:
            offsets = pa.py_buffer(np.arange(0, rows * width + 1, width or 1, dtype=np.int32)[: rows + 1])
            # each is ASCII: to look for what is not would be to look in vain
            plain = pa.StringArray.from_buffers(rows, offsets, pa.py_buffer(part))
            return _ASCII_TRIMS[span.trim](plain)
        if _escaped(part):
            raw = [
                row.tobytes().decode("utf-32-le", "surrogatepass").encode("utf-8", "surrogateescape") for row in part
            ]
            return pa.array([value.strip() if span.trim == "both" else value for value in raw], pa.binary())
        words = part.view(f"<U{width}").reshape(rows) if width else np.array([""] * rows)
        return trim(pa.array(words, pa.string()))


def _escaped(part: Characters) -> bool:
    return bool(((part >= 0xDC80) & (part <= 0xDCFF)).any())


def _matrix(rows: list[Characters], width: int) -> Characters:
    if not rows:
        return np.empty((0, width), np.uint8)
    kind = np.uint8 if all(row.dtype == np.uint8 for row in rows) else np.uint32
    return np.stack([row.astype(kind) for row in rows])


def cut_lines(chunks: Iterable[bytes], path: str, width: int, exact: bool, first_line: int) -> Iterator[FixedBlock]:
    """A record a line, chunks being whole lines; ``exact``: shorter ones are bad, otherwise they end in spaces."""
    line = first_line
    for chunk in chunks:
        block = _even_lines(chunk, path, width, line) or _uneven_lines(chunk, path, width, exact, line)
        line += chunk.count(b"\n")
        if len(block.index) or block.bad:
            yield block


def _even_lines(chunk: bytes, path: str, width: int, line: int) -> FixedBlock | None:
    """All lines as long as a record: no line need be looked at on its own."""
    if not chunk.isascii():
        return None
    data = np.frombuffer(chunk if chunk.endswith(b"\n") else chunk + b"\n", np.uint8)
    for ending in (1, 2):
        step = width + ending
        if len(data) % step:
            continue
        matrix = data.reshape(-1, step)
        body = matrix[:, :width]
        ends_right = (matrix[:, -1] == 0x0A).all() and (ending == 1 or (matrix[:, width] == 0x0D).all())
        if ends_right and not np.isin(body, _BREAKS).any():
            return FixedBlock(path, len(chunk), body, np.arange(len(matrix)), line)
    return None


def _uneven_lines(chunk: bytes, path: str, width: int, exact: bool, line: int) -> FixedBlock:
    rows: list[Characters] = []
    index: list[int] = []
    bad: list[BadRow] = []
    texts: dict[int, str] = {}
    lines = chunk.split(b"\n")
    if lines and not lines[-1]:
        lines.pop()
    for place, text in enumerate(lines):
        record = characters(text.removesuffix(b"\r"))
        if not len(record):
            continue
        if len(record) < width and not exact:
            record = np.concatenate([record, np.full(width - len(record), _SPACE, record.dtype)])
        if (len(record) > width and (exact or (record[width:] != _SPACE).any())) or len(record) < width:
            texts[place] = text.decode("utf-8", "replace").rstrip("\r")
            bad.append(BadRow(place, f"{counted(len(record), 'character')} where a record has {width:,}"))
            continue
        rows.append(record[:width])
        index.append(place)
    return FixedBlock(path, len(chunk), _matrix(rows, width), np.array(index, np.int64), line, bad, texts)


def cut_stream(chunks: Iterable[bytes], path: str, width: int) -> Iterator[FixedBlock]:
    """One record after the other, without line ends; a line end after the last is let pass."""
    rest: Characters = np.empty(0, np.uint8)
    left = b""
    for chunk in chunks:
        text = left + chunk
        # a character is not to be cut in two
        end = len(text) if text.isascii() else _character_end(text)
        left, found = text[end:], characters(text[:end])
        buffer = found if not len(rest) else np.concatenate([rest, found])
        whole = len(buffer) - len(buffer) % width
        if whole:
            yield _stream_block(buffer[:whole].reshape(-1, width), path, [], {})
        rest = buffer[whole:]
    if left:
        rest = np.concatenate([rest, characters(left)])
    if len(rest) and not np.isin(rest, (*_BREAKS, 0x1A)).all():
        reason = f"the last record ends after {len(rest):,} of {width:,} characters"
        yield FixedBlock(
            path,
            len(rest),
            np.empty((0, width), np.uint8),
            np.empty(0, np.int64),
            None,
            [BadRow(0, reason)],
            {0: text_of(rest)},
        )


def _character_end(text: bytes) -> int:
    """Where the last whole character ends."""
    for back in range(1, min(4, len(text)) + 1):
        byte = text[-back]
        if byte & 0xC0 != 0x80:
            needed = 1 if byte < 0x80 else 2 if byte >> 5 == 6 else 3 if byte >> 4 == 14 else 4
            return len(text) if needed <= back else len(text) - back
    return len(text)


def _stream_block(matrix: Characters, path: str, bad: list[BadRow], texts: dict[int, str]) -> FixedBlock:
    size = matrix.size
    broken = ((matrix == _BREAKS[0]) | (matrix == _BREAKS[1])).any(axis=1)
    index = np.arange(len(matrix))
    if broken.any():
        for place in np.flatnonzero(broken):
            texts[int(place)] = text_of(matrix[place])
            bad.append(
                BadRow(
                    int(place),
                    "a line break stands inside the record; is layout.terminator newline, or the record's length wrong?",
                )
            )
        matrix, index = matrix[~broken], index[~broken]
    return FixedBlock(path, size, matrix, index, None, bad, texts)
