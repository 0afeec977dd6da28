"""What sessions of databases share: each step of a load in the SQL that most databases understand. A kind replaces those where its own differs."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from typing import Any

import pyarrow as pa

from ultravect.core.contracts.changes import RowChange
from ultravect.core.contracts.ledger import Entry
from ultravect.core.contracts.write_plan import COUNTED_ROWS, Attempt
from ultravect.core.contracts.write_session import (
    STAGED,
    Counts,
    Isolated,
    Matches,
    RowsRefused,
    StagedRowsSession,
    Statements,
    Verified,
)
from ultravect.core.dialects.base import Dialect, TableName
from ultravect.core.dialects.merge import ROW, MergeStatements
from ultravect.core.loading.counting import BY_STATEMENTS, count_of_few, known_count
from ultravect.core.loading.refusals import previous_name, require_empty
from ultravect.core.loading.row_changes import updates
from ultravect.core.loading.sql_ledger import LedgerTables

SAVEPOINT = "ultravect_chunk"


class SqlSession(ABC):
    """See ``WriteSession``: of a database in which a transaction holds all that a load does, definitions too.

    A kind gives at least ``execute``, ``write``, ``end_rows`` and ``is_taken``; ``refusal`` where a load can go on after a row was refused.
    """

    staged_table = STAGED
    matched_table = "ultravect_matched"
    """Temporary tables, their names quoted."""

    prepares_late = False
    counts_late = False
    strategy = ""
    written: Sequence[str] = ()
    incomparable: frozenset[str] = frozenset()
    is_shared = False
    """Whether it is one of several loads of a transaction, which who has opened it ends; ``is_first``: of those, the first."""

    is_first = True

    def __init__(
        self, dialect: Dialect, attempt: Attempt, statements: Statements, home: TableName | None = None
    ) -> None:
        """``home``: the table with its schema, where the plan does not name it."""
        self.dialect, self.attempt, self.plan, self.statements = dialect, attempt, attempt.plan, statements
        self.home = home or attempt.plan.table
        self.table = self.final = dialect.table(self.home)
        self.stages = attempt.staged
        self.ledger = LedgerTables(dialect, self.home)
        self._of_load = 0
        self._after: int | None = None

    # what a kind says

    @abstractmethod
    def execute(self, statement: str) -> Sequence[Any] | None:
        """Runs a statement; the first row of its answer, where it has one."""

    @abstractmethod
    def write(self, batch: pa.RecordBatch) -> None:
        """See ``WriteSession``: into ``into``."""

    @abstractmethod
    def end_rows(self) -> int:
        """See ``WriteSession``."""

    @abstractmethod
    def is_taken(self, error: Exception) -> bool:
        """Whether a statement failed because its key is there already."""

    def refusal(self, error: Exception) -> str | None:
        """The reason why a row was refused, when ``error`` is of that kind and the load can go on after it."""
        return None

    # before rows

    @property
    def staged(self) -> StagedRowsSession | None:
        return self if self.stages else None

    @property
    def into(self) -> str:
        """What rows are written into, quoted."""
        return self.staged_table if self.stages else self.final

    def begin(self) -> None:
        self.begin_transaction("BEGIN TRANSACTION")

    def begin_transaction(self, statement: str) -> None:
        if self.is_first:
            self.execute(statement)

    def run(self, statements: Sequence[str]) -> None:
        self._execute_all(statements)

    def _execute_all(self, statements: Sequence[str]) -> None:
        for statement in statements:
            self.execute(statement)

    def lock(self) -> None:
        """``begin`` keeps others away."""

    def hold(self) -> None:
        """``begin`` keeps others away."""

    def rows(self, *, exact: bool) -> int | None:
        if exact:
            row = self.execute(f"SELECT count(*) FROM {self.table}")
            return int(row[0]) if row else 0
        return known_count(self.statements.rows(count_of_few(self.dialect, self.table))[0])

    def require_empty(self, rows: int | None) -> None:
        require_empty(self.plan, rows)

    def keep_previous(self) -> str:
        name = previous_name()
        kept = self.dialect.table(TableName(self.home.schema, name))
        self.execute(self.dialect.copied_table(kept, f"SELECT * FROM {self.table}"))
        return name

    def define(self) -> None:
        plan = self.plan
        if plan.rebuild:
            self.execute(f"DROP TABLE {self.table}")
        if plan.create is not None:
            self._execute_all(self.dialect.create_table(plan.table, plan.create))
        self._execute_all(self.dialect.alter_table(plan.table, plan.changes))

    def remove_old(self) -> int | None:
        where = self.plan.replaces.where if self.plan.replaces is not None else ""
        return self.statements.changed(f"DELETE FROM {self.final}" + (f" WHERE {where}" if where else ""))

    def stage(self) -> None:
        if self.stages:
            self.make_stage()

    def make_stage(self) -> None:
        """Makes the temporary table of staged rows."""
        names = ", ".join(self.dialect.quote(column.name) for column in self.plan.columns)
        self.execute(
            f"CREATE TEMPORARY TABLE {STAGED} AS SELECT {names}, CAST(0 AS BIGINT) AS {ROW} FROM {self.table} LIMIT 0"
        )

    def settle(self) -> None:
        """The table is as it has to be already."""

    # from the stage into the table

    def find_matches(self, merge: MergeStatements) -> Matches:
        """By one join, whose result is kept: the table has no index on its keys, perhaps."""
        found = f"SELECT s.{ROW} AS staged FROM {merge.staged} s JOIN {merge.table} t ON {merge.matched}"
        self.execute(self.dialect.copied_table(self.matched_table, found, temporary=True))
        return Matches(f"SELECT 1 FROM {self.matched_table} m WHERE m.staged = s.{ROW}")

    def upsert(self, merge: MergeStatements, left: int, repeated: int, samples: list[RowChange]) -> Counts | None:
        return None

    def update(self, merge: MergeStatements) -> str | None:
        return merge.update()

    def sample_updates(self, merge: MergeStatements) -> Sequence[RowChange]:
        return updates(merge, self.statements.rows, self.plan.samples) if self.plan.samples else ()

    def isolate(self, merge: MergeStatements, rows: int, tolerated: int, known: str) -> Isolated | None:
        return None

    @contextmanager
    def chunk(self) -> Iterator[None]:
        self.set_savepoint()
        try:
            yield
        except Exception as error:
            reason = self.refusal(error)
            if reason is None:
                raise
            self.undo_to_savepoint()
            raise RowsRefused(reason) from None
        self.drop_savepoint()

    def set_savepoint(self) -> None:
        self.execute(f"SAVEPOINT {SAVEPOINT}")

    def undo_to_savepoint(self) -> None:
        self.execute(f"ROLLBACK TO SAVEPOINT {SAVEPOINT}")

    def drop_savepoint(self) -> None:
        self.execute(f"RELEASE SAVEPOINT {SAVEPOINT}")

    def apart(self, statement: str) -> int:
        return self.statements.changed(statement)

    def seal(self, rows_before: int | None, counts: Counts) -> None:
        """By the table's growth, where it is small or was to be counted."""
        self._of_load, self._after = counts.inserted + counts.updated, None
        removed = rows_before if counts.removed is None else counts.removed
        if rows_before is None or removed is None:
            return
        if self.plan.counts_all or rows_before - removed + counts.inserted <= COUNTED_ROWS:
            self._after = self.rows(exact=self.plan.counts_all)
        if self._after is not None:
            self._of_load = self._after - rows_before + removed + counts.updated

    # the end

    def swap(self) -> None:
        """``define`` has made the table in its place."""

    def run_after(self, statements: Sequence[str]) -> None:
        self.run(statements)

    def drop_stage(self) -> None:
        """Drops temporary tables, so that the next load of the session can make its own."""
        if self.stages:
            self.execute(f"DROP TABLE {self.staged_table}")
            self.execute(f"DROP TABLE IF EXISTS {self.matched_table}")

    def commit(self, entry: Entry) -> None:
        self.drop_stage()
        self.record(entry)
        if not self.is_shared:
            self.end_transaction()

    def record(self, entry: Entry) -> None:
        """Leaves receipt and marks in the transaction of the rows."""
        if entry.receipt is not None and entry.receipt.previous:
            self.ledger.drop_earlier(self.statements, entry.receipt)
        self.ledger.record(self.plan, self.statements, entry, self.is_taken)

    def end_transaction(self) -> None:
        """Commits; UltravectError ``outcome-unknown`` where the session is lost meanwhile."""
        self.execute("COMMIT")

    @property
    def alone(self) -> bool:
        """Whether no other session could write to the table since its rows were counted first."""
        return True

    def verify(self, counts: Counts) -> Verified:
        if self._after is None:
            return Verified(None, self._of_load, BY_STATEMENTS)
        others = "no other session could write meanwhile" if self.alone else "other sessions could write meanwhile"
        how = f"in the load's own transaction, just before its commit, as the table's growth: {others}"
        return Verified(self._after, self._of_load, how, sure=self.alone)


class InsertingSession(SqlSession):
    """A session that inserts rows as they come, and makes the tables of the ledger in the load's transaction. A kind gives ``insert`` and ``has``."""

    _taken = 0

    @abstractmethod
    def insert(self, batch: pa.RecordBatch) -> int:
        """Inserts rows into ``into``; how many the database says it took."""

    @abstractmethod
    def has(self, table: TableName) -> bool:
        """Whether there is a table of this name."""

    def write(self, batch: pa.RecordBatch) -> None:
        self._taken += self.insert(batch)

    def end_rows(self) -> int:
        return self._taken

    def commit(self, entry: Entry) -> None:
        for table in self.ledger.needed(self.plan, entry.key):
            if not self.has(table.name):
                self.execute(table.create())
        super().commit(entry)
