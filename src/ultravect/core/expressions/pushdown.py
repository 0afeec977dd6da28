"""Renders conditions as SQL of a source, where the source is sure to give the same answer as Arrow kernels do.

Only what every database decides alike is rendered, and what cannot fail: a row that cannot be computed is a reject here,
while it would end a whole query there. So sums and products of whole numbers are rendered where they cannot leave 64
bits, and division, casts that lose something, and case mapping of letters are not. Texts are compared by their bytes,
whatever the columns' collations say.
"""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from decimal import Decimal

from ultravect.core.dialects.base import Dialect
from ultravect.core.expressions.bind import Bound, BoundCall, BoundCase, BoundCast, BoundColumn, BoundLiteral
from ultravect.core.types.canonical import Fit
from ultravect.core.types.pairs import pair_fit

_TURNED = {"=": "=", "<": ">", "<=": ">=", ">": "<", ">=": "<="}
_COMPARISONS = frozenset(["=", "<>", "<", "<=", ">", ">="])
_INTEGERS = {"smallint": 2**15, "integer": 2**31, "bigint": 2**63}
_NUMBERS = frozenset([*_INTEGERS, "decimal"])
_MOMENTS = frozenset(["timestamp", "timestamptz"])
_COMPARED = _NUMBERS | _MOMENTS | {"text", "date"}
_MOST = 2**63 - 1
_ROUNDED = dt.timedelta(milliseconds=4)
"""More than what any database rounds a moment by that is read from it."""

_LONGEST = 2**31
_UUID = re.compile(r"[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}")


def conjuncts(bound: Bound) -> list[Bound]:
    """The conditions that all have to be true."""
    if isinstance(bound, BoundCall) and bound.function == "and":
        return [part for argument in bound.arguments for part in conjuncts(argument)]
    return [bound]


def bounds_in(bound: Bound, names: Sequence[str]) -> list[tuple[str, str | None, str | None]]:
    """Where all rows are that meet a condition, as far as it compares columns with values, and all of its parts have to be true: a column,
    and its least and greatest value as texts, None where it has none."""
    found = []
    for part in conjuncts(bound):
        if not isinstance(part, BoundCall) or part.function not in _TURNED:
            continue
        left, right = map(_widened, part.arguments)
        sign = part.function
        if isinstance(left, BoundLiteral):
            left, right, sign = right, left, _TURNED[sign]
        if not isinstance(left, BoundColumn) or not isinstance(right, BoundLiteral) or right.value is None:
            continue
        if isinstance(right.value, bool | float):
            continue
        text = str(right.value)
        low, high = sign in ("=", ">", ">="), sign in ("=", "<", "<=")
        found.append((names[left.position], text if low else None, text if high else None))
    return found


@dataclass(frozen=True)
class ColumnValue:
    """The ``sql`` of a column's value as it is compared; ``kept`` is the column itself, of which an index may be kept."""

    sql: str
    kept: str


def render(bound: Bound, dialect: Dialect, named: Callable[[int], ColumnValue | None]) -> str | None:
    """The condition in a dialect, None where the answer might differ; ``named`` gives a column's value by its position, None
    where it may not be compared."""
    try:
        return _Renderer(dialect, named).condition(bound)
    except _NotAlikeError:
        return None


class _NotAlikeError(Exception):
    """The source might decide this differently, or fail."""


@dataclass(frozen=True)
class _Value:
    """SQL of a value; a whole number is not larger than ``most``, whatever its sign."""

    sql: str
    most: int = 0


