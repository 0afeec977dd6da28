"""Gives an expression its types: names become columns, functions are looked up, and what does not fit is reported."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from decimal import Decimal
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from ultravect.core.errors import UltravectError
from ultravect.core.expressions import kernels, text_kernels
from ultravect.core.expressions.functions import FUNCTIONS
from ultravect.core.expressions.signatures import Signature, common_type, literal_type
from ultravect.core.expressions.tree import Call, Case, Cast, Literal, Name, Node, Parameter
from ultravect.core.model.problems import did_you_mean
from ultravect.core.types.canonical import CanonicalType, parse_type
from ultravect.core.types.from_text import convert
from ultravect.core.types.pairs import pair_fit
from ultravect.core.types.text_formats import NO_NULLS

LOG_FACTS = {"change": "text", "committed_at": "timestamptz", "log_position": "text"}
"""What functions say of a change that a log has, and of which type it is."""

BOOLEAN, TEXT = CanonicalType("boolean"), CanonicalType("text")


@dataclass(frozen=True)
class Bound:
    """A part of an expression with its type."""

    type: CanonicalType


@dataclass(frozen=True)
class BoundColumn(Bound):
    position: int
    name: str


@dataclass(frozen=True)
class BoundLiteral(Bound):
    """``value`` is of the type's Arrow kind."""

    value: Any


@dataclass(frozen=True)
class BoundCall(Bound):
    function: str
    arguments: Sequence[Bound]
    kernel: kernels.Kernel


@dataclass(frozen=True)
class BoundCast(Bound):
    value: Bound


@dataclass(frozen=True)
class BoundCase(Bound):
    whens: Sequence[tuple[Bound, Bound]]
    otherwise: Bound | None


@dataclass(frozen=True)
class RunFact(Bound):
    """What the run says: ``file_name``, ``file_row`` or ``run_id``; or the log of a source: ``change``, ``committed_at`` or ``log_position``."""

    what: str


@dataclass(frozen=True)
class Scope:
    """What an expression may name: columns with their types, parameters with their values, keys by their names; ``follows_log``: what the log
    of the source has."""

    names: Sequence[str]
    types: Sequence[CanonicalType]
    parameters: Mapping[str, Any] = field(default_factory=dict)
    key: Callable[[str], str] | None = None
    now: dt.datetime = field(default_factory=lambda: dt.datetime.now(dt.UTC))
    follows_log: bool = False


def column_position(name: str, names: Sequence[str], place: str) -> int:
    """The column that is meant: by its exact name, or without regard to case where only one is so called."""
    if name in names:
        return names.index(name)
    folded = [index for index, known in enumerate(names) if known.lower() == name.lower()]
    if len(folded) == 1:
        return folded[0]
    hint = did_you_mean(name, names) or f"the source has {', '.join(names[:12])}{' …' if len(names) > 12 else ''}"
    if folded:
        hint = f"write one of {', '.join(repr(names[index]) for index in folded)} in double quotes"
    what = "more than one column" if folded else "no column"
    raise UltravectError(
        "column-unknown", f"the source has {what} called {name!r}", hint=hint, place=place, column=name
    )


def bind(node: Node, scope: Scope, place: str) -> Bound:
    """The expression with its types; UltravectError says what does not fit, and where."""
    return _Binder(scope, place).bind(node)


def bind_condition(node: Node, scope: Scope, place: str) -> Bound:
    bound = bind(node, scope, place)
    if bound.type != BOOLEAN:
        raise UltravectError(
            "expression-type",
            f"a condition is true or false, and this one gives {bound.type}",
            hint="compare it with something",
            place=place,
        )
    return bound


