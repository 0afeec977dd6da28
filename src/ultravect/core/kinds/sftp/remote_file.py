"""A file of an SFTP server, read in windows that are asked for at once."""

from __future__ import annotations

import socket
from collections.abc import Callable

import paramiko

from ultravect.core.streams import RemoteFile

LOST = (paramiko.SSHException, EOFError, socket.error, OSError)
"""What is raised where a connection is lost."""
_REQUEST = 32 << 10
_FIRST_WINDOW = 64 << 10
_LARGEST_WINDOW = 4 << 20


class SftpFile(RemoteFile):
    """A remote file, read in windows of many requests at once; its session ends with it.

    ``lost`` gives the error to be raised where the connection is lost."""

    def __init__(
        self,
        lost: Callable[[Exception], Exception],
        file: paramiko.SFTPFile,
        size: int,
        transport: paramiko.Transport,
    ) -> None:
        super().__init__(size)
        self._lost, self._file, self._transport = lost, file, transport
        self._window = b""
        self._start = 0
        self._next = _FIRST_WINDOW

    def readinto(self, buffer: memoryview) -> int:  # type: ignore[override]
        if not self._start <= self._at < self._start + len(self._window):
            self._fetch()
        data = self._window[self._at - self._start :][: len(buffer)]
        buffer[: len(data)] = data
        self._at += len(data)
        return len(data)

    def _fetch(self) -> None:
        """The window from here on; each is larger than the one before, as long as it is read straight on."""
        straight = self._at == self._start + len(self._window)
        self._next = min(_LARGEST_WINDOW, self._next * 2) if straight else _FIRST_WINDOW
        self._start = self._at
        end = min(self._size, self._at + self._next)
        parts = [(at, min(_REQUEST, end - at)) for at in range(self._at, end, _REQUEST)]
        try:
            self._window = b"".join(self._file.readv(parts)) if parts else self._tail()
        except LOST as error:
            raise self._lost(error) from None

    def _tail(self) -> bytes:
        """What stands after the size that the file had: it has grown."""
        self._file.seek(self._at)
        return self._file.read(1)

    def close(self) -> None:
        self._transport.close()
        super().close()
