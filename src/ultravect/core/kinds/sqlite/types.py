"""What columns of SQLite hold whose declared type is none of those known: it says nothing about their values."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

from ultravect.core.contracts.catalogue import LiveColumn
from ultravect.core.dialects.base import Dialect
from ultravect.core.types.canonical import CanonicalType

_JUDGED_ROWS = 50_000


def judged(session: Any, table: str, dialect: Dialect, columns: Sequence[LiveColumn]) -> list[LiveColumn]:
    """Columns whose declared type says nothing get the type that the values of their first rows have."""
    open_ones = [column for column in columns if column.type is None]
    if not open_ones:
        return list(columns)
    kinds = ("integer", "real", "text", "blob")
    counts = ", ".join(f"sum(typeof({dialect.quote(item.name)}) = '{kind}')" for item in open_ones for kind in kinds)
    names = ", ".join(dialect.quote(item.name) for item in open_ones)
    found = session.execute(f"SELECT {counts} FROM (SELECT {names} FROM {table} LIMIT {_JUDGED_ROWS})").fetchone()
    types = {}
    for number, entry in enumerate(open_ones):
        integers, reals, texts, blobs = (count or 0 for count in found[number * 4 : number * 4 + 4])
        name = (
            "binary"
            if blobs and not texts + integers + reals
            else "text"
            if texts or blobs
            else "double"
            if reals
            else "bigint"
        )
        types[entry.name] = CanonicalType(name if integers + reals + blobs else "text")
    return [replace(column, type=types[column.name]) if column.type is None else column for column in columns]
