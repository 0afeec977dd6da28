"""Finds how numbers are written in text: decimal comma, and marks between thousands."""

from __future__ import annotations

import re
from collections.abc import Sequence

from ultravect.core.model.finding import Finding
from ultravect.core.model.layout_values import Values

_COMMA = re.compile(r"^[+-]?(?:\d+|\d{1,3}(?P<mark>[.'’ \u00a0_])\d{3}(?:(?P=mark)\d{3})*),\d+$")
_POINT = re.compile(r"^[+-]?(?:\d+|\d{1,3}(?P<mark>[,'’ \u00a0_])\d{3}(?:(?P=mark)\d{3})*)\.\d+$")
_GROUPED = re.compile(r"^[+-]?\d{1,3}(?P<mark>['’ \u00a0_])\d{3}(?:(?P=mark)\d{3})*$")
_GROUPED_BY_COMMA = re.compile(r"^[+-]?\d{1,3}(?:,\d{3})+$")
_WHOLE = re.compile(r"^[+-]?\d+$")
_DOTTED = re.compile(r"^[+-]?\d{1,3}(?:\.\d{3})+$")


def find_numbers(names: Sequence[str], rows: Sequence[Sequence[str]], values: Values) -> tuple[Values, list[Finding]]:
    """The marks that some rows speak for, where ``values`` leaves them open.

    A column speaks when all its values are numbers of one form. 1.234 alone says nothing: it may be either.
    """
    if {"decimal_mark", "thousands"} & values.model_fields_set:
        return values, []
    comma: dict[str, str] = {}
    point = False
    marks: dict[str, str] = {}
    for position, name in enumerate(names):
        cells = [row[position].strip() for row in rows if position < len(row)]
        cells = [cell for cell in cells if cell and cell not in values.nulls]
        with_comma = [match for cell in cells if (match := _COMMA.match(cell))]
        with_point = [match for cell in cells if (match := _POINT.match(cell))]
        grouped = [match for cell in cells if (match := _GROUPED.match(cell))]
        known = len(grouped) + sum(1 for cell in cells if _WHOLE.match(cell))
        if with_comma and all(_GROUPED_BY_COMMA.match(match[0]) for match in with_comma):
            continue  # 1,234 may be either, too
        if with_comma and len(with_comma) + known + sum(1 for cell in cells if _DOTTED.match(cell)) == len(cells):
            comma[name] = max((match[0] for match in with_comma), key=len)
            marks |= {mark: match[0] for match in [*with_comma, *grouped] if (mark := match["mark"])}
        elif with_point and len(with_point) + known == len(cells):
            point = True
            marks |= {mark: match[0] for match in [*with_point, *grouped] if (mark := match["mark"])}
        elif grouped and known == len(cells):
            marks |= {match["mark"]: match[0] for match in grouped}
    if (comma and point) or len(marks) > 1:
        return values, []  # the columns contradict each other: anyone who knows should say it
    updates: dict[str, object] = {}
    shown = []
    if comma:
        updates["decimal_mark"] = ","
        name, example = next(iter(comma.items()))
        shown.append(f"numbers have a decimal comma, such as {example} in column {name!r}")
    if marks:
        ((mark, example),) = marks.items()
        updates["thousands"] = mark
        shown.append(f"{mark!r} stands between thousands, such as {example}")
    if not updates:
        return values, []
    finding = Finding("note", "numbers-found", "; ".join(shown), "from.layout.values")
    return values.model_copy(update=updates), [finding]
