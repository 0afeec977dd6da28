"""Where in a JSON document rows are, and in which form: objects, arrays, objects by their key, or columns."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

_LEAST_KEYED = 2
_ALIKE = 0.5
_MOST_DEPTH = 32


@dataclass(frozen=True)
class Shape:
    """``pointer`` leads to what holds the rows; ``form`` as in ``JsonLayout``; ``names`` of columns that stand next to it."""

    pointer: str
    form: str
    names: tuple[str, ...] = ()


def shape_of(document: Any) -> Shape | None:
    """The first place in a document that holds rows; None where nothing does."""
    return _shape(document, "", 0)


def _shape(value: Any, pointer: str, depth: int) -> Shape | None:
    if depth > _MOST_DEPTH:
        return None
    if isinstance(value, list):
        return _of_list(value, pointer, depth)
    if not isinstance(value, dict) or not value:
        return None
    if _is_columns(value):
        return Shape(pointer, "columns")
    if _is_keyed(value):
        return Shape(pointer, "columns" if _is_columns_of_maps(value) else "keyed")
    for key, inner in value.items():
        step = key.replace("~", "~0").replace("/", "~1")
        if found := _shape(inner, f"{pointer}/{step}", depth + 1):
            if found.form == "arrays" and found.pointer == f"{pointer}/{step}":
                return Shape(found.pointer, "arrays", _names_for(inner, value))
            return found
    return None


def _of_list(value: list[Any], pointer: str, depth: int) -> Shape | None:
    first = next((item for item in value if item is not None), None)
    if isinstance(first, dict):
        return Shape(pointer, "objects")
    if isinstance(first, list) and len(value) > 1 and _is_even(value):
        return Shape(pointer, "arrays")
    return _shape(first, f"{pointer}/0", depth + 1) if isinstance(first, list) else None


def _is_even(rows: list[Any]) -> bool:
    widths = {len(row) for row in rows[:200] if isinstance(row, list)}
    return len(widths) == 1 and not any(isinstance(cell, list | dict) for row in rows[:20] for cell in row or ())


def _is_columns(value: dict[str, Any]) -> bool:
    """Arrays of plain values, all of one length."""
    lengths = {len(item) if isinstance(item, list) else -1 for item in value.values()}
    if len(lengths) != 1 or not lengths - {-1, 0}:
        return False
    if len(value) == 1 and lengths == {1}:
        return False
    return not any(isinstance(cell, dict | list) for item in value.values() for cell in item[:20])


def _is_keyed(value: dict[str, Any]) -> bool:
    """Objects that are alike, each under a key of its own."""
    if len(value) < _LEAST_KEYED or not all(isinstance(item, dict) and item for item in value.values()):
        return False
    objects = list(value.values())[:200]
    common = {key for key in objects[0] if sum(key in item for item in objects) >= 0.8 * len(objects)}
    return len(common) >= _ALIKE * len(objects[0]) and bool(common)


def _is_columns_of_maps(value: dict[str, Any]) -> bool:
    """Columns whose values stand under row numbers."""
    return all(list(item) == [str(number) for number in range(len(item))] for item in value.values())


def _names_for(rows: list[Any], around: dict[str, Any]) -> tuple[str, ...]:
    """An array of as many texts as a row has values, next to the rows."""
    width = len(rows[0]) if rows and isinstance(rows[0], list) else 0
    for item in around.values():
        if isinstance(item, list) and len(item) == width and item and all(isinstance(name, str) for name in item):
            return tuple(item)
    return ()


def rows_of_columns(columns: dict[str, Any]) -> Iterator[dict[str, Any]]:
    """Rows of a document that has its columns one after the other."""
    values = {name: list(entry.values()) if isinstance(entry, dict) else entry for name, entry in columns.items()}
    for number in range(max(map(len, values.values()), default=0)):
        yield {name: entry[number] if number < len(entry) else None for name, entry in values.items()}
