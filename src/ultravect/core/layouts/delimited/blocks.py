"""Cuts a delimited file into blocks that end where a row ends, minding line breaks inside quotes."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from functools import cached_property

import numpy as np
import numpy.typing as npt

from ultravect.core.errors import UltravectError
from ultravect.core.layouts.delimited.quotes import Quotes, find_quotes

MAX_RECORD = 64 << 20


@dataclass(frozen=True)
class Dialect:
    """The bytes that cut a file: ``quote`` None where values are not quoted."""

    delimiter: int
    quote: int | None
    newline: int


@dataclass(frozen=True)
class Block:
    """Whole rows as UTF-8; ``line`` is the number of its first line in the file, from 1."""

    data: bytes
    line: int
    dialect: Dialect
    quotes: Quotes

    @cached_property
    def row_starts(self) -> npt.NDArray[np.int64]:
        """Where each row starts; lines without a character are no rows."""
        buffer = np.frombuffer(self.data, np.uint8)
        ends = np.flatnonzero(buffer == self.dialect.newline)
        ends = ends[~self.quotes.inside(ends)]
        if not len(ends) or ends[-1] != len(buffer) - 1:
            ends = np.append(ends, len(buffer))
        starts = np.concatenate([[0], ends[:-1] + 1])
        length = ends - starts
        carriage = (length == 1) & (buffer[np.minimum(starts, len(buffer) - 1)] == 0x0D)
        kept: npt.NDArray[np.int64] = starts[(length > 0) & ~carriage]
        return kept

    def row_line(self, index: int) -> int:
        """The line at which row ``index`` of this block starts, in the file."""
        return self.line + self.data.count(self.dialect.newline, 0, int(self.row_starts[index]))

    def row_text(self, index: int) -> str:
        """The row as it stands in the file."""
        starts = self.row_starts
        end = int(starts[index + 1]) if index + 1 < len(starts) else len(self.data)
        return self.data[int(starts[index]) : end].decode("utf-8", "replace").rstrip("\r\n")


def _line_at(data: bytes, position: int, first_line: int, newline: int) -> int:
    return first_line + data.count(newline, 0, position)


def _broken(object_name: str, what: str, line: int) -> UltravectError:
    return UltravectError(
        "broken-quote",
        f"{object_name}, line {line:,}: {what}",
        hint="double the quotes inside quoted values, or set layout.quote (none: values are not quoted)",
        object=object_name,
        line=line,
    )


def cut_blocks(chunks: Iterable[bytes], dialect: Dialect, first_line: int, object_name: str) -> Iterator[Block]:
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
        quotes = _quotes(data, dialect)
        if quotes.stray is not None:
            raise _stray(data, quotes, line, dialect, object_name)
        cut = data.rfind(newline) + 1
        while cut and quotes.inside(np.array([cut - 1]))[0]:
            # back to the newest opening quote, then to the line end before it
            opening = quotes.positions[np.searchsorted(quotes.positions, cut - 1) - 1]
            cut = data.rfind(newline, 0, int(opening)) + 1
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
        kept = quotes.positions[: np.searchsorted(quotes.positions, cut)]
        yield Block(block, line, dialect, Quotes(kept))
        line += block.count(newline)
    if rest:
        quotes = _quotes(rest, dialect)
        if quotes.stray is not None:
            raise _stray(rest, quotes, line, dialect, object_name)
        if quotes.open_at is not None:
            at = _line_at(rest, quotes.open_at, line, dialect.newline)
            raise _broken(object_name, "a quote opens here and is never closed", at)
        yield Block(rest, line, dialect, quotes)


def _quotes(data: bytes, dialect: Dialect) -> Quotes:
    if dialect.quote is None:
        return Quotes(np.empty(0, np.int64))
    return find_quotes(data, dialect.quote, dialect.delimiter)


def _stray(data: bytes, quotes: Quotes, line: int, dialect: Dialect, object_name: str) -> UltravectError:
    opened = _line_at(data, int(quotes.positions[-2]), line, dialect.newline)
    closed = _line_at(data, int(quotes.positions[-1]), line, dialect.newline)
    where = "" if opened == closed else f" (the value starts in line {opened:,}; was its quote left open there?)"
    return _broken(object_name, f"text follows a closing quote{where}", closed)
