"""Rows with the highest value of the column that a mark is kept by: which of them were copied, where no key says so."""

from __future__ import annotations

import hashlib
from collections import Counter
from dataclasses import replace

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from ultravect.core.contracts.mark import ColumnMark
from ultravect.core.engine.plan.newer.mark_plan import ByPlan
from ultravect.core.engine.plan.newer.mark_values import family, parsed
from ultravect.core.engine.run.shaped import Shaped
from ultravect.core.errors import UltravectError
from ultravect.core.layouts.base import Block, Reader, WantedColumn

_MOST = 100_000


class TieRows:
    """Leaves out the rows at the lower end that were copied before, and notes those at the upper end."""

    def __init__(self, reader: Reader, by: ByPlan) -> None:
        assert by.ties is not None
        self._reader, self._by = reader, by
        self._before = Counter(by.ties)
        self._at_upper: Counter[str] = Counter(by.ties) if by.lower == by.upper else Counter()
        self._lower = None if by.lower is None else self._scalar(by.lower)
        self._upper = self._scalar(by.upper)

    def _scalar(self, text: str) -> pa.Scalar:
        return pa.scalar(parsed(text, self._by.type, "from.newer"), self._by.type.arrow)

    def keep(self, shaped: Shaped, block: Block) -> Shaped:
        """Of a block, only the rows that were not copied; the others count as not read."""
        wanted = [WantedColumn(self._by.position, self._by.type, self._reader.formats)]
        found = self._reader.read_parsed(block, wanted)  # type: ignore[attr-defined]
        if found is None:
            return shaped
        values = found.columns[0]
        dropped = (
            []
            if self._lower is None
            else [
                int(place)
                for place in np.flatnonzero(_equal(values, self._lower))
                if self._was_copied(block, int(place))
            ]
        )
        left_out = set(dropped)
        for place in np.flatnonzero(_equal(values, self._upper)):
            if int(place) not in left_out:
                self._at_upper[_digest(block, int(place))] += 1
        if self._at_upper.total() > _MOST:
            raise UltravectError(
                "ties-too-many",
                f"more than {_MOST:,} rows have the highest {self._by.name}, and no key distinguishes them",
                hint="name into.keys, or use a column whose values are more spread",
                place="from.newer.by",
            )
        if not dropped:
            return shaped
        mask = ~np.isin(shaped.index, dropped)
        rejects = [reject for reject in shaped.rejects if reject.row - shaped.before - 1 not in left_out]
        filtered = shaped.filtered - (len(dropped) - int((~mask).sum()) - (len(shaped.rejects) - len(rejects)))
        return replace(
            shaped,
            rows=shaped.rows - len(dropped),
            batch=shaped.batch.filter(pa.array(mask)),
            rejects=rejects,
            filtered=filtered,
            index=shaped.index[mask],
        )

    def _was_copied(self, block: Block, place: int) -> bool:
        digest = _digest(block, place)
        if not self._before[digest]:
            return False
        self._before[digest] -= 1
        return True

    @property
    def mark(self) -> ColumnMark:
        """What the load notes."""
        by = self._by
        return ColumnMark(family(by.type), by.upper, self._at_upper.total(), dict(self._at_upper))


def _equal(values: pa.Array, scalar: pa.Scalar) -> npt.NDArray[np.bool_]:
    return np.asarray(pc.fill_null(pc.equal(values, scalar), False).to_numpy(zero_copy_only=False), dtype=bool)


def _digest(block: Block, place: int) -> str:
    return hashlib.sha256(block.row_text(place).encode()).hexdigest()[:24]
