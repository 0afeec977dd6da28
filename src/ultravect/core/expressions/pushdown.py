"""Renders conditions as SQL of a source, where the source is sure to give the same answer as Arrow kernels do.

Only what every database decides alike is rendered: comparisons, ``and``, ``or``, ``not``, ``is null`` over columns
and literals of like types. Texts are compared by their bytes, whatever the columns' collations say.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable
from decimal import Decimal
from typing import Any

from ultravect.core.dialects.base import Dialect
from ultravect.core.expressions.bind import Bound, BoundCall, BoundCast, BoundColumn, BoundLiteral
from ultravect.core.types.canonical import Fit
from ultravect.core.types.pairs import pair_fit

_COMPARISONS = frozenset(["=", "<>", "<", "<=", ">", ">="])
_NUMBERS = frozenset(["smallint", "integer", "bigint", "decimal"])
_COMPARED = _NUMBERS | {"text", "date"}


def conjuncts(bound: Bound) -> list[Bound]:
    """The conditions that all have to be true."""
    if isinstance(bound, BoundCall) and bound.function == "and":
        return [part for one in bound.arguments for part in conjuncts(one)]
    return [bound]


def render(bound: Bound, dialect: Dialect, may_push: Callable[[int], bool]) -> str | None:
    """The condition in a dialect, None where the answer might differ; ``may_push`` tells of a column by position."""
    if isinstance(bound, BoundCall):
        if bound.function in ("and", "or"):
            parts = [render(one, dialect, may_push) for one in bound.arguments]
            if None in parts:
                return None
            return f"({f' {bound.function.upper()} '.join(str(part) for part in parts)})"
        if bound.function == "not":
            inner = render(bound.arguments[0], dialect, may_push)
            return f"(NOT {inner})" if inner else None
        if bound.function == "is null":
            value = bound.arguments[0]
            if isinstance(value, BoundColumn) and may_push(value.position):
                return f"({dialect.quote(value.name)} IS NULL)"
            return None
        if bound.function in _COMPARISONS:
            return _comparison(bound, dialect, may_push)
    return None


def _comparison(bound: BoundCall, dialect: Dialect, may_push: Callable[[int], bool]) -> str | None:
    sides = []
    kinds = {_widened(one).type.name for one in bound.arguments}
    if (not kinds <= _NUMBERS and len(kinds) > 1) or not kinds <= _COMPARED:
        return None
    for side in map(_widened, bound.arguments):
        if isinstance(side, BoundColumn) and may_push(side.position):
            name = dialect.quote(side.name)
            sides.append(dialect.by_bytes(name) if side.type.name == "text" else name)
        elif isinstance(side, BoundLiteral) and side.value is not None:
            sides.append(_literal(side.value, dialect))
        else:
            return None
    return f"({sides[0]} {bound.function} {sides[1]})"


def _widened(side: Bound) -> Bound:
    """What stands in a cast that changes no value: databases compare numbers of all kinds as numbers."""
    while isinstance(side, BoundCast):
        fit = pair_fit(side.value.type, side.type)
        if side.type.name not in (*_NUMBERS, "text") or side.value.type.name not in (*_NUMBERS, "text"):
            return side
        if (
            fit is None
            or fit[0] not in (Fit.EXACT, Fit.WIDER)
            or (side.type.name == "text") != (side.value.type.name == "text")
        ):
            return side
        side = side.value
    return side


def _literal(value: Any, dialect: Dialect) -> str:
    if isinstance(value, str):
        return dialect.literal(value)
    if isinstance(value, dt.date):
        return dialect.literal(value.isoformat())
    return format(value, "f") if isinstance(value, Decimal) else str(value)
