"""Writes rows into a PostgreSQL table by COPY, in one transaction.

Rows copied in a transaction are invisible to others until it commits, and a lost session undoes them: append copies
straight into the table. Overwrite copies into another table that takes its place (see ``table_swap``), or after a DELETE of
what is there: readers see the old rows until the commit, while a TRUNCATE makes them wait. The price of deleting is
dead space, which vacuum takes back. Rows that are matched by keys, or that need a larger table first, stand in a
temporary table until the end, so that the lock that stops other writers is short.

The rows of the load are counted apart from all others by the transaction that wrote them. So whatever else the load's transaction
does to its table (statements of ``before`` and ``after``, the rewriting of a column whose type grows) is done below a
savepoint, which gives the rows that it writes another transaction number.
"""

from __future__ import annotations

import secrets
from collections.abc import Iterator, Mapping, Sequence
from contextlib import closing, contextmanager
from dataclasses import replace
from typing import Any

import psycopg
import pyarrow as pa

from ultravect.core.contracts.catalogue import LiveTable
from ultravect.core.contracts.changes import RowChange
from ultravect.core.contracts.ledger import Entry
from ultravect.core.contracts.write_plan import COUNTED_ROWS, Attempt
from ultravect.core.contracts.write_session import (
    DELETE_AND_INSERT,
    STAGED,
    SWAP,
    Counts,
    Isolated,
    Matches,
    Verified,
)
from ultravect.core.dialects.base import Dialect, TableName
from ultravect.core.dialects.merge import ROW, MergeStatements
from ultravect.core.errors import UltravectError
from ultravect.core.kinds.postgresql.catalogue import Session, SessionStatements, find_table
from ultravect.core.kinds.postgresql.copy_in import CopyIn
from ultravect.core.kinds.postgresql.ledger import require_tables
from ultravect.core.kinds.postgresql.locks import end_holders, holders, try_lock
from ultravect.core.kinds.postgresql.refused_rows import write_in_chunks
from ultravect.core.kinds.postgresql.session import explained, translate
from ultravect.core.kinds.postgresql.table_swap import LARGE_ROWS, ShadowTable, replace_table, take_name
from ultravect.core.loading.counting import BY_STATEMENTS, count_of_few, known_count
from ultravect.core.loading.questions import table_gone
from ultravect.core.loading.refusals import doing_of, table_changed, waiting_message
from ultravect.core.loading.row_changes import paired, updates
from ultravect.core.loading.sql_ledger import LedgerTables
from ultravect.core.loading.sql_session import SqlSession
from ultravect.core.words import counted

_MATCHED = "ultravect_matched"
_SAMPLED_ROWS = 5000
# a load whose process is gone is given up while it waits for a lock, too; servers before version 14 do not know this
_PREPARED = """
SELECT h.schema, ARRAY(SELECT n FROM unnest(%(ledger)s::text[]) n WHERE to_regclass(format('%%I.%%I', h.schema, n)) IS NULL),
  set_config('lock_timeout', %(wait)s, false), set_config('work_mem', '128MB', false),
  (SELECT set_config(name, '2s', false) FROM pg_settings WHERE name = 'client_connection_check_interval')
FROM (SELECT coalesce(%(schema)s::text, (SELECT n.nspname FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
        WHERE c.oid = to_regclass(%(table)s)), current_schema()) AS schema) h
"""
_BEGUN = """
SELECT pg_current_xact_id()::text, c.relkind = 'r', c.relhasrules
  OR EXISTS (SELECT 1 FROM pg_trigger g WHERE g.tgrelid = c.oid AND NOT g.tgisinternal){rows}
FROM (SELECT to_regclass(%s) AS oid) t LEFT JOIN pg_class c ON c.oid = t.oid
"""
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


