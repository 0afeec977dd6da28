"""From the bytes of a text file to UTF-8, chunk by chunk."""

from __future__ import annotations

import codecs
import io
import itertools
import re
import unicodedata
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any, BinaryIO, cast

from charset_normalizer import from_bytes

from ultravect.core.errors import UltravectError
from ultravect.core.model.finding import Finding, Replacement

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


# what a library distinguishes, in the order in which they are preferred where several are as likely
_KNOWN = (
    "cp1252", "gb18030", "shift_jis", "big5", "euc_jp", "euc_kr", "cp1251", "koi8_r", "cp1250", "iso8859_2", "mac_roman",
    "cp1253", "cp1254", "cp1255", "cp1256", "cp866", "cp850", "cp437",
)  # fmt: skip
_LOOKED_AT = 32 << 10
_MARGIN = 0.25
_STREAM_BYTES = 1 << 20
_LITTLE = 12
_MOST_ODD = 0.02
_HALF_TURKISH = re.compile(rb"[\xd0\xdd\xde\xf0\xfd\xfe]")
_ASCII = frozenset(map(chr, range(128)))
_CENTRAL = frozenset("ąćęłńóśźżĄĆĘŁŃÓŚŹŻáčďéěíňřšťúůýžÁČĎÉĚÍŇŘŠŤÚŮÝŽäôöőüűĺľŕÄÔÖŐÜŰĹĽŔăâîşţĂÂÎŞŢđĐ„”“’–—…«»€ß")
_CAPITAL_INSIDE = re.compile(r"[a-zß-žő-ź][^\W\d_a-zA-Zß-ÿ](?<=[ĄĆĘŁŃÓŚŹŻÁČĎÉĚÍŇŘŠŤÚŮÝŽÖŐÜŰĹĽŔĂÂÎŞŢĐÄÔ])")
_HIGH = re.compile(rb"[\x80-\xff]+")
_ALONE, _PAIRED, _OFTEN = 0.8, 0.95, 0.2
# the first bytes of Japanese syllables in EUC; letters that are frequent in Greek and rare as Russian letters of the same bytes, and such in Russian
_KANA, _SOME_KANA = (0xA4, 0xA5), 0.15
_GREEK, _RUSSIAN = (0xE1, 0xEF, 0xE9, 0xF4), (0xEE, 0xE0, 0xE8, 0xF2)


def detect_encoding(head: bytes) -> DetectedEncoding:
    """The encoding that the first bytes of a file speak for."""
    for mark, name in _MARKS:
        if head.startswith(mark):
            return DetectedEncoding(name, True, f"a byte order mark says {name}")
    try:
        codecs.getincrementaldecoder("utf-8")("strict").decode(head)
    except UnicodeDecodeError as error:
        first = f"byte 0x{head[error.start]:02X} at offset {error.start:,} is not UTF-8"
        if wide := _two_bytes(head):
            return DetectedEncoding(wide, False, f"{first}, and pairs of bytes are characters of {wide}")
        return _by_library(head, first)
    if 0 in head and (wide := _two_bytes(head)):
        return DetectedEncoding(wide, False, f"every other byte is zero, as in {wide}")
    return DetectedEncoding("utf-8", True, "the bytes are valid UTF-8")


def _two_bytes(head: bytes) -> str:
    """UTF-16 without a byte order mark, when nearly all that it gives are letters, marks and line ends."""
    text = head[: _LOOKED_AT & ~1]
    text = text[: len(text) & ~1]
    found: list[tuple[float, str]] = []
    for name, newline in (("utf-16-le", b"\n\x00"), ("utf-16-be", b"\x00\n")):
        try:
            # a character of two pairs may be cut off at the end
            decoded = codecs.getincrementaldecoder(name)("strict").decode(text)
        except UnicodeDecodeError:
            continue
        sample = decoded[:2000]
        odd = sum(
            1 for item in sample if unicodedata.category(item) in ("Cn", "Co", "Cc", "Cs") and item not in "\t\r\n"
        )
        plain = sum(1 for item in sample if item < "\u0100")
        if sample and odd <= _MOST_ODD * len(sample) and (newline in text or plain > len(sample) / 2):
            found.append((odd - plain, name))
    return min(found)[1] if found else ""


