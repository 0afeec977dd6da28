"""A session with a service: requests and their answers."""

from __future__ import annotations

from typing import Any

from ultravect.client.base import Item, Page, paged
from ultravect.client.transport import Transport

LIST_SIZE = 200
FILE = {"Content-Type": "application/yaml"}


class Calls:
    """What all methods of the client are made of."""

    def __init__(self, url: str, *, token: str | None = None, timeout: float = 120) -> None:
        self._transport = Transport(url, token, timeout)

    def close(self) -> None:
        self._transport.close()

    def _pages(self, item: type[Item], path: str, params: dict[str, Any]) -> Page[Item]:
        """A page of a list, from which the others can be had."""
        answer = self._json("GET", path, params=params)
        page: Page[Item] = Page[item].model_validate(answer)  # type: ignore[valid-type]
        return paged(page, lambda number: self._pages(item, path, {**params, "page": number}))

    def _json(self, method: str, path: str, **arguments: Any) -> Any:
        return self._transport.request(method, path, **arguments).json()
