"""What columns of SQLite hold whose declared type is none of those known: it says nothing about their values."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

from ultravect.core.contracts.catalogue import LiveColumn
from ultravect.core.dialects.base import Dialect
from ultravect.core.types.canonical import CanonicalType

_ZONED = "({0} LIKE '%Z' OR {0} GLOB '*[0-9][+-][0-9][0-9]:[0-9][0-9]' OR {0} GLOB '*[0-9][+-][0-9][0-9][0-9][0-9]')"


def judged(session: Any, table: str, dialect: Dialect, columns: Sequence[LiveColumn]) -> list[LiveColumn]:
    """Columns whose declared type says nothing get the type that all their values have; moments that are all written with a zone have one."""
    columns = _zoned(session, table, dialect, columns)
    open_ones = [column for column in columns if column.type is None]
    if not open_ones:
        return list(columns)
    kinds = ("integer", "real", "text", "blob")
    counts = ", ".join(f"sum(typeof({dialect.quote(item.name)}) = '{kind}')" for item in open_ones for kind in kinds)
    names = ", ".join(dialect.quote(item.name) for item in open_ones)
    found = session.execute(f"SELECT {counts} FROM (SELECT {names} FROM {table})").fetchone()
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


def _zoned(session: Any, table: str, dialect: Dialect, columns: Sequence[LiveColumn]) -> list[LiveColumn]:
    """Columns that are declared as timestamps, of which SQLite knows no kind with a zone, as what their values are."""
    dated = [column for column in columns if column.type == CanonicalType("timestamp")]
    if not dated:
        return list(columns)
    counts = ", ".join(
        f"count({name}), sum(typeof({name}) = 'text' AND {_ZONED.format(name)}), sum(typeof({name}) = 'integer')"
        for name in (dialect.quote(column.name) for column in dated)
    )
    found = session.execute(f"SELECT {counts} FROM {table}").fetchone()
    types = {}
    for number, column in enumerate(dated):
        values, zoned, numbers = (count or 0 for count in found[number * 3 : number * 3 + 3])
        if values and zoned == values:
            types[column.name] = CanonicalType("timestamptz")
        elif values and numbers == values:
            types[column.name] = CanonicalType("bigint")
    return [replace(column, type=types.get(column.name, column.type)) for column in columns]
