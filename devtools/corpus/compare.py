"""Whether a value arrived as it was: what an independent reader gave, against what stands in the target."""

from __future__ import annotations

import datetime as dt
import decimal
import json
import math
from collections.abc import Sequence
from typing import Any

_TRUE = frozenset(["true", "yes", "1"])
_FALSE = frozenset(["false", "no", "0"])
_PATTERNS = (
    "%Y-%m-%d", "%d.%m.%Y", "%Y/%m/%d", "%d/%m/%Y", "%m/%d/%Y", "%d-%m-%Y", "%m-%d-%Y", "%Y.%m.%d", "%d %b %Y", "%d-%b-%Y",
    "%b %d, %Y", "%b %d %Y", "%d %B %Y", "%B %d, %Y", "%Y-%b-%d", "%d.%m.%y", "%d/%m/%y", "%m/%d/%y", "%d-%b-%y", "%d %b %y",
)  # fmt: skip
_CLOCKS = ("", " %H:%M", " %H:%M:%S", " %H:%M:%S.%f", " %I:%M %p", " %I:%M:%S %p", "T%H:%M:%S", "T%H:%M:%S.%f", "T%H:%M:%SZ",
           "T%H:%M:%S%z", " %H:%M:%S%z", "T%H:%M:%S.%fZ", "T%H:%M:%S.%f%z")  # fmt: skip


def same(source: Any, target: Any) -> bool:
    """Whether ``target`` is the value that ``source`` is, in whatever type it stands there."""
    if target is None:
        return (
            source is None
            or (isinstance(source, str) and not source.strip())
            or (isinstance(source, float) and math.isnan(source))
        )
    if source is None:
        return False
    if isinstance(target, bool):
        return (isinstance(source, bool) and source == target) or str(source).strip().lower() in (
            _TRUE if target else _FALSE
        )
    if isinstance(target, int | float | decimal.Decimal):
        return _same_number(source, target)
    if isinstance(target, dt.datetime | dt.date):
        return _same_moment(source, target)
    if isinstance(target, str):
        if isinstance(source, dt.datetime) and source.time() == dt.time() and target == source.date().isoformat():
            return True  # a cell of a day, as its text
        return _same_text(source, target)
    if isinstance(target, dt.time):
        return _clock(source) == target
    if isinstance(target, bytes | memoryview):
        return bytes(source) == bytes(target) if isinstance(source, bytes) else False
    return str(source).strip().lower() == str(target).lower()


def _clock(source: Any) -> dt.time | None:
    """A time of day, however many digits its hour and its seconds have; a spreadsheet gives it on the first day that it knows."""
    if isinstance(source, dt.datetime):
        return source.time()
    if isinstance(source, dt.time):
        return source
    text = str(source).strip().removeprefix("1899-12-31 ")
    for pattern in ("%H:%M", "%H:%M:%S", "%H:%M:%S.%f", "%I:%M %p", "%I:%M:%S %p"):
        if (found := _parsed(text, pattern)) is not None:
            return found.time()
    return None


def _same_number(source: Any, target: Any) -> bool:
    if isinstance(source, str):
        text = source.strip()
        try:
            number = decimal.Decimal(text)
        except decimal.InvalidOperation:
            try:
                number = (
                    decimal.Decimal(text.replace(",", "."))
                    if text.count(",") == 1
                    else decimal.Decimal(text.replace("'", ""))
                )
            except decimal.InvalidOperation:
                return False
        if isinstance(target, float):
            return (math.isnan(target) and number.is_nan()) or float(number) == target
        return number == target
    if isinstance(source, bool) or not isinstance(source, int | float | decimal.Decimal):
        return False
    if isinstance(source, float) and math.isnan(source):
        return isinstance(target, float) and math.isnan(target)
    return source == target or float(source) == float(target)


def _same_moment(source: Any, target: Any) -> bool:
    if isinstance(source, dt.datetime | dt.date):
        return str(source)[:26] == str(target)[:26] or str(source).removesuffix(" 00:00:00") == str(
            target
        ).removesuffix(" 00:00:00")
    text = str(source).strip()
    for pattern in _PATTERNS:
        for clock in _CLOCKS:
            found = _parsed(text, pattern + clock)
            if found is None:
                continue
            if isinstance(target, dt.datetime):
                plain = target if found.tzinfo else target.replace(tzinfo=None)
                if found == plain:
                    return True
            elif found.date() == target:
                return True
    return False


def _parsed(text: str, pattern: str) -> dt.datetime | None:
    try:
        return dt.datetime.strptime(text, pattern)
    except ValueError:
        return None


def _same_text(source: Any, target: str) -> bool:
    if isinstance(source, str):
        return source == target or source.strip() == target.strip()
    if isinstance(source, list | dict | tuple):
        try:
            return json.loads(target) == json.loads(json.dumps(source, default=str))
        except (ValueError, TypeError):
            return False
    if isinstance(source, bool):
        return target.lower() == str(source).lower()
    if isinstance(source, int | float):
        return _same_number(target, source)
    return str(source) == target


def first_difference(names: Sequence[str], expected: Sequence[Sequence[Any]], found: Sequence[Sequence[Any]]) -> str:
    """The first value that differs, "" where all are the same; rows in any order are not looked for."""
    for number, (wanted, row) in enumerate(zip(expected, found, strict=False), 1):
        for at, name in enumerate(names):
            source = wanted[at] if at < len(wanted) else None
            if not same(source, row[at]):
                return f"row {number:,}, column {name}: {str(source)[:40]!r} became {str(row[at])[:40]!r}"
    return ""
