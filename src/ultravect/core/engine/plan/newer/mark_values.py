"""Values of the columns that marks are kept by: as text, in expressions, and a while before."""

from __future__ import annotations

import datetime as dt
import math
from decimal import Decimal
from typing import Any

import pyarrow as pa

from ultravect.core.errors import UltravectError
from ultravect.core.model.base import duration_seconds
from ultravect.core.types.canonical import CanonicalType

_INTEGERS = frozenset(["smallint", "integer", "bigint"])
NUMBERS = _INTEGERS | {"decimal"}
ORDERED = NUMBERS | {"date", "timestamp", "timestamptz"}
"""The types of columns that a mark can be kept by."""


def family(kind: CanonicalType) -> str:
    """Types whose values are alike: a column that grows from integer to bigint keeps its mark."""
    return "number" if kind.name in NUMBERS else kind.name


def as_mark(value: Any, kind: CanonicalType) -> str:
    """A value as the text of a mark; ``value`` as Arrow gives it."""
    if isinstance(value, dt.datetime):
        if kind.name == "timestamptz":
            value = value.astimezone(dt.UTC) if value.tzinfo else value.replace(tzinfo=dt.UTC)
        return str(value.isoformat(sep=" "))
    if isinstance(value, dt.date):
        return str(value.isoformat())
    return format(value, "f") if isinstance(value, Decimal) else str(value)


def parsed(text: str, kind: CanonicalType, place: str) -> Any:
    """The value that a mark, or anyone, writes as ``text``; UltravectError says what is wrong with it."""
    try:
        if kind.name in _INTEGERS:
            return int(text)
        if kind.name == "decimal":
            found = Decimal(text)
            if not found.is_finite():
                raise ValueError(text)
            return found
        if kind.name == "date":
            return dt.date.fromisoformat(text)
        moment = dt.datetime.fromisoformat(text)
        if kind.name == "timestamptz":
            return moment.astimezone(dt.UTC) if moment.tzinfo else moment.replace(tzinfo=dt.UTC)
        if moment.tzinfo is not None:
            raise ValueError(text)
        return moment
    except (ValueError, ArithmeticError):
        shown = {"date": "2026-07-13", "timestamp": "2026-07-13 03:39:00", "timestamptz": "2026-07-13 03:39:00+00:00"}
        raise UltravectError(
            "mark-value-invalid",
            f"{text!r} is no {kind.name} that a mark could have",
            hint=f"write one such as {shown.get(kind.name, '1204')}",
            place=place,
        ) from None


def scalar(text: str, kind: CanonicalType) -> pa.Scalar:
    """The value of a mark as Arrow has it."""
    return pa.scalar(parsed(text, kind, "from.newer"), kind.arrow)


def literal(value: Any, kind: CanonicalType) -> str:
    """A value as expressions write it."""
    text = as_mark(value, kind)
    return text if kind.name in NUMBERS else f"{kind.name} '{text}'"


def earlier(value: Any, overlap: str | int, kind: CanonicalType) -> Any:
    """``value`` less an overlap; UltravectError where that is of another kind."""
    if (kind.name in NUMBERS) != isinstance(overlap, int):
        wanted = "a number, such as 1000" if kind.name in NUMBERS else "a duration, such as 10 min"
        raise UltravectError(
            "overlap-invalid",
            f"from.newer.overlap is {overlap!r}, and the column holds values of type {kind.name}",
            hint=f"write {wanted}",
            place="from.newer.overlap",
        )
    if isinstance(overlap, int):
        return value - overlap
    seconds = duration_seconds(overlap)
    try:
        if kind.name == "date":
            return value - dt.timedelta(days=math.ceil(seconds / 86_400))
        return value - dt.timedelta(seconds=seconds)
    except OverflowError:
        return value.min if kind.name != "timestamptz" else value.min.replace(tzinfo=dt.UTC)


def end_of(text: str, kind: CanonicalType, place: str) -> Any:
    """The last value that an end named by ``text`` includes: of a day, all of it."""
    if kind.name in ("timestamp", "timestamptz"):
        try:
            day = dt.date.fromisoformat(text)
        except ValueError:
            return parsed(text, kind, place)
        last = dt.datetime.combine(day, dt.time.max)
        return last.replace(tzinfo=dt.UTC) if kind.name == "timestamptz" else last
    return parsed(text, kind, place)
