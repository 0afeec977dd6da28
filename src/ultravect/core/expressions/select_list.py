"""Reads the items of ``columns``: ``*``, ``* except (a, b)``, ``name``, ``name as other``, each name with a type.

Values computed from several columns are not part of this version of the language.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cache

from lark import Lark, Token, Tree
from lark.exceptions import UnexpectedInput

from ultravect.core.errors import UltravectError
from ultravect.core.model.problems import did_you_mean
from ultravect.core.types.canonical import CanonicalType, parse_type


@dataclass(frozen=True)
class Selected:
    """A column of the source by position, its name in the target, and its type if the job gives one."""

    position: int
    name: str
    type: CanonicalType | None
    place: str


@cache
def _parser() -> Lark:
    return Lark.open("select_list.lark", rel_to=__file__, parser="earley", lexer="dynamic")


def _name(tree: Tree[Token]) -> str:
    token = str(tree.children[0])
    return token[1:-1].replace('""', '"') if token.startswith('"') else token


def _position(name: str, names: Sequence[str], place: str) -> int:
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


def _type(text: str, place: str) -> CanonicalType:
    try:
        return parse_type(text)
    except ValueError as error:
        raise UltravectError(
            "column-syntax", str(error), hint="see the types in the reference", place=place
        ) from None


def _parse(item: str, place: str) -> Tree[Token]:
    try:
        tree = _parser().parse(item.strip())
    except UnexpectedInput as error:
        column = getattr(error, "column", -1)
        at = f"at character {column}" if column and column > 0 else "at its end"
        raise UltravectError(
            "column-syntax",
            f"{item!r} cannot be read {at}",
            hint='write name, name as other, name type, "*" or "* except (name, …)"; odd names in double quotes',
            place=place,
        ) from None
    return tree


@dataclass(frozen=True)
class _Star:
    """All columns that no other item names, less some."""

    left_out: frozenset[int]
    place: str


def _read(item: str, names: Sequence[str], place: str) -> Selected | _Star:
    tree = _parse(item, place)
    if tree.data == "star":
        return _Star(frozenset(_position(_name(name), names, place) for name in tree.find_data("name")), place)
    written = [_name(child) for child in tree.children if isinstance(child, Tree) and child.data == "name"]
    kinds = [_type(str(kind.children[0]), place) for kind in tree.find_data("type")]
    return Selected(_position(written[0], names, place), written[-1], kinds[0] if kinds else None, place)


def resolve(items: Sequence[str], names: Sequence[str]) -> list[Selected]:
    """The columns that a select list takes from a source with these column names."""
    read = [_read(item, names, f"columns.{index}") for index, item in enumerate(items)]
    named = {one.position for one in read if isinstance(one, Selected)}
    selected: list[Selected] = []
    for one in read:
        if isinstance(one, Selected):
            selected.append(one)
            continue
        taken = one.left_out | named
        selected += [
            Selected(position, name, None, one.place) for position, name in enumerate(names) if position not in taken
        ]
    seen: set[str] = set()
    for column in selected:
        if column.name in seen:
            raise UltravectError(
                "column-twice",
                f"two columns would be called {column.name!r} in the target",
                hint="give one of them another name with `as`",
                place=column.place,
                column=column.name,
            )
        seen.add(column.name)
    if not selected:
        raise UltravectError("no-columns", "the select list leaves no column", hint="add one", place="columns")
    return selected
