"""What an upsert is about to change, as a sample for anyone who looks at the run."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from ultravect.core.contracts.changes import RowChange
from ultravect.core.dialects.base import Dialect
from ultravect.core.dialects.merge import ROW, Merge
from ultravect.core.loading.steps.changes import Rows, paired, updates

_SAMPLED_ROWS = 5000


def sample_by_index(rows: Rows, merge: Merge, staged: int, wanted: int) -> list[RowChange]:
    """Found by the index of the keys: from some pages of the ``staged`` rows, or from all if those have too little."""
    if not wanted:
        return []
    share = 100 * _SAMPLED_ROWS / max(staged, 1)
    found: list[RowChange] = []
    if share < 100:
        some = replace(merge, staged=f"(SELECT * FROM {merge.staged} TABLESAMPLE SYSTEM ({share:.4f}))")
        found = updates(some, rows, wanted)
    return found if len(found) >= wanted else updates(merge, rows, wanted)


def sample_matched(rows: Rows, dialect: Dialect, merge: Merge, matched: str, wanted: int) -> Sequence[RowChange]:
    """From the places that were found already, in the table ``matched``."""
    if not wanted or not merge.others:
        return []
    names = [dialect.quote(name) for name in merge.columns]
    shown = ", ".join([*(f"t.{name}" for name in names), *(f"s.{name}" for name in names)])
    found = rows(
        f"SELECT {shown} FROM (SELECT * FROM {matched} WHERE changed LIMIT {wanted}) m "
        f"JOIN {merge.staged} s ON s.{ROW} = m.staged JOIN {merge.table} t ON t.tableoid = m.part AND t.ctid = m.place"
    )
    return paired(merge, found)
