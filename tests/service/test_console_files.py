"""What a browser is sent of the console: little, compressed, and once."""

from __future__ import annotations

import re

import httpx
from devtools.stack import Stack
from tests.conftest import Place

_FIRST_PAGE = 250_000


def test_the_first_page_is_small_compressed_and_kept_by_browsers(stack: Stack) -> None:
    asked = {"Accept-Encoding": "br, gzip"}
    page = httpx.get(stack.url, headers=asked)
    names = re.findall(r'(?:src|href)="(/static/[^"]+)"', page.text)
    assert len(names) == 2
    sent = 0
    for name in names:
        with httpx.stream("GET", stack.url + name, headers=asked) as answer:
            assert answer.headers["Content-Encoding"] == "br", name
            assert "immutable" in answer.headers["Cache-Control"], name
            sent += sum(len(part) for part in answer.iter_raw())
        plain = httpx.get(stack.url + name, headers={"Accept-Encoding": "identity"})
        assert ("Content-Encoding" in plain.headers, plain.status_code) == (False, 200)
    assert sent < _FIRST_PAGE


def test_our_own_tables_are_listed_only_where_they_are_searched_for(place: Place) -> None:
    place.file("a\n1\n").job()
    assert place.run().state == "succeeded"
    listed = [item["name"] for item in place.client.objects("warehouse", limit=1000)["items"]]
    assert any(name.endswith(place.name) for name in listed)
    assert not [name for name in listed if "ultravect_" in name]
    assert place.client.objects("warehouse", search="ultravect_receipt")["items"]
