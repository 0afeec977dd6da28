"""The values by which the files of a lake table are split: columns as they are, or what is computed from them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import pyarrow as pa


@dataclass(frozen=True)
class PartitionField:
    """``name`` is that of the folder; ``values`` computes an array from that of ``column``, and is None where it counts as it is."""

    name: str
    column: str
    values: Callable[[pa.Array], pa.Array] | None = None


def by_columns(names: Sequence[str]) -> Sequence[PartitionField]:
    return [PartitionField(name, name) for name in names]


def keys_of(batch: pa.RecordBatch, fields: Sequence[PartitionField]) -> pa.Table:
    """The values of each row, in columns that are named by their places."""
    arrays = []
    for field in fields:
        column = batch.column(field.column)
        arrays.append(column if field.values is None else field.values(column))
    return pa.table(arrays, names=[str(place) for place in range(len(fields))])