class _Renderer:
    def __init__(self, dialect: Dialect, named: Callable[[int], ColumnValue | None]) -> None:
        self._dialect = dialect
        self._named = named

    def condition(self, bound: Bound) -> str:
        if not isinstance(bound, BoundCall):
            raise _NotAlikeError
        match bound.function:
            case "and" | "or":
                return f"({f' {bound.function.upper()} '.join(map(self.condition, bound.arguments))})"
            case "not":
                return f"(NOT {self.condition(bound.arguments[0])})"
            case "is null":
                return f"({self._null_tested(bound.arguments[0])} IS NULL)"
            case "like":
                return self._like(bound)
        if bound.function in _COMPARISONS:
            return self._comparison(bound)
        raise _NotAlikeError

    def _null_tested(self, bound: Bound) -> str:
        if isinstance(bound, BoundColumn) and (column := self._named(bound.position)) is not None:
            return column.sql
        return self._value(bound).sql

    def _like(self, bound: BoundCall) -> str:
        text, pattern = bound.arguments
        if not isinstance(pattern, BoundLiteral) or not isinstance(pattern.value, str) or "\0" in pattern.value:
            raise _NotAlikeError
        if _kind(text) != "text":
            raise _NotAlikeError
        return f"({self._dialect.like(self._value(text).sql, pattern.value)})"

    def _comparison(self, bound: BoundCall) -> str:
        kinds = {_kind(argument) for argument in bound.arguments}
        if (not kinds <= _NUMBERS and len(kinds) > 1) or not kinds <= _COMPARED:
            raise _NotAlikeError
        if kinds & _MOMENTS and not self._dialect.compares_moments:
            raise _NotAlikeError
        decimals = [side for side in bound.arguments if _kind(side) == "decimal" and not _is_literal(side)]
        if decimals and not self._dialect.computes_decimals:
            raise _NotAlikeError  # they may be kept as texts, and 10.25 is less than 9 then
        return self._compared(bound.function, *bound.arguments)

    def _compared(self, sign: str, *sides: Bound) -> str:
        if _kind(sides[0]) == "text" and not self._dialect.orders_texts:
            return self._same_bytes(sign, *sides)
        left, right = (self._comparable(side) for side in sides)
        return f"({self._near(sign, *sides)}{left} {sign} {right})"

    def _near(self, sign: str, column: Bound, literal: Bound) -> str:
        """Of moments that are kept more exactly than they are compared, and of UUIDs, which are compared as texts: a condition on the
        column itself, which an index serves, and which is true wherever the comparison is; "" for all others."""
        column, literal = _widened(column), _widened(literal)
        if not isinstance(column, BoundColumn) or not isinstance(literal, BoundLiteral):
            return ""
        named = self._named(column.position)
        if named is None or named.kept == named.sql:
            return ""
        if isinstance(literal.value, str):
            return (
                f"{named.kept} = {self._dialect.literal(literal.value)} AND "
                if sign == "=" and _UUID.fullmatch(literal.value)
                else ""
            )
        if not isinstance(literal.value, dt.datetime):
            return ""
        bounds = []
        try:
            if sign in ("=", ">", ">="):
                bounds.append(f"{named.kept} >= {self._dialect.moment(literal.value - _ROUNDED)}")
            if sign in ("=", "<", "<="):
                bounds.append(f"{named.kept} <= {self._dialect.moment(literal.value + _ROUNDED)}")
        except OverflowError:
            return ""
        return "".join(f"{bound} AND " for bound in bounds)

    def _same_bytes(self, sign: str, *sides: Bound) -> str:
        if sign not in ("=", "<>"):
            raise _NotAlikeError
        if near := self._near(sign, *sides):
            return f"({near}{f' {sign} '.join(self._dialect.by_bytes(self._value(side).sql) for side in sides)})"
        values = [self._value(side).sql for side in sides]
        exact = f" {sign} ".join(map(self._dialect.by_bytes, values))
        # an index finds those that the collation takes for the same, of which only some are
        found = f"{values[0]} = {values[1]} AND " if sign == "=" and any(map(_is_literal, sides)) else ""
        return f"({found}{exact})"

    def _comparable(self, bound: Bound) -> str:
        sql = self._value(bound).sql
        return self._dialect.by_bytes(sql) if _kind(bound) == "text" and not _is_literal(bound) else sql

    def _value(self, bound: Bound) -> _Value:
        bound = _widened(bound)
        match bound:
            case BoundColumn() if (column := self._named(bound.position)) is not None:
                return _Value(column.sql, _INTEGERS.get(bound.type.name, 0))
            case BoundLiteral() if bound.value is not None:
                return self._literal(bound)
            case BoundCase():
                return self._case(bound)
            case BoundCall():
                return self._call(bound)
        raise _NotAlikeError

    def _literal(self, bound: BoundLiteral) -> _Value:
        value = bound.value
        match value:
            case bool():
                raise _NotAlikeError
            case str():
                return _Value(self._dialect.literal(value))
            case dt.datetime():
                return _Value(self._dialect.moment(value))
            case dt.date():
                return _Value(self._dialect.literal(value.isoformat()))
            case Decimal():
                return _Value(format(value, "f"))
            case int():
                return _Value(str(value), abs(value))
        raise _NotAlikeError

    def _call(self, bound: BoundCall) -> _Value:
        arguments = bound.arguments
        match bound.function:
            case "+" | "-" | "*" if bound.type.name in _NUMBERS:
                return self._arithmetic(bound)
            case "negative" | "abs" if bound.type.name in _NUMBERS:
                value = self._operand(arguments[0])
                if value.most > _MOST:
                    raise _NotAlikeError
                return _Value(f"(- {value.sql})" if bound.function == "negative" else f"abs({value.sql})", value.most)
            case "coalesce":
                parts = [self._value(argument) for argument in arguments]
                self._alike(*arguments)
                return _Value(f"COALESCE({', '.join(part.sql for part in parts)})", max(part.most for part in parts))
            case "nullif":
                kept = self._value(arguments[0])
                self._alike(*arguments)
                same = self._compared("=", *arguments)
                return _Value(f"(CASE WHEN {same} THEN NULL ELSE {kept.sql} END)", kept.most)
            case "length" if _kind(arguments[0]) == "text" and self._dialect.slices_texts:
                return _Value(f"{self._dialect.length}({self._value(arguments[0]).sql})", _LONGEST)
            case "substring" if _kind(arguments[0]) == "text" and self._dialect.slices_texts:
                bounds = [argument.value for argument in arguments[1:] if isinstance(argument, BoundLiteral)]
                if len(bounds) < len(arguments) - 1 or not all(isinstance(item, int) and item > 0 for item in bounds):
                    raise _NotAlikeError
                return _Value(f"SUBSTRING({self._value(arguments[0]).sql}, {', '.join(map(str, bounds))})")
        raise _NotAlikeError

    def _operand(self, bound: Bound) -> _Value:
        """A number with room for what is computed from it."""
        value = self._value(bound)
        kind = _kind(bound)
        if kind == "decimal" and not self._dialect.computes_decimals:
            raise _NotAlikeError
        if kind in _INTEGERS and not _is_literal(bound):
            return _Value(self._dialect.as_bigint(value.sql), value.most)
        return value

    def _arithmetic(self, bound: BoundCall) -> _Value:
        if not {_kind(argument) for argument in bound.arguments} <= _NUMBERS:
            raise _NotAlikeError
        left, right = (self._operand(argument) for argument in bound.arguments)
        sql = f"({left.sql} {bound.function} {right.sql})"
        if bound.type.name == "decimal":
            if not self._dialect.computes_decimals:
                raise _NotAlikeError
            return _Value(sql)
        most = left.most * right.most if bound.function == "*" else left.most + right.most
        if most > _MOST:
            raise _NotAlikeError
        return _Value(sql, most)

    def _case(self, bound: BoundCase) -> _Value:
        results = [result for _, result in bound.whens] + ([bound.otherwise] if bound.otherwise else [])
        self._alike(*results)
        whens = [(self.condition(test), self._value(result)) for test, result in bound.whens]
        parts = [f"WHEN {test} THEN {result.sql}" for test, result in whens]
        most = max(result.most for _, result in whens)
        if bound.otherwise:
            otherwise = self._value(bound.otherwise)
            parts.append(f"ELSE {otherwise.sql}")
            most = max(most, otherwise.most)
        return _Value(f"(CASE {' '.join(parts)} END)", most)

    def _alike(self, *bounds: Bound) -> None:
        """Values among which a database would choose one have to be of one kind."""
        kinds = {"integer" if _kind(bound) in _INTEGERS else _kind(bound) for bound in bounds}
        if len(kinds) > 1 or not kinds <= {"integer", "text", "date"}:
            raise _NotAlikeError
        if kinds == {"date"} and any(map(_is_literal, bounds)):
            raise _NotAlikeError  # a date's literal is a text, until it is compared with a date


def _kind(bound: Bound) -> str:
    return _widened(bound).type.name


def _is_literal(bound: Bound) -> bool:
    return isinstance(_widened(bound), BoundLiteral)


def _widened(side: Bound) -> Bound:
    """What stands in a cast that changes no value: databases compare numbers, and moments, of all kinds as such."""
    while isinstance(side, BoundCast):
        kinds = {side.type.name, side.value.type.name}
        fit = pair_fit(side.value.type, side.type)
        alike = kinds <= _NUMBERS or (len(kinds) == 1 and kinds <= _MOMENTS | {"text"})
        if not alike or fit is None or fit[0] not in (Fit.EXACT, Fit.WIDER):
            return side
        side = side.value
    return side