class _Binder:
    def __init__(self, scope: Scope, place: str) -> None:
        self._scope = scope
        self._place = place

    def _refuse(self, node: Node, code: str, detail: str, hint: str = "", wrong: str | None = None) -> UltravectError:
        shown = f"{detail} (character {node.at})"
        return UltravectError(code, shown, hint=hint, place=self._place, position=node.at, wrong=wrong)

    def bind(self, node: Node) -> Bound:
        match node:
            case Name():
                at = column_position(node.name, self._scope.names, self._place)
                return BoundColumn(self._scope.types[at], at, self._scope.names[at])
            case Literal():
                return self._literal(node)
            case Parameter():
                return self._parameter(node)
            case Cast():
                return self._cast(self.bind(node.value), self._type(node), node)
            case Case():
                return self._case(node)
            case Call():
                return self._call(node)
        raise AssertionError(node)

    def _type(self, node: Cast) -> CanonicalType:
        try:
            return parse_type(node.type)
        except ValueError as error:
            raise self._refuse(node, "expression-type", str(error)) from None

    def _literal(self, node: Literal) -> Bound:
        if node.kind in ("date", "timestamp", "timestamptz", "time"):
            return self._converted(str(node.value), CanonicalType(node.kind), node)
        if node.kind == "bigint" and not -(2**63) <= int(node.value or 0) < 2**63:
            digits = len(str(abs(int(node.value or 0))))
            if digits > 38:
                raise self._refuse(node, "expression-type", "the number has more than 38 digits")
            return BoundLiteral(CanonicalType("decimal", precision=digits, scale=0), Decimal(int(node.value or 0)))
        return BoundLiteral(literal_type(node.value, node.kind), node.value)

    def _converted(self, text: str, kind: CanonicalType, node: Node) -> BoundLiteral:
        found = convert(pa.array([text]), kind, NO_NULLS)
        if found.failed[0]:
            raise self._refuse(node, "expression-type", f"{text!r} is no {kind}")
        return BoundLiteral(kind, found.array[0].as_py())

    def _parameter(self, node: Parameter) -> Bound:
        if node.name not in self._scope.parameters:
            known = self._scope.parameters
            hint = did_you_mean(node.name, known) or (
                f"parameters are {', '.join(known)}" if known else "declare it in parameters"
            )
            raise self._refuse(node, "parameter-unknown", f"there is no parameter {node.name!r}", hint, node.name)
        value = self._scope.parameters[node.name]
        if isinstance(value, float):
            value = Decimal(str(value))
        kinds: dict[type, str] = {bool: "boolean", int: "bigint", Decimal: "decimal", str: "text", type(None): ""}
        return self._literal(Literal(node.at, value, kinds[type(value)]))

    def _cast(self, value: Bound, wanted: CanonicalType, node: Node) -> Bound:
        if value.type == wanted:
            return value
        if isinstance(value, BoundLiteral) and value.value is None:
            return BoundLiteral(wanted, None)
        if pair_fit(value.type, wanted) is None:
            raise self._refuse(node, "expression-type", f"{value.type} is not converted to {wanted}")
        if isinstance(value, BoundLiteral) and isinstance(value.value, str) and wanted.name != "text":
            return self._converted(value.value, wanted, node)
        return BoundCast(wanted, value)

    def _case(self, node: Case) -> Bound:
        whens = [(self.bind(condition), self.bind(result)) for condition, result in node.whens]
        for (condition, _), (written, _) in zip(whens, node.whens, strict=True):
            if condition.type != BOOLEAN:
                shown = f"what stands after when is true or false, and this gives {condition.type}"
                raise self._refuse(written, "expression-type", shown)
        otherwise = self.bind(node.otherwise) if node.otherwise else None
        results = [result for _, result in whens] + ([otherwise] if otherwise else [])
        kind = common_type(results)
        if kind is None:
            shown = " and ".join(dict.fromkeys(str(result.type) for result in results))
            raise self._refuse(node, "expression-type", f"the results of case are {shown}", "cast them to one type")
        return BoundCase(
            kind,
            [(condition, self._cast(result, kind, node)) for condition, result in whens],
            self._cast(otherwise, kind, node) if otherwise else None,
        )

    def _call(self, node: Call) -> Bound:
        name = node.function
        if name not in FUNCTIONS:
            hint = did_you_mean(name, [known for known in FUNCTIONS if known.isidentifier()])
            raise self._refuse(
                node, "function-unknown", f"there is no function {name!r}", hint or "see the reference", name
            )
        function = FUNCTIONS[name]
        count = len(node.arguments)
        if not function.least <= count <= function.most:
            wanted = (
                str(function.least) if function.least == function.most else f"{function.least} to {function.most}"
            )
            shown = f"{name} takes {wanted} argument{'' if wanted == '1' else 's'}, not {count}"
            raise self._refuse(node, "function-arguments", shown, function.usage)
        arguments = [self.bind(argument) for argument in node.arguments]
        if name in ("file_name", "file_row", "run_id"):
            return RunFact(CanonicalType("bigint" if name == "file_row" else "text"), name)
        if name in LOG_FACTS:
            if not self._scope.follows_log:
                raise self._refuse(
                    node,
                    "function-without-log",
                    f"{name}() says what the log of a source has",
                    "it goes with from.newer: log",
                    name,
                )
            return RunFact(CanonicalType(LOG_FACTS[name]), name)
        if name in ("provider", "version"):
            # of a feed's leg; elsewhere there is none
            return BoundLiteral(CanonicalType("text"), self._scope.parameters.get(name))
        if name in ("current_date", "current_timestamp"):
            now: Any = self._scope.now.date() if name == "current_date" else self._scope.now
            return BoundLiteral(CanonicalType("date" if name == "current_date" else "timestamptz"), now)
        for position in function.constants:
            if position < count and not isinstance(arguments[position], BoundLiteral):
                shown = f"argument {position + 1} of {name} has to be a literal or a parameter"
                raise self._refuse(node.arguments[position], "function-arguments", shown, function.usage)
        signature = function.rule(arguments)
        if isinstance(signature, str):
            raise self._refuse(node, "expression-type", signature, function.usage)
        return self._bound_call(node, name, arguments, signature)

    def _bound_call(self, node: Call, name: str, arguments: Sequence[Bound], signature: Signature) -> Bound:
        wanted = [
            self._cast(argument, kind, at)
            for argument, kind, at in zip(arguments, signature.arguments, node.arguments, strict=True)
        ]
        kernel = signature.kernel
        if name == "hmac":
            assert isinstance(wanted[1], BoundLiteral)
            if self._scope.key is None:
                raise self._refuse(node, "key-unknown", "keys are not at hand here")
            kernel = text_kernels.keyed(self._scope.key(str(wanted[1].value)))
            wanted = wanted[:1]
        return _folded(BoundCall(signature.result, name, wanted, kernel))


