"""SQL Server's types: how PostgreSQL keeps them, and how their values stand in the protocol.

Published in MS-TDS, sections 2.2.5.4 and 2.2.5.5.
"""

from __future__ import annotations

import datetime as dt
import re
import struct
import uuid
from collections.abc import Callable
from dataclasses import dataclass
from decimal import Context, Decimal
from typing import Any

COLLATION = bytes.fromhex("0904d00034")  # SQL_Latin1_General_CP1_CI_AS
DEFAULT_COLLATION = "SQL_Latin1_General_CP1_CI_AS"
_NATIVE = re.compile(r"^(?P<base>[a-z0-9_]+)(?:\((?P<first>\d+|max)(?:,(?P<second>\d+))?\))?$")
_KEPT = {
    "bit": "tsql.bit", "tinyint": "tsql.tinyint", "smallint": "smallint", "int": "integer", "bigint": "bigint", "real": "real",
    "money": "numeric(19,4)", "smallmoney": "numeric(10,4)", "date": "date", "datetime": "timestamp(3)",
    "smalldatetime": "timestamp(0)", "uniqueidentifier": "uuid", "text": "text", "ntext": "text", "xml": "text",
    "image": "bytea", "rowversion": "bytea", "timestamp": "bytea", "sql_variant": "text", "hierarchyid": "text",
    "geography": "text", "geometry": "text", "sysname": "varchar(128)",
}  # fmt: skip
_TEXTS = frozenset(["char", "varchar", "nchar", "nvarchar", "text", "ntext", "xml", "sysname", "sql_variant"])
# PostgreSQL's texts have no NUL: a character that is none stands for it
_NUL = "\U0010ffff"
_EXACT = Context(prec=80)
_EPOCH = dt.date(1, 1, 1)
_DAY = dt.timedelta(days=1)


@dataclass(frozen=True)
class Native:
    """A type as it is declared; ``first`` is -1 for (max), and None where nothing was said."""

    base: str
    first: int | None = None
    second: int | None = None

    @classmethod
    def parse(cls, written: str) -> Native:
        match = _NATIVE.match(written.lower().replace(" ", ""))
        if not match:
            return cls("sql_variant")
        first = match["first"]
        return cls(
            match["base"],
            None if first is None else -1 if first == "max" else int(first),
            int(match["second"]) if match["second"] else None,
        )

    def __str__(self) -> str:
        arguments = [("max" if item == -1 else str(item)) for item in (self.first, self.second) if item is not None]
        return self.base + (f"({','.join(arguments)})" if arguments else "")

    @property
    def is_text(self) -> bool:
        return self.base in _TEXTS

    @property
    def kept_as(self) -> str:
        """The type in PostgreSQL."""
        if self.base in _KEPT:
            return _KEPT[self.base]
        if self.base in ("char", "nchar"):
            return f"varchar({self.first or 1})"
        if self.base in ("varchar", "nvarchar"):
            return "text" if self.first == -1 else f"varchar({self.first or 1})"
        if self.base in ("binary", "varbinary"):
            return "bytea"
        if self.base in ("decimal", "numeric"):
            return f"numeric({self.first or 18},{self.second or 0})"
        if self.base == "float":
            return "real" if self.first is not None and self.first <= 24 else "double precision"
        if self.base == "datetime2" and self.first in (None, 7):
            return "tsql.datetime2"
        digits = min(7 if self.first is None else self.first, 6)
        if self.base in ("time", "datetime2", "datetimeoffset"):
            kept = {"time": "time", "datetime2": "timestamp", "datetimeoffset": "timestamptz"}[self.base]
            return f"{kept}({digits})"
        raise KeyError(self.base)

    @property
    def catalogued(self) -> tuple[int, int, int]:
        """``max_length`` in bytes, ``precision`` and ``scale``, as the catalogue has them."""
        wide = 2 if self.base.startswith("n") and self.base != "numeric" else 1
        if self.base in ("char", "varchar", "nchar", "nvarchar", "binary", "varbinary"):
            return (-1 if self.first == -1 else (self.first or 1) * wide, 0, 0)
        if self.base in ("decimal", "numeric"):
            return (17, self.first or 18, self.second or 0)
        if self.base in ("time", "datetime2", "datetimeoffset"):
            return (8, 27, 7 if self.first is None else self.first)
        fixed = {
            "bit": (1, 1, 0), "tinyint": (1, 3, 0), "smallint": (2, 5, 0), "int": (4, 10, 0), "bigint": (8, 19, 0),
            "money": (8, 19, 4), "smallmoney": (4, 10, 4), "real": (4, 24, 0), "float": (8, 53, 0), "date": (3, 10, 0),
            "datetime": (8, 23, 3), "smalldatetime": (4, 16, 0), "uniqueidentifier": (16, 0, 0), "rowversion": (8, 0, 0),
            "timestamp": (8, 0, 0), "sysname": (256, 0, 0),
        }  # fmt: skip
        return fixed.get(self.base, (-1, 0, 0))