def _by_library(head: bytes, first: str) -> DetectedEncoding:
    """What bytes that are no UTF-8 are most likely: recognised by how letters follow each other."""
    lines = [line for line in head.splitlines(keepends=True) if not line.isascii()]
    sample = b"".join(lines)[:_LOOKED_AT]
    if shaped := _by_shape(sample):
        other = "shift_jis" if shaped == "cp1252" else "cp1252"
        return DetectedEncoding(
            shaped,
            False,
            f"{first}; taken for {shaped}, by where such bytes stand{_readings(lines[0], shaped, other)}",
        )
    found = list(from_bytes(sample, cp_isolation=list(_KNOWN), steps=10, chunk_size=2048))
    if not found:
        return DetectedEncoding("cp1252", False, f"{first}; taken for cp1252 (Western European)")
    best = min(found, key=lambda entry: (entry.chaos, -entry.coherence))
    likely = [
        item for item in found if item.chaos <= best.chaos + 0.05 and item.coherence >= best.coherence - _MARGIN
    ]
    if sum(byte > 0x7F for byte in sample) < _LITTLE:
        likely = [item for item in found if item.chaos <= best.chaos + 0.05]  # too little to recognise a language
    # a match stands for all encodings that give the same text
    western = [item for item in likely if "cp1252" in item.could_be_from_charset and _is_western(sample)]
    chosen = western[0] if western else best
    name = "cp1252" if western else chosen.encoding
    others = [item.encoding for item in sorted(found, key=lambda item: item.chaos) if item is not chosen][:2]
    reason = f"{first}; taken for {name}, by its letters"
    if chosen.language not in ("", "Unknown"):
        reason += f" {chosen.language}"
    if others:
        reason += f"; {' or '.join(others)} is possible, too{_readings(lines[0], name, others[0])}"
    return DetectedEncoding(name, False, reason)


def _by_shape(sample: bytes) -> str:
    """What bytes above ASCII are by where they stand: alone between letters, in pairs, or as whole words; "" where that says too little."""
    runs = _HIGH.findall(sample)
    if not runs:
        return ""
    if sum(len(run) == 1 for run in runs) >= _ALONE * len(runs) and _is_western(sample):
        # the bytes of Icelandic letters are frequent in Turkish
        return "" if _HALF_TURKISH.search(sample) else "cp1252"
    if not _is_western(sample):
        for name in ("cp1250", "iso8859_2"):
            decoded = sample.decode(name, "replace")
            if _decodes(sample, name) and set(decoded) - _ASCII <= _CENTRAL and not _CAPITAL_INSIDE.search(decoded):
                return name
    total = sum(map(len, runs))
    pairs = [run for run in runs if len(run) % 2 == 0 and min(run) >= 0xA1]
    if len(pairs) >= _PAIRED * len(runs) and total >= 2 * _LITTLE:
        leads = b"".join(run[::2] for run in pairs)
        if sum(leads.count(lead) for lead in _KANA) >= _SOME_KANA * len(leads) and _decodes(sample, "euc_jp"):
            return "euc_jp"
    if total >= 2 * _LITTLE and total >= 3 * len(runs) and _decodes(sample, "cp1253"):
        text = b"".join(runs)
        greek, russian = (sum(text.count(byte) for byte in often) / total for often in (_GREEK, _RUSSIAN))
        if greek > 2 * russian and greek > _OFTEN:
            return "cp1253"
    return ""


def _decodes(sample: bytes, encoding: str) -> bool:
    try:
        codecs.getincrementaldecoder(encoding)("strict").decode(sample)
    except UnicodeDecodeError:
        return False
    return True


def _readings(line: bytes, one: str, other: str) -> str:
    """How the first line with such bytes reads in two encodings."""
    at = next((place for place, byte in enumerate(line) if byte > 0x7F), 0)
    part = line[max(0, at - 20) : at + 20].strip()
    shown = [f"{part.decode(name, 'replace')!r} in {name}" for name in (one, other)]
    return f": the first such line has {' or '.join(shown)}" if shown[0] != shown[1] else ""


def _is_western(sample: bytes) -> bool:
    """Whether bytes above ASCII are, read as cp1252, letters and marks that Western texts have."""
    text = sample.decode("cp1252", "replace")
    rare = sum(1 for item in text if item in "\ufffdŠŽšžŸƒˆ‰‹›†‡•˜")
    return rare == 0


def encoding_finding(detected: DetectedEncoding) -> Finding:
    """Says an encoding that was detected: a warning where another one is possible."""
    text = f"encoding {detected.name}: {detected.reason}"
    if detected.sure:
        return Finding("note", "encoding-detected", text, "from.layout")
    fix = f"look at the rows; if they are right, write layout.encoding: {detected.name}"
    replacement = Replacement("from.layout.encoding", detected.name)
    return Finding("warning", "encoding-detected", text, "from.layout", fix, replacement)


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


class _Utf8Stream(io.RawIOBase):
    """The content of a text file as UTF-8."""

    def __init__(self, stream: BinaryIO, encoding: str, object_name: str) -> None:
        self._stream = stream
        self._chunks = utf8_chunks(stream, encoding, itertools.repeat(_STREAM_BYTES), object_name)
        self._rest = b""

    def readable(self) -> bool:
        return True

    def readinto(self, buffer: Any) -> int:
        while not self._rest:
            chunk = next(self._chunks, b"")
            if not chunk:
                return 0
            self._rest = chunk
        part, self._rest = self._rest[: len(buffer)], self._rest[len(buffer) :]
        buffer[: len(part)] = part
        return len(part)

    def close(self) -> None:
        self._stream.close()
        super().close()


def utf8_stream(stream: BinaryIO, encoding: str, object_name: str) -> BinaryIO:
    """A stream of the same text as UTF-8, without byte order mark."""
    return cast(BinaryIO, io.BufferedReader(_Utf8Stream(stream, encoding, object_name), _STREAM_BYTES))
