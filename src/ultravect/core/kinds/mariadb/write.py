"""Writes rows into a MariaDB or MySQL table, in one transaction.

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

import threading
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, suppress
from typing import Any

import MySQLdb
import pyarrow as pa

from ultravect.core.contracts.catalogue import LiveTable
from ultravect.core.contracts.ledger import Entry
from ultravect.core.contracts.write_plan import COUNTED_ROWS, Attempt
from ultravect.core.contracts.write_session import DELETE_AND_INSERT, Counts, Matches, Verified
from ultravect.core.dialects.base import Dialect, TableName
from ultravect.core.dialects.merge import ROW, MergeStatements
from ultravect.core.errors import UltravectError
from ultravect.core.kinds.mariadb.session import LOST, REFUSED, SessionStatements, translate
from ultravect.core.kinds.mariadb.staging import (
    Staging,
    aside,
    begin_in_place,
    clear_leftovers,
    first_row,
    keep_counter,
    make_staging,
    may_swap,
    require_tables,
)
from ultravect.core.kinds.mariadb.table_guard import TableGuard
from ultravect.core.kinds.mariadb.transfer import Transfer, transfer
from ultravect.core.loading.counting import BY_STATEMENTS
from ultravect.core.loading.refusals import doing_of, previous_name, waiting_message
from ultravect.core.loading.sql_ledger import LedgerTables
from ultravect.core.loading.sql_session import SqlSession

_MOMENT_SECONDS = 0.5  # what takes longer, on a table that is there, waits for someone
VERSIONED = (
    "SELECT 1 FROM information_schema.tables WHERE table_schema = {schema} AND table_name = {table} "
    "AND table_type = 'SYSTEM VERSIONED'"
)


class MariadbSession(SqlSession):
    """See ``WriteSession``. ``live`` is the table that is there, ``schema`` that of staging, "" for the target's own; ``stage`` begins the names
    of staging, ``sending``: see ``file_settings``; ``another`` opens a second session."""

    def __init__(
        self,
        session: Any,
        connection: str,
        dialect: Dialect,
        attempt: Attempt,
        live: LiveTable | None,
        schema: str,
        stage: str,
        sending: tuple[bool, int],
        another: Callable[[], Any],
    ) -> None:
        super().__init__(dialect, attempt, SessionStatements(session), live.name if live else None)
        self._session, self._connection, self._live = session, connection, live
        self._schema, self._stage, self._sending, self._another = schema, stage, sending, another
        self._guard: TableGuard | None = None
        self._staging = Staging(self.home, self.home, self.home)
        self._transfer: Transfer | None = None
        self._is_renamed = False
        replaces = attempt.plan.replaces
        keeps = replaces is not None and replaces.keep_previous and live is not None
        self._previous = previous_name() if keeps else ""

    def begin(self) -> None:
        """With what cannot be part of a transaction: tables next to the target, and the lock of a table that is to be replaced."""
        plan, dialect, live, execute = self.plan, self.dialect, self._live, self.execute
        if self.is_shared:
            # of the session alone: other tables cannot be made within a transaction
            self._use(
                make_staging(execute, dialect, self.attempt, live, "", self._stage, swaps=False, temporary=True)
            )
            self.begin_transaction("START TRANSACTION")
            return
        seen = clear_leftovers(self._session, dialect, self.ledger.receipts, self._schema)
        needed = self.ledger.needed(plan, self.attempt.key)
        if (self._schema or None) == self.home.schema:
            needed = [table for table in needed if table.name.name not in seen]
        require_tables(execute, self._connection, needed)
        swaps = may_swap(execute, dialect, plan, live)
        if live is not None and (swaps or plan.rebuild):
            if plan.rebuild:
                _require_no_history(execute, self._connection, dialect, live.name)
            with self._notifying():
                self._guard = TableGuard.of(self._another, dialect, live.name)
            if self._guard is None and plan.rebuild:
                raise _no_guard(self._connection, live.name)
        with self._notifying():
            # the first statements that have to wait for one who has locked the table
            staging = make_staging(
                execute,
                dialect,
                self.attempt,
                live,
                self._schema,
                self._stage,
                swaps=swaps and self._guard is not None,
            )
            if live is not None and staging.rows == live.name:
                execute(f"SELECT 1 FROM {dialect.table(live.name)} LIMIT 0")
        self._use(staging)
        self.prepares_late = bool(plan.changes) and not staging.renamed
        wanted_swap = plan.replaces is not None and plan.replaces.how == "swap"
        if wanted_swap and live and not self.attempt.staged and not staging.renamed:
            self.strategy = DELETE_AND_INSERT
        self.execute("START TRANSACTION")

    def _use(self, staging: Staging) -> None:
        self._staging = staging
        self.final, self.staged_table = self.dialect.table(staging.final), self.dialect.table(staging.rows)
        self.stages = staging.merged

    @contextmanager
    def _notifying(self) -> Iterator[None]:
        """Says that others are waited for, where what runs within takes long."""
        timer = threading.Timer(_MOMENT_SECONDS, self.attempt.notify, [waiting_message(self.plan)])
        timer.start()
        try:
            yield
        finally:
            timer.cancel()

    def execute(self, statement: str) -> tuple[Any, ...] | None:
        return first_row(self._session, statement)

    def keep_previous(self) -> str:
        return self._previous

    def define(self) -> None:
        """``begin`` has done it."""

    def remove_old(self) -> int | None:
        # of a table that is renamed, the other one is empty
        return None if self._staging.renamed else super().remove_old()

    def stage(self) -> None:
        columns = self._live.columns if self._live else ()
        self._transfer = transfer(
            self._session, self.dialect, self.staged_table, self.attempt.sent, columns, self._sending
        )

    def write(self, batch: pa.RecordBatch) -> None:
        assert self._transfer is not None, "it is opened before rows come"
        self._transfer.write(batch)

    def end_rows(self) -> int:
        assert self._transfer is not None, "it is opened before rows come"
        self._transfer.close()
        loaded = self._transfer.loaded()
        warning = self.execute("SHOW WARNINGS LIMIT 1") if self._session.warning_count() else None
        if warning is not None:
            raise UltravectError(
                "value-refused",
                f"connection {self._connection}: {self.home} does not take a value as it is: {warning[2]}; nothing was written",
                hint="give the column a type that fits, in the job or in the table",
                connection=self._connection,
                table=str(self.home),
            )
        return loaded

    def settle(self) -> None:
        if self.prepares_late:
            self.execute("COMMIT")  # of the staged rows, before what commits by itself
            self._execute_all(self.dialect.alter_table(self.home, self.plan.changes))
            self.execute("START TRANSACTION")

    def find_matches(self, merge: MergeStatements) -> Matches:
        if self._staging.matched is None:
            return Matches(pairs=0)
        matched = self.dialect.table(self._staging.matched)
        pairs = self.statements.changed(
            f"INSERT INTO {matched} SELECT s.{ROW} FROM {merge.staged} s JOIN {merge.table} t ON {merge.matched}"
        )
        return Matches(f"SELECT 1 FROM {matched} m WHERE m.staged = s.{ROW}", pairs)

    def refusal(self, error: Exception) -> str | None:
        return str(error.args[-1]) if isinstance(error, MySQLdb.Error) and error.args[0] in REFUSED else None

    def is_taken(self, error: Exception) -> bool:
        return isinstance(error, MySQLdb.IntegrityError)

    def seal(self, rows_before: int | None, counts: Counts) -> None:
        if not self._staging.renamed:
            # in the snapshot of this transaction no one else's rows can be counted
            super().seal(rows_before, counts)
            return
        few = self.plan.counts_all or counts.inserted <= COUNTED_ROWS
        row = self.execute(f"SELECT count(*) FROM {self.final}") if few else None
        found = counts.inserted if row is None else int(row[0])
        self._of_load = counts.inserted + counts.updated if row is None else found
        self._after = found

    def run_after(self, statements: Sequence[str]) -> None:
        if not self._staging.renamed:
            self.run(statements)

    def commit(self, entry: Entry) -> None:
        pending = self._staging.final.name if self._staging.renamed else ""
        self.ledger.record(self.plan, self.statements, entry, self.is_taken, pending=pending)
        if self.is_shared:
            return
        self.end_transaction()
        if self._staging.renamed:
            self._rename(entry)
            self._is_renamed = True
        if self._previous:
            self._settle_previous(entry)

    def end_transaction(self) -> None:
        try:
            self.execute("COMMIT")
        except MySQLdb.OperationalError as error:
            if error.args[0] not in LOST:
                raise
            raise UltravectError(
                "outcome-unknown",
                f"connection {self._connection}: the connection was lost while committing the load into {self.home}: {error.args[-1]}",
                hint="look at the table whether the rows are there, before running again",
                connection=self._connection,
            ) from error

    def _settle_previous(self, entry: Entry) -> None:
        """Gives what was replaced its name, and drops what earlier loads kept."""
        if self._staging.kept:
            kept = self.dialect.table(self._staging.kept)
            named = self.dialect.table(TableName(self.home.schema, self._previous))
            self.execute(f"RENAME TABLE {kept} TO {named}")
        if entry.receipt is not None:
            self.ledger.drop_earlier(self.statements, entry.receipt)

    def _rename(self, entry: Entry) -> None:
        final = self._staging.final
        key = entry.key if entry.receipt is not None else None
        try:
            if self._live:
                keep_counter(self.execute, self.dialect, self._live.name, final)
            if self._guard:
                self._guard.require()
            replaces = self._live is not None
            self._replace(begin_in_place(self.dialect, final, self.home, self._previous, replaces=replaces))
        except (MySQLdb.Error, UltravectError) as error:
            lost = isinstance(error, MySQLdb.Error) and error.args[0] in LOST
            if key is not None and not lost:
                with suppress(MySQLdb.Error):
                    self.execute(self.ledger.receipts.withdraw(key, final.name))
                    if self.plan.marks:
                        self.execute(self.ledger.marks.withdraw(key.run))
                    self.execute("COMMIT")
            raise
        try:
            if self._live and not self._previous:
                self.execute(f"DROP TABLE {self.dialect.table(aside(final))}")
            if key is not None:
                # the renaming has ended the transaction
                self.execute(self.ledger.receipts.settle(key))
            if self.plan.after:
                self.run(self.plan.after)
                self.execute("COMMIT")
        except MySQLdb.Error as error:
            failure = translate(
                error, self._connection, f"ending the load into {self.home}, whose rows are committed"
            )
            failure.outcome = "committed"
            raise failure from None

    def _replace(self, statement: str) -> None:
        """Renames; others who wait to write go on with the new table."""
        if self._guard is None:
            self.execute(statement)
        else:
            self._guard.let_pass(self._session, statement, self.plan)

    def verify(self, counts: Counts) -> Verified:
        how = "in the load's own transaction, just before its commit, as the table's growth in its snapshot"
        if self._staging.renamed:
            how = "before the new table took its place, while no other session knew it"
        after = self.rows(exact=True) if self.plan.counts_all else self._after
        return Verified(after, self._of_load, how if after is not None else BY_STATEMENTS)

    def close(self) -> None:
        """Ends the stream of rows, waits for its statement, and removes what is next to the table."""
        if self._transfer is not None:
            self._transfer.close()
        if self._guard:
            self._guard.close()
        staging = self._staging
        if self.is_shared:
            with suppress(MySQLdb.Error):
                for table in {staging.rows, staging.matched or self.home} - {self.home}:
                    self.execute(f"DROP TEMPORARY TABLE IF EXISTS {self.dialect.table(table)}")
            return
        left = {staging.final, staging.rows, staging.matched or self.home, staging.kept or self.home} - {self.home}
        left -= {staging.final} if self._is_renamed else set()
        with suppress(MySQLdb.Error):
            self._session.rollback()
            if left:
                self.execute(f"DROP TABLE IF EXISTS {', '.join(map(self.dialect.table, left))}")
        self._session.close()


def require_ledger(session: Any, connection: str, dialect: Dialect, attempts: Sequence[Attempt]) -> None:
    """The tables of the ledger that loads in one transaction need."""
    for attempt in attempts:
        needed = LedgerTables(dialect, attempt.plan.table).needed(attempt.plan, attempt.key)
        require_tables(lambda statement: first_row(session, statement), connection, needed)


@contextmanager
def open_session(
    session: Any,
    connection: str,
    dialect: Dialect,
    attempt: Attempt,
    live: LiveTable | None,
    schema: str,
    stage: str,
    sending: tuple[bool, int],
    another: Callable[[], Any],
) -> Iterator[MariadbSession]:
    """See ``Target.write``."""
    opened = MariadbSession(session, connection, dialect, attempt, live, schema, stage, sending, another)
    try:
        yield opened
    except MySQLdb.Error as error:
        raise translate(error, connection, doing_of(attempt)) from None
    finally:
        opened.close()


def _require_no_history(execute: Callable[[str], Any], connection: str, dialect: Dialect, table: TableName) -> None:
    schema = dialect.literal(table.schema) if table.schema else "DATABASE()"
    if execute(VERSIONED.format(schema=schema, table=dialect.literal(table.name))) is not None:
        raise UltravectError(
            "history-would-be-lost",
            f"connection {connection}: {table} keeps the history of its rows, which a rebuild would throw away; nothing was written",
            hint="write into.if_different: widen, or take the history off the table first",
            connection=connection,
            table=str(table),
        )


def _no_guard(connection: str, table: TableName) -> UltravectError:
    return UltravectError(
        "privilege-missing",
        f"connection {connection}: {table} cannot be rebuilt: its user may not keep other writers away from it meanwhile; "
        "nothing was written",
        hint="have LOCK TABLES on the database granted",
        connection=connection,
        table=str(table),
    )
