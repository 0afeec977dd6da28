"""Parses expressions and items of select lists; says in plain words where one cannot be read."""

from __future__ import annotations

from decimal import Decimal
from functools import cache
from typing import Any

from lark import Lark, Token, Transformer, v_args
from lark.exceptions import UnexpectedCharacters, UnexpectedEOF, UnexpectedInput, UnexpectedToken, VisitError

from ultravect.core.errors import UltravectError
from ultravect.core.expressions.tree import Call, Case, Cast, Item, Literal, Name, Node, Parameter, Star

_WORDS = {
    "WORD": "a column",
    "QUOTED": "a column",
    "FUNCTION": "a function",
    "NUMBER": "a number",
    "STRING": "a 'text'",
    "PARAMETER": "a :parameter",
    "COMPARISON": "a comparison",
    "SUM_SIGN": "an operator",
    "PRODUCT_SIGN": "an operator",
    "TYPE": "a type",
    "CAST_TYPE": "a type",
    "LPAR": "(",
    "RPAR": ")",
    "COMMA": ",",
    "$END": "the end",
    "_AT_TIME_ZONE": "at time zone",
}
_QUIET = {"MOMENT", "TRUE", "FALSE", "_NULL", "_CASE", "_CAST", "_EXTRACT", "WS", "STAR", "_AT_TIME_ZONE", "_NOT"}
_MAX_EXPECTED = 6
_MAX_DEPTH = 200


def _text(token: str, mark: str) -> str:
    return token[1:-1].replace(mark * 2, mark)


@v_args(meta=True)
class _Builder(Transformer[Token, Node]):
    def name(self, meta: Any, children: list[Any]) -> Name:
        token = str(children[0])
        return Name(meta.start_pos + 1, _text(token, '"') if token.startswith('"') else token)

    def number(self, meta: Any, children: list[Any]) -> Literal:
        text = str(children[0])
        if "e" in text.lower():
            return Literal(meta.start_pos + 1, float(text), "double")
        return (
            Literal(meta.start_pos + 1, Decimal(text), "decimal")
            if "." in text
            else Literal(meta.start_pos + 1, int(text), "bigint")
        )

    def string(self, meta: Any, children: list[Any]) -> Literal:
        return Literal(meta.start_pos + 1, _text(str(children[0]), "'"), "text")

    def moment(self, meta: Any, children: list[Any]) -> Literal:
        kind, _, rest = str(children[0]).partition("'")
        return Literal(meta.start_pos + 1, rest[:-1].replace("''", "'"), kind.strip().lower())

    def true(self, meta: Any, children: list[Any]) -> Literal:
        return Literal(meta.start_pos + 1, True, "boolean")

    def false(self, meta: Any, children: list[Any]) -> Literal:
        return Literal(meta.start_pos + 1, False, "boolean")

    def null(self, meta: Any, children: list[Any]) -> Literal:
        return Literal(getattr(meta, "start_pos", 0) + 1, None, "")

    def parameter(self, meta: Any, children: list[Any]) -> Parameter:
        return Parameter(meta.start_pos + 1, str(children[0])[1:])

    def call(self, meta: Any, children: list[Any]) -> Call:
        return Call(meta.start_pos + 1, str(children[0]).lower(), children[1:])

    def extract(self, meta: Any, children: list[Any]) -> Call:
        field = Literal(meta.start_pos + 1, str(children[0]).lower(), "text")
        return Call(meta.start_pos + 1, "extract", [field, children[1]])

    def cast(self, meta: Any, children: list[Any]) -> Cast:
        return Cast(meta.start_pos + 1, children[0], children[1])

    def cast_type(self, meta: Any, children: list[Any]) -> str:
        return str(children[0])

    type = cast_type

    def _chain(self, meta: Any, children: list[Any]) -> Node:
        result: Node = children[0]
        for sign, operand in zip(children[1::2], children[2::2], strict=True):
            result = Call(meta.start_pos + 1, str(sign), [result, operand])
        return result

    sum = product = _chain

    def _joined(self, word: str, meta: Any, children: list[Any]) -> Node:
        result: Node = children[0]
        for operand in children[1:]:
            result = Call(meta.start_pos + 1, word, [result, operand])
        return result

    def or_(self, meta: Any, children: list[Any]) -> Node:
        return self._joined("or", meta, children)

    def and_(self, meta: Any, children: list[Any]) -> Node:
        return self._joined("and", meta, children)

    def zoned(self, meta: Any, children: list[Any]) -> Node:
        return self._joined("at time zone", meta, children)

    def negated(self, meta: Any, children: list[Any]) -> Node:
        return Call(meta.start_pos + 1, "not", children)

    def signed(self, meta: Any, children: list[Any]) -> Node:
        sign, operand = children
        if str(sign) != "-":
            return operand  # type: ignore[no-any-return]
        if isinstance(operand, Literal) and isinstance(operand.value, int | float | Decimal):
            return Literal(meta.start_pos + 1, -operand.value, operand.kind)
        return Call(meta.start_pos + 1, "negative", [operand])

    def compared(self, meta: Any, children: list[Any]) -> Node:
        left, sign, right = children
        return Call(meta.start_pos + 1, {"!=": "<>"}.get(str(sign), str(sign)), [left, right])

    def is_null(self, meta: Any, children: list[Any]) -> Node:
        return Call(meta.start_pos + 1, "is null", children)

    def is_not_null(self, meta: Any, children: list[Any]) -> Node:
        return self.negated(meta, [self.is_null(meta, children)])

    def among(self, meta: Any, children: list[Any]) -> Node:
        tests = [Call(meta.start_pos + 1, "=", [children[0], child]) for child in children[1:]]
        return self._joined("or", meta, tests)

    def not_among(self, meta: Any, children: list[Any]) -> Node:
        return self.negated(meta, [self.among(meta, children)])

    def between(self, meta: Any, children: list[Any]) -> Node:
        value, low, high = children
        at = meta.start_pos + 1
        return Call(at, "and", [Call(at, ">=", [value, low]), Call(at, "<=", [value, high])])

    def not_between(self, meta: Any, children: list[Any]) -> Node:
        return self.negated(meta, [self.between(meta, children)])

    def like(self, meta: Any, children: list[Any]) -> Node:
        return Call(meta.start_pos + 1, "like", children)

    def not_like(self, meta: Any, children: list[Any]) -> Node:
        return self.negated(meta, [self.like(meta, children)])

    def when(self, meta: Any, children: list[Any]) -> tuple[Node, Node]:
        return children[0], children[1]

    def subject(self, meta: Any, children: list[Any]) -> list[Node]:
        return children

    def otherwise(self, meta: Any, children: list[Any]) -> Node:
        return children[0]  # type: ignore[no-any-return]

    def case(self, meta: Any, children: list[Any]) -> Case:
        at = meta.start_pos + 1
        whens = [child for child in children if isinstance(child, tuple)]
        if isinstance(children[0], list):
            whens = [(Call(at, "=", [children[0][0], wanted]), result) for wanted, result in whens]
        last = children[-1]
        return Case(at, whens, last if isinstance(last, Node) else None)

    def star(self, meta: Any, children: list[Any]) -> Star:
        return Star(meta.start_pos + 1, children)

    def selected(self, meta: Any, children: list[Any]) -> Item:
        value, rest = children[0], children[1:]
        names = [item.name for item in rest if isinstance(item, Name)]
        types = [item for item in rest if isinstance(item, str)]
        return Item(meta.start_pos + 1, value, names[0] if names else None, types[0] if types else None)

    def item(self, meta: Any, children: list[Any]) -> Node:
        return children[0]  # type: ignore[no-any-return]

    condition = item


