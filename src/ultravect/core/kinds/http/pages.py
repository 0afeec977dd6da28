"""Answers that come in pages: all pages of a path are read as one file of JSON lines, a row a line, as the server wrote it."""

from __future__ import annotations

import io
import json
import re
from collections.abc import Callable, Iterator
from contextlib import closing
from json.decoder import scanstring  # type: ignore[attr-defined]
from typing import Any, BinaryIO, cast

import httpx

from ultravect.core.errors import UltravectError
from ultravect.core.kinds.http.kind import HttpSettings

_PAGE_BYTES = 64 << 20
_MOST_PAGES = 100_000
_BUFFER = 1 << 20
_SPACE = re.compile(r"[ \t\r\n]*")
_LINES = str.maketrans("\r\n", "  ")
_NEXT = re.compile(r'<([^>]*)>[^,]*;\s*rel="?next"?')

Get = Callable[[httpx.URL], httpx.Response]
Join = Callable[[httpx.URL, str], httpx.URL]
"""Asks for an address; UltravectError where it is not answered, or leads away from the connection's own."""

Refusal = Callable[[str, str, str], UltravectError]
"""An error of the connection: code, what is wrong, and what to do."""


class Pages:
    """The pages that follow each other from ``first``; ``settings`` say how the next one is found, ``join`` reads its address."""

    def __init__(self, settings: HttpSettings, first: httpx.URL, get: Get, join: Join, refusal: Refusal) -> None:
        self._settings, self._first, self._get, self._join, self._refusal = settings, first, get, join, refusal

    def stream(self) -> BinaryIO:
        return cast(BinaryIO, io.BufferedReader(_Lines(self._lines()), _BUFFER))

    def _lines(self) -> Iterator[bytes]:
        address: httpx.URL | None = self._numbered(0, 0)
        seen: set[str] = set()
        rows = 0
        for page in range(_MOST_PAGES):
            if address is None:
                return
            # a server that repeats itself would never come to an end
            if str(address) in seen:
                raise self._refusal("pages-repeat", f"page {page + 1} is {address}, which was read before", _CHECK)
            seen.add(str(address))
            response, text = self._text(address)
            found = list(_rows(text, self._settings.rows_at)) if text.strip() else []
            yield "".join(f"{row}\n" for row in found).encode()
            rows += len(found)
            address = self._next(address, response, text, page + 1, rows, len(found))
        raise self._refusal("pages-repeat", f"there are more than {_MOST_PAGES:,} pages", _CHECK)

    def _text(self, address: httpx.URL) -> tuple[httpx.Response, str]:
        response = self._get(address)
        body = bytearray()
        with closing(response):
            for chunk in response.iter_bytes(_BUFFER):
                body += chunk
                if len(body) > _PAGE_BYTES:
                    raise self._refusal(
                        "page-too-large", f"{address} has more than {_PAGE_BYTES >> 20} MiB", "ask for less a page"
                    )
        try:
            return response, body.decode("utf-8-sig")
        except UnicodeDecodeError as error:
            raise self._refusal(
                "json-broken", f"{address} is not UTF-8: {error}", "see what the server gives"
            ) from None

    def _numbered(self, page: int, rows: int) -> httpx.URL:
        """The first address, or one that says by a parameter where to go on."""
        settings, address = self._settings, self._first
        if settings.page_size:
            address = address.copy_set_param(settings.page_size_parameter, settings.page_size)
        if settings.pages == "offset":
            return address.copy_set_param(settings.page_parameter or "offset", rows)
        if settings.pages == "number":
            return address.copy_set_param(settings.page_parameter or "page", page + settings.first_page)
        return address

    def _next(
        self, address: httpx.URL, response: httpx.Response, text: str, page: int, rows: int, found: int
    ) -> httpx.URL | None:
        """The address of the page after this one, whose number is ``page``; None where it was the last."""
        settings = self._settings
        if settings.pages in ("offset", "number"):
            last = not found or (settings.page_size and found < settings.page_size)
            return None if last else self._numbered(page, rows)
        if settings.pages == "link_header":
            link = _NEXT.search(response.headers.get("link", ""))
            return self._join(address, link[1]) if link else None
        value = self._value(text, settings.page_field)
        if value in (None, "", False):
            return None
        if settings.pages == "next_link":
            return self._join(address, str(value))
        return self._numbered(0, 0).copy_set_param(settings.page_parameter or "cursor", str(value))

    def _value(self, text: str, path: str) -> Any:
        """What stands at a path such as ``meta.next``."""
        try:
            value = json.loads(text or "null")
        except (ValueError, RecursionError) as error:
            raise self._refusal("json-broken", f"a page is no JSON: {error}", "see what the server gives") from None
        for part in path.split("."):
            if not isinstance(value, dict):
                return None
            value = value.get(part)
        if isinstance(value, dict | list):
            raise self._refusal("pages-field", f"at {path!r} stands no text and no number", _CHECK)
        return value


