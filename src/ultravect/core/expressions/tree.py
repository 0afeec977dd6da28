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


def names_in(node: Node) -> Iterator[Name]:
    """Every column that an expression names."""
    match node:
        case Name():
            yield node
        case Cast():
            yield from names_in(node.value)
        case Call():
            for one in node.arguments:
                yield from names_in(one)
        case Case():
            for condition, result in node.whens:
                yield from names_in(condition)
                yield from names_in(result)
            if node.otherwise:
                yield from names_in(node.otherwise)
