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

import secrets
from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import psycopg
import pyarrow as pa

from ultravect.core.contracts.catalogue import LiveTable
from ultravect.core.contracts.changes import RowChange
from ultravect.core.contracts.load import DELETE_AND_INSERT, STAGED, SWAP, Counts, LoadOrder
from ultravect.core.contracts.mark import MarkChange
from ultravect.core.contracts.receipt import Receipt
from ultravect.core.contracts.target import Verified
from ultravect.core.dialects.base import Dialect, TableName
from ultravect.core.dialects.merge import ROW, Merge
from ultravect.core.kinds.postgresql.catalogue import Session, SessionStatements, find_table
from ultravect.core.kinds.postgresql.loads.copy_in import CopyIn
from ultravect.core.kinds.postgresql.loads.locks import try_lock
from ultravect.core.kinds.postgresql.loads.parts import write_in_parts
from ultravect.core.kinds.postgresql.loads.rebuild import replace_table
from ultravect.core.kinds.postgresql.loads.shadow_table import LARGE_ROWS, ShadowTable
from ultravect.core.kinds.postgresql.loads.staging import commit, run_apart, staging_query
from ultravect.core.loading.refusals import (
    previous_name,
    require_empty,
    table_changed,
    waiting_message,
)
from ultravect.core.loading.steps.changes import paired, updates
from ultravect.core.loading.steps.isolating_load import IsolatingLoad, Matches
from ultravect.core.loading.steps.isolation import Isolated
from ultravect.core.loading.steps.receipts import ReceiptTable

_MATCHED = "ultravect_matched"
LOCK_SECONDS = 60
_SAMPLED_ROWS = 5000
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
_TRIGGERS = """
SELECT 1 FROM pg_class c WHERE c.oid = to_regclass(%s) AND (c.relhasrules
  OR EXISTS (SELECT 1 FROM pg_trigger g WHERE g.tgrelid = c.oid AND NOT g.tgisinternal))
"""
_IN_ONE = "SELECT 1 FROM pg_class WHERE oid = to_regclass(%s) AND relkind = 'r'"
# types without equality
_INCOMPARABLE = frozenset(["json", "xml", "point", "line", "lseg", "box", "path", "polygon", "circle"])


