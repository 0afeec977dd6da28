"""Filters between the bytes of a file and its rows: preamble, comment lines, footer, delimiters of several characters."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator

import numpy as np

from ultravect.core.errors import UltravectError
from ultravect.core.layouts.base import MAX_RECORD

STAND_IN = 0x1F


def skip_lines(chunks: Iterable[bytes], count: int, newline: int) -> Iterator[bytes]:
    """The chunks after the first ``count`` lines."""
    for chunk in chunks:
        while count:
            end = chunk.find(newline)
            if end < 0:
                chunk = b""
                break
            chunk, count = chunk[end + 1 :], count - 1
        if chunk:
            yield chunk


def whole_lines(chunks: Iterable[bytes], newline: int, object_name: str) -> Iterator[bytes]:
    """Chunks that end where a line ends, but for the last; UltravectError for a line that is too long to hold."""
    parts: list[bytes] = []
    held = 0
    for chunk in chunks:
        cut = chunk.rfind(newline) + 1
        if not cut:
            parts.append(chunk)
            held += len(chunk)
        else:
            yield b"".join([*parts, chunk[:cut]])
            parts, held = [chunk[cut:]], len(chunk) - cut
        if held > MAX_RECORD:
            raise UltravectError(
                "record-too-long",
                f"{object_name} has a line of more than {MAX_RECORD >> 20} MiB",
                hint="is it written on one line on purpose? check layout.format and layout.terminator",
                object=object_name,
            )
    if rest := b"".join(parts):
        yield rest


def blank_comments(chunks: Iterable[bytes], mark: bytes, newline: int) -> Iterator[bytes]:
    """Lines that start with ``mark`` emptied, so that the count of lines stays; chunks are whole lines."""
    end = re.escape(bytes([newline]))
    pattern = re.compile(rb"(^|(?<=" + end + rb"))" + re.escape(mark) + rb"[^" + end + rb"]*")
    for chunk in chunks:
        yield pattern.sub(b"", chunk) if mark in chunk else chunk


def drop_footer(chunks: Iterable[bytes], count: int, newline: int) -> Iterator[bytes]:
    """Everything but the last ``count`` lines; an empty line at the very end is none."""
    held = b""
    for chunk in chunks:
        held += chunk
        cut = _lines_from_end(held, count, newline)
        if cut > 0:
            yield held[:cut]
            held = held[cut:]


def _lines_from_end(data: bytes, count: int, newline: int) -> int:
    """Where the last ``count`` lines start; 0 when there are not more."""
    end = len(data.rstrip(b"\r\n"))
    for _ in range(count):
        end = data.rfind(newline, 0, end)
        if end < 0:
            return 0
    return end + 1


def replace_delimiter(chunks: Iterable[bytes], delimiter: bytes, object_name: str) -> Iterator[bytes]:
    """A delimiter of several bytes as the single byte ``STAND_IN``; chunks are whole lines."""
    for chunk in chunks:
        if STAND_IN in chunk:
            raise _stand_in_found(object_name, repr(delimiter.decode()))
        yield chunk.replace(delimiter, bytes([STAND_IN]))


def _stand_in_found(object_name: str, delimiter: str) -> UltravectError:
    return UltravectError(
        "delimiter-uncertain",
        f"{object_name} holds the character U+001F, which stands for the delimiter {delimiter} here",
        hint="remove that character from the file, or use a delimiter of one character",
        object=object_name,
    )


def line_feeds(chunks: Iterable[bytes], quote: int | None) -> Iterator[bytes]:
    """Carriage returns that end rows as line feeds; those inside quotes stay as they are."""
    inside = 0
    for chunk in chunks:
        if quote is None or (quote not in chunk and not inside):
            yield chunk.replace(b"\r", b"\n")
            continue
        data = np.frombuffer(chunk, np.uint8).copy()
        turns = np.cumsum(data == np.uint8(quote), dtype=np.int64) + inside
        data[(data == 0x0D) & (turns % 2 == 0)] = 0x0A
        inside = int(turns[-1]) % 2 if len(turns) else inside
        yield data.tobytes()


def quotes_after_blanks(chunks: Iterable[bytes], delimiter: int, quote: int) -> Iterator[bytes]:
    """Blanks between a delimiter, or the start of a row, and a quote left out; chunks are whole lines."""
    mark, end = bytes([quote]), re.escape(bytes([delimiter]))
    pattern = re.compile(
        mark
        + b"(?:[^"
        + mark
        + b"]|"
        + mark * 2
        + b")*"
        + mark
        + rb"[ \t]*|(^|"
        + end
        + rb"|\n)[ \t]+(?="
        + mark
        + b")"
    )
    for chunk in chunks:
        yield pattern.sub(lambda found: found[0].rstrip(b" \t"), chunk) if mark in chunk else chunk


def delimit_blanks(chunks: Iterable[bytes], quote: int | None, object_name: str) -> Iterator[bytes]:
    """Runs of blanks as the single byte ``STAND_IN``, none at the start and end of a line; chunks are whole lines."""
    mark = None if quote is None else bytes([quote])
    quoted = None if mark is None else re.compile(mark + b"[^" + mark + rb"\n]*" + mark + rb"|[ \t]+")
    for chunk in chunks:
        if STAND_IN in chunk:
            raise _stand_in_found(object_name, "blanks")
        chunk = re.sub(rb"(?m)^[ \t]+|[ \t]+(?=\r?$)", b"", chunk)
        if quoted is None or mark is None or mark not in chunk:
            yield re.sub(rb"[ \t]+", bytes([STAND_IN]), chunk)
        else:
            yield quoted.sub(lambda found: found[0] if found[0][:1] == mark else bytes([STAND_IN]), chunk)
