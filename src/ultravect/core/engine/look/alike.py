"""Files whose names differ in numbers alone, as one line: hundreds of them would push all else off the screen."""

from __future__ import annotations

import re
from collections import Counter, defaultdict
from collections.abc import Sequence
from typing import Any

from ultravect.core.patterns import has_pattern, matcher

LEAST = 3
"""So many files are a group."""

# numbers, and the names that programs make by chance
_NUMBER = re.compile(r"(?=[a-f]*\d)[0-9a-f]{8,}|\d+")
_NUMBERS = "[0-9]*"


def grouped(items: Sequence[dict[str, Any]]) -> list[dict[str, Any]]:
    """Lines of ``list_objects``, with those of files that are alike put together, in the place of the first one.

    A group has the pattern that matches its files, and no other listed one, as its ``name``; ``files`` counts them, ``size`` is their sum,
    ``modified`` that of the newest.
    """
    forms = [_form(item) for item in items]
    counts = Counter(form for form in forms if form)
    members: dict[str, list[dict[str, Any]]] = defaultdict(list)
    lines: list[dict[str, Any]] = []
    for item, form in zip(items, forms, strict=True):
        if counts[form] < LEAST:
            lines.append(item)
            continue
        if form not in members:
            lines.append({"form": form})
        members[form].append(item)
    return [_group(members[line["form"]], items) if "form" in line else line for line in lines]


def _form(item: dict[str, Any]) -> str:
    name: str = item["name"]
    if item["kind"] != "file" or has_pattern(name) or not _NUMBER.search(name):
        return ""
    return _NUMBER.sub("*", name)


def _pattern(names: Sequence[str]) -> str:
    """The names with a star for each number that is not the same in all of them."""
    between = _NUMBER.split(names[0])
    numbers = zip(*(_NUMBER.findall(name) for name in names), strict=True)
    shown = [found[0] if len(set(found)) == 1 else "*" for found in numbers]
    return "".join(part for pair in zip(between, [*shown, ""], strict=True) for part in pair)


def _group(members: Sequence[dict[str, Any]], items: Sequence[dict[str, Any]]) -> dict[str, Any]:
    form = _pattern([item["name"] for item in members])
    fits = matcher(form)
    alone = sum(1 for item in items if fits(item["name"])) == len(members)
    sizes = [item["size"] for item in members]
    return {
        "name": form if alone else form.replace("*", _NUMBERS),
        "kind": "files",
        "files": len(members),
        "size": None if None in sizes else sum(sizes),
        "modified": max((item["modified"] for item in members if item["modified"]), default=None),
    }
