"""The HTTP protocol of the web server: a client must send the head of its request within a limit."""

from __future__ import annotations

import asyncio
from typing import Any

import h11
from uvicorn.protocols.http.h11_impl import H11Protocol

HEAD_SECONDS = 15.0


class PatientProtocol(H11Protocol):
    """Closes connections that are opened, or used again, and then send no whole head of a request."""

    _late: asyncio.TimerHandle | None = None

    def connection_made(self, transport: Any) -> None:
        super().connection_made(transport)
        self._expect()

    def data_received(self, data: bytes) -> None:
        super().data_received(data)
        if self.conn.their_state is h11.IDLE:
            self._expect()
        else:
            self._forget()

    def connection_lost(self, exc: Exception | None) -> None:
        self._forget()
        super().connection_lost(exc)

    def _expect(self) -> None:
        if self._late is None:
            self._late = self.loop.call_later(HEAD_SECONDS, self._give_up)

    def _forget(self) -> None:
        if self._late is not None:
            self._late.cancel()
            self._late = None

    def _give_up(self) -> None:
        self._late = None
        if self.conn.their_state is h11.IDLE and not self.transport.is_closing():
            self.transport.close()
