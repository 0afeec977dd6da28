"""Connections, and what they hold."""

from __future__ import annotations

from typing import Any, BinaryIO
from urllib.parse import quote

from ultravect.client.calls import FILE, LIST_SIZE, Calls
from ultravect.client.models import (
    Answer,
    Connection,
    Probe,
    Upload,
)

_PIECE = 1 << 20


class Connections(Calls):
    """Connections, and what they hold."""

    def connections(self) -> list[Connection]:
        page = self._json("GET", "connections", params={"page_size": LIST_SIZE})
        return [Connection.model_validate(item) for item in page["items"]]

    def connection(self, name: str) -> Connection:
        return Connection.model_validate(self._json("GET", f"connections/{quote(name, '')}"))

    def add_connection(
        self, name: str, kind: str, settings: dict[str, Any], *, site: str = "", at_most: int | None = None
    ) -> Connection:
        """Adds a connection; ``site``: the network location whose workers reach it, ``at_most``: how many legs may use it at once."""
        body = {"name": name, "kind": kind, "settings": settings, "site": site, "at_most": at_most}
        return Connection.model_validate(self._json("POST", "connections", json=body))

    def change_connection(
        self, name: str, settings: dict[str, Any], *, site: str | None = None, at_most: int | None = None
    ) -> Connection:
        """Changes the settings given, and site and limit where they are; the others stay. ``at_most`` 0: no limit any more."""
        body: dict[str, Any] = {"settings": settings, **({} if site is None else {"site": site})}
        if at_most is not None:
            body["at_most"] = at_most or None
        return Connection.model_validate(self._json("PATCH", f"connections/{quote(name, '')}", json=body))

    def remove_connection(self, name: str) -> None:
        self._transport.request("DELETE", f"connections/{quote(name, '')}")

    def test_connection(self, name: str, *, write: bool | None = None) -> Probe:
        """Goes as far as a copy would; ``write``: also as one that writes there. None: when a job does."""
        return Probe.model_validate(self._json("POST", f"connections/{quote(name, '')}/test", json={"write": write}))

    def connection_file(self, name: str) -> str:
        """A connection as a file, without its sealed secrets."""
        return self._transport.request(
            "GET", f"connections/{quote(name, '')}/file", headers={"Accept": "application/yaml"}
        ).text

    def save_connection(self, name: str, file: str) -> Connection:
        """Adds or changes a connection from its file; sealed secrets stay as they are."""
        path = f"connections/{quote(name, '')}"
        return Connection.model_validate(self._json("PUT", path, content=file.encode(), headers=FILE))

    def kinds(self) -> dict[str, Any]:
        """JSON Schema of the settings of each kind of connection."""
        return dict(self._json("GET", "kinds"))

    def objects(
        self,
        connection: str,
        *,
        search: str = "",
        pattern: str = "",
        inside: str = "",
        after: str = "",
        limit: int = 200,
        alike: bool = False,
    ) -> dict[str, Any]:
        """Files or tables, or what is ``inside`` a zip or a workbook: ``items``, and ``next`` to be given as ``after``.

        ``alike``: files whose names differ in numbers alone are one item, their pattern; up to 10,000 names are looked at then.
        """
        params: dict[str, Any] = {"search": search, **({"alike": "true"} if alike else {"limit": limit})}
        params |= {key: value for key, value in (("pattern", pattern), ("inside", inside), ("after", after)) if value}
        return dict(self._json("GET", f"connections/{quote(connection, '')}/objects", params=params))

    def preview(
        self,
        connection: str,
        name: str = "",
        *,
        query: str = "",
        layout: str | dict[str, Any] | None = None,
        rows: int = 20,
        random: bool = False,
        whole: bool = False,
        counts: bool = False,
    ) -> dict[str, Any]:
        """Rows, columns, types and evidence of an object or a ``query``; ``layout``: a saved one's name, or one's own."""
        body: dict[str, Any] = {"rows": rows, "random": random, "whole": whole, "counts": counts}
        body |= {"query": query} if query else {"object": name}
        if layout is not None:
            body["layout"] = layout
        return dict(self._json("POST", f"connections/{quote(connection, '')}/preview", json=body))

    def raw(self, connection: str, name: str, *, size: int = 16 << 10, encoding: str = "") -> dict[str, Any]:
        """The first ``size`` bytes of a file, as text and as they are."""
        params: dict[str, Any] = {"object": name, "size": size, "encoding": encoding}
        return dict(self._json("GET", f"connections/{quote(connection, '')}/bytes", params=params))

    def upload(self, name: str, content: BinaryIO, *, replace: bool = False) -> Upload:
        """Sends a file into the connection `uploads`, in pieces."""
        pieces = iter(lambda: content.read(_PIECE), b"")
        params = {"replace": "true"} if replace else {}
        path = f"uploads/{quote(name)}"
        return Upload.model_validate(self._json("PUT", path, content=pieces, params=params, timeout=None))

    def remove_upload(self, name: str) -> None:
        self._transport.request("DELETE", f"uploads/{quote(name)}")

    def ask(self, connection: str, sql: str, *, limit: int = 200, seconds: float = 20) -> Answer:
        """Runs one statement that reads."""
        body = {"sql": sql, "limit": limit, "seconds": seconds}
        return Answer.model_validate(self._json("POST", f"connections/{quote(connection, '')}/ask", json=body))
