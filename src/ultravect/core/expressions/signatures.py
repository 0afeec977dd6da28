"""Types of arguments and results: what operators and functions bring their arguments to."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from decimal import Decimal
from typing import Any, Protocol

from ultravect.core.expressions import kernels
from ultravect.core.types.canonical import MAX_PRECISION, CanonicalType

BOOLEAN, TEXT, BIGINT, DOUBLE = (CanonicalType(name) for name in ("boolean", "text", "bigint", "double"))
DATE, TIMESTAMP, TIMESTAMPTZ = (CanonicalType(name) for name in ("date", "timestamp", "timestamptz"))
INTEGERS = {"smallint": 5, "integer": 10, "bigint": 19}
_ANY_TEXT = ("text", "json", "uuid")


class Typed(Protocol):
    """An argument; a literal has a ``value``."""

    @property
    def type(self) -> CanonicalType: ...


@dataclass(frozen=True)
class Signature:
    """The types that the arguments are brought to, and that of the result."""

    arguments: Sequence[CanonicalType]
    result: CanonicalType
    kernel: kernels.Kernel


Rule = Callable[[Sequence[Any]], Signature | str]


@dataclass(frozen=True)
class Function:
    """``rule`` gives the signature for arguments, or says what is wrong with them; ``constants`` are the arguments
    that have to be literals or parameters."""

    least: int
    most: int
    rule: Rule
    usage: str = ""
    constants: Sequence[int] = ()


def literal_type(value: Any, kind: str) -> CanonicalType:
    """The type of a literal; that of NULL is text until something else is wanted."""
    if isinstance(value, Decimal):
        _, digits, exponent = value.as_tuple()
        scale = max(0, -int(exponent))
        return CanonicalType("decimal", precision=max(len(digits), scale, 1), scale=scale)
    return CanonicalType(kind or "text")


def is_null(argument: Any) -> bool:
    return getattr(argument, "value", 0) is None


def is_number(kind: CanonicalType) -> bool:
    return kind.name in INTEGERS or kind.name in ("decimal", "real", "double")


def as_decimal(kind: CanonicalType) -> CanonicalType:
    """The decimal that holds every value of an exact number."""
    if kind.name in INTEGERS:
        return CanonicalType("decimal", precision=INTEGERS[kind.name], scale=0)
    return kind if kind.precision is not None else CanonicalType("decimal", precision=MAX_PRECISION, scale=10)


def _wider(left: CanonicalType, right: CanonicalType) -> CanonicalType | None:
    if left == right:
        return left
    if is_number(left) and is_number(right):
        if "double" in (left.name, right.name) or "real" in (left.name, right.name):
            return DOUBLE
        if left.name in INTEGERS and right.name in INTEGERS:
            return BIGINT
        a, b = as_decimal(left), as_decimal(right)
        scale = max(a.scale or 0, b.scale or 0)
        whole = max((a.precision or 0) - (a.scale or 0), (b.precision or 0) - (b.scale or 0))
        return CanonicalType("decimal", precision=min(whole + scale, MAX_PRECISION), scale=scale)
    if left.name == right.name:
        return CanonicalType(left.name)
    if {left.name, right.name} == {"date", "timestamp"}:
        return TIMESTAMP
    return TEXT if left.name in _ANY_TEXT and right.name in _ANY_TEXT else None


def common_type(arguments: Sequence[Any]) -> CanonicalType | None:
    """The type that all arguments can be brought to; a text literal becomes what the others are."""
    kinds = [argument.type for argument in arguments if not is_null(argument)]
    if not kinds:
        return TEXT
    others = [argument.type for argument in arguments if not is_null(argument) and not _is_text_literal(argument)]
    if others and any(kind.name in ("date", "time", "timestamp", "timestamptz", "uuid") for kind in others):
        kinds = others
    found: CanonicalType = kinds[0]
    for kind in kinds[1:]:
        wider = _wider(found, kind)
        if wider is None:
            return None
        found = wider
    return found


def _is_text_literal(argument: Any) -> bool:
    return isinstance(getattr(argument, "value", None), str) and argument.type.name == "text"


def types_of(arguments: Sequence[Any]) -> str:
    return " and ".join(str(argument.type) for argument in arguments)
