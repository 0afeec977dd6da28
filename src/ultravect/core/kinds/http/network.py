"""Connections to the very addresses that were looked at, and bodies of answers as streams."""

from __future__ import annotations

import io
import socket
from collections.abc import Callable, Iterable, Iterator

import httpcore
import httpx

from ultravect.core.errors import UltravectError

BUFFER = 1 << 20


def is_stored(response: httpx.Response) -> bool:
    return "content-encoding" not in response.headers


class Body(io.RawIOBase):
    """The body of an answer as a stream of bytes."""

    def __init__(
        self, lost: Callable[[Exception], UltravectError], client: httpx.Client, response: httpx.Response
    ) -> None:
        self._lost, self._client, self._response = lost, client, response
        self._chunks: Iterator[bytes] = (
            response.iter_raw(BUFFER) if is_stored(response) else response.iter_bytes(BUFFER)
        )
        self._rest = b""

    def readable(self) -> bool:
        return True

    def readinto(self, buffer: memoryview) -> int:  # type: ignore[override]
        while not self._rest:
            try:
                self._rest = next(self._chunks)
            except StopIteration:
                return 0
            except (httpx.TransportError, httpx.DecodingError) as error:
                raise self._lost(error) from None
        count = min(len(buffer), len(self._rest))
        buffer[:count] = self._rest[:count]
        self._rest = self._rest[count:]
        return count

    def close(self) -> None:
        self._response.close()
        self._client.close()
        super().close()


class Network(httpcore.NetworkBackend):
    """Connects to the very addresses that ``guard`` has looked at: a name may mean another one the next time."""

    def __init__(self) -> None:
        self._backend = httpcore.SyncBackend()
        self.guard: Callable[[str], None] | None = None

    def connect_tcp(
        self,
        host: str,
        port: int,
        timeout: float | None = None,
        local_address: str | None = None,
        socket_options: Iterable[httpcore.SOCKET_OPTION] | None = None,
    ) -> httpcore.NetworkStream:
        try:
            found = [str(item[4][0]) for item in socket.getaddrinfo(host, port, type=socket.SOCK_STREAM)]
        except (OSError, UnicodeError) as error:
            raise httpcore.ConnectError(str(error)) from None
        for address in found:
            if self.guard:
                self.guard(address)
        failed: Exception = httpcore.ConnectError(f"{host} has no address")
        for address in dict.fromkeys(found):
            try:
                return self._backend.connect_tcp(address, port, timeout, local_address, socket_options)
            except (httpcore.ConnectError, httpcore.ConnectTimeout) as error:
                failed = error
        raise failed
