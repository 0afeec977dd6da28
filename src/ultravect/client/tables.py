"""Answers as Arrow tables and data frames. pyarrow, and pandas for frames, are asked for only here."""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Sequence
from decimal import Decimal
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    import pandas as pd
    import pyarrow as pa

_DECIMAL = re.compile(r"decimal\((\d+),\s*(-?\d+)\)")
_NARROW = 38
"""Digits that the usual decimal of Arrow has room for."""


def arrow_of_items(items: Sequence[dict[str, Any]]) -> pa.Table:
    import pyarrow as pa

    names = list(dict.fromkeys(name for item in items for name in item))
    return pa.Table.from_pydict({name: _guessed([item.get(name) for item in items]) for name in names})


def _guessed(values: list[Any]) -> pa.Array:
    """Values of JSON, whose parts may differ from row to row: as JSON texts where they have no type in common."""
    import json

    import pyarrow as pa

    try:
        found = pa.array(values)
        # an object without keys has no struct that files could hold
        if not (pa.types.is_struct(found.type) and found.type.num_fields == 0):
            return found
    except (pa.ArrowInvalid, pa.ArrowTypeError):
        pass
    return pa.array([None if value is None else json.dumps(value) for value in values], pa.string())


def arrow_of_rows(columns: Sequence[str], types: Sequence[str], rows: Sequence[Sequence[Any]]) -> pa.Table:
    """Rows of a database, by canonical types; a column whose values do not fit theirs is text."""
    import pyarrow as pa

    arrays = []
    for place, kind in enumerate(types):
        values = [row[place] for row in rows]
        try:
            arrays.append(_typed(values, kind))
        except (pa.ArrowInvalid, pa.ArrowTypeError, ValueError, ArithmeticError):
            arrays.append(pa.array([None if value is None else str(value) for value in values], pa.string()))
    return pa.Table.from_arrays(arrays, names=list(columns))


def _typed(values: list[Any], kind: str) -> pa.Array:
    import pyarrow as pa

    if found := _DECIMAL.fullmatch(kind):
        precision, scale = int(found[1]), int(found[2])
        wide = pa.decimal256 if precision > _NARROW else pa.decimal128
        return pa.array([None if value is None else Decimal(str(value)) for value in values], wide(precision, scale))
    name = kind.partition("(")[0]
    numbers = {"smallint": pa.int16(), "integer": pa.int32(), "bigint": pa.int64(), "boolean": pa.bool_()}
    if name in numbers:
        return pa.array(values, numbers[name])
    if name in ("real", "double"):
        return pa.array([None if value is None else float(value) for value in values], pa.float64())
    if name == "date":
        return pa.array(
            [None if value is None else dt.date.fromisoformat(str(value)) for value in values], pa.date32()
        )
    if name in ("timestamp", "timestamptz"):
        moments = [None if value is None else dt.datetime.fromisoformat(str(value)) for value in values]
        return pa.array(moments, pa.timestamp("us", "UTC" if name == "timestamptz" else None))
    if name == "text":
        return pa.array(values, pa.string())
    return _guessed(values)


def frame_of(table: pa.Table) -> pd.DataFrame:
    return table.to_pandas()
