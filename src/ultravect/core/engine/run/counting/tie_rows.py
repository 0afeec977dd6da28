"""Rows with the highest value of the column that a mark is kept by: which of them were copied before, and which are now."""

from __future__ import annotations

from collections import Counter
from dataclasses import replace

import numpy as np

from ultravect.core.contracts.mark import ColumnMark
from ultravect.core.engine.objects.row_hashes import is_value, row_hashes
from ultravect.core.engine.objects.tables import TableRows
from ultravect.core.engine.plan.newer.mark_plan import ByPlan
from ultravect.core.engine.plan.newer.mark_values import family, scalar
from ultravect.core.engine.run.shaped import Shaped
from ultravect.core.errors import UltravectError
from ultravect.core.layouts.base import Block, Reader, WantedColumn
from ultravect.core.layouts.table import TableBlock

_MOST = 100_000
_MOST_THAT_COME_AGAIN = 10_000


class TieRows:
    """Leaves out the rows at the lower end that were copied before, and notes those at the upper end."""

    def __init__(self, reader: Reader, by: ByPlan) -> None:
        assert by.ties is not None and isinstance(reader, TableRows)
        self._reader, self._by = reader, by
        self._copied_by = by.ties.by or tuple(reader.names)
        self._noted_by = by.ties.noted_by or tuple(reader.names)
        self._before = Counter(by.ties.copied)
        self._at_upper: Counter[str] = Counter()
        self._lower = None if by.lower is None else scalar(by.lower, by.type)
        self._upper = scalar(by.upper, by.type)
        self._come_again = by.ties.come_again
        self._too_many = False

    def keep(self, shaped: Shaped, block: Block) -> Shaped:
        """Of a block, only the rows that were not copied; the others count as not read."""
        assert isinstance(block, TableBlock)
        wanted = [WantedColumn(self._by.position, self._by.type, self._reader.formats)]
        found = self._reader.read_parsed(block, wanted)
        if found is None:
            return shaped
        values = found.columns[0]
        dropped: list[int] = []
        if self._lower is not None and self._before:
            places = np.flatnonzero(is_value(values, self._lower))
            for place, digest in zip(places, row_hashes(block.values, places, self._copied_by), strict=True):
                if self._before[digest]:
                    self._before[digest] -= 1
                    dropped.append(int(place))
        self._note(block, np.flatnonzero(is_value(values, self._upper)))
        if not dropped:
            return shaped
        left_out = set(dropped)
        mask = ~np.isin(shaped.index, dropped)
        rejects = [reject for reject in shaped.rejects if reject.row - shaped.before - 1 not in left_out]
        filtered = shaped.filtered - (len(dropped) - int((~mask).sum()) - (len(shaped.rejects) - len(rejects)))
        return replace(
            shaped,
            rows=shaped.rows - len(dropped),
            batch=shaped.batch.filter(mask),
            rejects=rejects,
            filtered=filtered,
            index=shaped.index[mask],
        )

    def _note(self, block: TableBlock, places: np.ndarray[tuple[int], np.dtype[np.int64]]) -> None:
        if self._too_many or not len(places):
            return
        total = self._at_upper.total() + len(places)
        if self._come_again and total > _MOST_THAT_COME_AGAIN:
            self._too_many = True
            self._at_upper.clear()
            return
        if total > _MOST:
            raise UltravectError(
                "ties-too-many",
                f"more than {_MOST:,} rows have the highest {self._by.name}: which of them were copied cannot be noted",
                hint="write mode: upsert with into.keys, or use a column whose values are more spread",
                place="from.newer.by",
            )
        self._at_upper.update(row_hashes(block.values, places, self._noted_by))

    @property
    def mark(self) -> ColumnMark:
        """What the load notes."""
        by = self._by
        return ColumnMark(family(by.type), by.upper, dict(self._at_upper), self._noted_by)
