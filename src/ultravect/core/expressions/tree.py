"""The syntax tree of an expression: what was written, and where."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from decimal import Decimal


@dataclass(frozen=True)
class Node:
    """``at`` is the place of its first character in the text, from 1."""

    at: int


@dataclass(frozen=True)
class Name(Node):
    name: str


@dataclass(frozen=True)
class Literal(Node):
    """``kind`` is the name of a canonical type, "" for NULL; ``text`` of a date or moment as it was written."""

    value: bool | int | Decimal | float | str | None
    kind: str


@dataclass(frozen=True)
class Parameter(Node):
    name: str


@dataclass(frozen=True)
class Call(Node):
    """A function or operator: ``lower``, ``+``, ``is null``."""

    function: str
    arguments: Sequence[Node]


@dataclass(frozen=True)
class Cast(Node):
    value: Node
    type: str


@dataclass(frozen=True)
class Case(Node):
    """``whens`` are conditions with what they give."""

    whens: Sequence[tuple[Node, Node]]
    otherwise: Node | None


@dataclass(frozen=True)
class Star(Node):
    """All columns that no other item names, less some."""

    left_out: Sequence[Name]


@dataclass(frozen=True)
class Item(Node):
    """An item of a select list; ``name`` and ``type`` are those that it gives, if it does."""

    value: Node
    name: str | None
    type: str | None


def _within(node: Node) -> Iterator[Node]:
    """The node and all below it."""
    yield node
    match node:
        case Cast():
            below: Sequence[Node] = [node.value]
        case Call():
            below = node.arguments
        case Case():
            below = [item for pair in node.whens for item in pair] + ([node.otherwise] if node.otherwise else [])
        case _:
            below = []
    for item in below:
        yield from _within(item)


def names_in(node: Node) -> Iterator[Name]:
    """Every column that an expression names."""
    return (item for item in _within(node) if isinstance(item, Name))


def keys_in(node: Node) -> Iterator[str]:
    """The name of every key that an expression is computed with."""
    for item in _within(node):
        if isinstance(item, Call) and item.function == "hmac" and len(item.arguments) == 2:
            named = item.arguments[1]
            if isinstance(named, Literal) and isinstance(named.value, str):
                yield named.value


def parameters_in(node: Node) -> Iterator[str]:
    """Every parameter that an expression names."""
    return (item.name for item in _within(node) if isinstance(item, Parameter))
