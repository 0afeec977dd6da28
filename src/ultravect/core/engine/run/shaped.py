"""What the shape phase makes of a block."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from ultravect.core.engine.run.rejected.rejects import Reject
from ultravect.core.layouts.base import FileSpan


@dataclass(frozen=True)
class Shaped:
    """``rows`` were read; the good ones are in ``batch``, others in ``rejects`` or ``filtered`` out.

    ``index`` are the places in the block of the rows in ``batch``; ``before`` rows of the object ``path`` came before it.
    """

    rows: int
    bytes: int
    batch: pa.RecordBatch
    rejects: Sequence[Reject]
    filtered: int
    index: npt.NDArray[np.int64]
    path: str = ""
    before: int = 0
    spans: Sequence[FileSpan] = ()
    """The files that the rows are of, where they are of several."""

    keys: pa.Table | None = None
    """Of the rows in ``batch``, where each may have to be found again; see ``layouts.base.KeyedReader``."""

    rejected_keys: pa.RecordBatch | None = None
    """The keys of rejected rows, as they would be written, where they are asked for: of rows of which other columns do not fit."""

    @property
    def rows_of_files(self) -> Mapping[str, int]:
        """How many rows were read of each file."""
        if not self.spans:
            return {self.path: self.rows}
        ends = [*(span.first_row for span in self.spans[1:]), self.rows]
        return {span.path: end - span.first_row for span, end in zip(self.spans, ends, strict=True)}
