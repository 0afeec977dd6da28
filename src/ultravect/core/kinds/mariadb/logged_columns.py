"""The columns of a table as its changes in the binary log describe them, and their values as the types of the copy."""

from __future__ import annotations

import codecs
import ipaddress
import struct
import zlib
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from functools import cache, partial
from typing import Any
from uuid import UUID

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from ultravect.core.kinds.mariadb.binlog import Broken
from ultravect.core.types.arrow import array_from, as_text
from ultravect.core.types.canonical import CanonicalType
from ultravect.core.types.stored import stored_values

_TINY, _SHORT, _LONG, _FLOAT, _DOUBLE, _LONGLONG, _INT24, _YEAR, _BIT = 1, 2, 3, 4, 5, 8, 9, 13, 16
_VARCHAR, _BLOB_COMPRESSED, _VARCHAR_COMPRESSED, _JSON, _DECIMAL = 15, 140, 141, 245, 246
_ENUM, _SET, _BLOB, _STRING, _GEOMETRY = 247, 248, 252, 254, 255
_TIMESTAMP, _DATE, _TIME, _DATETIME, _TIMESTAMP2, _DATETIME2, _TIME2 = 7, 10, 11, 12, 17, 18, 19
_NUMBERS = frozenset([_TINY, _SHORT, _INT24, _LONG, _LONGLONG, _FLOAT, _DOUBLE, _DECIMAL, _YEAR])
# what is made of bytes has a character set, figures on a map too
_TEXTS = frozenset([_GEOMETRY, _VARCHAR, _BLOB_COMPRESSED, _VARCHAR_COMPRESSED, _BLOB, _STRING, 249, 250, 251, 253])
# how many bytes the metadata of a type has
_METADATA = {
    **dict.fromkeys((_FLOAT, _DOUBLE, _BLOB, _BLOB_COMPRESSED, _JSON, _GEOMETRY, _TIMESTAMP2, _DATETIME2, _TIME2), 1),
    **dict.fromkeys((_VARCHAR, _VARCHAR_COMPRESSED, _DECIMAL, _STRING, _ENUM, _SET, _BIT), 2),
}
_SIGNS, _CHARSET, _CHARSETS, _NAMES, _SET_NAMES, _ENUM_NAMES, _NAMED_CHARSET, _NAMED_CHARSETS = (
    1,
    2,
    3,
    4,
    5,
    6,
    10,
    11,
)
_BINARY = 63
# by the first word of a native type: the codes by which the log has it
_CODES: Mapping[str, tuple[int, ...]] = {
    "tinyint": (_TINY,), "smallint": (_SHORT,), "mediumint": (_INT24,), "int": (_LONG,), "bigint": (_LONGLONG,), "float": (_FLOAT,),
    "double": (_DOUBLE,), "decimal": (_DECIMAL,), "date": (_DATE,), "time": (_TIME, _TIME2), "datetime": (_DATETIME, _DATETIME2),
    "timestamp": (_TIMESTAMP, _TIMESTAMP2), "year": (_YEAR,), "bit": (_BIT,), "enum": (_ENUM,), "set": (_SET,), "char": (_STRING,),
    "binary": (_STRING,), "uuid": (_STRING,), "inet4": (_STRING,), "inet6": (_STRING,), "varchar": (_VARCHAR, _VARCHAR_COMPRESSED),
    "varbinary": (_VARCHAR, _VARCHAR_COMPRESSED), "json": (_JSON, _BLOB),
}  # fmt: skip
_BLOB_BYTES = {"tiny": 1, "": 2, "medium": 3, "long": 4}


class Unreadable(Exception):
    """A column whose values are not read from the log. The message completes "column … is …"."""


