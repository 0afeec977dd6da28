"""Messages of the TDS protocol from a server's side: packets, the first messages of a session, and the tokens of answers.

Published in MS-TDS, sections 2.2.3 to 2.2.7.
"""

from __future__ import annotations

import socket
import ssl
import struct
from collections.abc import Sequence
from dataclasses import dataclass

from standins.sqlserver.types import COLLATION, Stream, Wire

QUERY, RPC, ANSWER, ATTENTION, BULK, TRANSACTION, LOGIN, PRELOGIN = 1, 3, 4, 6, 7, 14, 16, 18
ENCRYPT_OFF, ENCRYPT_ON, ENCRYPT_NOT_SUP, ENCRYPT_REQ = 0, 1, 2, 3
MORE, ERROR, COUNT, ATTENTION_DONE = 1, 2, 16, 32
_LARGEST = 1 << 20
_VERSION = bytes([15, 0, 0x0F, 0xA0, 0, 0])


class Closed(Exception):
    """The other side has gone."""


class Channel:
    """Packets over a socket, encrypted once ``encrypt`` was called."""

    def __init__(self, opened: socket.socket) -> None:
        self._socket = opened
        self._tls: ssl.SSLObject | None = None
        self._incoming, self._outgoing = ssl.MemoryBIO(), ssl.MemoryBIO()
        self.packet_size = 4096
        self._wrapped = False

    def _raw(self, count: int) -> bytes:
        data = b""
        while len(data) < count:
            try:
                part = self._socket.recv(count - len(data))
            except OSError:
                raise Closed from None
            if not part:
                raise Closed
            data += part
        return data

    def _read(self, count: int) -> bytes:
        if self._tls is None or self._wrapped:
            return self._raw(count)
        data = b""
        while len(data) < count:
            try:
                data += self._tls.read(count - len(data))
            except ssl.SSLWantReadError:
                try:
                    part = self._socket.recv(65536)
                except OSError:
                    raise Closed from None
                if not part:
                    raise Closed from None
                self._incoming.write(part)
            except ssl.SSLError:
                raise Closed from None
        return data

    def packet(self) -> tuple[int, bool, bytes]:
        """A packet: its type, whether it is the last of its message, and what it carries."""
        kind, status, length = struct.unpack(">BBH4x", self._read(8))
        return kind, bool(status & 1), self._read(length - 8)

    def message(self) -> tuple[int, bytes]:
        kind, last, data = self.packet()
        parts = [data]
        size = len(data)
        while not last:
            _, last, data = self.packet()
            parts.append(data)
            size += len(data)
            if kind != BULK and size > 64 * _LARGEST:
                raise Closed
        return kind, b"".join(parts)

    def send(self, data: bytes, *, kind: int = ANSWER, last: bool = True) -> None:
        room = self.packet_size - 8
        parts = [data[start : start + room] for start in range(0, len(data), room)] or [b""]
        for number, part in enumerate(parts):
            final = last and number == len(parts) - 1
            packet = struct.pack(">BBHHBB", kind, final, len(part) + 8, 0, number % 256, 0) + part
            if self._tls is not None and not self._wrapped:
                self._tls.write(packet)
                packet = self._outgoing.read()
            try:
                self._socket.sendall(packet)
            except OSError:
                raise Closed from None

    def encrypt(self, context: ssl.SSLContext) -> None:
        """Shakes hands: until it is done, records of TLS travel in packets of their own."""
        tls = context.wrap_bio(self._incoming, self._outgoing, server_side=True)
        while True:
            try:
                tls.do_handshake()
                break
            except ssl.SSLWantReadError:
                if waiting := self._outgoing.read():
                    self.send(waiting, kind=PRELOGIN)
                _, data = self.message()
                self._incoming.write(data)
            except ssl.SSLError:
                raise Closed from None
        if waiting := self._outgoing.read():
            self.send(waiting, kind=PRELOGIN)
        self._tls = tls

    def decrypt(self) -> None:
        """Goes on in clear, where only the sign-in was to be encrypted."""
        self._tls = None


@dataclass(frozen=True)
class SignIn:
    """What a client says of itself."""

    user: str
    password: str
    database: str
    application: str
    packet_size: int
    read_only: bool