class PostgresqlSession(SqlSession):
    """See ``WriteSession``. ``alone``: publishing commits; ``binary``: whether rows can be sent in the binary form; ``staging``: the schema of
    tables that take the place of others, "" for their own."""

    counts_late = True
    matched_table = _MATCHED

    def __init__(
        self,
        session: Session,
        connection: str,
        dialect: Dialect,
        attempt: Attempt,
        staging: str,
        home: TableName,
        *,
        alone: bool = True,
        binary: bool = True,
    ) -> None:
        super().__init__(dialect, attempt, SessionStatements(session), home)
        self._session, self._connection, self._staging = session, connection, staging
        self._alone, self._binary = alone, binary
        plan, stage = attempt.plan, attempt.stage
        self._filled = stage.table if stage is not None and stage.becomes_target else None
        self._slices = stage.table if stage is not None else None
        self.stages = attempt.staged or bool(plan.changes) or (stage is not None and not stage.becomes_target)
        if stage is not None:
            self.staged_table = dialect.table(stage.table)
        self._shadow: ShadowTable | None = None
        self._copy: CopyIn | None = None
        self._live: LiveTable | None = None
        self._rows_before: int | None = 0
        self._locked_rows: Sequence[Any] | None = (
            None  # of the first count, which is one with the lock's own question
        )
        self._emptied = self._held = self._whole = self._has_triggers = False
        self._counts = Counts(0)
        self._counted: int | None = None
        self._chunks: Sequence[str] = ()
        self._transaction = "0"
        self._final_name = self.home

    # before rows

    def begin(self) -> None:
        """The session was prepared when it was opened, and its first statement begins the transaction."""

    def run(self, statements: Sequence[str]) -> None:
        """Below a savepoint: see above."""
        if statements:
            self.execute("SAVEPOINT ultravect_apart")
            self._execute_all(statements)
            self.execute("RELEASE SAVEPOINT ultravect_apart")

    def execute(self, statement: str) -> Sequence[Any] | None:
        cursor = self._session.execute(statement.encode())
        return cursor.fetchone() if cursor.description else None

    def lock(self) -> None:
        """Takes the lock that the load needs from its beginning, and says so where that has to be waited for."""
        plan = self.plan
        if not plan.is_new:
            self._live = self._found(self.home)
            if self._live.kind == "table":
                early = plan.replaces is not None and not self.attempt.staged
                mode = "SHARE ROW EXCLUSIVE" if early or plan.lock_table else "ROW EXCLUSIVE"
                if early and plan.clears is not None and plan.clears.how == "truncate":
                    mode = "ACCESS EXCLUSIVE"
                if not try_lock(self._session, self.table, mode, plan.lock_seconds):
                    self.attempt.notify(waiting_message(plan, holders(self._session, self.table)))
                    self.execute(f"LOCK TABLE {self.table} IN {mode} MODE")
                self._held = mode != "ROW EXCLUSIVE"
        counts = not plan.is_new and not plan.counts_all
        asked = _BEGUN.replace("{rows}", f", ({count_of_few(self.dialect, self.table)})" if counts else "")
        row = self._session.execute(asked.encode(), (self.table,)).fetchone()
        assert row is not None, "one row was asked for"
        self._transaction, self._whole, self._has_triggers = str(row[0]), bool(row[1]), bool(row[2])
        self._locked_rows = row[3:] or None

    def hold(self) -> None:
        if not self._held:
            self.execute(f"LOCK TABLE {self.table} IN SHARE ROW EXCLUSIVE MODE")
            self._held = True

    def rows(self, *, exact: bool) -> int | None:
        locked, self._locked_rows = self._locked_rows, None
        self._rows_before = super().rows(exact=exact) if exact or locked is None else known_count(locked)
        return self._rows_before

    def define(self) -> None:
        plan, dialect = self.plan, self.dialect
        if plan.create is None:
            if self._filled is not None:
                # the table was empty when slices began to fill another one like it
                assert self._live is not None, "it was locked"
                self._shadow = ShadowTable.of(self._session, dialect, self._live, self._filled, analyzed=False)
                if self._shadow is None:
                    raise table_changed(plan)
                self.strategy = SWAP
            return
        if plan.rebuild:
            name = self._filled or TableName(self._place, f"ultravect_stage_{secrets.token_hex(6)}")
            if self._filled is None:
                self._execute_all(dialect.create_table(name, plan.create))
            self._final_name = name
            self.final = dialect.table(name)
            return
        if self._filled is not None:
            take_name(self._session, dialect, self._filled, self.home, plan.create)
        else:
            self._execute_all(dialect.create_table(self.home, plan.create))
        self._live = self._found(self.home)

    @property
    def _place(self) -> str | None:
        """The schema of tables that take the place of others."""
        return self._staging or self.home.schema

    def remove_old(self) -> int | None:
        replaces = self.plan.replaces
        assert replaces is not None, "only an overwrite removes rows"
        if self._shadow is not None:
            return None  # the one that slices have filled takes the table's place
        if not self.stages:
            self._shadow = self._shadow_table()
            if self._shadow is not None:
                return None
            if replaces.how == "swap":
                self.strategy = DELETE_AND_INSERT
        if replaces.how == "truncate":
            self._emptied = self._rows_before != 0
            self.execute(f"TRUNCATE {self.table}")
            return self._rows_before
        return super().remove_old()

    def _shadow_table(self) -> ShadowTable | None:
        """The table that takes this one's place, where that is quicker than deleting its rows and as good."""
        plan, replaces = self.plan, self.plan.replaces
        assert replaces is not None and self._live is not None, "it was locked"
        if replaces.how != "swap" or replaces.keep_previous or plan.after or not self._is_large():
            return None
        return ShadowTable.create(self._session, self.dialect, self._live, self._place)

    def _is_large(self) -> bool:
        if self._rows_before is not None:
            return self._rows_before >= LARGE_ROWS
        return self.execute(f"SELECT 1 FROM {self.table} OFFSET {LARGE_ROWS - 1} LIMIT 1") is not None

    def stage(self) -> None:
        if self._slices is not None:
            # one that slices have filled as a new table has its name by now
            self._into = self._found(self.home if self._filled is not None and self.plan.is_new else self._slices)
            return
        if self.stages:
            self.make_stage()
            into = self._found(TableName("pg_temp", STAGED))
        elif self._shadow is not None:
            into = self._shadow.table
        elif self.plan.rebuild:
            into = self._found(self._final_name)
        else:
            assert self._live is not None, "it was locked, or made"
            into = self._live
        self._into = into
        freeze = self._shadow is not None or (self._emptied and not self.stages and self._whole)
        self._copy = CopyIn(self._session, self.dialect, into, self.attempt.sent, freeze=freeze, binary=self._binary)

    def make_stage(self) -> None:
        staged = staging_query(self.dialect, self.attempt, self._final_name if self.plan.rebuild else self.home)
        self.execute(f"CREATE TEMPORARY TABLE {STAGED} ON COMMIT DROP AS {staged}")

    def _found(self, name: TableName) -> LiveTable:
        table = find_table(self._session, self.dialect, name, whole=False)
        if table is None:
            raise table_gone(self._connection, name)
        return table

    def write(self, batch: pa.RecordBatch) -> None:
        assert self._copy is not None, "rows that slices have staged are not written again"
        self._copy.write(batch)

    def end_rows(self) -> int:
        taken = self._copy.end() if self._copy is not None else self._count_in(self._into.name)
        if self._shadow is not None:
            self._shadow.filled()
        if self._filled is not None:
            # the transactions of the slices wrote them
            self._counted = taken
        return taken

    def _count_in(self, name: TableName) -> int:
        row = self.execute(f"SELECT count(*) FROM {self.dialect.table(name)}")
        return int(row[0]) if row else 0

    # from the stage into the table

    def settle(self) -> None:
        if not self.stages:
            return
        plan = self.plan
        self.run(self.dialect.alter_table(self.home, plan.changes))
        live = self._live
        self.incomparable = frozenset(
            column.name for column in (live.columns if live is not None else ()) if column.base in _INCOMPARABLE
        )
        if plan.merges is not None or plan.removes is not None:
            if plan.merges is not None and plan.merges.gone is not None:
                self.hold()
            self._analyze(self.staged_table, [ROW, *plan.keys])

    def _analyze(self, table: str, columns: Sequence[str]) -> None:
        """Lets the planner know how many rows there are, and little else: that is quick."""
        named = ", ".join(self.dialect.quote(column) for column in columns)
        self.execute(f"SET LOCAL default_statistics_target = 10; ANALYZE {table} ({named})")

    def apart(self, statement: str) -> int:
        with self._session.transaction():  # a savepoint: see above
            return self.statements.changed(statement)

    def find_matches(self, merge: MergeStatements) -> Matches:
        """Their places in the table; refused rows are found by keys instead, which hold after a row has moved."""
        if self.attempt.isolates:
            return super().find_matches(merge)
        differs = merge.differs or "false"
        pairs = self.statements.changed(
            f"CREATE TEMPORARY TABLE {_MATCHED} ON COMMIT DROP AS SELECT s.{ROW} AS staged, t.tableoid AS part, "
            f"t.ctid AS place, ({differs}) AS changed FROM {merge.staged} s JOIN {merge.table} t ON {merge.matched}"
        )
        self._analyze(_MATCHED, ["staged", "changed"])
        return Matches(f"SELECT 1 FROM {_MATCHED} m WHERE m.staged = s.{ROW}", pairs)

    def sample_updates(self, merge: MergeStatements) -> Sequence[RowChange]:
        """From the places that were found already."""
        if self.attempt.isolates:
            return super().sample_updates(merge)
        wanted = self.plan.samples
        if not wanted or not merge.others:
            return ()
        names = [self.dialect.quote(name) for name in merge.columns]
        shown = ", ".join([*(f"t.{name}" for name in names), *(f"s.{name}" for name in names)])
        found = self.statements.rows(
            f"SELECT {shown} FROM (SELECT * FROM {_MATCHED} WHERE changed LIMIT {wanted}) m "
            f"JOIN {merge.staged} s ON s.{ROW} = m.staged JOIN {merge.table} t ON t.tableoid = m.part AND t.ctid = m.place"
        )
        return paired(merge, found)

    def update(self, merge: MergeStatements) -> str | None:
        if not merge.others:
            return None
        staged = f"(SELECT s.*, m.part, m.place FROM {merge.staged} s JOIN {_MATCHED} m ON m.staged = s.{ROW} WHERE m.changed)"
        at_place = "t.tableoid = s.part AND t.ctid = s.place"
        return self.dialect.update_matched(merge.table, staged, at_place, merge.others, "true")

    def upsert(self, merge: MergeStatements, left: int, repeated: int, samples: list[RowChange]) -> Counts | None:
        """By the index that keeps keys apart; what is neither inserted nor updated was equal."""
        if not self._session.execute(_ONE_STATEMENT, (merge.table, sorted(self.plan.keys))).fetchone():
            return None
        if self.plan.samples:
            self.execute("SET LOCAL enable_hashjoin = off; SET LOCAL enable_mergejoin = off")
            samples += self._samples_by_index(merge, left)
            self.execute("SET LOCAL enable_hashjoin = on; SET LOCAL enable_mergejoin = on")
        # a row that was there has been locked before it was updated
        shown = self.execute(
            f"WITH written AS ({merge.insert_or_update()} RETURNING (xmax = 0) AS fresh) "
            "SELECT count(*) FILTER (WHERE fresh), count(*) FILTER (WHERE NOT fresh) FROM written"
        )
        inserted, updated = shown or (0, 0)
        return Counts(inserted, updated, left - inserted - updated, repeated)

    def _samples_by_index(self, merge: MergeStatements, staged: int) -> list[RowChange]:
        """From some pages of the staged rows, or from all if those have too little."""
        wanted, rows = self.plan.samples, self.statements.rows
        share = 100 * _SAMPLED_ROWS / max(staged, 1)
        found: list[RowChange] = []
        if share < 100:
            some = replace(merge, staged=f"(SELECT * FROM {merge.staged} TABLESAMPLE SYSTEM ({share:.4f}))")
            found = updates(some, rows, wanted)
        return found if len(found) >= wanted else updates(merge, rows, wanted)

    def isolate(self, merge: MergeStatements, rows: int, tolerated: int, known: str) -> Isolated:
        self.execute("SET CONSTRAINTS ALL IMMEDIATE")
        upsert = self.plan.merges is not None
        done, self._chunks = write_in_chunks(self._session, merge, rows, tolerated, upsert=upsert)
        return done

    # the end

    def seal(self, rows_before: int | None, counts: Counts) -> None:
        """Rows are counted when they are committed, by the transaction that wrote them."""
        self._rows_before, self._counts = rows_before, counts

    def swap(self) -> None:
        plan = self.plan
        if self.final != self.table:
            assert self._live is not None, "it was locked"
            replace_table(self._session, self.dialect, self._live, self._final_name)
        if self._shadow is None or self._shadow.take_place(plan.lock_seconds, of_empty=self._filled is not None):
            return
        if self._filled is not None:
            self.attempt.notify(f"{plan.table} is in use: rows are copied into it once more, which takes longer")
            self.strategy = ""
        else:
            self.strategy = DELETE_AND_INSERT
            self.attempt.notify(
                f"{plan.table} is being read: its old rows are deleted one by one, which takes longer"
            )

    def run_after(self, statements: Sequence[str]) -> None:
        if (statements or self._chunks) and self._counted is None and self._is_counted:
            # afterwards the rows could not be counted apart from those that the statements change, nor the parts be named
            numbers = self.dialect.literal("{" + ",".join([self._xmin, *self._chunks]) + "}")
            row = self.execute(f"SELECT count(*) FROM {self.table} WHERE xmin::text = ANY ({numbers}::text[])")
            self._counted = int(row[0]) if row else 0
        self.run(statements)

    @property
    def _xmin(self) -> str:
        """What ``xmin`` of a row of the load holds: the low 32 bits of the transaction's number."""
        return str(int(self._transaction) % 2**32)

    @property
    def _is_counted(self) -> bool:
        """Whether the rows of the table are counted afterwards: where that was asked for, or they are few."""
        if self.plan.counts_all:
            return True
        removed = self._rows_before if self._counts.removed is None else self._counts.removed
        if self._rows_before is None or removed is None:
            return False
        return self._rows_before - removed + self._counts.inserted <= COUNTED_ROWS

    def commit(self, entry: Entry) -> None:
        self.record(entry)
        if self._alone:
            commit(self._session, self._connection, f"the load into {self.plan.table}", self._transaction)
        else:
            # the next load has temporary tables of the same names
            self.execute(f"DROP TABLE IF EXISTS pg_temp.{STAGED}, pg_temp.{_MATCHED}")

    def is_taken(self, error: Exception) -> bool:
        return isinstance(error, psycopg.errors.UniqueViolation)

    def verify(self, counts: Counts) -> Verified:
        written = counts.inserted + counts.updated
        if not self._is_counted:
            return Verified(None, written, BY_STATEMENTS)
        own = f"count(*) FILTER (WHERE xmin = '{self._xmin}'::xid)" if self._counted is None else self._counted
        some = "" if self.plan.counts_all else f" LIMIT {COUNTED_ROWS + 1}"
        row = self.execute(f"SELECT count(*), {own} FROM (SELECT xmin FROM {self.table}{some}) few")
        self._session.commit()
        after, of_load = row or (0, 0)
        if not self.plan.counts_all and after > COUNTED_ROWS:
            return Verified(None, written, BY_STATEMENTS)  # others have written meanwhile
        how = "after the commit, by the transaction that wrote them"
        if self._filled is not None:
            how = "in the table that slices filled, before it took its place"
        elif self._counted is not None:
            how = "just before the commit, by the transactions that wrote them"
        # a trigger writes as the load does
        return Verified(int(after), int(of_load), how, sure=not self._has_triggers)

    def named(self, text: str) -> str:
        """What the server says, with the names of the target's own parts."""
        return self._shadow.named(text) if self._shadow else text


