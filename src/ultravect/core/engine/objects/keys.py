"""Which keys the expressions of a job name, so that these are sent to who copies it, and no others."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from ultravect.core.errors import UltravectError
from ultravect.core.expressions.parse import parse_condition, parse_item
from ultravect.core.expressions.tree import Node, Star, keys_in

_KEYED = "hmac"
_LONGEST = 20_000
_NOTHING = Node(0)


def keys_named(structure: Mapping[str, Any]) -> set[str]:
    """The names of the keys in the expressions of a job, with its feed in the place of the feed's name."""
    return {name for text in _expressions(structure) if _KEYED in text.lower() for name in keys_in(_parsed(text))}


def _parsed(text: str) -> Node:
    """What an item of a select list, or a condition, says. UltravectError where it is neither: what that means is said when it is planned."""
    try:
        item = parse_item(text, "columns")
    except UltravectError:
        try:
            return parse_condition(text, "from.where")
        except UltravectError:
            return _NOTHING
    return _NOTHING if isinstance(item, Star) or item.value is None else item.value


def _expressions(structure: Mapping[str, Any]) -> Iterator[str]:
    """The texts of a job in which keys may be named."""
    source = structure.get("from") or {}
    yield from _texts(structure.get("columns"))
    yield from _texts(structure.get("require"))
    yield from _texts([source.get("where")])
    for own in (structure.get("objects") or {}).values():
        yield from _expressions({"columns": own.get("columns"), "from": own.get("from")})
    feed = source.get("feed")
    if isinstance(feed, Mapping):
        for provider in feed["providers"].values():
            for version in provider["versions"]:
                yield from _texts(version.get("columns"))


def _texts(given: Any) -> Iterator[str]:
    return (text for text in given or () if isinstance(text, str) and len(text) <= _LONGEST)
