"""How loads are published: the ledger of a target holds their receipts, the marks of jobs, and fences that bar attempts.

It is the only way to publish. A load's rows, its receipt and its marks are committed together, and only if no other attempt of the same
run has committed or barred it, and the marks are as they were when the load was planned; otherwise nothing is written.
One ledger per way of committing: a transaction of SQL, the commit of a lake table, a set of files.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Protocol

from ultravect.core.contracts.mark import MarkChange, MarkKey
from ultravect.core.contracts.receipt import Receipt, ReceiptKey


@dataclass(frozen=True)
class Entry:
    """What a load leaves in the ledger: ``receipt`` under ``key``, both None where it leaves none, and changes of marks.

    ``run`` says by whom marks were changed.
    """

    key: ReceiptKey | None = None
    receipt: Receipt | None = None
    marks: Sequence[MarkChange] = ()

    @property
    def run(self) -> str:
        return self.key.run if self.key is not None else ""


class Ledger(Protocol):
    """The ledger of loads into one table, or by one name of files, as it is seen from outside of a load.

    Methods open and close their own sessions, and may be called from any thread. UltravectError where the target cannot be reached.
    """

    def receipt(self, key: ReceiptKey) -> Receipt | None:
        """The receipt of a load, if it was committed."""

    def committed(self, keys: Sequence[ReceiptKey]) -> Receipt | None:
        """The receipt of the attempt of a run that was committed; where none was, none of them can commit any more.

        UltravectError where an attempt is committing at this moment, and does not end.
        """

    def mark(self, key: MarkKey) -> Mapping[str, str]:
        """The entries of a mark that loads have written, by their items."""

    def set_mark(self, key: MarkKey, value: str | None) -> None:
        """Has a mark of a column be ``value``, the text of a ``ColumnMark``; or forgets the mark, of a column or of files.

        A load that was planned before it commits nothing then. UltravectError where the table is not there yet: a mark says what was
        copied into it.
        """
