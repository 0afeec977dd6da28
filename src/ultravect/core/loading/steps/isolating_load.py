"""What loads into tables of SQL databases share: the numbers of staged rows, and the steps that bring them into the table.

A kind stages rows its own way. Then the steps are the same everywhere: repeats are dropped, old rows taken away, matching
rows found, and the staged ones inserted, or updated where they differ. Where refused rows are to be found, the last step goes in
parts. A kind replaces a step where its database has a quicker one.
"""

from __future__ import annotations

import json
from abc import ABC, abstractmethod
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Any

import pyarrow as pa

from ultravect.core.contracts.changes import Comparison, RowChange
from ultravect.core.contracts.load import Counts, LoadOrder, RefusedRow
from ultravect.core.contracts.mark import MarkChange
from ultravect.core.contracts.receipt import Receipt
from ultravect.core.contracts.target import Statements
from ultravect.core.dialects.base import Dialect
from ultravect.core.dialects.merge import Merge
from ultravect.core.loading.refusals import attempt_replaced, key_not_unique, key_repeated
from ultravect.core.loading.steps.ascending_keys import AscendingKeys
from ultravect.core.loading.steps.changes import compared, repeats, updates
from ultravect.core.loading.steps.counting import count_of_few, known_count
from ultravect.core.loading.steps.gone import DELETE, Gone
from ultravect.core.loading.steps.isolation import Isolated, RowsRefused, isolate
from ultravect.core.loading.steps.marks import MarkTable, mark_moved
from ultravect.core.loading.steps.numbered import RowNumbers
from ultravect.core.loading.steps.receipts import ReceiptTable

SAVEPOINT = "ultravect_part"
_RECORDS_AT_ONCE = 500


@dataclass(frozen=True)
class Matches:
    """Which staged rows have a key that the table has, as ``_find_matches`` found it.

    ``query`` finds a staged row ``s`` if it matches, "" to compare keys again; ``pairs`` is how many rows of the table match, None when
    they were not counted: then they are afterwards, with the inserted rows.
    """

    query: str = ""
    pairs: int | None = None


