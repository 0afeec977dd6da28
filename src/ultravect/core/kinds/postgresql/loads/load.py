"""Loads rows into a PostgreSQL table by COPY, in one transaction.

Rows copied in a transaction are invisible to others until it commits, and a lost session undoes them: append copies
straight into the table. Overwrite copies into another table that takes its place (see ``successor``), or after a DELETE of
what is there: readers see the old rows until the commit, while a TRUNCATE makes them wait. The price of deleting is
dead space, which vacuum takes back. Rows that are matched by keys, or that need a larger table first, stand in a
temporary table until the end, so that the lock that stops other writers is short.

The rows of the load are counted apart from all others by the transaction that wrote them. So whatever else the load's transaction
does to its table (statements of ``before`` and ``after``, the rewriting of a column whose type grows) is done below a
savepoint, which gives the rows that it writes another transaction number.
"""

from __future__ import annotations

from collections.abc import Sequence

import psycopg
import pyarrow as pa

from ultravect.core.contracts.load import COUNTED_ROWS, DELETE_AND_INSERT, STAGED, Counts
from ultravect.core.contracts.mark import MarkChange
from ultravect.core.contracts.receipt import Receipt
from ultravect.core.contracts.target import Verified
from ultravect.core.dialects.merge import ROW, Merge
from ultravect.core.kinds.postgresql.loads.parts import write_in_parts
from ultravect.core.kinds.postgresql.loads.prepared_load import PreparedLoad
from ultravect.core.kinds.postgresql.loads.rebuild import replace_table
from ultravect.core.kinds.postgresql.loads.samples import sample_by_index, sample_matched
from ultravect.core.kinds.postgresql.loads.staging import commit, run_apart
from ultravect.core.loading.steps.counting import BY_STATEMENTS
from ultravect.core.loading.steps.isolating_load import Matches
from ultravect.core.loading.steps.isolation import Isolated
from ultravect.core.loading.steps.receipts import ReceiptTable

_MATCHED = "ultravect_matched"
LOCK_SECONDS = 60
# a unique index on just these columns, and nothing that could drop or change a row on its way
_ONE_STATEMENT = """
SELECT 1 FROM pg_class c WHERE c.oid = to_regclass(%s) AND c.relkind IN ('r', 'p') AND NOT c.relhasrules
  AND NOT EXISTS (SELECT 1 FROM pg_trigger g WHERE g.tgrelid = c.oid AND NOT g.tgisinternal)
  AND EXISTS (
    SELECT 1 FROM pg_index i WHERE i.indrelid = c.oid AND i.indisunique AND i.indimmediate AND i.indisvalid
      AND i.indpred IS NULL AND i.indexprs IS NULL
      AND ARRAY(SELECT a.attname::text FROM pg_attribute a WHERE a.attrelid = c.oid
                AND a.attnum = ANY (i.indkey[0:i.indnkeyatts - 1]) ORDER BY a.attname::text COLLATE "C") = %s::text[])
"""
# types without equality
_INCOMPARABLE = frozenset(["json", "xml", "point", "line", "lseg", "box", "path", "polygon", "circle"])


