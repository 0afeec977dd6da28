"""One HTTP exchange with the service, and what can go wrong in it."""

from __future__ import annotations

import time
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

import httpx
from httpx_sse import EventSource, ServerSentEvent, connect_sse

from ultravect.client.errors import ApiError, ServiceUnreachable

_RETRIES = 5


class Transport:
    """Sends requests with the token; raises ApiError and ServiceUnreachable."""

    def __init__(self, url: str, token: str | None, timeout: float) -> None:
        headers = {"Accept": "application/json"}
        if token:
            headers["Authorization"] = f"Bearer {token}"
        self._url = url.rstrip("/")
        # reading the certificates of authorities takes longer than most requests; redirects are not followed
        encrypted = not self._url.startswith("http://")
        self._http = httpx.Client(base_url=f"{self._url}/api/v1/", headers=headers, timeout=timeout, verify=encrypted)

    def close(self) -> None:
        self._http.close()

    @contextmanager
    def _reaching(self) -> Iterator[None]:
        try:
            yield
        except (httpx.TransportError, httpx.InvalidURL) as error:
            reason = str(error) or type(error).__name__
            raise ServiceUnreachable(f"no service answers at {self._url}: {reason}") from None

    def request(self, method: str, path: str, **arguments: Any) -> httpx.Response:
        with self._reaching():
            response = self._http.request(method, path, **arguments)
        if response.is_error:
            raise _api_error(response)
        return response

    def events(self, path: str) -> Iterator[ServerSentEvent]:
        """Server-Sent Events, taken up again where they broke off."""
        last = ""
        broken = 0
        while True:
            headers = {"Last-Event-ID": last} if last else {}
            try:
                with connect_sse(
                    self._http, "GET", path, headers=headers, timeout=httpx.Timeout(10, read=60)
                ) as source:
                    for event in self._received(source):
                        last, broken = event.id or last, 0
                        yield event
                    return
            except httpx.TransportError as error:
                broken += 1
                if broken > _RETRIES:
                    raise ServiceUnreachable(f"the service at {self._url} went away: {error}") from None
                time.sleep(min(0.2 * 2**broken, 5))

    @staticmethod
    def _received(source: EventSource) -> Iterator[ServerSentEvent]:
        if source.response.is_error:
            source.response.read()
            raise _api_error(source.response)
        yield from source.iter_sse()


def _api_error(response: httpx.Response) -> ApiError:
    try:
        body = response.json()
    except ValueError:
        body = {}
    return ApiError(response.status_code, body if isinstance(body, dict) else {})
