"""Saved layouts, and feeds."""

from __future__ import annotations

from typing import Any
from urllib.parse import quote

from ultravect.client.calls import FILE, LIST_SIZE, Calls
from ultravect.client.models import (
    Feed,
    FeedDays,
    FeedFile,
    Fit,
    Layout,
    Page,
)


class Layouts(Calls):
    """Saved layouts, and feeds."""

    def formats(self) -> dict[str, Any]:
        """JSON Schema of the layouts of each format."""
        return dict(self._json("GET", "formats"))

    def layouts(self, *, search: str = "") -> list[Layout]:
        page = self._json("GET", "layouts", params={"search": search, "page_size": LIST_SIZE})
        return [Layout.model_validate(item) for item in page["items"]]

    def layout(self, name: str) -> Layout:
        return Layout.model_validate(self._json("GET", f"layouts/{quote(name, '')}"))

    def save_layout(self, name: str, file: str) -> Layout:
        """Saves a layout file as the newest version."""
        path = f"layouts/{quote(name, '')}"
        return Layout.model_validate(self._json("PUT", path, content=file.encode(), headers=FILE))

    def remove_layout(self, name: str) -> None:
        self._transport.request("DELETE", f"layouts/{quote(name, '')}")

    def fit(self, layout: str, connection: str, name: str) -> Fit:
        """Holds a file against a saved layout."""
        body = {"connection": connection, "object": name}
        return Fit.model_validate(self._json("POST", f"layouts/{quote(layout, '')}/fit", json=body))

    def feeds(self, *, search: str = "") -> list[Feed]:
        page = self._json("GET", "feeds", params={"search": search, "page_size": LIST_SIZE})
        return [Feed.model_validate(item) for item in page["items"]]

    def feed(self, name: str) -> Feed:
        return Feed.model_validate(self._json("GET", f"feeds/{quote(name, '')}"))

    def save_feed(self, name: str, file: str) -> Feed:
        """Saves a feed file as the newest revision."""
        path = f"feeds/{quote(name, '')}"
        return Feed.model_validate(self._json("PUT", path, content=file.encode(), headers=FILE))

    def remove_feed(self, name: str) -> None:
        self._transport.request("DELETE", f"feeds/{quote(name, '')}")

    def feed_files(
        self, name: str, *, state: str = "", provider: str = "", search: str = "", page: int = 1, page_size: int = 50
    ) -> Page[FeedFile]:
        """The register of a feed: files that were seen, the newest first."""
        params: dict[str, Any] = {"page": page, "page_size": page_size}
        given = {"state": state, "provider": provider, "search": search}
        params |= {key: value for key, value in given.items() if value}
        return self._pages(FeedFile, f"feeds/{quote(name, '')}/files", params)

    def feed_days(self, name: str, *, days: int = 14) -> FeedDays:
        """Providers by days: what came, and what is missing."""
        return FeedDays.model_validate(self._json("GET", f"feeds/{quote(name, '')}/days", params={"days": days}))

    def draft_feed_version(self, name: str, path: str, *, provider: str = "") -> str:
        """The lines of a new version, from a file that fits none."""
        body = {"path": path} | ({"provider": provider} if provider else {})
        return str(self._json("POST", f"feeds/{quote(name, '')}/draft", json=body)["file"])
