"""Rows of the target that the source has no more: what an upsert of all rows does with them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

from ultravect.core.contracts.changes import RowChange
from ultravect.core.contracts.load import LoadOrder
from ultravect.core.dialects.merge import Merge
from ultravect.core.errors import UltravectError
from ultravect.core.loading.steps.changes import gone_rows
from ultravect.core.words import counted

DELETE = "delete"


@dataclass(frozen=True)
class Gone:
    """``rows`` runs a select, ``apart`` a statement that is no part of the load's own writing: how many rows it changed."""

    order: LoadOrder
    merge: Merge
    rows: Callable[[str], Sequence[Sequence[Any]]]
    apart: Callable[[str], int]

    @property
    def _flag(self) -> str:
        return "" if self.order.gone == DELETE else self.order.gone

    def unflag_matched(self) -> None:
        """Takes the flag from rows that an earlier load flagged, and whose key has come again."""
        if self._flag:
            self.apart(self.merge.unflag(self._flag))

    def settle(self, before: int) -> tuple[int, Sequence[RowChange]]:
        """Deletes or flags the rows, of ``before`` that the table had; how many, and some of them.

        UltravectError where they are more than the order allows.
        """
        merge, flag = self.merge, self._flag
        count = int(self.rows(merge.count_gone(flag))[0][0])
        limit = self.order.gone_limit(before)
        if count > limit:
            raise UltravectError(
                "gone-limit",
                f"{counted(count, 'row')} of {self.order.table} would be gone, of {before:,}: more than the {limit:,} that "
                "into.gone_limit allows; nothing was written",
                hint="look whether the source is whole; raise into.gone_limit if it is",
                table=str(self.order.table),
            )
        samples = gone_rows(merge, self.rows, self.order.samples) if count and self.order.samples else []
        remove = merge.flag_gone(flag) if flag else merge.delete_gone()
        return self.apart(remove) if count else 0, samples
