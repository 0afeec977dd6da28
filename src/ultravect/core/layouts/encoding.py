"""From the bytes of a text file to UTF-8, chunk by chunk."""

from __future__ import annotations

import codecs
from collections.abc import Iterator
from dataclasses import dataclass
from typing import BinaryIO

from ultravect.core.errors import UltravectError
from ultravect.core.model.finding import Finding

_MARKS = (
    (codecs.BOM_UTF8, "utf-8"),
    (codecs.BOM_UTF32_LE, "utf-32"),
    (codecs.BOM_UTF16_LE, "utf-16"),
    (codecs.BOM_UTF16_BE, "utf-16"),
)


@dataclass(frozen=True)
class DetectedEncoding:
    """``sure`` is false where the bytes allow another reading; ``reason`` says what was seen."""

    name: str
    sure: bool
    reason: str


def detect_encoding(head: bytes) -> DetectedEncoding:
    """The encoding that the first bytes of a file speak for."""
    for mark, name in _MARKS:
        if head.startswith(mark):
            return DetectedEncoding(name, True, f"a byte order mark says {name}")
    if head[1::2].count(0) > len(head) // 4 or head[::2].count(0) > len(head) // 4:
        name = "utf-16-le" if head[1::2].count(0) > head[::2].count(0) else "utf-16-be"
        return DetectedEncoding(name, False, f"every other byte is zero, as in {name}")
    try:
        codecs.getincrementaldecoder("utf-8")("strict").decode(head)
    except UnicodeDecodeError as error:
        text = f"byte 0x{head[error.start]:02X} at offset {error.start:,} is not UTF-8; taken for cp1252 (Western European)"
        return DetectedEncoding("cp1252", False, text)
    return DetectedEncoding("utf-8", True, "the bytes are valid UTF-8")


def encoding_finding(detected: DetectedEncoding) -> Finding:
    """Tells an encoding that was detected: a warning where another one is possible."""
    text = f"encoding {detected.name}: {detected.reason}"
    if detected.sure:
        return Finding("note", "encoding-detected", text, "from.layout")
    fix = f"if that is right, write layout.encoding: {detected.name}"
    return Finding("warning", "encoding-detected", text, "from.layout", fix)


def is_utf8(encoding: str) -> bool:
    return codecs.lookup(encoding).name in ("utf-8", "utf-8-sig", "ascii")


def utf8_chunks(stream: BinaryIO, encoding: str, sizes: Iterator[int], object_name: str) -> Iterator[bytes]:
    """Chunks of about ``sizes`` bytes as UTF-8, without byte order mark.

    UTF-8 itself is passed on unchecked: its bad bytes are found per value later, and become rejects.
    """
    if is_utf8(encoding):
        first = True
        while chunk := stream.read(next(sizes)):
            yield chunk.removeprefix(codecs.BOM_UTF8) if first else chunk
            first = False
        return
    decoder = codecs.getincrementaldecoder(encoding)("strict")
    offset = 0
    first = True
    while True:
        chunk = stream.read(next(sizes))
        try:
            text = decoder.decode(chunk, final=not chunk)
        except UnicodeDecodeError as error:
            raise UltravectError(
                "wrong-encoding",
                f"{object_name}: the bytes near offset {offset + error.start:,} are not {encoding}: {error.reason}",
                hint="set layout.encoding to what the file is written in, such as utf-8, latin-1 or cp1252",
                object=object_name,
            ) from None
        offset += len(chunk)
        if first and text:
            text = text.removeprefix("\ufeff")
            first = False
        if text:
            yield text.encode("utf-8", "surrogatepass")
        if not chunk:
            return