setattr(_Builder, "or", _Builder.or_)
setattr(_Builder, "and", _Builder.and_)


@cache
def _parser() -> Lark:
    return Lark.open(
        "expression.lark", rel_to=__file__, parser="lalr", start=["item", "condition"], propagate_positions=True
    )


def _expected(terminals: Any) -> str:
    names = [name for name in sorted(terminals) if name not in _QUIET]
    words = dict.fromkeys(_WORDS.get(name, name.strip("_").lower().replace("_", " ")) for name in names)
    shown = list(words)[:_MAX_EXPECTED]
    return ", ".join(shown)


def _parse(text: str, start: str, place: str, hint: str) -> Node:
    if text.count("(") > _MAX_DEPTH:
        raise UltravectError("expression-syntax", f"{text[:60]!r}… is nested too deeply", place=place)
    try:
        return _Builder().transform(_parser().parse(text, start=start))
    except (UnexpectedInput, VisitError) as error:
        raise _explained(error, text, place, hint) from None


def _explained(error: Exception, text: str, place: str, hint: str) -> UltravectError:
    where, found, terminals = len(text), "its end", set[str]()
    if isinstance(error, UnexpectedCharacters):
        where = error.pos_in_stream or 0
        found = f"{text[where : where + 12]!r}"
        terminals = set(error.allowed or ())
    elif isinstance(error, UnexpectedToken) and not isinstance(error, UnexpectedEOF):
        terminals = set(error.accepts or error.expected or ())
        if error.token.type != "$END":
            where = error.token.start_pos or 0
            found = repr(str(error.token))
    expected = _expected(terminals)
    at = f"at character {where + 1}, at {found}" if found != "its end" else "at its end"
    shown = f"{text!r} cannot be read {at}" + (f"; expected there: {expected}" if expected else "")
    return UltravectError("expression-syntax", shown, hint=hint, place=place, position=where + 1)


def parse_item(text: str, place: str) -> Item | Star:
    """An item of a select list: ``*``, ``* except (a, b)`` or ``expression as name type``."""
    hint = 'write name, expression as name, each with a type after it if need be, "*" or "* except (name, …)"; odd names in double quotes'
    found = _parse(text, "item", place, hint)
    assert isinstance(found, Item | Star)
    return found


def parse_condition(text: str, place: str) -> Node:
    """A condition, such as that of ``from.where``."""
    return _parse(text, "condition", place, "texts stand in single quotes, odd names in double quotes")