class PostgresqlLoad(IsolatingLoad):
    """See ``Load``."""

    def __init__(
        self,
        session: Session,
        connection: str,
        dialect: Dialect,
        order: LoadOrder,
        table: LiveTable,
        staging: str,
        *,
        alone: bool = True,
        binary: bool = True,
    ) -> None:
        """``table`` is the one that rows will be in at the end, or that takes its place; ``alone``: publishing commits;
        ``binary``: whether rows can be sent in the binary form."""
        self._alone = alone
        self._session, self._connection, self._dialect, self._order = session, connection, dialect, order
        self._statements = SessionStatements(session)
        self._name = table.name
        self._table = dialect.table(table.name)
        self._live = table
        self._staging = staging or table.name.schema
        self._has_triggers = bool(session.execute(_TRIGGERS, (self._table,)).fetchone())
        self._take_lock()
        self._given = 0
        self._transaction = str(self._scalar("SELECT pg_current_xact_id()::text"))
        self.rows_before = 0 if order.create is not None and not order.rebuild else self._count()
        require_empty(order, self.rows_before)
        self._removed = 0
        self._parts: Sequence[str] = ()
        self._counted: int | None = None
        self._shadow: ShadowTable | None = None
        into = table
        self._stages = order.staged or bool(order.changes) or (order.staged_in is not None and not order.filled)
        if order.rebuild:
            self._lock()
            self._keep_previous()
            into = self._new_table()
            self._removed = self.rows_before
        elif order.filled and order.create is None and order.staged_in is not None:
            # the table was empty when slices began to fill another one like it
            self._shadow = ShadowTable.of(session, dialect, table, order.staged_in, analyzed=False)
            if self._shadow is None:
                raise table_changed(order)
            self.strategy = SWAP
        elif order.removes_old and order.create is None and not self._stages:
            self._lock()
            self._keep_previous()
            self._shadow = self._shadow_table()
            if self._shadow is None and order.may_swap:
                self.strategy = DELETE_AND_INSERT
            self._removed = self.rows_before if self._shadow else self._take_away()
        self._final = into.name
        if self._shadow:
            into = self._shadow.table
        if self._stages:
            into = self._staged(into)
        self._into = into.name
        freeze = bool(self._shadow) or (self._removed > 0 and order.truncate and not self._stages and self._whole())
        self._copy = (
            None if order.staged_in else CopyIn(session, dialect, into, order.sent, freeze=freeze, binary=binary)
        )

    def _new_table(self) -> LiveTable:
        """The table that will take the place of the one that is there."""
        if self._order.filled and self._order.staged_in is not None:
            return self._found(self._order.staged_in)
        assert self._order.create is not None
        name = TableName(self._staging, f"ultravect_stage_{secrets.token_hex(6)}")
        for statement in self._dialect.create_table(name, self._order.create):
            self._execute(statement)
        return self._found(name)

    def _staged(self, table: LiveTable) -> LiveTable:
        """A table for rows as ``table`` will have them."""
        if self._order.staged_in is not None:
            return self._found(self._order.staged_in)
        staged = staging_query(self._dialect, self._order, table.name)
        self._execute(f"CREATE TEMPORARY TABLE {STAGED} ON COMMIT DROP AS {staged}")
        return self._found(TableName("pg_temp", STAGED))

    def _found(self, name: TableName) -> LiveTable:
        table = find_table(self._session, self._dialect, name)
        assert table is not None, "the table was created a moment ago"
        return table

    def _execute(self, statement: str) -> psycopg.Cursor[tuple[Any, ...]]:
        return self._session.execute(statement.encode())

    def _in_parts(self, merge: Merge, rows: int, tolerated: int, known: str) -> Isolated:
        self._execute("SET CONSTRAINTS ALL IMMEDIATE")
        done, self._parts = write_in_parts(self._session, merge, rows, tolerated, upsert=self._order.matches_rows)
        return done

    def _scalar(self, statement: str) -> Any:
        row = self._execute(statement).fetchone()
        return row[0] if row else None

    def _count(self) -> int:
        return self._count_in(self._name)

    def _count_in(self, name: TableName) -> int:
        return int(self._scalar(f"SELECT count(*) FROM {self._dialect.table(name)}"))

    def _lock(self) -> None:
        """Keeps other writers away, but no reader."""
        self._execute(f"LOCK TABLE {self._table} IN SHARE ROW EXCLUSIVE MODE")

    def _take_lock(self) -> None:
        """Takes the lock that the load needs from its beginning, and says so where that has to be waited for."""
        if self._live.kind != "table":
            return
        early = self._order.removes_old and not self._order.staged
        mode = "SHARE ROW EXCLUSIVE" if early or self._order.lock_table else "ROW EXCLUSIVE"
        if early and self._order.truncate:
            mode = "ACCESS EXCLUSIVE"
        if not try_lock(self._session, self._table, mode):
            self._order.notify(waiting_message(self._order))
            self._execute(f"LOCK TABLE {self._table} IN {mode} MODE")

    def _shadow_table(self) -> ShadowTable | None:
        """The table that takes this one's place, where that is quicker than deleting its rows and as good."""
        order = self._order
        if (
            not order.may_swap
            or self.rows_before < LARGE_ROWS
            or order.truncate
            or order.keep_previous
            or order.after
        ):
            return None
        return ShadowTable.create(self._session, self._dialect, self._live, self._staging)

    def _whole(self) -> bool:
        """Whether the table has no partitions, which take no rows that are frozen."""
        return bool(self._session.execute(_IN_ONE, (self._table,)).fetchone())

    def _take_away(self) -> int:
        """Takes the rows of the table away; how many there were."""
        if self._order.truncate:
            self._execute(f"TRUNCATE {self._table}")
            return self.rows_before
        return self._delete_old(self._table)

    def _keep_previous(self) -> None:
        if self._order.keep_previous:
            self.previous = previous_name()
            kept = self._dialect.table(TableName(self._name.schema, self.previous))
            self._execute(f"CREATE TABLE {kept} AS TABLE {self._table}")

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
            return Counts(taken, removed=self._removed)
        run_apart(self._session, self._dialect.alter_table(self._final, order.changes))
        return self._merge(taken, tolerated, complete=complete)

    def _merge(self, taken: int, tolerated: int, *, complete: bool) -> Counts:
        """From the temporary table into the table."""
        order = self._order
        as_text = frozenset(column.name for column in self._live.columns if column.base in _INCOMPARABLE)
        staged = self._dialect.table(order.staged_in) if order.staged_in else STAGED
        merge = order.merge(self._dialect, self._dialect.table(self._final), staged, as_text)
        if order.matches_rows:
            self._analyze(merge.staged, [ROW, *order.keys])
        return self._merge_staged(merge, taken, tolerated, complete=complete)

    def _apart(self, statement: str) -> int:
        with self._session.transaction():  # a savepoint: see above
            return self._changed(statement)

    def _take_old_rows(self, merge: Merge) -> None:
        self._lock()
        self.rows_before = self._count()
        self._compare(merge)
        self._keep_previous()
        self._removed = self._take_away()

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
        self._sample_matched(merge)
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
        self._sample_by_index(merge, left)
        # a row that was there has been locked before it was updated
        shown = self._execute(
            f"WITH written AS ({merge.insert_or_update()} RETURNING (xmax = 0) AS fresh) "
            "SELECT count(*) FILTER (WHERE fresh), count(*) FILTER (WHERE NOT fresh) FROM written"
        ).fetchone()
        inserted, updated = shown or (0, 0)
        return Counts(inserted, updated, left - inserted - updated, repeated)

    def _sample_by_index(self, merge: Merge, rows: int) -> None:
        """Notes what is about to be changed: from some pages of the staged rows, or from all if those have too little."""
        wanted = self._order.samples
        if not wanted:
            return
        self._execute("SET LOCAL enable_hashjoin = off; SET LOCAL enable_mergejoin = off")
        share = 100 * _SAMPLED_ROWS / max(rows, 1)
        found: Sequence[RowChange] = ()
        if share < 100:
            some = replace(merge, staged=f"(SELECT * FROM {merge.staged} TABLESAMPLE SYSTEM ({share:.4f}))")
            found = updates(some, self._all_rows, wanted)
        if len(found) < wanted:
            found = updates(merge, self._all_rows, wanted)
        self._execute("SET LOCAL enable_hashjoin = on; SET LOCAL enable_mergejoin = on")
        self.changes = [*self.changes, *found]

    def _analyze(self, table: str, columns: Sequence[str]) -> None:
        """Lets the planner know how many rows there are, and little else: that is quick."""
        named = ", ".join(self._dialect.quote(column) for column in columns)
        self._execute("SET LOCAL default_statistics_target = 10")
        self._execute(f"ANALYZE {table} ({named})")

    def _sample_matched(self, merge: Merge) -> None:
        """Notes what is about to be changed, from the places that were found already."""
        if self._order.samples and merge.others:
            names = [self._dialect.quote(name) for name in merge.columns]
            shown = ", ".join([*(f"t.{name}" for name in names), *(f"s.{name}" for name in names)])
            found = self._all_rows(
                f"SELECT {shown} FROM (SELECT * FROM {_MATCHED} WHERE changed LIMIT {self._order.samples}) m "
                f"JOIN {merge.staged} s ON s.{ROW} = m.staged JOIN {merge.table} t ON t.tableoid = m.part AND t.ctid = m.place"
            )
            self.changes = [*self.changes, *paired(merge, found)]

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
        if (order.after or self._parts) and self._counted is None:
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

    def verify(self) -> Verified:
        own = f"count(*) FILTER (WHERE xmin = '{self._xmin}'::xid)" if self._counted is None else self._counted
        row = self._execute(f"SELECT count(*), {own} FROM {self._table}").fetchone()
        self._session.commit()
        after, of_load = row or (0, 0)
        how = "after the commit, by the transaction that wrote them"
        if self._order.filled:
            how = "in the table that slices filled, before it took its place"
        elif self._counted is not None:
            how = "just before the commit, by the transactions that wrote them"
        # a trigger writes as the load does
        return Verified(int(after), int(of_load), how, sure=not self._has_triggers)