def _folded(call: BoundCall) -> Bound:
    """The value of a call of literals, which is the same for all rows; the call itself where it cannot be computed."""
    literals = [argument for argument in call.arguments if isinstance(argument, BoundLiteral)]
    if len(literals) < len(call.arguments):
        return call
    computed = call.kernel([pa.array([literal.value], literal.type.arrow) for literal in literals], call.type)
    return call if computed.failures else BoundLiteral(call.type, computed.array[0].as_py())


def both(left: Bound, right: Bound) -> Bound:
    """Two conditions that both have to be true."""
    return BoundCall(BOOLEAN, "and", [left, right], kernels.plain(pc.and_kleene))


def parts_of(bound: Bound) -> Iterator[Bound]:
    """An expression and all that it is made of."""
    yield bound
    inner: Sequence[Bound] = ()
    match bound:
        case BoundCast():
            inner = [bound.value]
        case BoundCall():
            inner = bound.arguments
        case BoundCase():
            inner = [part for when in bound.whens for part in when] + ([bound.otherwise] if bound.otherwise else [])
    for item in inner:
        yield from parts_of(item)


def columns_in(bound: Bound) -> set[int]:
    """The positions of the columns that an expression needs."""
    return {part.position for part in parts_of(bound) if isinstance(part, BoundColumn)}