class PostgresqlLoad(PreparedLoad):
    """See ``Load``."""

    _done = Counts(0)

    def _in_parts(self, merge: Merge, rows: int, tolerated: int, known: str) -> Isolated:
        self._execute("SET CONSTRAINTS ALL IMMEDIATE")
        done, self._parts = write_in_parts(self._session, merge, rows, tolerated, upsert=self._order.matches_rows)
        return done

    def named(self, text: str) -> str:
        """What the server says, with the names of the target's own parts."""
        return self._shadow.named(text) if self._shadow else text

    def write(self, batch: pa.RecordBatch) -> None:
        if not batch.num_rows:
            return
        batch = self._numbered(batch, self._given)
        self._given += batch.num_rows
        assert self._copy is not None, "rows that slices have staged are not written again"
        self._copy.write(batch)

    def finish(self, tolerated: int = 0, *, complete: bool = True) -> Counts:
        order = self._order
        taken = self._copy.end() if self._copy else self._count_in(self._into)
        if self._shadow:
            self._shadow.filled()
        if order.filled:
            # the transactions of the slices wrote them
            self._counted = taken
        if not self._stages:
            self._done = Counts(taken, removed=self._removed)
        else:
            run_apart(self._session, self._dialect.alter_table(self._final, order.changes))
            self._done = self._merge(taken, tolerated, complete=complete)
        return self._done

    def _merge(self, taken: int, tolerated: int, *, complete: bool) -> Counts:
        """From the temporary table into the table."""
        order = self._order
        as_text = frozenset(column.name for column in self._live.columns if column.base in _INCOMPARABLE)
        staged = self._dialect.table(order.staged_in) if order.staged_in else STAGED
        merge = order.merge(self._dialect, self._dialect.table(self._final), staged, as_text)
        if order.matches_rows:
            if order.gone:
                self._lock()
            self._analyze(merge.staged, [ROW, *order.keys])
        return self._merge_staged(merge, taken, tolerated, complete=complete)

    def _apart(self, statement: str) -> int:
        with self._session.transaction():  # a savepoint: see above
            return self._changed(statement)

    def _take_old_rows(self, merge: Merge) -> None:
        self._lock()
        self.rows_before = self._count_if_few()
        self._compare(merge)
        self._keep_previous()
        self._note_removed(self._take_away())

    def _find_matches(self, merge: Merge) -> Matches:
        """Their places in the table; refused rows are found by keys instead, which hold after a row has moved."""
        self._lock()
        if self._order.isolate:
            return super()._find_matches(merge)
        differs = merge.differs or "false"
        pairs = self._execute(
            f"CREATE TEMPORARY TABLE {_MATCHED} ON COMMIT DROP AS SELECT s.{ROW} AS staged, t.tableoid AS part, "
            f"t.ctid AS place, ({differs}) AS changed FROM {merge.staged} s JOIN {merge.table} t ON {merge.matched}"
        ).rowcount
        self._analyze(_MATCHED, ["staged", "changed"])
        found = sample_matched(self._all_rows, self._dialect, merge, _MATCHED, self._order.samples)
        self.changes = [*self.changes, *found]
        return Matches(f"SELECT 1 FROM {_MATCHED} m WHERE m.staged = s.{ROW}", pairs)

    def _update_of(self, merge: Merge) -> str | None:
        if not merge.others:
            return None
        staged = f"(SELECT s.*, m.part, m.place FROM {merge.staged} s JOIN {_MATCHED} m ON m.staged = s.{ROW} WHERE m.changed)"
        at_place = "t.tableoid = s.part AND t.ctid = s.place"
        return self._dialect.update_matched(merge.table, staged, at_place, merge.others, "true")

    def _upsert(self, merge: Merge, left: int, repeated: int) -> Counts:
        self._lock()
        if self._session.execute(_ONE_STATEMENT, (merge.table, sorted(self._order.keys))).fetchone():
            return self._insert_or_update(merge, left, repeated)
        return super()._upsert(merge, left, repeated)

    def _insert_or_update(self, merge: Merge, left: int, repeated: int) -> Counts:
        """The quickest way, by the index that keeps keys apart; what is neither inserted nor updated was equal."""
        self._execute("SET LOCAL enable_hashjoin = off; SET LOCAL enable_mergejoin = off")
        self.changes = [*self.changes, *sample_by_index(self._all_rows, merge, left, self._order.samples)]
        self._execute("SET LOCAL enable_hashjoin = on; SET LOCAL enable_mergejoin = on")
        # a row that was there has been locked before it was updated
        shown = self._execute(
            f"WITH written AS ({merge.insert_or_update()} RETURNING (xmax = 0) AS fresh) "
            "SELECT count(*) FILTER (WHERE fresh), count(*) FILTER (WHERE NOT fresh) FROM written"
        ).fetchone()
        inserted, updated = shown or (0, 0)
        return Counts(inserted, updated, left - inserted - updated, repeated)

    def _analyze(self, table: str, columns: Sequence[str]) -> None:
        """Lets the planner know how many rows there are, and little else: that is quick."""
        named = ", ".join(self._dialect.quote(column) for column in columns)
        self._execute("SET LOCAL default_statistics_target = 10")
        self._execute(f"ANALYZE {table} ({named})")

    def publish(self, receipt: Receipt | None = None, marks: Sequence[MarkChange] = ()) -> None:
        order = self._order
        if self._final != self._name:
            replace_table(self._session, self._dialect, self._live, self._final)
        if self._shadow and not self._shadow.take_place(of_empty=order.filled):
            if order.filled:
                order.notify(f"{order.table} is in use: rows are copied into it once more, which takes longer")
                self.strategy = ""
            else:
                self.strategy = DELETE_AND_INSERT
                order.notify(f"{order.table} is being read: its old rows are deleted one by one, which takes longer")
        if (order.after or self._parts) and self._counted is None and self._is_counted:
            # afterwards the rows could not be counted apart from those that the statements change, nor the parts be named
            self._counted = self._of_load()
        run_apart(self._session, order.after)
        receipts = ReceiptTable(self._dialect, self._name)
        if receipt is not None and order.receipt is not None and self.previous:
            for statement in receipts.drop_previous(self._all_rows(receipts.kept()), receipt.table):
                self._execute(statement)
        self._write_account(self._dialect, receipts, receipt, marks)
        if self._alone:
            commit(self._session, self._connection, f"the load into {order.table}", self._transaction)
        else:
            # the next load has temporary tables of the same names
            self._execute(f"DROP TABLE IF EXISTS pg_temp.{STAGED}, pg_temp.{_MATCHED}")

    def _is_taken(self, error: Exception) -> bool:
        return isinstance(error, psycopg.errors.UniqueViolation)

    @property
    def _xmin(self) -> str:
        """What ``xmin`` of a row of the load holds: the low 32 bits of the transaction's number."""
        return str(int(self._transaction) % 2**32)

    def _of_load(self) -> int:
        """The rows that the load has written, before it is committed."""
        numbers = self._dialect.literal("{" + ",".join([self._xmin, *self._parts]) + "}")
        return int(self._scalar(f"SELECT count(*) FROM {self._table} WHERE xmin::text = ANY ({numbers}::text[])"))

    @property
    def _is_counted(self) -> bool:
        """Whether the rows of the table are counted afterwards: where that was asked for, or they are few."""
        if self._order.counts_all:
            return True
        removed = self.rows_before if self._done.removed is None else self._done.removed
        if self.rows_before is None or removed is None:
            return False
        return self.rows_before - removed + self._done.inserted <= COUNTED_ROWS

    def verify(self) -> Verified:
        written = self._done.inserted + self._done.updated
        if not self._is_counted:
            return Verified(None, written, BY_STATEMENTS)
        own = f"count(*) FILTER (WHERE xmin = '{self._xmin}'::xid)" if self._counted is None else self._counted
        some = "" if self._order.counts_all else f" LIMIT {COUNTED_ROWS + 1}"
        row = self._execute(f"SELECT count(*), {own} FROM (SELECT xmin FROM {self._table}{some}) few").fetchone()
        self._session.commit()
        after, of_load = row or (0, 0)
        if not self._order.counts_all and after > COUNTED_ROWS:
            return Verified(None, written, BY_STATEMENTS)  # others have written meanwhile
        how = "after the commit, by the transaction that wrote them"
        if self._order.filled:
            how = "in the table that slices filled, before it took its place"
        elif self._counted is not None:
            how = "just before the commit, by the transactions that wrote them"
        # a trigger writes as the load does
        return Verified(int(after), int(of_load), how, sure=not self._has_triggers)