def read_prelogin(data: bytes) -> int:
    """What the client wants of encryption."""
    place = 0
    while data[place] != 0xFF:
        option, offset, length = struct.unpack_from(">BHH", data, place)
        if option == 1 and length:
            return data[offset]
        place += 5
    return ENCRYPT_NOT_SUP


def prelogin_answer(encryption: int) -> bytes:
    options = [(0, _VERSION), (1, bytes([encryption])), (2, b"\0"), (3, bytes(4)), (4, b"\0")]
    place = 5 * len(options) + 1
    head, body = b"", b""
    for number, data in options:
        head += struct.pack(">BHH", number, place + len(body), len(data))
        body += data
    return head + b"\xff" + body


def read_login(data: bytes) -> SignIn:
    size = struct.unpack_from("<I", data, 8)[0]

    def text(place: int) -> bytes:
        offset, length = struct.unpack_from("<HH", data, place)
        return data[offset : offset + 2 * length]

    hidden = bytes(((byte ^ 0xA5) << 4 & 0xF0) | ((byte ^ 0xA5) >> 4) for byte in text(44))
    return SignIn(
        text(40).decode("utf-16-le"),
        hidden.decode("utf-16-le", "replace"),
        text(68).decode("utf-16-le"),
        text(48).decode("utf-16-le"),
        size if 512 <= size <= 32767 else 4096,
        bool(data[26] & 0x20),
    )


def _short(value: str) -> bytes:
    data = value.encode("utf-16-le")
    return bytes([len(data) // 2]) + data


def changed(kind: int, new: str, old: str = "") -> bytes:
    body = bytes([kind]) + _short(new) + _short(old)
    return b"\xe3" + struct.pack("<H", len(body)) + body


def changed_bytes(kind: int, new: bytes, old: bytes = b"") -> bytes:
    body = bytes([kind, len(new)]) + new + bytes([len(old)]) + old
    return b"\xe3" + struct.pack("<H", len(body)) + body


def collation_change() -> bytes:
    return changed_bytes(7, COLLATION)


def accepted() -> bytes:
    body = b"\x01" + struct.pack(">I", 0x74000004) + _short("Stand-in for SQL Server") + bytes([15, 0, 0x0F, 0xA0])
    return b"\xad" + struct.pack("<H", len(body)) + body


def message(number: int, text: str, *, severity: int = 16, state: int = 1, info: bool = False) -> bytes:
    shown = text[:4000]
    body = struct.pack("<IBBH", number, state, severity, len(shown.encode("utf-16-le")) // 2) + shown.encode(
        "utf-16-le"
    )
    body += _short("STANDIN") + _short("") + struct.pack("<I", 1)
    return (b"\xab" if info else b"\xaa") + struct.pack("<H", len(body)) + body


def done(status: int = 0, rows: int = 0, *, kind: int = 0xFD) -> bytes:
    return struct.pack("<BHHQ", kind, status, 0, rows)


def return_status(status: int = 0) -> bytes:
    return b"\x79" + struct.pack("<i", status)


def described(names: Sequence[str], wires: Sequence[Wire]) -> bytes:
    head = b"\x81" + struct.pack("<H", len(names))
    return head + b"".join(
        struct.pack("<IH", 0, 9) + wire.info + _short(name) for name, wire in zip(names, wires, strict=True)
    )


@dataclass(frozen=True)
class Call:
    """A remote procedure call: its name, and its values in order, each with its name."""

    procedure: str
    values: Sequence[tuple[str, object]]


_NUMBERED = {1: "sp_cursor", 10: "sp_executesql", 11: "sp_prepare", 12: "sp_execute", 15: "sp_unprepare"}


def read_call(data: bytes) -> Call:
    from standins.sqlserver.types import read_type

    stream = Stream(data)
    skip_headers(stream)
    length = stream.number("H")
    name = _NUMBERED.get(stream.number("H"), "") if length == 0xFFFF else stream.take(length * 2).decode("utf-16-le")
    stream.take(2)
    values = []
    while stream.left and stream.data[stream.at] not in (0xFF, 0x80):
        label = stream.short_text()
        stream.take(1)
        read = read_type(stream)
        values.append((label, read(stream)))
    return Call(name.lower().removeprefix("sys.").removeprefix("dbo."), values)


def skip_headers(stream: Stream) -> None:
    total = struct.unpack_from("<I", stream.data, stream.at)[0]
    stream.take(total)
