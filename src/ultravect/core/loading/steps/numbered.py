"""The numbers that staged rows carry."""

from __future__ import annotations

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