def staging_query(dialect: Dialect, attempt: Attempt, table: TableName) -> str:
    """A select without rows whose columns are those that rows are staged with, as ``table`` will have them."""
    changed = {change.column.name: change.column for change in attempt.plan.changes}
    parts = []
    for column in attempt.plan.columns:
        name = dialect.quote(column.name)
        if column.name in changed:
            native = dialect.from_canonical(changed[column.name].type).native
            parts.append(f"NULL::{native} AS {name}")
        else:
            parts.append(name)
    if attempt.staged:
        parts.append(f"0::bigint AS {ROW}")
    return f"SELECT {', '.join(parts)} FROM {dialect.table(table)} WITH NO DATA"


def prepare(session: Session, connection: str, dialect: Dialect, attempt: Attempt) -> TableName:
    """What comes before the transaction of a load; the table with its schema: where it is, or would be made."""
    plan, table = attempt.plan, attempt.plan.table
    ledger = LedgerTables(dialect, table)
    names = [needed.name.name for needed in ledger.needed(plan, attempt.key)]
    values = {
        "schema": table.schema,
        "table": dialect.table(table),
        "ledger": names,
        "wait": f"{int(plan.lock_seconds * 1000) or 1}ms",
    }
    row = session.execute(_PREPARED.encode(), values).fetchone()
    assert row is not None, "one row was asked for"
    home, missing = TableName(row[0], table.name), row[1]
    if attempt.stage is not None:
        # slices that were given up may still be writing into it
        end_holders(session, dialect.table(attempt.stage.table))
    session.commit()  # or settings would go with a table that another load was quicker to make
    if missing:
        require_tables(session, connection, dialect, LedgerTables(dialect, home).needed(plan, attempt.key))
        session.commit()
    return home