def of_postgres(oid: int, modifier: int) -> Native:
    """The type that the answer's column is shown as, from what PostgreSQL says of it."""
    if oid == 1700:
        return (
            Native("decimal", 38, 10)
            if modifier < 4
            else Native("decimal", (modifier - 4) >> 16, (modifier - 4) & 0xFFFF)
        )
    if oid in (1043, 1042) and modifier > 4:
        return Native("nvarchar", modifier - 4 if modifier - 4 <= 4000 else -1)
    digits = modifier if 0 <= modifier <= 6 else 6
    moments = {1083: "time", 1114: "datetime2", 1184: "datetimeoffset"}
    if oid in moments:
        return Native(moments[oid], digits)
    plain = {
        16: "bit",
        21: "smallint",
        23: "int",
        20: "bigint",
        26: "int",
        700: "real",
        701: "float",
        1082: "date",
        2950: "uniqueidentifier",
    }
    if oid in plain:
        return Native(plain[oid])
    return Native("varbinary", -1) if oid == 17 else Native("nvarchar", -1)


def _digits_bytes(scale: int) -> int:
    return 3 if scale <= 2 else 4 if scale <= 4 else 5


def _ticks(value: dt.time, scale: int) -> bytes:
    micros = ((value.hour * 60 + value.minute) * 60 + value.second) * 1_000_000 + value.microsecond
    ticks = micros * 10 if scale == 7 else micros // 10 ** (6 - scale)
    return ticks.to_bytes(_digits_bytes(scale), "little")


def _days(value: dt.date) -> bytes:
    return (value - _EPOCH).days.to_bytes(3, "little")


