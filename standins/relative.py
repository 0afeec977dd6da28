"""A stand-in for relatives of PostgreSQL that lack some of it: a proxy in front of a PostgreSQL server that refuses some statements."""

from __future__ import annotations

import argparse
import re
import socket
import sys
from collections.abc import Iterable

from standins.proxy import Proxy, ProxyServer, message

LACKING = {
    "binary": (re.compile(r"\bFORMAT\s+binary\b", re.I), "0A000", "COPY has no format binary"),
    "versions": (
        re.compile(r"\bxmin\b|\bpg_current_xact_id\b|\bctid\b", re.I),
        "42703",
        'column "xmin" does not exist',
    ),
    "temporary": (
        re.compile(r"\bCREATE\s+TEMP(ORARY)?\s+TABLE\b", re.I),
        "0A000",
        "temporary tables are not supported",
    ),
    "locks": (re.compile(r"^\s*LOCK\s+TABLE\b", re.I), "42601", 'syntax error at or near "LOCK"'),
}


class RelativeStandIn(ProxyServer):
    """``lacks``: some of LACKING."""

    def __init__(self, postgres: str, lacks: Iterable[str], *, port: int = 0) -> None:
        self.lacks = frozenset(lacks)
        super().__init__(postgres, port=port)

    def serve(self, client: socket.socket, backend: socket.socket) -> None:
        _Relative(self, client, backend).run()


class _Relative(Proxy):
    def __init__(self, server: RelativeStandIn, client: socket.socket, backend: socket.socket) -> None:
        super().__init__(client, backend)
        self._server = server

    def pass_on(self, kind: bytes, body: bytes) -> None:
        if kind == b"Q":
            body = self._allowed(body[:-1]) + b"\0"
        elif kind == b"P":
            name, query, rest = body.split(b"\0", 2)
            body = b"\0".join((name, self._allowed(query), rest))
        self.backend.sendall(message(kind, body))

    def _allowed(self, query: bytes) -> bytes:
        """The statement, or one that fails as it would."""
        for lacking in self._server.lacks:
            pattern, code, text = LACKING[lacking]
            if pattern.search(query.decode("utf-8", "replace")):
                return f"DO $$ BEGIN RAISE EXCEPTION '{text}' USING ERRCODE = '{code}'; END $$".encode()
        return query


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--postgres", required=True, help="URL of a PostgreSQL database")
    parser.add_argument("--lacks", action="append", default=[], choices=sorted(LACKING))
    parser.add_argument("--port", type=int, default=0)
    given = parser.parse_args()
    print(RelativeStandIn(given.postgres, given.lacks, port=given.port).port, flush=True)
    sys.stdin.read()


if __name__ == "__main__":
    main()
