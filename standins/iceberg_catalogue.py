"""A REST catalogue of Iceberg tables, for tests: requests of the open specification, answered from a SQLite file.

It has what a client needs to list, open, make and change tables; it hands out no credentials, keeps no views, and renames and drops nothing.
Specification: https://github.com/apache/iceberg/blob/main/open-api/rest-catalog-open-api.yaml
"""

from __future__ import annotations

import json
import socket
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any
from urllib.parse import parse_qs, unquote, urlsplit

from pyiceberg.catalog.sql import SqlCatalog
from pyiceberg.exceptions import (
    CommitFailedException,
    NoSuchNamespaceError,
    NoSuchTableError,
    TableAlreadyExistsError,
)
from pyiceberg.partitioning import PartitionSpec
from pyiceberg.schema import Schema
from pyiceberg.table import CommitTableRequest, Table

_BETWEEN = "\x1f"
_STATUS = {
    NoSuchTableError: (404, "NoSuchTableException"),
    NoSuchNamespaceError: (404, "NoSuchNamespaceException"),
    TableAlreadyExistsError: (409, "AlreadyExistsException"),
    CommitFailedException: (409, "CommitFailedException"),
}


class CatalogueServer(ThreadingHTTPServer):
    """``faults``: statuses with which the next commits are answered, after they were made; 0: the connection is broken off."""

    daemon_threads = True

    def __init__(self, folder: Path, token: str) -> None:
        super().__init__(("127.0.0.1", 0), _Handler)
        self.catalogue = SqlCatalog("rest", uri=f"sqlite:///{folder}/rest.sqlite", warehouse=f"file://{folder}")
        self.token = token
        self.faults: list[int] = []
        self.one_at_a_time = threading.Lock()

    @property
    def url(self) -> str:
        return f"http://127.0.0.1:{self.server_address[1]}"


class _Handler(BaseHTTPRequestHandler):
    server: CatalogueServer
    protocol_version = "HTTP/1.1"

    def do_GET(self) -> None:
        self._answer(None)

    def do_POST(self) -> None:
        self._answer(json.loads(self.rfile.read(int(self.headers["Content-Length"])) or b"{}"))

    def do_HEAD(self) -> None:
        self._answer(None)

    def _answer(self, body: Any) -> None:
        if self.headers.get("Authorization") != f"Bearer {self.server.token}":
            self._send(401, {"error": {"message": "no such token", "type": "NotAuthorizedException", "code": 401}})
            return
        parts = urlsplit(self.path)
        path = [unquote(part) for part in parts.path.strip("/").split("/")][1:]
        try:
            with self.server.one_at_a_time:
                status, said = self._said(path, parse_qs(parts.query), body)
        except ConnectionAbortedError:
            self.connection.shutdown(socket.SHUT_RDWR)
            return
        except tuple(_STATUS) as error:
            status, kind = next(known for of, known in _STATUS.items() if isinstance(error, of))
            said = {"error": {"message": str(error), "type": kind, "code": status}}
        self._send(status, said)

    def _said(self, path: list[str], asked: dict[str, list[str]], body: Any) -> tuple[int, Any]:
        catalogue = self.server.catalogue
        match path:
            case ["config"]:
                return 200, {"defaults": {}, "overrides": {}}
            case ["namespaces"] if body is None:
                above = tuple(asked["parent"][0].split(_BETWEEN)) if "parent" in asked else ()
                return 200, {"namespaces": [list(found) for found in catalogue.list_namespaces(above)]}
            case ["namespaces"]:
                catalogue.create_namespace_if_not_exists(tuple(body["namespace"]))
                return 200, {"namespace": body["namespace"], "properties": {}}
            case ["namespaces", namespace]:
                properties = catalogue.load_namespace_properties(tuple(namespace.split(_BETWEEN)))
                return 200, {"namespace": namespace.split(_BETWEEN), "properties": properties}
            case ["namespaces", namespace, "tables"] if body is None:
                found = catalogue.list_tables(tuple(namespace.split(_BETWEEN)))
                return 200, {"identifiers": [{"namespace": list(name[:-1]), "name": name[-1]} for name in found]}
            case ["namespaces", namespace, "tables"]:
                return 200, self._created((*namespace.split(_BETWEEN), body["name"]), body)
            case ["namespaces", namespace, "tables", name] if body is None:
                return 200, _shown(catalogue.load_table((*namespace.split(_BETWEEN), name)))
            case ["namespaces", namespace, "tables", name]:
                return self._committed((*namespace.split(_BETWEEN), name), body)
        return 404, {"error": {"message": "no such path", "type": "NotFound", "code": 404}}

    def _created(self, name: tuple[str, ...], body: Any) -> Any:
        arguments = (
            name,
            Schema.model_validate(body["schema"]),
            body.get("location"),
            PartitionSpec.model_validate(body["partition-spec"]) if body.get("partition-spec") else PartitionSpec(),
        )
        options = {"properties": body.get("properties") or {}}
        catalogue = self.server.catalogue
        if not body.get("stage-create"):
            return _shown(catalogue.create_table(*arguments, **options))
        if catalogue.table_exists(name):
            raise TableAlreadyExistsError(".".join(name))
        return _shown(catalogue.create_table_transaction(*arguments, **options)._table)

    def _committed(self, name: tuple[str, ...], body: Any) -> tuple[int, Any]:
        catalogue = self.server.catalogue
        request = CommitTableRequest.model_validate(
            {**body, "identifier": {"namespace": list(name[:-1]), "name": name[-1]}}
        )
        try:
            table = catalogue.load_table(name)
        except NoSuchTableError:
            table = Table(name, None, "", catalogue._load_file_io(), catalogue)  # type: ignore[arg-type]
        made = catalogue.commit_table(table, request.requirements, request.updates)
        if self.server.faults:
            status = self.server.faults.pop(0)
            if not status:
                raise ConnectionAbortedError
            return status, {
                "error": {"message": "it broke off", "type": "CommitStateUnknownException", "code": status}
            }
        return 200, {
            "metadata-location": made.metadata_location,
            "metadata": json.loads(made.metadata.model_dump_json()),
        }

    def _send(self, status: int, said: Any) -> None:
        sent = json.dumps(said).encode()
        self.send_response(status)
        self.send_header("Content-Type", "application/json")
        self.send_header("Content-Length", str(len(sent)))
        self.end_headers()
        if self.command != "HEAD":
            self.wfile.write(sent)

    def log_message(self, *_: Any) -> None:
        return


def _shown(table: Table) -> Any:
    return {
        "metadata-location": table.metadata_location,
        "metadata": json.loads(table.metadata.model_dump_json()),
        "config": {},
    }


@contextmanager
def catalogue_server(folder: Path, token: str) -> Iterator[CatalogueServer]:
    """A catalogue on a free port, until the context ends."""
    server = CatalogueServer(folder, token)
    thread = threading.Thread(target=server.serve_forever, daemon=True)
    thread.start()
    try:
        yield server
    finally:
        server.shutdown()
        server.server_close()