def commit(session: Session, connection: str, what: str, transaction: str) -> None:
    """Commits the transaction of loads."""
    try:
        session.commit()
    except psycopg.OperationalError as error:
        raise UltravectError(
            "outcome-unknown",
            f"connection {connection}: the connection was lost while committing {what}",
            hint=f"whether it took place is for the database to say: SELECT pg_xact_status('{transaction}')",
            connection=connection,
            transaction=transaction,
        ) from error


@contextmanager
def _explained(connection: str, attempt: Attempt, opened: PostgresqlSession) -> Iterator[PostgresqlSession]:
    try:
        yield opened
    except psycopg.Error as error:
        raise translate(error, connection, doing_of(attempt), opened.named) from None


@contextmanager
def open_session(
    session: Session,
    connection: str,
    dialect: Dialect,
    attempt: Attempt,
    staging: str = "",
    *,
    binary: bool = True,
) -> Iterator[PostgresqlSession]:
    """See ``Target.write``. Who has opened the session rolls back what was not published."""
    with explained(connection, doing_of(attempt)):
        home = prepare(session, connection, dialect, attempt)
        opened = PostgresqlSession(session, connection, dialect, attempt, staging, home, binary=binary)
        with _explained(connection, attempt, opened):
            yield opened


class PostgresqlTogether:
    """See ``LoadsTogether``: one load after the other, in one session."""

    def __init__(
        self, session: Session, connection: str, dialect: Dialect, staging: str, homes: Mapping[TableName, TableName]
    ) -> None:
        """``homes``: the tables with their schemas, by how plans call them."""
        self._session, self._connection, self._dialect, self._staging = session, connection, dialect, staging
        self._homes = homes
        self._what = f"the loads into {counted(len(homes), 'table')}"

    @contextmanager
    def write(self, attempt: Attempt) -> Iterator[PostgresqlSession]:
        with explained(self._connection, doing_of(attempt)):
            home = self._homes[attempt.plan.table]
            opened = PostgresqlSession(
                self._session, self._connection, self._dialect, attempt, self._staging, home, alone=False
            )
            with _explained(self._connection, attempt, opened):
                yield opened

    def commit(self) -> None:
        row = self._session.execute("SELECT pg_current_xact_id()::text").fetchone()
        commit(self._session, self._connection, self._what, row[0] if row else "")


@contextmanager
def together(
    session: Session, connection: str, dialect: Dialect, attempts: Sequence[Attempt], staging: str
) -> Iterator[PostgresqlTogether]:
    """See ``Target.together``."""
    with closing(session):
        with explained(connection, "preparing loads"):
            homes = {attempt.plan.table: prepare(session, connection, dialect, attempt) for attempt in attempts}
        yield PostgresqlTogether(session, connection, dialect, staging, homes)
