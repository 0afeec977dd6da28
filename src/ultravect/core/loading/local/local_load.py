"""What loads into a database in a file share: one transaction, in which all that changes changes."""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Sequence
from typing import Any

import pyarrow as pa

from ultravect.core.contracts.load import COUNTED_ROWS, STAGED, Counts, LoadOrder, ReceiptKey
from ultravect.core.contracts.mark import MarkChange
from ultravect.core.contracts.receipt import Receipt
from ultravect.core.contracts.target import Statements, Verified
from ultravect.core.dialects.base import Dialect, TableName
from ultravect.core.dialects.merge import ROW, Merge
from ultravect.core.loading.refusals import previous_name, require_empty
from ultravect.core.loading.steps.counting import BY_STATEMENTS
from ultravect.core.loading.steps.isolating_load import IsolatingLoad, Matches
from ultravect.core.loading.steps.marks import MarkTable
from ultravect.core.loading.steps.receipts import ReceiptTable, committed_or_barred


class LocalLoad(IsolatingLoad):
    """See ``Load``. Only one transaction writes to such a file at a time, and no one sees it before it commits."""

    _staged, _matched = STAGED, "ultravect_matched"
    """Temporary tables, their names quoted."""

    def __init__(self, dialect: Dialect, order: LoadOrder) -> None:
        self._order = order
        self._dialect = dialect
        self._table = dialect.table(order.table)
        self._receipts = ReceiptTable(dialect, order.table)
        self._written = 0
        self._of_load = 0
        self._after: int | None = None
        self._into = self._staged if order.staged else self._table
        self._open()

    def _open(self) -> None:
        """Begins the transaction, and makes what rows are written into."""
        order, dialect = self._order, self._dialect
        self._begin()
        self._run_own(order.before)
        new = order.create is not None and not order.rebuild
        self.rows_before = 0 if new else self._count_if_few()
        require_empty(order, self.rows_before)
        if order.keep_previous and not new:
            self.previous = previous_name()
            kept = dialect.table(TableName(order.table.schema, self.previous))
            self._execute(dialect.copied_table(kept, f"SELECT * FROM {self._table}"))
        self._prepare_table()
        if order.staged:
            self._stage()

    def _prepare_table(self) -> None:
        """Makes or changes the table as the order says, and takes old rows away where none are matched."""
        order, dialect = self._order, self._dialect
        if order.rebuild:
            self._removed = self.rows_before
            self._execute(f"DROP TABLE {self._table}")
        if order.create is not None:
            self._run(dialect.create_table(order.table, order.create))
        self._run(dialect.alter_table(order.table, order.changes))
        if order.removes_old and order.create is None and not order.staged:
            self._note_removed(self._delete_old(self._table))

    def _begin(self) -> None:
        """Opens the transaction in which all that changes changes."""
        self._execute("BEGIN TRANSACTION")

    @abstractmethod
    def _execute(self, statement: str) -> Sequence[Any] | None:
        """Runs a statement; the first row of its answer, where it has one."""

    @abstractmethod
    def _insert(self, batch: pa.RecordBatch) -> int:
        """Inserts rows; how many the database says it took."""

    def _run(self, statements: Sequence[str]) -> None:
        for statement in statements:
            self._execute(statement)

    def _run_own(self, statements: Sequence[str]) -> None:
        """Runs statements of the job's own: they change nothing but this database."""
        self._run(statements)

    def _stage(self) -> None:
        names = ", ".join(self._dialect.quote(column.name) for column in self._order.columns)
        self._execute(
            f"CREATE TEMPORARY TABLE {STAGED} AS SELECT {names}, CAST(0 AS BIGINT) AS {ROW} FROM {self._table} LIMIT 0"
        )

    def _count(self) -> int:
        row = self._execute(f"SELECT count(*) FROM {self._table}")
        return int(row[0]) if row else 0

    def write(self, batch: pa.RecordBatch) -> None:
        if not batch.num_rows:
            return
        batch = self._numbered(batch, self._written)
        self._written += self._insert(batch)

    def finish(self, tolerated: int = 0, *, complete: bool = True) -> Counts:
        counts = Counts(self._written, removed=self._removed)
        if self._order.staged:
            counts = self._merge_staged(
                self._order.merge(self._dialect, self._table, self._staged),
                self._written,
                tolerated,
                complete=complete,
            )
        self._of_load, self._after = counts.inserted + counts.updated, None
        removed = self.rows_before if counts.removed is None else counts.removed
        if self.rows_before is not None and removed is not None:
            likely = self.rows_before - removed + counts.inserted
            self._after = self._count_if_few() if likely <= COUNTED_ROWS or self._order.counts_all else None
            if self._after is not None:
                self._of_load = self._after - self.rows_before + removed + counts.updated
        return counts

    def _take_old_rows(self, merge: Merge) -> None:
        self._compare(merge)
        self._note_removed(self._delete_old(self._table))

    def _find_matches(self, merge: Merge) -> Matches:
        """By one join, whose result is kept: the table has no index on its keys, perhaps."""
        found = f"SELECT s.{ROW} AS staged FROM {merge.staged} s JOIN {merge.table} t ON {merge.matched}"
        self._execute(self._dialect.copied_table(self._matched, found, temporary=True))
        self._execute(f"CREATE INDEX ultravect_matched_staged ON {self._matched} (staged)")
        self._sample_updates(merge)
        return Matches(f"SELECT 1 FROM {self._matched} m WHERE m.staged = s.{ROW}")

    def publish(self, receipt: Receipt | None = None, marks: Sequence[MarkChange] = ()) -> None:
        order = self._order
        self._run_own(order.after)
        if order.staged:
            self._execute(f"DROP TABLE {self._staged}")
            self._execute(f"DROP TABLE IF EXISTS {self._matched}")
        if receipt is not None and order.receipt is not None and not self._has(self._receipts.name):
            self._execute(self._receipts.create())
        table = MarkTable(self._dialect, order.table)
        if marks and not self._has(table.name):
            self._execute(table.create())
        if receipt is not None and order.receipt is not None and self.previous:
            self._run(self._receipts.drop_previous(self._all_rows(self._receipts.kept()), receipt.table))
        self._write_account(self._dialect, self._receipts, receipt, marks)
        self._commit()

    def _commit(self) -> None:
        self._execute("COMMIT")

    def _is_taken(self, error: Exception) -> bool:
        return self._refusal(error) is not None

    @abstractmethod
    def _has(self, table: TableName) -> bool:
        """Whether there is a table of this name."""

    def verify(self) -> Verified:
        return self._verified(alone=True)

    def _verified(self, *, alone: bool) -> Verified:
        """``alone``: no other session could write since the rows were counted first."""
        if self._after is None:
            return Verified(None, self._of_load, BY_STATEMENTS)
        others = "no other session could write meanwhile" if alone else "other sessions could write meanwhile"
        how = f"in the load's own transaction, just before its commit, as the table's growth: {others}"
        return Verified(self._after, self._of_load, how, sure=alone)


def committed_in(
    receipts: ReceiptTable, keys: Sequence[ReceiptKey], statements: Statements, *, has_table: bool
) -> Receipt | None:
    """See ``Target.committed``; in a transaction of ``statements``, in which no other session can write."""
    if not has_table:
        statements.changed(receipts.create())

    def written(key: ReceiptKey) -> bool:
        taken = bool(statements.rows(receipts.find(key)))
        if not taken:
            statements.changed(receipts.fence(key))
        return not taken

    return committed_or_barred(receipts, keys, written, statements.rows)
