"""A conversation with a mail server that ends in time, however slowly the server speaks."""

from __future__ import annotations

import smtplib
import socket
import ssl
import threading
from collections.abc import Iterator
from contextlib import contextmanager, suppress

_SECONDS = 10.0
_WHOLE_SECONDS = 60.0


class _Held(smtplib.SMTP):
    """``smtplib`` limits each step alone: a server that says a byte now and then would keep it for ever."""

    held: socket.socket | None = None
    context: ssl.SSLContext | None = None

    def _get_socket(self, host: str, port: int, timeout: float) -> socket.socket:
        opened = socket.create_connection((host, port), timeout)
        self.held = socket.socket(fileno=socket.dup(opened.fileno()))
        return self.context.wrap_socket(opened, server_hostname=host) if self.context else opened

    def cut(self) -> None:
        if self.held is not None:
            with suppress(OSError):
                self.held.shutdown(socket.SHUT_RDWR)


@contextmanager
def mail_session(host: str, port: int, context: ssl.SSLContext | None) -> Iterator[smtplib.SMTP]:
    """A session, encrypted from the start where ``context`` is given; OSError or SMTPException, at the latest after a minute."""
    server = _Held(timeout=_SECONDS)
    server.context = context
    server._host = host  # type: ignore[attr-defined]  # the name that STARTTLS checks
    late = threading.Timer(_WHOLE_SECONDS, server.cut)
    late.daemon = True
    late.start()
    try:
        server.connect(host, port)
        with server:
            yield server
    finally:
        late.cancel()
        if server.held is not None:
            server.held.close()
