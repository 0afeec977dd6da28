"""Resolves the items of ``columns``: ``*``, ``* except (a, b)``, names and expressions, with new names and types."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from ultravect.core.errors import UltravectError
from ultravect.core.expressions.bind import column_position
from ultravect.core.expressions.parse import parse_item
from ultravect.core.expressions.tree import Item, Name, Node, Star
from ultravect.core.types.canonical import CanonicalType, parse_type


@dataclass(frozen=True)
class Selected:
    """A column for the target: its name, and its type if the job gives one.

    ``position`` is that of the source's column; None where ``value`` computes it. ``renamed``: the job gives the name.
    """

    position: int | None
    name: str
    type: CanonicalType | None
    place: str
    value: Node | None = None
    renamed: bool = False


def _type(text: str | None, place: str) -> CanonicalType | None:
    try:
        return parse_type(text) if text else None
    except ValueError as error:
        raise UltravectError(
            "expression-syntax", str(error), hint="see the types in the reference", place=place
        ) from None


def _selected(item: Item, names: Sequence[str], place: str) -> Selected:
    kind = _type(item.type, place)
    if isinstance(item.value, Name):
        position = column_position(item.value.name, names, place)
        return Selected(position, item.name or item.value.name, kind, place, renamed=item.name is not None)
    if item.name is None:
        raise UltravectError(
            "column-unnamed",
            "a computed column needs a name",
            hint="write `as` and a name after it",
            place=place,
        )
    return Selected(None, item.name, kind, place, item.value, renamed=True)


def resolve(items: Sequence[str], names: Sequence[str]) -> list[Selected]:
    """The columns that a select list takes from a source with these column names."""
    parsed = [(parse_item(item, f"columns.{index}"), f"columns.{index}") for index, item in enumerate(items)]
    read = [one if isinstance(one, Star) else _selected(one, names, place) for one, place in parsed]
    named = {entry.position for entry in read if isinstance(entry, Selected)}
    # a column that is computed anew takes the place of the one of its name
    named |= {
        names.index(entry.name)
        for entry in read
        if isinstance(entry, Selected) and entry.value and entry.name in names
    }
    selected: list[Selected] = []
    for one, (_, place) in zip(read, parsed, strict=True):
        if isinstance(one, Selected):
            selected.append(one)
            continue
        taken = {column_position(name.name, names, place) for name in one.left_out} | named
        selected += [
            Selected(position, name, None, place) for position, name in enumerate(names) if position not in taken
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
