"""Value counts of a table's columns, asked from its database."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import pyarrow as pa

from ultravect.core.contracts.catalogue import LiveColumn
from ultravect.core.contracts.target import Database
from ultravect.core.engine.look.histogram import MOST_VALUES, histogram
from ultravect.core.types.inference.column_type import shown

_SECONDS = 60.0
_FIRST_ROWS = 100_000
_TOP = 5
_ORDERED = frozenset(
    ["smallint", "integer", "bigint", "decimal", "real", "double", "text", "date", "time", "timestamp", "timestamptz"]
)


def count_values(
    database: Database, table: str, columns: Sequence[LiveColumn], *, whole: bool
) -> list[dict[str, Any]]:
    """NULLs, distinct values, the commonest, smallest and largest, and lengths, of all rows or of the first 100,000.

    How the values are spread is said of the first ones.
    """
    first = database.dialect.first_rows(f"SELECT * FROM {table}", _FIRST_ROWS)
    source = table if whole else f"({first}) t"
    spread = _spread(database, table, columns)
    return [{**_count(database, source, column), "bins": spread.get(column.name)} for column in columns]


def _spread(database: Database, table: str, columns: Sequence[LiveColumn]) -> dict[str, Any]:
    """See ``histogram``, by the names of the columns that have one."""
    ordered = [column for column in columns if column.type is not None and column.type.name in _ORDERED]
    if not ordered:
        return {}
    names = ", ".join(database.dialect.quote(column.name) for column in ordered)
    asked = database.dialect.first_rows(f"SELECT {names} FROM {table}", MOST_VALUES)
    rows = database.ask(asked, MOST_VALUES, _SECONDS).rows
    texts = zip(*([None if value is None else _text(value) for value in row] for row in rows), strict=True)
    return {
        column.name: histogram(pa.array(values, pa.string()), str(column.type))
        for column, values in zip(ordered, texts, strict=False)
    }


def _count(database: Database, source: str, column: LiveColumn) -> dict[str, Any]:
    name = database.dialect.quote(column.name)
    text = database.dialect.as_text(name)
    ordered = column.type is not None and column.type.name in _ORDERED
    span = name if ordered else text
    (figures,) = database.ask(
        f"SELECT count(*), count({name}), count(DISTINCT {text}), min({span}), max({span}), "
        f"min({database.dialect.length}({text})), max({database.dialect.length}({text})) FROM {source}",
        1,
        _SECONDS,
    ).rows
    counted = f"SELECT {text}, count(*) FROM {source} WHERE {name} IS NOT NULL GROUP BY {text} ORDER BY 2 DESC, 1"
    top = database.ask(database.dialect.first_rows(counted, _TOP), _TOP, _SECONDS).rows
    rows, values, distinct, low, high, shortest, longest = figures
    return {
        "values": values,
        "nulls": rows - values,
        "distinct": distinct,
        "top": [{"value": shown(_text(value)), "count": count} for value, count in top],
        "low": None if low is None else shown(_text(low)),
        "high": None if high is None else shown(_text(high)),
        "shortest": shortest,
        "longest": longest,
    }


def _text(value: Any) -> str:
    return value.decode("utf-8", "replace") if isinstance(value, bytes) else str(value)
