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


def resolve(items: Sequence[str], names: Sequence[str]) -> list[Selected]:
    """The columns that a select list takes from a source with these column names."""
    selected: list[Selected] = []
    for index, item in enumerate(items):
        place = f"columns.{index}"
        tree = _parse(item, place)
        if tree.data == "star":
            left_out = {_position(_name(name), names, place) for name in tree.find_data("name")}
            named = {one.position for one in selected}
            selected += [
                Selected(position, name, None, place)
                for position, name in enumerate(names)
                if position not in left_out and position not in named
            ]
            continue
        found = [_name(name) for name in tree.find_data("name")]
        ordered = [_name(child) for child in tree.children if isinstance(child, Tree) and child.data == "name"]
        kinds = [str(kind.children[0]) for kind in tree.find_data("type")]
        assert len(found) == len(ordered)
        position = _position(ordered[0], names, place)
        selected = [
            one
            for one in selected
            if not (one.position == position and items[int(one.place[8:])].lstrip().startswith("*"))
        ]
        selected.append(Selected(position, ordered[-1], parse_type(kinds[0]) if kinds else None, place))
    double = next((one for i, one in enumerate(selected) if one.name in [other.name for other in selected[:i]]), None)
    if double:
        raise UltravectError(
            "column-twice",
            f"two columns would be called {double.name!r} in the target",
            hint="give one of them another name with `as`",
            place=double.place,
            column=double.name,
        )
    if not selected:
        raise UltravectError("no-columns", "the select list leaves no column", hint="add one", place="columns")
    return selected