_CHECK = "see the settings that begin with page_, and what the server gives"


class _Lines(io.RawIOBase):
    def __init__(self, lines: Iterator[bytes]) -> None:
        self._lines, self._rest = lines, b""

    def readable(self) -> bool:
        return True

    def readinto(self, buffer: memoryview) -> int:  # type: ignore[override]
        while not self._rest:
            try:
                self._rest = next(self._lines)
            except StopIteration:
                return 0
        count = min(len(buffer), len(self._rest))
        buffer[:count] = self._rest[:count]
        self._rest = self._rest[count:]
        return count


def _rows(text: str, path: str) -> Iterator[str]:
    """The rows of a page, each as it is written, on one line; ``path`` leads to them, "" where the page is a list of rows.

    Numbers keep all digits that way. UltravectError where there is no list of rows.
    """
    decoder = json.JSONDecoder()
    try:
        at = _SPACE.match(text).end()  # type: ignore[union-attr]
        for part in path.split(".") if path else []:
            at = _value_of(text, at, part, decoder)
        if text[at : at + 1] != "[":
            raise _no_rows(path)
        at = _SPACE.match(text, at + 1).end()  # type: ignore[union-attr]
        while text[at : at + 1] != "]":
            _, end = decoder.raw_decode(text, at)
            yield text[at:end].translate(_LINES)
            at = _SPACE.match(text, end).end()  # type: ignore[union-attr]
            if text[at : at + 1] == ",":
                at = _SPACE.match(text, at + 1).end()  # type: ignore[union-attr]
            elif text[at : at + 1] != "]":
                raise ValueError(f"a comma or ] is expected at character {at}")
    except (ValueError, RecursionError) as error:
        raise UltravectError("json-broken", f"a page is no JSON: {error}", hint="see what the server gives") from None


def _value_of(text: str, at: int, name: str, decoder: json.JSONDecoder) -> int:
    """Where the value of a member begins in the object that begins at ``at``."""
    if text[at : at + 1] != "{":
        raise _no_rows(name)
    at = _SPACE.match(text, at + 1).end()  # type: ignore[union-attr]
    while text[at : at + 1] == '"':
        key, at = scanstring(text, at + 1)
        at = _SPACE.match(text, at).end()  # type: ignore[union-attr]
        if text[at : at + 1] != ":":
            raise ValueError(f"a colon is expected at character {at}")
        at = _SPACE.match(text, at + 1).end()  # type: ignore[union-attr]
        if key == name:
            return at
        _, at = decoder.raw_decode(text, at)
        at = _SPACE.match(text, at).end()  # type: ignore[union-attr]
        if text[at : at + 1] == ",":
            at = _SPACE.match(text, at + 1).end()  # type: ignore[union-attr]
    raise _no_rows(name)


def _no_rows(path: str) -> UltravectError:
    where = f"at {path!r}" if path else "at the top"
    return UltravectError(
        "no-rows-found",
        f"a page has no list of rows {where}",
        hint="set rows_at to the path of the list, such as data.items",
    )
