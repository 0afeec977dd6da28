"""Value counts of columns: NULLs, distinct values, the commonest, the smallest and largest, and lengths."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from ultravect.core.engine.look.histogram import MOST_VALUES, histogram
from ultravect.core.engine.look.sample import text_column
from ultravect.core.layouts.base import Rows
from ultravect.core.types.inference.column_type import shown

MAX_DISTINCT = 200_000
_TOP = 5


@dataclass(frozen=True)
class ValueCounts:
    """Of one column. ``distinct`` None: more than can be distinguished here; lengths in characters."""

    values: int
    nulls: int
    distinct: int | None
    top: list[tuple[str, int]]
    low: str | None
    high: str | None
    shortest: int | None
    longest: int | None
    bins: list[dict[str, Any]] | None
    """See ``histogram``: of the first values."""

    def as_dict(self) -> dict[str, Any]:
        return {**asdict(self), "top": [{"value": value, "count": count} for value, count in self.top]}


class _Column:
    def __init__(self) -> None:
        self.values = self.nulls = 0
        self.low: str | None = None
        self.high: str | None = None
        self.shortest: int | None = None
        self.longest: int | None = None
        self._counted = pa.table({"value": pa.array([], pa.string()), "count": pa.array([], pa.int64())})
        self._complete = True
        self._first: list[pa.Array] = []
        self._held = 0

    def add(self, text: pa.Array) -> None:
        present = text.drop_null()
        self.nulls += len(text) - len(present)
        self.values += len(present)
        if not len(present):
            return
        if self._held < MOST_VALUES:
            self._first.append(present.slice(0, MOST_VALUES - self._held))
            self._held += len(self._first[-1])
        span = pc.min_max(present).as_py()
        lengths = pc.min_max(pc.utf8_length(present)).as_py()
        self.low = span["min"] if self.low is None else min(self.low, span["min"])
        self.high = span["max"] if self.high is None else max(self.high, span["max"])
        self.shortest = min(lengths["min"], self.shortest if self.shortest is not None else lengths["min"])
        self.longest = max(lengths["max"], self.longest or 0)
        found = pc.value_counts(present)
        new = pa.table({"value": found.field("values"), "count": found.field("counts")})
        if not self._complete:
            # what was distinguished so far goes on being counted
            new = new.filter(pc.is_in(new.column("value"), self._counted.column("value").combine_chunks()))
        joined = pa.concat_tables([self._counted, new]).group_by("value").aggregate([("count", "sum")])
        self._counted = joined.rename_columns(["value", "count"])
        self._complete = self._complete and self._counted.num_rows <= MAX_DISTINCT

    def result(self, kind: str, low: str | None, high: str | None) -> ValueCounts:
        top = self._counted.sort_by([("count", "descending"), ("value", "ascending")]).slice(0, _TOP).to_pylist()
        return ValueCounts(
            self.values,
            self.nulls,
            self._counted.num_rows if self._complete else None,
            [(shown(item["value"]), item["count"]) for item in top],
            low if low is not None else self.low and shown(self.low),
            high if high is not None else self.high and shown(self.high),
            self.shortest,
            self.longest,
            histogram(pa.concat_arrays(self._first), kind) if self._first else None,
        )


class Profile:
    """Counts the values of every column of a scan."""

    def __init__(self, columns: int) -> None:
        self._columns = [_Column() for _ in range(columns)]

    @property
    def satisfied(self) -> bool:
        return False

    def take(self, rows: Rows, rows_before: int) -> None:
        for column, values in zip(self._columns, rows.values.columns, strict=True):
            column.add(text_column(values))

    def counts(self, position: int, kind: str, low: str | None, high: str | None) -> ValueCounts:
        """``low`` and ``high`` of the column's type ``kind``, where they are known; as text they sort otherwise."""
        return self._columns[position].result(kind, low, high)
