"""Streams of bytes: those that watch what goes through them, and files elsewhere."""

from __future__ import annotations

import io
from abc import abstractmethod
from typing import BinaryIO


class ReadThrough(io.RawIOBase):
    """Reads another stream in full pieces; ``seen`` is called with each, and may raise."""

    def __init__(self, stream: BinaryIO) -> None:
        self._stream = stream

    @abstractmethod
    def seen(self, data: bytes, wanted: int) -> None:
        """``wanted`` bytes were asked for (-1: all); fewer came at the end."""

    def take(self, size: int) -> bytes:
        """The next bytes: as many as asked for, unless the stream ends."""
        data = self._stream.read(size)
        while 0 < len(data) < size and (more := self._stream.read(size - len(data))):
            data += more
        return data

    def readable(self) -> bool:
        return True

    def readinto(self, buffer: memoryview) -> int:  # type: ignore[override]
        data = self.read(len(buffer))
        buffer[: len(data)] = data
        return len(data)

    def read(self, size: int = -1) -> bytes:
        data = self.take(size)
        self.seen(data, size)
        return data

    def close(self) -> None:
        self._stream.close()
        super().close()


class RemoteFile(io.RawIOBase):
    """A file elsewhere that can be sought in; ``_at`` is where the next byte is read."""

    def __init__(self, size: int) -> None:
        self._size = size
        self._at = 0

    def readable(self) -> bool:
        return True

    def seekable(self) -> bool:
        return True

    def tell(self) -> int:
        return self._at

    def seek(self, offset: int, whence: int = io.SEEK_SET) -> int:
        base = {io.SEEK_SET: 0, io.SEEK_CUR: self._at, io.SEEK_END: self._size}[whence]
        self._at = max(0, base + offset)
        return self._at
