"""Where in a JSON document rows are, and in which form: objects, arrays, objects by their key, or columns."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import Any

from ultravect.core.words import counted

_LEAST_KEYED = 2
_ALIKE = 0.5
_MOST_DEPTH = 32
_FAR_MORE = 10
_NAMES = ("name", "id", "field", "label", "title", "key", "column_name", "columnName")


@dataclass(frozen=True)
class Shape:
    """``pointer`` leads to what holds the rows; ``form`` as in ``JsonLayout``; ``names`` of columns that stand next to it."""

    pointer: str
    form: str
    names: tuple[str, ...] = ()


@dataclass(frozen=True)
class Found:
    """A place that may hold the rows: how many, with how many plain values each, and how alike they are (0 to 1)."""

    shape: Shape
    rows: int
    values: float
    likeness: float

    @property
    def score(self) -> float:
        return self.rows * self.values * self.likeness

    @property
    def size(self) -> str:
        return f"{self.rows:,} of about {counted(round(max(self.values, 1)), 'value')}"

    def __str__(self) -> str:
        return f"{self.shape.pointer or 'the document'}, {self.size}"


def shapes_of(document: Any) -> list[Found]:
    """The places in a document that may hold rows, the likeliest first; what stands inside of rows is none of them."""
    return sorted(_shapes(document, "", 0), key=lambda found: -found.score)


def _shapes(value: Any, pointer: str, depth: int) -> Iterator[Found]:
    if depth > _MOST_DEPTH:
        return
    if isinstance(value, list):
        yield from _of_list(value, pointer, depth)
        return
    if not isinstance(value, dict) or not value:
        return
    if _is_columns(value):
        length = max(len(item) for item in value.values())
        yield Found(Shape(pointer, "columns"), length, len(value), 1.0)
        return
    if _is_keyed(value):
        if _is_columns_of_maps(value):
            yield Found(Shape(pointer, "columns"), max(map(len, value.values())), len(value), 1.0)
        else:
            yield _measured(Shape(pointer, "keyed"), list(value.values()))
        return
    for key, inner in value.items():
        step = key.replace("~", "~0").replace("/", "~1")
        for found in _shapes(inner, f"{pointer}/{step}", depth + 1):
            here = found.shape.pointer == f"{pointer}/{step}"
            if here and found.shape.form == "arrays":
                found = replace(found, shape=replace(found.shape, names=_names_for(inner, value)))
            yield found


def _of_list(value: list[Any], pointer: str, depth: int) -> Iterator[Found]:
    first = next((item for item in value if item is not None), None)
    if isinstance(first, dict):
        found = _measured(Shape(pointer, "objects"), value)
        yield found
        if len(value) == 1 and isinstance(value[0], dict):
            # the one object may be no row, but hold the rows
            yield from (item for item in _inside(value[0], f"{pointer}/0", depth) if item.rows > _FAR_MORE)
        return
    if isinstance(first, list) and len(value) > 1 and _is_even(value):
        width = len(first)
        yield Found(Shape(pointer, "arrays"), len(value), width, 1.0)
        return
    if isinstance(first, list):
        yield from _shapes(first, f"{pointer}/0", depth + 1)


def _inside(value: dict[str, Any], pointer: str, depth: int) -> Iterator[Found]:
    for key, inner in value.items():
        if isinstance(inner, list | dict):
            step = key.replace("~", "~0").replace("/", "~1")
            yield from _shapes(inner, f"{pointer}/{step}", depth + 1)


def _measured(shape: Shape, rows: list[Any]) -> Found:
    """By some of the rows."""
    some = [item for item in rows[:: max(1, len(rows) // 200)] if isinstance(item, dict)]
    plain = [sum(not isinstance(cell, list | dict) for cell in item.values()) for item in some]
    keys = Counter(key for item in some for key in item)
    likeness = sum(keys.values()) / (len(keys) * len(some)) if keys else 0.0
    return Found(shape, len(rows), max(sum(plain) / max(len(some), 1), 0.5), likeness)


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
    """An array of as many texts as a row has values, next to the rows, or of objects with a name each."""
    width = len(rows[0]) if rows and isinstance(rows[0], list) else 0
    for item in around.values():
        if not isinstance(item, list) or len(item) != width or not item:
            continue
        for key in (None, *_NAMES):
            names = [entry.get(key) if isinstance(entry, dict) else entry for entry in item] if key else item
            if all(isinstance(name, str) and name for name in names) and len(set(names)) == len(names):
                return tuple(names)
    return ()


def rows_of_columns(columns: dict[str, Any]) -> Iterator[dict[str, Any]]:
    """Rows of a document that has its columns one after the other."""
    values = {name: list(entry.values()) if isinstance(entry, dict) else entry for name, entry in columns.items()}
    for number in range(max(map(len, values.values()), default=0)):
        yield {name: entry[number] if number < len(entry) else None for name, entry in values.items()}
