"""The server: accepts sessions, shakes hands, signs in, and can be asked to fail."""

from __future__ import annotations

import argparse
import socket
import ssl
import sys
import threading
from collections.abc import Sequence
from dataclasses import dataclass
from importlib.resources import files
from typing import Any
from urllib.parse import quote, urlsplit

import psycopg

from standins.sqlserver import wire
from standins.sqlserver.session import watch


@dataclass(frozen=True)
class Fault:
    """What goes wrong: ``slow`` (for ``seconds``), ``break off``, ``deadlock`` or ``log full``, at the next statement that begins with
    ``word``; "" for any."""

    what: str
    word: str = ""
    seconds: float = 0.0


class SqlserverStandIn:
    """See the package. ``postgres`` is the URL of a server, as a user who may create databases; ``databases`` are made there.

    Users are those of PostgreSQL. ``certificate`` is a PEM file with its key; ``encryption`` is ``off`` (none is offered), ``on``
    (for clients that want it) or ``required``.
    """

    def __init__(
        self,
        postgres: str,
        databases: Sequence[str] = (),
        *,
        port: int = 0,
        certificate: str = "",
        encryption: str = "off",
    ) -> None:
        self._postgres = urlsplit(postgres)
        self._encryption = encryption
        self._context: ssl.SSLContext | None = None
        if certificate:
            self._context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
            self._context.load_cert_chain(certificate)
        self._faults: list[Fault] = []
        self._lock = threading.Lock()
        self._numbers = iter(range(51, 1 << 30))
        self.locked: set[str] = set()
        """Users whose sign-in is locked."""

        self.offline: set[str] = set()
        """Databases that are not online."""

        for database in databases:
            self.create(database)
        self._listener = socket.create_server(("127.0.0.1", port), backlog=64)
        self.port = int(self._listener.getsockname()[1])
        threading.Thread(target=self._accept, name="stand-in for SQL Server", daemon=True).start()

    def _url(self, user: str | None, password: str | None, database: str) -> str:
        place = f"{self._postgres.hostname}:{self._postgres.port}"
        return f"postgresql://{quote(user or '', safe='')}:{quote(password or '', safe='')}@{place}/{quote(database, safe='')}"

    def administer(self, database: str = "postgres") -> psycopg.Connection[Any]:
        url = self._url(self._postgres.username, self._postgres.password, database)
        return psycopg.connect(url, autocommit=True)

    def create(self, database: str) -> None:
        with self.administer() as opened:
            name = psycopg.sql.Identifier(database)
            opened.execute(psycopg.sql.SQL("CREATE DATABASE {}").format(name))
        with self.administer(database) as opened:
            opened.execute(files("standins.sqlserver").joinpath("schema.sql").read_bytes())

    def add_fault(self, what: str, word: str = "", seconds: float = 0.0) -> None:
        with self._lock:
            self._faults.append(Fault(what, word.upper(), seconds))

    def fault_for(self, word: str) -> Fault | None:
        with self._lock:
            for fault in self._faults:
                if fault.word in ("", word):
                    self._faults.remove(fault)
                    return fault
        return None

    def close(self) -> None:
        self._listener.close()

    def _accept(self) -> None:
        while True:
            try:
                opened, _ = self._listener.accept()
            except OSError:
                return
            opened.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
            threading.Thread(target=self._session, args=(opened,), daemon=True).start()

    def _session(self, opened: socket.socket) -> None:
        with opened:
            try:
                channel = wire.Channel(opened)
                signed_in = self._sign_in(channel)
                if signed_in is not None:
                    watch(channel, signed_in, self, signed_in.info.backend_pid)
            except (wire.Closed, EOFError, OSError, ValueError, IndexError, UnicodeDecodeError):
                pass  # whatever came was no client's message

    def _sign_in(self, channel: wire.Channel) -> psycopg.Connection[Any] | None:
        kind, data = channel.message()
        if kind != wire.PRELOGIN:
            return None
        wanted = wire.read_prelogin(data)
        answer = {"off": wire.ENCRYPT_NOT_SUP, "on": wire.ENCRYPT_OFF, "required": wire.ENCRYPT_REQ}[self._encryption]
        if answer == wire.ENCRYPT_OFF:
            answer = {wire.ENCRYPT_ON: wire.ENCRYPT_ON, wire.ENCRYPT_NOT_SUP: wire.ENCRYPT_NOT_SUP}.get(
                wanted, answer
            )
        channel.send(wire.prelogin_answer(answer), kind=wire.ANSWER)
        if answer != wire.ENCRYPT_NOT_SUP:
            if wanted == wire.ENCRYPT_NOT_SUP or self._context is None:
                return None
            channel.encrypt(self._context)
        _, data = channel.message()
        if answer == wire.ENCRYPT_OFF:
            channel.decrypt()
        found = wire.read_login(data)
        refused = self._refusal(found)
        if refused is None:
            try:
                opened: psycopg.Connection[Any] = psycopg.connect(
                    self._url(found.user, found.password, found.database or "postgres"),
                    autocommit=True,
                    # what sys.dm_exec_sessions shows
                    application_name=found.application,
                )
            except psycopg.OperationalError as error:
                refused = self._explained(str(error), found)
        if refused is not None:
            for number, text in refused:
                channel_text = wire.message(number, text, severity=14)
                channel.send(channel_text, last=False) if (number, text) != refused[-1] else channel.send(
                    channel_text + wire.done(wire.ERROR)
                )
            return None
        size = str(found.packet_size)
        channel.send(
            wire.changed(1, found.database or "postgres", "master")
            + wire.message(5701, f"Changed database context to '{found.database}'.", severity=0, info=True)
            + wire.collation_change()
            + wire.changed(2, "us_english")
            + wire.accepted()
            + wire.changed(4, size, "4096")
            + wire.done()
        )
        channel.packet_size = found.packet_size
        return opened

    def _refusal(self, found: wire.SignIn) -> list[tuple[int, str]] | None:
        failed = (18456, f"Login failed for user '{found.user}'.")
        if found.user in self.locked:
            return [(18486, f"Login failed for user '{found.user}' because the account is currently locked out.")]
        if found.database in self.offline:
            return [(942, f"Database '{found.database}' cannot be opened because it is offline."), failed]
        return None

    @staticmethod
    def _explained(said: str, found: wire.SignIn) -> list[tuple[int, str]]:
        failed = (18456, f"Login failed for user '{found.user}'.")
        if "does not exist" in said and "database" in said:
            return [
                (4060, f'Cannot open database "{found.database}" requested by the login. The login failed.'),
                failed,
            ]
        return [failed]


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--postgres", required=True, help="URL of the PostgreSQL server behind it")
    parser.add_argument("--database", action="append", default=[], help="a database to create")
    parser.add_argument("--port", type=int, default=0)
    parser.add_argument("--certificate", default="")
    parser.add_argument("--encryption", choices=["off", "on", "required"], default="off")
    parser.add_argument("--until-input-ends", action="store_true", help="end with the program that has started it")
    given = parser.parse_args()
    server = SqlserverStandIn(
        given.postgres, given.database, port=given.port, certificate=given.certificate, encryption=given.encryption
    )
    print(server.port, flush=True)
    if given.until_input_ends:
        sys.stdin.read()
    else:
        threading.Event().wait()


if __name__ == "__main__":
    main()
