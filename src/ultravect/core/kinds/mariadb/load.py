"""Loads rows into a MariaDB or MySQL table, in one transaction.

Rows of a transaction are invisible to others until it commits, so append loads straight into the table. What cannot be
part of a transaction here, since CREATE and RENAME commit by themselves, is done next to the table: a new one is filled
under another name and renamed when its rows are committed. Overwrite does the same, since deleting a row costs more than
writing one, unless foreign keys or triggers, which stay with the old table, forbid it: then it deletes and loads in one
transaction. Rows that are matched by keys stand in a table of their own until the end.

Between the commit and the renaming, the receipt says what is left to be renamed: anyone who finds it does it. A session
holds a lock of the server named like its staging table, by which others distinguish staging that is in use from what a dead
session has left.

A load with a single warning is undone: see ``transfer``.
"""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import suppress
from typing import Any

import MySQLdb
import pyarrow as pa

from ultravect.core.contracts.catalogue import LiveTable
from ultravect.core.contracts.load import COUNTED_ROWS, Counts, LoadOrder
from ultravect.core.contracts.mark import MarkChange
from ultravect.core.contracts.receipt import Receipt
from ultravect.core.contracts.target import Verified
from ultravect.core.dialects.base import Dialect, TableName
from ultravect.core.dialects.merge import ROW, Merge
from ultravect.core.errors import UltravectError
from ultravect.core.kinds.mariadb.session import LOST, REFUSED, SessionStatements, translate
from ultravect.core.kinds.mariadb.staging import (
    Staging,
    aside,
    begin_in_place,
    first_row,
    keep_counter,
)
from ultravect.core.kinds.mariadb.table_guard import TableGuard
from ultravect.core.kinds.mariadb.transfer import transfer
from ultravect.core.loading.refusals import (
    previous_name,
    require_empty,
)
from ultravect.core.loading.steps.counting import BY_STATEMENTS
from ultravect.core.loading.steps.isolating_load import IsolatingLoad, Matches
from ultravect.core.loading.steps.marks import MarkTable
from ultravect.core.loading.steps.receipts import ReceiptTable

LOCK_SECONDS = 60
VERSIONED = (
    "SELECT 1 FROM information_schema.tables WHERE table_schema = {schema} AND table_name = {table} "
    "AND table_type = 'SYSTEM VERSIONED'"
)


