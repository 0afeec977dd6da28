"""Operators and functions: how many arguments, of which types, and what they give."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any
from zoneinfo import available_timezones

import pyarrow as pa
import pyarrow.compute as pc

from ultravect.core.expressions import kernels, text_kernels
from ultravect.core.expressions.signatures import (
    BIGINT,
    BOOLEAN,
    DATE,
    DOUBLE,
    INTEGERS,
    TEXT,
    TIMESTAMP,
    TIMESTAMPTZ,
    Function,
    Rule,
    Signature,
    as_decimal,
    common_type,
    is_null,
    is_number,
    types_of,
)
from ultravect.core.model.date_patterns import check_pattern
from ultravect.core.types.canonical import MAX_PRECISION, CanonicalType


def _exact(left: CanonicalType, right: CanonicalType, sign: str) -> CanonicalType | str:
    """The decimal that a sum, difference or product of decimals needs."""
    a, b = as_decimal(left), as_decimal(right)
    p1, s1, p2, s2 = a.precision or 0, a.scale or 0, b.precision or 0, b.scale or 0
    if sign == "*":
        precision, scale = p1 + p2 + 1, s1 + s2
    else:
        scale = max(s1, s2)
        precision = max(p1 - s1, p2 - s2) + scale + 1
    if precision <= MAX_PRECISION:
        return CanonicalType("decimal", precision=precision, scale=scale)
    return f"{left} {sign} {right} can have {precision} digits, and at most {MAX_PRECISION} are possible; cast one of them to fewer"


def _arithmetic(sign: str, kernel: kernels.Kernel) -> Rule:
    def rule(arguments: Sequence[Any]) -> Signature | str:
        left, right = (argument.type for argument in arguments)
        if sign in "+-" and left.name == "date":
            if right.name in INTEGERS:
                return Signature([DATE, BIGINT], DATE, kernels.days_later(1 if sign == "+" else -1))
            if right.name == "date" and sign == "-":
                return Signature([DATE, DATE], BIGINT, kernels.days_between)
        if not all(is_number(argument.type) or is_null(argument) for argument in arguments):
            return f"{sign} takes numbers, not {types_of(arguments)}"
        kind = common_type(arguments)
        if kind is None or kind.name in ("text", "bigint"):
            return Signature([BIGINT, BIGINT], BIGINT, kernel)
        if kind.name != "decimal":
            kind = kind if kind.name in ("double",) else BIGINT
            return Signature([kind, kind], kind, kernel)
        exact = _exact(left, right, sign)
        return exact if isinstance(exact, str) else Signature([as_decimal(left), as_decimal(right)], exact, kernel)

    return rule


def _division(arguments: Sequence[Any]) -> Signature | str:
    if not all(is_number(argument.type) or is_null(argument) for argument in arguments):
        return f"/ takes numbers, not {types_of(arguments)}"
    kind = common_type(arguments)
    if kind is not None and kind.name == "double":
        return Signature([DOUBLE, DOUBLE], DOUBLE, kernels.divide)
    if kind is None or kind.name != "decimal":
        return Signature([BIGINT, BIGINT], BIGINT, kernels.divide)
    a, b = (as_decimal(argument.type) for argument in arguments)
    scale = max(6, a.scale or 0)
    # the rule by which Arrow finds the digits of a quotient
    quotient = scale + (b.precision or 0) - (b.scale or 0) + 1
    if (a.precision or 0) - (a.scale or 0) + (b.scale or 0) + quotient > 76:
        return f"{a} / {b} has too many digits; cast one of them to fewer"
    return Signature([a, b], CanonicalType("decimal", precision=MAX_PRECISION, scale=scale), kernels.divide)


def _remainder(arguments: Sequence[Any]) -> Signature | str:
    if not all(argument.type.name in INTEGERS or is_null(argument) for argument in arguments):
        return f"% takes whole numbers, not {types_of(arguments)}"
    return Signature([BIGINT, BIGINT], BIGINT, kernels.remainder)


def _comparison(kernel: Callable[..., pa.Array]) -> Rule:
    def rule(arguments: Sequence[Any]) -> Signature | str:
        kind = common_type(arguments)
        if kind is None:
            return f"{types_of(arguments)} cannot be compared; cast one of them"
        if kind.name == "json":
            kind = TEXT
        return Signature([kind] * 2, BOOLEAN, kernels.plain(kernel))

    return rule


def _logical(kernel: Callable[..., pa.Array], word: str) -> Rule:
    def rule(arguments: Sequence[Any]) -> Signature | str:
        if not all(argument.type == BOOLEAN or is_null(argument) for argument in arguments):
            return f"{word} takes what is true or false, not {types_of(arguments)}"
        return Signature([BOOLEAN] * len(arguments), BOOLEAN, kernels.plain(kernel))

    return rule


def _fixed(kinds: Sequence[CanonicalType], result: CanonicalType, kernel: kernels.Kernel, name: str) -> Rule:
    """Arguments of these types; anything is text where text is asked for, whole numbers are of any size."""

    def rule(arguments: Sequence[Any]) -> Signature | str:
        for argument, kind in zip(arguments, kinds, strict=False):
            fits = (
                is_null(argument)
                or argument.type.name == kind.name
                or (kind == TEXT and argument.type.name != "binary")
                or (kind == BIGINT and argument.type.name in INTEGERS)
            )
            if not fits:
                return f"{name} takes {kind} here, not {argument.type}"
        return Signature(kinds[: len(arguments)], result, kernel)

    return rule


def _same(kernel: kernels.Kernel, name: str) -> Rule:
    """All arguments of one type, which is that of the result."""

    def rule(arguments: Sequence[Any]) -> Signature | str:
        kind = common_type(arguments)
        return (
            f"{name} takes values of one type, not {types_of(arguments)}"
            if kind is None
            else Signature([kind] * len(arguments), kind, kernel)
        )

    return rule


def _number(kernel: kernels.Kernel, name: str) -> Rule:
    def rule(arguments: Sequence[Any]) -> Signature | str:
        kind = arguments[0].type
        if not is_number(kind):
            return f"{name} takes a number, not {kind}"
        kind = (
            BIGINT
            if kind.name in INTEGERS
            else DOUBLE
            if kind.name == "real"
            else as_decimal(kind)
            if kind.name == "decimal"
            else kind
        )
        return Signature([kind, *[BIGINT] * (len(arguments) - 1)], kind, kernel)

    return rule


def _moment(arguments: Sequence[Any]) -> CanonicalType | str:
    kind = arguments[1].type
    return (
        kind
        if kind.name in ("date", "timestamp", "timestamptz", "time")
        else f"a date or timestamp is wanted, not {kind}"
    )


def _extraction(arguments: Sequence[Any]) -> Signature | str:
    field, kind = arguments[0].value, _moment(arguments)
    if field not in kernels.FIELDS:
        return f"there is no field {field!r}; fields are {', '.join(kernels.FIELDS)}"
    if isinstance(kind, str):
        return kind
    clock = field in ("hour", "minute", "second")
    if (kind.name == "date" and clock) or (kind.name == "time" and not clock):
        return f"a {kind.name} has no {field}"
    return Signature([TEXT, CanonicalType(kind.name)], BIGINT, kernels.extracted)


def _truncation(arguments: Sequence[Any]) -> Signature | str:
    unit, kind = arguments[0].value, _moment(arguments)
    if unit not in kernels.UNITS:
        return f"there is no unit {unit!r}; units are {', '.join(kernels.UNITS)}"
    if isinstance(kind, str) or kind.name == "time":
        return kind if isinstance(kind, str) else "a time cannot be truncated"
    return Signature([TEXT, CanonicalType(kind.name)], CanonicalType(kind.name), kernels.truncated)


def _zoned(arguments: Sequence[Any]) -> Signature | str:
    kind, zone = arguments[0].type, arguments[1].value
    if zone not in available_timezones():
        return f"there is no time zone {zone!r}; write one such as Europe/Zurich or UTC"
    if kind.name not in ("timestamp", "timestamptz"):
        return f"at time zone takes a timestamp, not {kind}"
    result = TIMESTAMPTZ if kind.name == "timestamp" else TIMESTAMP
    return Signature([CanonicalType(kind.name), TEXT], result, kernels.in_zone)


def _parsing(result: CanonicalType) -> Rule:
    def rule(arguments: Sequence[Any]) -> Signature | str:
        if arguments[0].type.name != "text":
            return f"text is parsed, not {arguments[0].type}"
        if len(arguments) > 1:
            try:
                check_pattern(str(arguments[1].value))
            except ValueError as error:
                return f"{arguments[1].value!r} is no pattern: {error}"
        return Signature([TEXT] * len(arguments), result, kernels.parsed)

    return rule


def _json(arguments: Sequence[Any]) -> Signature | str:
    try:
        text_kernels.json_path(str(arguments[1].value))
    except ValueError as error:
        return str(error)
    return Signature([TEXT, TEXT], TEXT, text_kernels.json_value)


def _null_test(arguments: Sequence[Any]) -> Signature | str:
    return Signature([arguments[0].type], BOOLEAN, kernels.plain(lambda array: array.is_null()))


def _text(name: str, kernel: kernels.Kernel, *kinds: CanonicalType, result: CanonicalType = TEXT) -> Rule:
    return _fixed([TEXT, *kinds], result, kernel, name)


_none: Rule = lambda arguments: Signature([], TEXT, kernels.coalesce)  # noqa: E731 - what these give, the binder knows
FUNCTIONS: dict[str, Function] = {
    "+": Function(2, 2, _arithmetic("+", kernels.add)),
    "-": Function(2, 2, _arithmetic("-", kernels.subtract)),
    "*": Function(2, 2, _arithmetic("*", kernels.multiply)),
    "/": Function(2, 2, _division),
    "%": Function(2, 2, _remainder),
    "negative": Function(1, 1, _number(kernels.negative, "-")),
    "||": Function(2, 2, _text("||", text_kernels.concatenated, TEXT)),
    "=": Function(2, 2, _comparison(pc.equal)),
    "<>": Function(2, 2, _comparison(pc.not_equal)),
    "<": Function(2, 2, _comparison(pc.less)),
    "<=": Function(2, 2, _comparison(pc.less_equal)),
    ">": Function(2, 2, _comparison(pc.greater)),
    ">=": Function(2, 2, _comparison(pc.greater_equal)),
    "and": Function(2, 2, _logical(pc.and_kleene, "and")),
    "or": Function(2, 2, _logical(pc.or_kleene, "or")),
    "not": Function(1, 1, _logical(pc.invert, "not")),
    "is null": Function(1, 1, _null_test),
    "like": Function(2, 2, _text("like", text_kernels.like, TEXT, result=BOOLEAN), "x like 'A%'", (1,)),
    "at time zone": Function(2, 2, _zoned, "moment at time zone 'Europe/Zurich'", (1,)),
    "lower": Function(1, 1, _text("lower", text_kernels.cased("lower")), "lower(text)"),
    "upper": Function(1, 1, _text("upper", text_kernels.cased("upper")), "upper(text)"),
    "trim": Function(1, 1, _text("trim", kernels.plain(pc.utf8_trim_whitespace)), "trim(text)"),
    "length": Function(
        1, 1, _text("length", kernels.plain(lambda text: pc.utf8_length(text).cast(pa.int64())), result=BIGINT), "length(text)"
    ),
    "substring": Function(
        2, 3, _text("substring", text_kernels.substring, BIGINT, BIGINT), "substring(text, start) or substring(text, start, length)"
    ),
    "replace": Function(3, 3, _text("replace", text_kernels.replaced, TEXT, TEXT), "replace(text, 'old', 'new')", (1, 2)),
    "coalesce": Function(1, 100, _same(kernels.coalesce, "coalesce"), "coalesce(value, value, …)"),
    "nullif": Function(2, 2, _same(kernels.null_if, "nullif"), "nullif(value, value)"),
    "round": Function(1, 2, _number(kernels.rounded, "round"), "round(number) or round(number, places)", (1,)),
    "abs": Function(1, 1, _number(kernels.absolute, "abs"), "abs(number)"),
    "floor": Function(1, 1, _number(kernels.stepped("floor"), "floor"), "floor(number)"),
    "ceiling": Function(1, 1, _number(kernels.stepped("ceil"), "ceiling"), "ceiling(number)"),
    "extract": Function(2, 2, _extraction, "extract(year from date)"),
    "date_trunc": Function(2, 2, _truncation, "date_trunc('month', date)", (0,)),
    "parse_date": Function(1, 2, _parsing(DATE), "parse_date(text, 'DD.MM.YYYY')", (1,)),
    "parse_timestamp": Function(1, 2, _parsing(TIMESTAMP), "parse_timestamp(text, 'DD.MM.YYYY')", (1,)),
    "current_date": Function(0, 0, _none, "current_date()"),
    "current_timestamp": Function(0, 0, _none, "current_timestamp()"),
    "sha256": Function(1, 1, _text("sha256", text_kernels.sha256), "sha256(text)"),
    "md5": Function(1, 1, _text("md5", text_kernels.md5), "md5(text)"),
    "hmac": Function(2, 2, _text("hmac", text_kernels.sha256, TEXT), "hmac(text, 'NAME_OF_THE_KEY')", (1,)),
    "keep_last": Function(2, 2, _text("keep_last", text_kernels.keep_last, BIGINT), "keep_last(text, 4)", (1,)),
    "json_value": Function(2, 2, _json, "json_value(doc, '$.wind.speed')", (1,)),
    "file_name": Function(0, 0, _none, "file_name()"),
    "file_row": Function(0, 0, _none, "file_row()"),
    "run_id": Function(0, 0, _none, "run_id()"),
    "change": Function(0, 0, _none, "change()"),
    "committed_at": Function(0, 0, _none, "committed_at()"),
    "log_position": Function(0, 0, _none, "log_position()"),
    "provider": Function(0, 0, _none, "provider()"),
    "version": Function(0, 0, _none, "version()"),
}  # fmt: skip