@dataclass(frozen=True)
class LoggedColumn:
    """``code`` and the numbers are those of the protocol; ``names`` those of an enumeration or a set, ``collation`` the number of a text's."""

    name: str
    code: int
    first: int
    second: int
    unsigned: bool
    collation: int
    names: tuple[str, ...] = ()

    @property
    def described(self) -> tuple[int, int, int, bool]:
        """As the decoder is given it."""
        is_fixed = self.code == _STRING and self.collation == _BINARY
        return self.code, self.first, int(is_fixed) if self.code == _STRING else self.second, self.unsigned

    def fits(self, native: str) -> bool:
        """Whether it is of a type as the catalogue writes it."""
        base, _, rest = native.partition("(")
        words = base.split()
        base = words[0] if words else ""
        numbers = [int(part) for part in rest.split(")")[0].split(",") if part.strip().isdigit()] if rest else []
        if base.endswith(("text", "blob")):
            size = _BLOB_BYTES.get(base[:-4])
            return self.code in (_BLOB, _BLOB_COMPRESSED) and (self.code == _BLOB_COMPRESSED or self.first == size)
        if base not in _CODES:
            return self.code == _GEOMETRY
        if self.code not in _CODES[base]:
            return False
        match base:
            case "decimal":
                return (self.first, self.second) == tuple(numbers) and self.unsigned == ("unsigned" in native)
            case "varchar" | "char":
                widest = _widest(self.collation)
                return numbers[:1] == [self.first // widest] and self.collation != _BINARY
            case "varbinary" | "binary":
                return numbers[:1] == [self.first] and self.collation == _BINARY
            case "enum" | "set":
                return _names_of(native) == self.names
            case "bit":
                return numbers[:1] == [self.first]
            case "time" | "datetime" | "timestamp":
                return self.code < _TIMESTAMP2 or (numbers or [0])[0] == self.first
        return self.unsigned == ("unsigned" in native) if self.code in _NUMBERS - {_YEAR} else True


def _names_of(native: str) -> tuple[str, ...]:
    """The names of ``enum('a','b')``; a quote in one is written twice."""
    inner = native[native.index("(") + 1 : native.rindex(")")]
    return tuple(part.replace("''", "'") for part in inner[1:-1].split("','"))


def _packed(data: bytes, at: int) -> tuple[int, int]:
    first = data[at]
    if first < 251:
        return first, at + 1
    size = {252: 2, 253: 3, 254: 8}[first]
    return int.from_bytes(data[at + 1 : at + 1 + size], "little"), at + 1 + size


def logged_columns(data: bytes) -> list[LoggedColumn] | None:
    """The columns of a description, from their count on; None where it does not have their names. Broken where it is damaged."""
    try:
        return _columns(data)
    except (IndexError, KeyError, ValueError, struct.error):
        raise Broken("a table's description that is damaged") from None


def _columns(data: bytes) -> list[LoggedColumn] | None:
    count, at = _packed(data, 0)
    codes = list(data[at : at + count])
    size, at = _packed(data, at + count)
    metadata, at = data[at : at + size], at + size + (count + 7) // 8
    numbers, place = [], 0
    for number, code in enumerate(codes):
        first, second, width = 0, 0, _METADATA.get(code, 0)
        part = metadata[place : place + width]
        place += width
        if width == 1:
            first = part[0]
        elif code in (_VARCHAR, _VARCHAR_COMPRESSED):
            first = part[0] | part[1] << 8
        elif code == _DECIMAL:
            first, second = part[0], part[1]
        elif code == _BIT:
            first = part[0] + 8 * part[1]
        elif width:
            # the type itself, and with it two bits of the length
            kind, first = part[0], part[1]
            if kind & 0x30 != 0x30:
                first |= ((kind & 0x30) ^ 0x30) << 4
                kind |= 0x30
            codes[number] = kind if kind in (_ENUM, _SET) else _STRING
        numbers.append((first, second))
    fields: dict[int, bytes] = {}
    while at < len(data):
        kind = data[at]
        size, at = _packed(data, at + 1)
        fields[kind], at = data[at : at + size], at + size
    if _NAMES not in fields:
        return None
    names = [name.decode() for name in _texts(fields[_NAMES])]
    signs = fields.get(_SIGNS, b"")
    unsigned = dict.fromkeys(range(count), False)
    for place, number in enumerate(number for number, code in enumerate(codes) if code in _NUMBERS):
        unsigned[number] = bool(signs[place >> 3] >> (7 - (place & 7)) & 1) if place >> 3 < len(signs) else False
    # of an unsigned zero-filled year nothing is said that matters
    collations = _collations(fields, codes, _TEXTS, _CHARSET, _CHARSETS)
    collations |= _collations(fields, codes, frozenset([_ENUM, _SET]), _NAMED_CHARSET, _NAMED_CHARSETS)
    lists = {_ENUM: iter(_lists(fields.get(_ENUM_NAMES, b""))), _SET: iter(_lists(fields.get(_SET_NAMES, b"")))}
    columns = []
    for number, (name, code) in enumerate(zip(names, codes, strict=True)):
        collation = collations.get(number, _BINARY)
        values = next(lists[code]) if code in lists else []
        decode = decoder(collation) if values and collation != _BINARY else bytes.decode
        columns.append(
            LoggedColumn(
                name, code, *numbers[number], unsigned[number], collation, tuple(decode(value) for value in values)
            )
        )
    return columns


def _texts(data: bytes) -> list[bytes]:
    found, at = [], 0
    while at < len(data):
        size, at = _packed(data, at)
        found.append(data[at : at + size])
        at += size
    return found


def _lists(data: bytes) -> list[list[bytes]]:
    found, at = [], 0
    while at < len(data):
        count, at = _packed(data, at)
        values = []
        for _ in range(count):
            size, at = _packed(data, at)
            values.append(data[at : at + size])
            at += size
        found.append(values)
    return found


def _collations(
    fields: Mapping[int, bytes], codes: Sequence[int], kinds: frozenset[int], usual: int, each: int
) -> dict[int, int]:
    """Of columns of these kinds, the number of the collation: one for most and others by place, or each by itself."""
    places = [number for number, code in enumerate(codes) if code in kinds]
    if each in fields:
        at, found = 0, {}
        for number in places:
            found[number], at = _packed(fields[each], at)
        return found
    if usual not in fields:
        return {}
    data = fields[usual]
    value, at = _packed(data, 0)
    found = dict.fromkeys(places, value)
    while at < len(data):
        place, at = _packed(data, at)
        found[places[place]], at = _packed(data, at)
    return found


# texts

_collation_charsets: dict[int, tuple[str, int]] = {}


def note_collations(rows: Sequence[tuple[int, str, int]]) -> None:
    """What the server says of its collations: number, character set, and the most bytes of a character."""
    _collation_charsets.update({int(number): (str(charset), int(widest)) for number, charset, widest in rows})


def _charset(collation: int) -> tuple[str, int]:
    return _collation_charsets.get(collation, ("utf8mb4", 4))


def _widest(collation: int) -> int:
    return _charset(collation)[1]


_UTF8 = frozenset(["utf8mb4", "utf8mb3", "utf8", "ascii", "binary"])
# what the servers' character sets are to Python where that is not their name
_PYTHON = {
    "latin1": "cp1252", "latin2": "iso8859-2", "latin5": "iso8859-9", "latin7": "iso8859-13", "greek": "iso8859-7", "hebrew": "iso8859-8",
    "ucs2": "utf-16-be", "utf16": "utf-16-be", "utf16le": "utf-16-le", "utf32": "utf-32-be", "koi8r": "koi8-r", "koi8u": "koi8-u",
    "ujis": "euc_jp", "eucjpms": "euc_jp", "sjis": "shift_jis", "euckr": "euc_kr", "gb2312": "gb2312", "gbk": "gbk", "big5": "big5",
    "cp932": "cp932", "cp850": "cp850", "cp852": "cp852", "cp866": "cp866", "cp1250": "cp1250", "cp1251": "cp1251", "cp1256": "cp1256",
    "cp1257": "cp1257", "macroman": "mac_roman", "macce": "mac-latin2", "tis620": "tis-620", "gb18030": "gb18030",
}  # fmt: skip


@cache
def decoder(collation: int) -> Callable[[bytes], str]:
    """From bytes to text; Unreadable where the character set is not known here."""
    charset, _ = _charset(collation)
    if charset in _UTF8:
        return lambda value: value.decode("utf-8", "surrogateescape")
    if charset not in _PYTHON:
        raise Unreadable(f"in the character set {charset}, which is not read from the log")
    name = _PYTHON[charset]
    if charset != "latin1":
        return lambda value: codecs.decode(value, name, "surrogateescape")
    # five bytes are no characters of the code page, and are what they are to the server
    return lambda value: "".join(
        chr(byte) if byte in _NOT_IN_1252 else bytes([byte]).decode("cp1252") for byte in value
    )


_NOT_IN_1252 = frozenset([0x81, 0x8D, 0x8F, 0x90, 0x9D])


@cache
def _table(collation: int) -> tuple[npt.NDArray[np.uint8], npt.NDArray[np.int64]]:
    """Of each byte of a character set of single bytes its UTF-8, in three bytes, and how many of them count."""
    forms, sizes = np.zeros((256, 3), np.uint8), np.zeros(256, np.int64)
    decode = decoder(collation)
    for byte in range(256):
        form = decode(bytes([byte])).encode("utf-8", "surrogatepass")
        forms[byte, : len(form)], sizes[byte] = list(form), len(form)
    return forms, sizes


def _recoded(values: pa.Array, collation: int) -> pa.Array:
    """Texts of another character set as UTF-8."""
    charset, widest = _charset(collation)
    if charset in _UTF8:
        return values
    if widest > 1:
        decode = decoder(collation)
        return pa.array(
            [
                None if value is None else decode(value).encode("utf-8", "surrogatepass")
                for value in values.to_pylist()
            ],
            pa.binary(),
        )
    forms, sizes = _table(collation)
    valid, ends, data = values.buffers()
    offsets = np.frombuffer(ends, np.int32, len(values) + 1)
    bytes_of = np.frombuffer(data or b"", np.uint8)[: offsets[-1]]
    wide = sizes[bytes_of]
    places = np.concatenate([[0], np.cumsum(wide)])
    text = np.zeros(int(places[-1]), np.uint8)
    for number in range(3):
        has = wide > number
        text[places[:-1][has] + number] = forms[bytes_of[has], number]
    return pa.Array.from_buffers(
        pa.binary(), len(values), [valid, pa.py_buffer(places[offsets].astype(np.int32)), pa.py_buffer(text)]
    )


# values


def values_of(
    column: LoggedColumn, native: str, kind: CanonicalType | None, count: int, buffers: Sequence[Any]
) -> pa.Array:
    """The values that the decoder has kept, as ``stored_values`` gives them; ``native`` and ``kind``: what they are in the catalogue."""
    wanted = kind or CanonicalType("text")
    code = column.code
    if code == _FLOAT:
        return _as(array_from(pa.float32(), count, buffers), wanted)
    if code == _DOUBLE:
        return _as(array_from(pa.float64(), count, buffers), wanted)
    if code in _NUMBERS - {_DECIMAL} and not (code == _LONGLONG and column.unsigned):
        return _as(array_from(pa.int64(), count, buffers), wanted)
    if code == _ENUM:
        numbers = array_from(pa.int64(), count, buffers)
        # number 0: a value that was none of the names
        return stored_values(pa.array(["", *column.names]).take(numbers), wanted)
    if code == _SET:
        numbers = array_from(pa.int64(), count, buffers)
        chosen = numbers.dictionary_encode()
        words = [
            ",".join(name for place, name in enumerate(column.names) if number >> place & 1)
            for number in chosen.dictionary.to_pylist()
        ]
        return stored_values(pa.array(words, pa.string()).take(chosen.indices), wanted)
    values = array_from(pa.binary(), count, buffers)
    if code in (_BLOB_COMPRESSED, _VARCHAR_COMPRESSED):
        values = _each(values, _opened)
    base = native.partition("(")[0].split()[0] if native else ""
    if base in _FORMS and column.collation == _BINARY and code == _STRING:
        values = _each(values, partial(_FORMS[base], column.first))
    elif column.collation != _BINARY:
        values = _recoded(values, column.collation)
    return stored_values(values, wanted)


def _as(values: pa.Array, kind: CanonicalType) -> pa.Array:
    """Numbers in their type, or as texts where one is beyond it."""
    if kind.name == "boolean":
        span = pc.min_max(values)
        if (span["min"].as_py() or 0) >= 0 and (span["max"].as_py() or 0) <= 1:
            return values.cast(pa.bool_())
        return as_text(values)
    if values.type == kind.arrow:
        return values
    try:
        return values.cast(kind.arrow)
    except (pa.ArrowInvalid, pa.ArrowNotImplementedError):
        return stored_values(as_text(values), kind)


def _each(values: pa.Array, form: Callable[[bytes], bytes]) -> pa.Array:
    """Of the few types that are no plain values in the log."""
    return pa.array([None if value is None else form(value) for value in values.to_pylist()], pa.binary())


def _opened(value: bytes) -> bytes:
    """A value of a compressed column: a byte that says how, the size, and the data."""
    if not value:
        return value
    head = value[0]
    if head == 0:
        return value[1:]
    size = int.from_bytes(value[1 : 1 + (head & 7)], "big")
    opened = zlib.decompressobj(-15 if head & 8 else 15)
    try:
        text = opened.decompress(value[1 + (head & 7) :], size + 1)
    except zlib.error:
        raise Broken("a compressed value that is damaged") from None
    if len(text) != size:
        raise Broken("a compressed value of another size than it says")
    return text


def _uuid(size: int, value: bytes) -> bytes:
    return str(UUID(bytes=value.ljust(size, b"\0"))).encode()


def _address(size: int, value: bytes) -> bytes:
    raw = value.ljust(size, b"\0")
    if size == 4:
        return str(ipaddress.IPv4Address(raw)).encode()
    address = ipaddress.IPv6Address(raw)
    for first, shown in ((b"\0" * 10 + b"\xff\xff", "::ffff:"), (b"\0" * 12, "::")):
        if raw[:12] == first and (raw[12:14] != b"\0\0" or shown != "::"):
            return f"{shown}{ipaddress.IPv4Address(raw[12:])}".encode()
    return str(address).encode()


_FORMS: Mapping[str, Callable[[int, bytes], bytes]] = {"uuid": _uuid, "inet6": _address, "inet4": _address}
