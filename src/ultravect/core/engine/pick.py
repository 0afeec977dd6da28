"""Picks single rows of files by their numbers: those that an earlier run rejected."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import replace

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from ultravect.core.engine.shape import Shaped
from ultravect.core.errors import UltravectError


class Pick:
    """``rows`` are numbers from 1, by the path of their file."""

    def __init__(self, rows: Mapping[str, Iterable[int]]) -> None:
        self._rows: dict[str, npt.NDArray[np.int64]] = {
            path: np.unique(np.fromiter(numbers, np.int64)) for path, numbers in rows.items()
        }

    @property
    def count(self) -> int:
        return sum(map(len, self._rows.values()))

    def keep(self, shaped: Shaped) -> Shaped:
        """Of a block, only the rows that are picked; the others count as not read."""
        every = self._rows.get(shaped.path, np.empty(0, np.int64))
        picked = every[(every > shaped.before) & (every <= shaped.before + shaped.rows)]
        mask = np.isin(shaped.before + shaped.index + 1, picked)
        rejects = [one for one in shaped.rejects if one.row in picked]
        filtered = len(picked) - int(mask.sum()) - len(rejects)
        batch = shaped.batch.filter(pa.array(mask))
        return replace(
            shaped,
            rows=len(picked),
            batch=batch,
            rejects=rejects,
            filtered=filtered,
            index=shaped.index[mask],
        )

    def require(self, found: int) -> None:
        """Raises when not all of the rows were found again."""
        if found != self.count:
            raise UltravectError(
                "rejects-gone",
                f"of the {self.count:,} rejected rows, {found:,} were found again at their places; nothing was written",
                hint="the files were replaced or shortened, or the job reads others: run the job itself",
            )
