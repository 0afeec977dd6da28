"""The highest value of a column among the rows that are copied, which becomes the mark."""

from __future__ import annotations

from typing import Any

import pyarrow.compute as pc

from ultravect.core.contracts.mark import ColumnMark
from ultravect.core.engine.plan.newer.mark_plan import ByPlan
from ultravect.core.engine.plan.newer.mark_values import as_mark, family, parsed
from ultravect.core.engine.run.shaped import Shaped


class HighestValue:
    """``by.follows`` is the number of the column in the batches; the mark never goes back."""

    def __init__(self, by: ByPlan) -> None:
        self._by = by
        self._highest: Any = None if by.lower is None else parsed(by.lower, by.type, "from.newer")

    def see(self, shaped: Shaped) -> None:
        found = pc.max(shaped.batch.column(self._by.follows)).as_py()
        if found is not None and (self._highest is None or found > self._highest):
            self._highest = found

    @property
    def mark(self) -> str:
        """What the load notes; "" where no row has a value."""
        kind = self._by.type
        return "" if self._highest is None else ColumnMark(family(kind), as_mark(self._highest, kind)).as_text()
