"""Where messages go in tests and in the demo: a mail server and a webhook on loopback, which keep what they are sent.

The mail server speaks as much of SMTP as a client needs to leave a message; it knows no TLS and lets everyone in.
"""

from __future__ import annotations

import email
import email.policy
import json
import socketserver
import threading
from email.message import EmailMessage
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any


class MailCatcher(socketserver.ThreadingTCPServer):
    """``taken``: the messages; ``folder``: where each becomes a file, too."""

    allow_reuse_address = daemon_threads = True

    def __init__(self, port: int = 0, folder: Path | None = None) -> None:
        super().__init__(("127.0.0.1", port), _Session)
        self.taken: list[EmailMessage] = []
        self._folder = folder
        if folder is not None:
            folder.mkdir(parents=True, exist_ok=True)
        threading.Thread(target=self.serve_forever, name="mail catcher", daemon=True).start()

    @property
    def port(self) -> int:
        return int(self.server_address[1])

    def take(self, data: bytes) -> None:
        message = email.message_from_bytes(data, policy=email.policy.default)
        assert isinstance(message, EmailMessage)
        self.taken.append(message)
        if self._folder is not None:
            (self._folder / f"{len(self.taken):03}.eml").write_bytes(data)

    def close(self) -> None:
        self.shutdown()
        self.server_close()


class _Session(socketserver.StreamRequestHandler):
    server: MailCatcher

    def handle(self) -> None:
        self.wfile.write(b"220 ready\r\n")
        while line := self.rfile.readline():
            word = (line.split() or [b""])[0].upper()
            if word == b"DATA":
                self.wfile.write(b"354 go on\r\n")
                data = b""
                while (part := self.rfile.readline()) not in (b".\r\n", b""):
                    data += part
                self.server.take(data)
            self.wfile.write(b"221 bye\r\n" if word == b"QUIT" else b"250 fine\r\n")
            if word == b"QUIT":
                return


class WebhookCatcher(ThreadingHTTPServer):
    """``taken``: headers, with the path as ``:path``, and bodies.

    ``status``: what is answered, and kept only where it is 200; 0: nothing, until ``released``.
    """

    daemon_threads = True

    def __init__(self, port: int = 0, folder: Path | None = None) -> None:
        super().__init__(("127.0.0.1", port), _Receiver)
        self.taken: list[tuple[dict[str, str], bytes]] = []
        self.status = 200
        self.waiting = threading.Event()
        self.released = threading.Event()
        self._folder = folder
        if folder is not None:
            folder.mkdir(parents=True, exist_ok=True)
        threading.Thread(target=self.serve_forever, name="webhook catcher", daemon=True).start()

    @property
    def url(self) -> str:
        return f"http://127.0.0.1:{self.server_address[1]}/hook"

    def bodies(self) -> list[dict[str, Any]]:
        return [json.loads(body) for _, body in self.taken]

    def take(self, headers: dict[str, str], body: bytes) -> None:
        self.taken.append((headers, body))
        if self._folder is not None:
            (self._folder / f"{len(self.taken):03}.json").write_bytes(body)

    def close(self) -> None:
        self.released.set()
        self.shutdown()
        self.server_close()


class _Receiver(BaseHTTPRequestHandler):
    server: WebhookCatcher

    def log_message(self, *_: Any) -> None:
        pass

    def do_POST(self) -> None:
        body = self.rfile.read(int(self.headers["Content-Length"]))
        if self.server.status == 200:
            self.server.take({**dict(self.headers), ":path": self.path}, body)
        if self.server.status == 0:
            self.server.waiting.set()
            self.server.released.wait()
            return
        self.send_response(self.server.status)
        if self.server.status == 302:
            self.send_header("Location", self.server.url)
        self.send_header("Content-Length", "0")
        self.end_headers()