def _moment_bytes(value: dt.datetime | str, scale: int) -> bytes:
    """``value`` as text has 100 nanoseconds: see ``tsql.datetime2``."""
    if isinstance(value, dt.datetime):
        return _ticks(value.time(), scale) + _days(value.date())
    whole, _, fraction = value.partition(".")
    moment = dt.datetime.fromisoformat(whole)
    seconds = (moment.hour * 60 + moment.minute) * 60 + moment.second
    ticks = seconds * 10_000_000 + int(fraction.ljust(7, "0") or 0)
    return (ticks // 10 ** (7 - scale)).to_bytes(_digits_bytes(scale), "little") + _days(moment.date())


def _time_of(data: bytes, scale: int) -> dt.timedelta:
    return dt.timedelta(microseconds=int.from_bytes(data, "little") * 10**6 // 10**scale)


class Wire:
    """How a type stands in the protocol: its TYPE_INFO, and its values both ways."""

    def __init__(self, native: Native) -> None:
        self.native = native
        self.info, self.write = self._by_base()

    def _by_base(self) -> tuple[bytes, Callable[[Any], bytes]]:
        native = self.native
        base, scale = native.base, native.first if native.first is not None else 7
        if base in ("bit", "tinyint", "smallint", "int", "bigint"):
            width = {"bit": 1, "tinyint": 1, "smallint": 2, "int": 4, "bigint": 8}[base]
            return bytes([0x68 if base == "bit" else 0x26, width]), self._short(
                lambda value: int(value).to_bytes(width, "little", signed=base not in ("bit", "tinyint"))
            )
        if base in ("real", "float"):
            small = base == "real" or (native.first or 53) <= 24
            return bytes([0x6D, 4 if small else 8]), self._short(
                lambda value: struct.pack("<f" if small else "<d", value)
            )
        if base in ("decimal", "numeric", "money", "smallmoney"):
            precision, places = {"money": (19, 4), "smallmoney": (10, 4)}.get(
                base, (native.first or 18, native.second or 0)
            )
            return bytes([0x6C, 17, precision, places]), self._short(lambda value: _decimal(value, places))
        if base == "date":
            return b"\x28", self._short(_days)
        if base == "time":
            return bytes([0x29, scale]), self._short(lambda value: _ticks(value, scale))
        if base in ("datetime2", "datetime", "smalldatetime"):
            scale = {"datetime": 3, "smalldatetime": 0}.get(base, scale)
            return bytes([0x2A, scale]), self._short(lambda value: _moment_bytes(value, scale))
        if base == "datetimeoffset":
            return bytes([0x2B, scale]), self._short(
                lambda value: (
                    _ticks(value.astimezone(dt.UTC).time(), scale) + _days(value.astimezone(dt.UTC).date()) + bytes(2)
                )
            )
        if base == "uniqueidentifier":
            return b"\x24\x10", self._short(lambda value: uuid.UUID(str(value)).bytes_le)
        if base in ("binary", "varbinary", "image", "rowversion", "timestamp"):
            length = 8 if base in ("rowversion", "timestamp") else native.first or 1
            if base == "image" or length == -1:
                return b"\xa5\xff\xff", lambda value: _chunked(None if value is None else bytes(value))
            return b"\xa5" + struct.pack("<H", length), lambda value: _counted(
                None if value is None else bytes(value)
            )
        if base in ("char", "varchar") and (native.first or 1) != -1:
            # a single byte a character, in the code page of the collation
            return b"\xa7" + struct.pack("<H", native.first or 1) + COLLATION, lambda value: _counted(
                None if value is None else str(value).encode("cp1252", "replace")
            )
        length = {"sysname": 128}.get(base, native.first if base in ("nvarchar", "nchar") else -1)
        if length is not None and 0 < length <= 4000:
            return b"\xe7" + struct.pack("<H", length * 2) + COLLATION, lambda value: _counted(
                None if value is None else _utf16(value)
            )
        return b"\xe7\xff\xff" + COLLATION, lambda value: _chunked(None if value is None else _utf16(value))

    @staticmethod
    def _short(encode: Callable[[Any], bytes]) -> Callable[[Any], bytes]:
        """Values after a length of one byte, 0 for NULL."""

        def write(value: Any) -> bytes:
            if value is None:
                return b"\0"
            data = encode(value)
            return bytes([len(data)]) + data

        return write


def _utf16(value: Any) -> bytes:
    return str(value).replace(_NUL, "\0").encode("utf-16-le", "surrogatepass")


def _decimal(value: Any, places: int) -> bytes:
    unscaled = int(Decimal(value).scaleb(places, _EXACT).to_integral_value(context=_EXACT))
    return bytes([unscaled >= 0]) + abs(unscaled).to_bytes(16, "little")


def _counted(data: bytes | None) -> bytes:
    return b"\xff\xff" if data is None else struct.pack("<H", len(data)) + data


def _chunked(data: bytes | None) -> bytes:
    if data is None:
        return b"\xff" * 8
    return struct.pack("<Q", len(data)) + (struct.pack("<I", len(data)) + data if data else b"") + bytes(4)


class Stream:
    """Bytes of a message, read from the front."""

    def __init__(self, data: bytes) -> None:
        self.data, self.at = data, 0

    def take(self, count: int) -> bytes:
        if self.at + count > len(self.data):
            raise EOFError("a message ends in the middle of a value")
        self.at += count
        return self.data[self.at - count : self.at]

    def number(self, form: str) -> int:
        return int(struct.unpack("<" + form, self.take(struct.calcsize("<" + form)))[0])

    def short_text(self) -> str:
        return self.take(self.number("B") * 2).decode("utf-16-le")

    @property
    def left(self) -> int:
        return len(self.data) - self.at


def read_type(stream: Stream) -> Callable[[Stream], Any]:
    """Reads a TYPE_INFO; what reads its values, as Python has them."""
    code = stream.number("B")
    if code in (0x30, 0x34, 0x38, 0x7F, 0x32):
        width = {0x30: 1, 0x32: 1, 0x34: 2, 0x38: 4, 0x7F: 8}[code]
        return lambda source: int.from_bytes(source.take(width), "little", signed=width > 1)
    if code in (0x26, 0x68):
        stream.take(1)
        return _after_length(lambda data: int.from_bytes(data, "little", signed=len(data) > 1))
    if code == 0x6D:
        stream.take(1)
        return _after_length(lambda data: struct.unpack("<f" if len(data) == 4 else "<d", data)[0])
    if code in (0x6A, 0x6C):
        _, _, places = stream.take(3)
        return _after_length(
            lambda data: Decimal(f"{'' if data[0] else '-'}{int.from_bytes(data[1:], 'little')}e-{places}")
        )
    if code == 0x28:
        return _after_length(lambda data: _EPOCH + int.from_bytes(data, "little") * _DAY)
    if code in (0x29, 0x2A, 0x2B):
        scale = stream.number("B")
        return _after_length(lambda data: _moment(data, code, scale))
    if code == 0x24:
        stream.take(1)
        return _after_length(lambda data: uuid.UUID(bytes_le=data))
    if code in (0xA5, 0xAD, 0xA7, 0xAF, 0xE7, 0xEF):
        length = stream.number("H")
        if code not in (0xA5, 0xAD):
            stream.take(5)
        encoding = {0xE7: "utf-16-le", 0xEF: "utf-16-le", 0xA7: "cp1252", 0xAF: "cp1252"}.get(code, "")

        def value(source: Stream) -> Any:
            data = _from_chunks(source) if length == 0xFFFF else _from_count(source)
            if data is None or not encoding:
                return data
            errors = "surrogatepass" if encoding[0] == "u" else "replace"
            return data.decode(encoding, errors).replace("\0", _NUL)

        return value
    if code == 0x1F:
        return lambda source: None
    raise ValueError(f"type {code:#x} is not known to this stand-in")


def _after_length(read: Callable[[bytes], Any]) -> Callable[[Stream], Any]:
    def value(source: Stream) -> Any:
        length = source.number("B")
        return read(source.take(length)) if length else None

    return value


def _from_count(source: Stream) -> bytes | None:
    length = source.number("H")
    return None if length == 0xFFFF else source.take(length)


def _from_chunks(source: Stream) -> bytes | None:
    if source.number("Q") == 0xFFFFFFFFFFFFFFFF:
        return None
    parts = []
    while length := source.number("I"):
        parts.append(source.take(length))
    return b"".join(parts)


def _moment(data: bytes, code: int, scale: int) -> Any:
    room = _digits_bytes(scale)
    passed = _time_of(data[:room], scale)
    if code == 0x29:
        return (dt.datetime.min + passed).time()
    found = dt.datetime.combine(_EPOCH + int.from_bytes(data[room : room + 3], "little") * _DAY, dt.time()) + passed
    return found if code == 0x2A else found.replace(tzinfo=dt.UTC)