class MariadbLoad(IsolatingLoad):
    """See ``Load``."""

    def __init__(
        self,
        session: Any,
        connection: str,
        dialect: Dialect,
        order: LoadOrder,
        staging: Staging,
        live: LiveTable | None,
        guard: TableGuard | None,
    ) -> None:
        self._session, self._connection, self._dialect, self._order = session, connection, dialect, order
        self._statements = SessionStatements(session)
        self._staging, self._guard = staging, guard
        if order.keep_previous and live:
            self.previous = previous_name()
        self._name = staging.home
        self._table = dialect.table(staging.home)
        self._final = dialect.table(staging.final)
        self._rows = dialect.table(staging.rows)
        self._given = 0
        self._execute("START TRANSACTION")
        self._alters = bool(order.changes) and not staging.renamed
        self._live = live
        self.rows_before = 0
        if not self._alters:
            self._prepare()
        elif live:
            # what comes before rows is done later, in the transaction that publishes
            require_empty(order, self._count_if_few())
        self._loaded = 0
        self._transfer = transfer(session, dialect, self._rows, order.sent, live.columns if live else ())

    def _prepare(self) -> None:
        """What comes before rows, in the transaction that publishes; and how many rows there are then."""
        for statement in self._order.before:
            self._execute(statement)
        self.rows_before = self._count_if_few() if self._live else 0
        require_empty(self._order, self.rows_before)
        if self._order.removes_old and self._live:
            self._removed = self.rows_before
        if self._removed != 0 and not self._staging.renamed and not self._staging.merged:
            self._note_removed(self._delete_old(self._table))

    def _execute(self, statement: str) -> tuple[Any, ...] | None:
        """Runs a statement; the first row of its answer, where it has one."""
        return first_row(self._session, statement)

    def _count(self) -> int:
        return self._count_in(self._table)

    def _count_in(self, table: str) -> int:
        row = self._execute(f"SELECT count(*) FROM {table}")
        return int(row[0]) if row else 0

    def write(self, batch: pa.RecordBatch) -> None:
        if not batch.num_rows:
            return
        batch = self._numbered(batch, self._given)
        self._given += batch.num_rows
        self._transfer.write(batch)

    def _refusal(self, error: Exception) -> str | None:
        return str(error.args[-1]) if isinstance(error, MySQLdb.Error) and error.args[0] in REFUSED else None

    def finish(self, tolerated: int = 0, *, complete: bool = True) -> Counts:
        self.close()
        self._loaded = self._transfer.loaded()
        warning = self._execute("SHOW WARNINGS LIMIT 1")
        if warning is not None:
            raise UltravectError(
                "value-refused",
                f"connection {self._connection}: {self._name} does not take a value as it is: {warning[2]}; nothing was written",
                hint="give the column a type that fits, in the job or in the table",
                connection=self._connection,
                table=str(self._name),
            )
        counts = (
            self._merge(tolerated, complete=complete)
            if self._staging.merged
            else Counts(self._loaded, removed=self._removed)
        )
        self._of_load, self._after = self._seen(counts)
        return counts

    def _seen(self, counts: Counts) -> tuple[int, int | None]:
        """How many rows of the load are counted in the table, and of all; the latter is None where they are not counted."""
        written, everything = counts.inserted + counts.updated, self._order.counts_all
        if self._staging.renamed:
            few = everything or counts.inserted <= COUNTED_ROWS
            found = self._count_in(self._final) if few else None
            return (written if found is None else found), counts.inserted if found is None else found
        removed = self.rows_before if counts.removed is None else counts.removed
        if self.rows_before is None or removed is None:
            return written, None
        kept = self.rows_before - removed
        if not everything and kept + counts.inserted > COUNTED_ROWS:
            return written, None
        # in the snapshot of this transaction no one else's rows can be counted
        after = self._count()
        return after - kept + counts.updated, after

    def _merge(self, tolerated: int, *, complete: bool) -> Counts:
        order = self._order
        if self._alters:
            self._execute("COMMIT")  # of the staged rows, before what commits by itself
            for statement in self._dialect.alter_table(self._name, order.changes):
                self._execute(statement)
            self._execute("START TRANSACTION")
            self._prepare()
        return self._merge_staged(
            order.merge(self._dialect, self._final, self._rows), self._loaded, tolerated, complete=complete
        )

    def _take_old_rows(self, merge: Merge) -> None:
        self._compare(self._order.merge(self._dialect, self._table, self._rows))
        if not self._staging.renamed:
            self._note_removed(self._delete_old(self._table))

    def _find_matches(self, merge: Merge) -> Matches:
        found = Matches(pairs=0)
        if self._staging.matched:
            matched = self._dialect.table(self._staging.matched)
            pairs = self._changed(
                f"INSERT INTO {matched} SELECT s.{ROW} FROM {merge.staged} s JOIN {merge.table} t ON {merge.matched}"
            )
            found = Matches(f"SELECT 1 FROM {matched} m WHERE m.staged = s.{ROW}", pairs)
        self._sample_updates(merge)
        return found

    def close(self) -> None:
        """Ends the stream of rows, and waits for the statement."""
        self._transfer.close()

    def publish(self, receipt: Receipt | None = None, marks: Sequence[MarkChange] = ()) -> None:
        order = self._order
        receipts = ReceiptTable(self._dialect, self._name)
        try:
            if not self._staging.renamed:
                for statement in order.after:
                    self._execute(statement)
            pending = self._staging.final.name if self._staging.renamed else ""
            self._write_account(self._dialect, receipts, receipt, marks, pending)
            self._execute("COMMIT")
        except MySQLdb.OperationalError as error:
            if error.args[0] not in LOST:
                raise
            raise UltravectError(
                "outcome-unknown",
                f"connection {self._connection}: the connection was lost while committing the load into {self._name}: {error.args[-1]}",
                hint="look at the table whether the rows are there, before running again",
                connection=self._connection,
            ) from error
        if self._staging.renamed:
            self._rename(receipts if receipt is not None else None)
        if self.previous:
            self._settle_previous(receipts)

    def _is_taken(self, error: Exception) -> bool:
        return isinstance(error, MySQLdb.IntegrityError)

    def _settle_previous(self, receipts: ReceiptTable) -> None:
        """Gives what was replaced its name, and drops what earlier loads kept."""
        if self._staging.kept:
            kept = self._dialect.table(self._staging.kept)
            named = self._dialect.table(TableName(self._name.schema, self.previous))
            self._execute(f"RENAME TABLE {kept} TO {named}")
        if self._order.receipt is None:
            return
        others = [row for row in self._all_rows(receipts.kept()) if self.previous not in row[0]]
        for statement in receipts.drop_previous(others, str(self._order.table)):
            self._execute(statement)

    def _rename(self, receipts: ReceiptTable | None) -> None:
        key, final = self._order.receipt, self._staging.final
        try:
            if self._live:
                keep_counter(self._execute, self._dialect, self._live.name, final)
            if self._guard:
                self._guard.require()
            old = begin_in_place(self._dialect, final, self._name, self.previous, replaces=self._live is not None)
            self._replace(old)
        except (MySQLdb.Error, UltravectError) as error:
            lost = isinstance(error, MySQLdb.Error) and error.args[0] in LOST
            if receipts is not None and key is not None and not lost:
                with suppress(MySQLdb.Error):
                    self._execute(receipts.withdraw(key, final.name))
                    if self._order.marks:
                        self._execute(MarkTable(self._dialect, self._name).withdraw(key.run))
                    self._execute("COMMIT")
            raise
        try:
            if self._live and not self.previous:
                self._execute(f"DROP TABLE {self._dialect.table(aside(final))}")
            if receipts is not None and key is not None:
                self._execute(receipts.settle(key))
            for statement in self._order.after:
                self._execute(statement)
            self._execute("COMMIT")
        except MySQLdb.Error as error:
            failure = translate(
                error, self._connection, f"ending the load into {self._name}, whose rows are committed"
            )
            failure.outcome = "committed"
            raise failure from None

    def _replace(self, statement: str) -> None:
        """Renames; others who wait to write go on with the new table."""
        if self._guard is None:
            self._execute(statement)
        else:
            self._guard.let_pass(self._session, statement, self._order)

    def verify(self) -> Verified:
        how = "in the load's own transaction, just before its commit, as the table's growth in its snapshot"
        if self._staging.renamed:
            how = "before the new table took its place, while no other session knew it"
        if self._order.counts_all:
            self._after = self._count()
        return Verified(self._after, self._of_load, how if self._after is not None else BY_STATEMENTS)
