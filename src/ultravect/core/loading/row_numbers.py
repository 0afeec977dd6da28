"""The numbers that staged rows carry, and keys that rise from row to row."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import pyarrow as pa

from ultravect.core.dialects.merge import ROW


class RowNumbers:
    """Gives the rows of batches their numbers in the load, from ``first`` on."""

    def __init__(self, first: int = 0) -> None:
        self._next = first

    def added(self, batch: pa.RecordBatch) -> pa.RecordBatch:
        """The batch with one more column."""
        first, self._next = self._next, self._next + batch.num_rows
        return batch.append_column(ROW, pa.array(np.arange(first, self._next)))


class AscendingKeys:
    """Watches the rows of a load; ``so_far`` holds while every key was higher than the one before: none of them comes twice, and no query
    need look for such.

    Only one key that is a whole number or a date is looked at: every database finds two of them equal where they are here.
    """

    def __init__(self, keys: Sequence[str]) -> None:
        self._key = keys[0] if len(keys) == 1 else None
        self._last: int | None = None
        self.so_far = self._key is not None

    def see(self, batch: pa.RecordBatch) -> None:
        if not self.so_far or not batch.num_rows:
            return
        array = batch.column(self._key)
        plain = pa.types.is_signed_integer(array.type) or pa.types.is_date32(array.type)
        if not plain or array.null_count:
            self.so_far = False
            return
        values = (array.view(pa.int32()) if pa.types.is_date32(array.type) else array).to_numpy()
        rises = bool((values[1:] > values[:-1]).all())
        self.so_far = rises and (self._last is None or int(values[0]) > self._last)
        self._last = int(values[-1])
