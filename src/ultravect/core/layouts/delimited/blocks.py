"""Cuts a delimited file into blocks that end where a row ends, minding line breaks inside quotes."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from functools import cached_property

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from ultravect.core.errors import UltravectError
from ultravect.core.layouts.base import MAX_RECORD
from ultravect.core.layouts.delimited.marks import Marks, find_marks
from ultravect.core.layouts.delimited.quotes import NO_QUOTES, Quotes, find_quotes
from ultravect.core.layouts.delimited.values import row_end, row_starts


@dataclass(frozen=True)
class Dialect:
    """The bytes that cut a file: ``quote`` None where values are not quoted, ``escape`` None where nothing is escaped.

    A delimiter of several characters is ``long_delimiter``; in blocks the byte ``delimiter`` stands for it.
    """

    delimiter: int
    quote: int | None
    newline: int
    escape: int | None = None
    long_delimiter: bytes | None = None

    @property
    def quote_byte(self) -> int:
        """As compiled loops take it: -1 where values are not quoted."""
        return -1 if self.quote is None else self.quote


def skeleton(data: bytes, dialect: Dialect) -> bytes:
    """The same bytes with escaped characters made harmless, to say where rows and values end."""
    if dialect.escape is None or dialect.escape not in data:
        return data
    return re.sub(re.escape(bytes([dialect.escape])) + b"(?s:.)", b"xx", data)


@dataclass(frozen=True)
class DelimitedBlock:
    """Whole rows as UTF-8; ``line`` is the number of its first line in the file, from 1."""

    path: str
    data: bytes
    line: int
    dialect: Dialect

    @property
    def size(self) -> int:
        return len(self.data)

    @cached_property
    def has_nul(self) -> bool:
        return 0 in self.data

    @cached_property
    def is_utf8(self) -> bool:
        whole = pa.py_buffer(np.array([0, len(self.data)], np.int32))
        try:
            pa.StringArray.from_buffers(1, whole, pa.py_buffer(self.data)).validate(full=True)
        except pa.ArrowInvalid:
            return False
        return True

    @cached_property
    def structure(self) -> npt.NDArray[np.uint8]:
        """The bytes that say where rows and values end."""
        return np.frombuffer(skeleton(self.data, self.dialect), np.uint8)

    @cached_property
    def quotes(self) -> Quotes:
        """The quotes that open and close values."""
        return quotes_in(skeleton(self.data, self.dialect), self.dialect)

    @cached_property
    def cuts(self) -> Marks:
        """The delimiters and line ends outside of quotes."""
        quote = self.dialect.quote
        marks = find_marks(self.structure, self.dialect.delimiter, self.dialect.newline, quote)
        counted = self.quotes.positions
        if not len(counted) and quote is None:
            return marks
        quoted = marks.kinds == quote
        if len(counted) == np.count_nonzero(quoted):
            inside = (np.cumsum(quoted, dtype=np.uint8) & 1).astype(np.bool_)
        else:
            inside = self.quotes.inside(marks.places)
        return marks.only(~(inside | quoted))

    @cached_property
    def delimiters(self) -> npt.NDArray[np.int64]:
        """Where the delimiters stand that are outside of quotes."""
        return self.cuts.of(self.dialect.delimiter)

    @cached_property
    def widths(self) -> npt.NDArray[np.int64]:
        """The number of values in each row."""
        first = np.searchsorted(self.delimiters, self.row_starts)
        widths: npt.NDArray[np.int64] = np.diff(np.append(first, len(self.delimiters))) + 1
        return widths

    @cached_property
    def row_starts(self) -> npt.NDArray[np.int64]:
        """Where each row starts; lines without a character are no rows."""
        if self.dialect.newline == 0x0A and self.dialect.escape is None:
            quote = self.dialect.quote_byte
            places = row_starts(self.data, self.dialect.delimiter, quote)
            if places is not None:
                return np.frombuffer(places, np.int64)
        buffer = self.structure
        ends = self.cuts.of(self.dialect.newline)
        if not len(ends) or ends[-1] != len(buffer) - 1:
            ends = np.append(ends, len(buffer))
        starts = np.concatenate([[0], ends[:-1] + 1])
        length = ends - starts
        carriage = (length == 1) & (buffer[np.minimum(starts, len(buffer) - 1)] == 0x0D)
        kept: npt.NDArray[np.int64] = starts[(length > 0) & ~carriage]
        return kept

    def row_line(self, index: int) -> int:
        """The line at which row ``index`` of this block starts, in the file."""
        return self.line + int(np.searchsorted(self._newlines, self.row_starts[index]))

    @cached_property
    def _newlines(self) -> npt.NDArray[np.int64]:
        """Where lines end, also inside quotes."""
        return np.flatnonzero(np.frombuffer(self.data, np.uint8) == self.dialect.newline)

    def row_text(self, index: int) -> str:
        """The row as it stands in the file."""
        text = self.row_bytes(index).decode("utf-8", "replace").rstrip("\r\n")
        long = self.dialect.long_delimiter
        return text.replace(chr(self.dialect.delimiter), long.decode()) if long else text

    def row_bytes(self, index: int) -> bytes:
        starts = self.row_starts
        end = int(starts[index + 1]) if index + 1 < len(starts) else len(self.data)
        return self.data[int(starts[index]) : end]


def _line_at(data: bytes, position: int, first_line: int, newline: int) -> int:
    return first_line + data.count(newline, 0, position)


def _broken(object_name: str, what: str, line: int) -> UltravectError:
    return UltravectError(
        "broken-quote",
        f"{object_name}, line {line:,}: {what}",
        hint="double the quotes inside quoted values; or set layout.escape (such as a backslash), or layout.quote (none: values are not "
        "quoted)",
        object=object_name,
        line=line,
    )


def cut_blocks(
    chunks: Iterable[bytes], dialect: Dialect, first_line: int, object_name: str
) -> Iterator[DelimitedBlock]:
    """Blocks of about the size of the chunks; UltravectError for quotes that make the rows uncertain."""
    rest = b""
    line = first_line
    newline = bytes([dialect.newline])
    wanted = 0  # a row longer than a chunk: read on until twice as much is there, not byte by byte
    for chunk in chunks:
        data = rest + chunk if rest else chunk
        if len(data) < wanted:
            rest = data
            continue
        if dialect.escape is None:
            quote = dialect.quote_byte
            found = row_end(data, dialect.delimiter, quote, dialect.newline)
            if found is not None:
                cut, lines = found
                block, rest, wanted = data[:cut], data[cut:], 0
                yield DelimitedBlock(object_name, block, line, dialect)
                line += lines
                continue
        bones = skeleton(data, dialect)
        quotes = quotes_in(bones, dialect)
        if quotes.stray is not None:
            raise _stray(data, quotes, line, dialect, object_name)
        cut = bones.rfind(newline) + 1
        while cut and quotes.inside(np.array([cut - 1]))[0]:
            # back to the newest opening quote, then to the line end before it
            opening = quotes.positions[np.searchsorted(quotes.positions, cut - 1) - 1]
            cut = bones.rfind(newline, 0, int(opening)) + 1
        if cut == 0:
            if len(data) > MAX_RECORD:
                what = f"a row of more than {MAX_RECORD >> 20} MiB starts here"
                if quotes.open_at is not None:
                    what += "; a quote in it is never closed"
                raise _broken(object_name, what, line)
            rest, wanted = data, len(data) * 2
            continue
        wanted = 0
        block, rest = data[:cut], data[cut:]
        yield DelimitedBlock(object_name, block, line, dialect)
        line += block.count(newline)
    if rest:
        quotes = quotes_in(skeleton(rest, dialect), dialect)
        if quotes.stray is not None:
            raise _stray(rest, quotes, line, dialect, object_name)
        if quotes.open_at is not None:
            at = _line_at(rest, quotes.open_at, line, dialect.newline)
            raise _broken(object_name, "a quote opens here and is never closed", at)
        yield DelimitedBlock(object_name, rest, line, dialect)


def quotes_in(bones: bytes, dialect: Dialect) -> Quotes:
    """The quotes that count in these whole rows."""
    return NO_QUOTES if dialect.quote is None else find_quotes(bones, dialect.quote, dialect.delimiter)


def _stray(data: bytes, quotes: Quotes, line: int, dialect: Dialect, object_name: str) -> UltravectError:
    opened = _line_at(data, int(quotes.positions[-2]), line, dialect.newline)
    closed = _line_at(data, int(quotes.positions[-1]), line, dialect.newline)
    where = "" if opened == closed else f" (the value starts in line {opened:,}; was its quote left open there?)"
    return _broken(object_name, f"text follows a closing quote{where}", closed)