class IsolatingLoad(ABC):
    """The steps of a load after its rows are staged; see ``Load``."""

    written: Sequence[str] = ()
    refused: Iterable[RefusedRow] = ()
    changes: Sequence[RowChange] = ()
    comparison: Comparison | None = None
    previous: str = ""
    strategy: str = ""
    _order: LoadOrder
    _dialect: Dialect
    _table: str
    _statements: Statements
    rows_before: int | None = 0
    _removed: int | None = 0
    """How many rows of the table the load takes away; None: all that there are."""
    _ascending: AscendingKeys | None = None

    def _changed(self, statement: str) -> int:
        return self._statements.changed(statement)

    def _all_rows(self, statement: str) -> Sequence[Sequence[Any]]:
        return self._statements.rows(statement)

    def _refusal(self, error: Exception) -> str | None:
        """The reason why a row was refused, when ``error`` is of that kind and the load can go on after it."""
        return None

    def _numbered(self, batch: pa.RecordBatch, first: int) -> pa.RecordBatch:
        """Rows with their numbers in the load, from ``first``, where they are staged."""
        if not self._order.staged:
            return batch
        self._ascending = self._ascending or AscendingKeys(self._order.keys)
        self._ascending.see(batch)
        return RowNumbers(first).added(batch)

    def _drop_repeats(self, merge: Merge) -> int:
        """Leaves one staged row a key, as the order says which; how many were dropped."""
        order = self._order
        if self._ascending is not None and self._ascending.so_far:
            return 0
        if not order.keys or not (found := self._all_rows(merge.repeated())):
            return 0
        if order.repeats == "fail":
            raise key_repeated(order, found[0])
        first = order.repeats == "first"
        if order.samples:
            self.changes = [*self.changes, *repeats(merge, self._all_rows, order.samples, first=first)]
        return self._changed(merge.drop_repeats(first=first))

    def _sample_updates(self, merge: Merge) -> None:
        """Notes what an upsert is about to change."""
        if self._order.samples:
            self.changes = [*self.changes, *updates(merge, self._all_rows, self._order.samples)]

    def _compare(self, merge: Merge) -> None:
        """Notes how the rows that come differ from those of the table that they replace, where keys match them."""
        order = self._order
        if order.samples and order.keys and not order.replaces:
            self.comparison, changed = compared(merge, self._all_rows, order.samples)
            self.changes = [*self.changes, *changed]

    def _merge_staged(self, merge: Merge, staged: int, tolerated: int, *, complete: bool) -> Counts:
        """Brings the ``staged`` rows into the table, as the order says; ``complete``: see ``Load.finish``."""
        order = self._order
        gone = Gone(order, merge, self._all_rows, self._apart) if order.gone else None
        if gone is not None:
            # before rows are updated, which are then the load's own, and whatever becomes of them: they came
            gone.unflag_matched()
        counts = self._merge_rows(merge, staged, tolerated)
        if gone is None:
            return counts
        if not complete:
            order.notify("rows that are gone are kept: some rows of the source were rejected, and may be them")
            return counts
        assert self.rows_before is not None, "the order counts all rows where some may be gone"
        done, samples = gone.settle(self.rows_before)
        self.changes = [*self.changes, *samples]
        if order.gone != DELETE:
            return replace(counts, gone=done)
        return replace(counts, gone=done, removed=done)

    def _apart(self, statement: str) -> int:
        """Runs a statement whose rows are not counted as the load's own."""
        return self._changed(statement)

    def _delete_old(self, table: str) -> int | None:
        """Takes the rows away that an overwrite replaces; how many, None: all that were there."""
        where = f" WHERE {self._order.replaces}" if self._order.replaces else ""
        return self._changed(f"DELETE FROM {table}{where}")

    def _count_if_few(self) -> int | None:
        """The rows of the table; None where they are too many to be counted for each load."""
        if self._order.counts_all:
            return self._count()
        return known_count(self._all_rows(count_of_few(self._dialect, self._table))[0])

    @abstractmethod
    def _count(self) -> int:
        """The rows of the table, all of which are looked at."""

    def _note_removed(self, removed: int | None) -> None:
        """Notes how many rows were taken away: of an overwrite that takes all, those that there were."""
        self._removed = removed
        if self.rows_before is None and not self._order.replaces:
            self.rows_before = removed

    def _merge_rows(self, merge: Merge, staged: int, tolerated: int) -> Counts:
        order = self._order
        repeated = self._drop_repeats(merge)
        left = staged - repeated
        if order.removes_old and order.create is None:
            self._take_old_rows(merge)
        if order.isolate:
            known = self._find_matches(merge).query if order.matches_rows else ""
            return self._isolate(merge, left, repeated, self._removed, tolerated, known)
        if not order.matches_rows:
            return Counts(self._changed(merge.insert_all()), repeated=repeated, removed=self._removed)
        return self._upsert(merge, left, repeated)

    def _write_account(
        self,
        dialect: Dialect,
        receipts: ReceiptTable,
        receipt: Receipt | None,
        marks: Sequence[MarkChange],
        pending: str = "",
    ) -> None:
        """Leaves receipt and marks in the transaction that publishes; UltravectError where another attempt or run was first."""
        if marks:
            run = self._order.receipt.run if self._order.receipt else ""
            try:
                MarkTable(dialect, receipts.name).write(self._statements, marks, run)
            except Exception as error:
                if not self._is_taken(error):
                    raise
                raise mark_moved(marks[0].key) from None
        if receipt is None or self._order.receipt is None:
            return
        self._changed(receipts.prune())
        try:
            self._changed(receipts.write(self._order.receipt, receipt, pending))
        except Exception as error:
            if not self._is_taken(error):
                raise
            raise attempt_replaced(self._order) from None

    @abstractmethod
    def _is_taken(self, error: Exception) -> bool:
        """Whether a statement failed because its key is there already."""

    @abstractmethod
    def _take_old_rows(self, merge: Merge) -> None:
        """Compares the rows of the table with the staged ones, and takes them away."""

    def _find_matches(self, merge: Merge) -> Matches:
        """Finds the rows that match staged ones, before any of them changes, and notes which will change."""
        self._sample_updates(merge)
        return Matches()

    def _upsert(self, merge: Merge, left: int, repeated: int) -> Counts:
        """Updates rows that differ, and inserts those whose key is new."""
        matches = self._find_matches(merge)
        update = self._update_of(merge)
        updated = self._changed(update) if update else 0
        inserted = self._changed(merge.insert(matches.query))
        if matches.pairs is None:
            pairs = int(self._all_rows(merge.pairs())[0][0])
        else:
            pairs = matches.pairs + inserted
        if pairs != left:
            raise key_not_unique(self._order, next(iter(self._all_rows(merge.ambiguous())), ()))
        return Counts(inserted, updated, left - inserted - updated, repeated)

    def _update_of(self, merge: Merge) -> str | None:
        """The statement that updates rows that differ; None where a row is nothing but its key."""
        return merge.update()

    def _isolate(
        self, merge: Merge, left: int, repeated: int, removed: int | None, tolerated: int, known: str = ""
    ) -> Counts:
        """Brings staged rows into the table, ``left`` of them, and keeps those that are refused; ``known``: see ``Merge``."""
        if self._order.matches_rows and (twice := self._all_rows(merge.ambiguous())):
            raise key_not_unique(self._order, twice[0])
        done = self._in_parts(merge, left + repeated, tolerated, known)
        if done.refused:
            self.refused = self._records(merge, done.refused)
        unchanged = left - len(done.refused) - done.updated - done.inserted
        return Counts(
            done.inserted,
            done.updated,
            unchanged if self._order.matches_rows else 0,
            repeated,
            removed,
            len(done.refused),
        )

    def _records(self, merge: Merge, refused: Sequence[tuple[int, str]]) -> Iterator[RefusedRow]:
        """The rows with their values, some at a time."""
        names = [column.name for column in self._order.columns]
        refused = sorted(refused)
        for start in range(0, len(refused), _RECORDS_AT_ONCE):
            reasons = dict(refused[start : start + _RECORDS_AT_ONCE])
            for row, *values in sorted(self._all_rows(merge.rows(list(reasons))), key=lambda found: int(found[0])):
                record = json.dumps(dict(zip(names, values, strict=True)), default=str)
                yield RefusedRow(int(row), reasons[row], record)

    def _in_parts(self, merge: Merge, rows: int, tolerated: int, known: str) -> Isolated:
        """Writes the rows in parts, halved where they are refused: see ``isolate``."""

        def attempt(first: int, last: int) -> tuple[int, int]:
            within = merge.within(first, last)
            update = merge.update(within) if self._order.matches_rows else None
            insert = merge.insert(known, within) if self._order.matches_rows else merge.insert_all(within)
            self._set_savepoint()
            try:
                updated = self._changed(update) if update else 0
                inserted = self._changed(insert)
            except Exception as error:
                reason = self._refusal(error)
                if reason is None:
                    raise
                self._undo_to_savepoint()
                raise RowsRefused(reason) from None
            self._drop_savepoint()
            return updated, inserted

        return isolate(rows, attempt, tolerated)

    def _set_savepoint(self) -> None:
        self._changed(f"SAVEPOINT {SAVEPOINT}")

    def _undo_to_savepoint(self) -> None:
        self._changed(f"ROLLBACK TO SAVEPOINT {SAVEPOINT}")

    def _drop_savepoint(self) -> None:
        self._changed(f"RELEASE SAVEPOINT {SAVEPOINT}")
