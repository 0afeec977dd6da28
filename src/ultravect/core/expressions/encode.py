"""Syntax trees as JSON and back, for plans that another process executes."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import fields
from decimal import Decimal
from typing import Annotated, Any

from pydantic import PlainSerializer, PlainValidator

from ultravect.core.expressions.tree import Call, Case, Cast, Literal, Name, Node, Parameter

_NODES: Mapping[str, type[Node]] = {
    "name": Name,
    "literal": Literal,
    "parameter": Parameter,
    "call": Call,
    "cast": Cast,
    "case": Case,
}
_NAMES = {kind: name for name, kind in _NODES.items()}


def encoded(value: Any) -> Any:
    """A node, or what stands in one, as JSON; a decimal as {"decimal": its digits}."""
    if isinstance(value, Node):
        parts = {field.name: encoded(getattr(value, field.name)) for field in fields(value)}
        return {"node": _NAMES[type(value)], **parts}
    if isinstance(value, list | tuple):
        return [encoded(item) for item in value]
    return {"decimal": str(value)} if isinstance(value, Decimal) else value


def decoded(value: Any) -> Any:
    """What ``encoded`` was given; lists in it are tuples."""
    if isinstance(value, list):
        return tuple(decoded(item) for item in value)
    if not isinstance(value, dict):
        return value
    if "decimal" in value:
        return Decimal(value["decimal"])
    return _NODES[value["node"]](**{name: decoded(entry) for name, entry in value.items() if name != "node"})


Expression = Annotated[
    Node, PlainSerializer(encoded), PlainValidator(lambda value: value if isinstance(value, Node) else decoded(value))
]
"""A syntax tree as a part of what is JSON both ways."""
