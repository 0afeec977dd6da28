"""Writes to SQL Server: rows by bulk load, all of it in one transaction."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from functools import cached_property
from typing import Any

import pyarrow as pa
import pytds

from ultravect.core.contracts.write_plan import Attempt
from ultravect.core.contracts.write_session import Matches
from ultravect.core.dialects.base import Dialect, TableName
from ultravect.core.dialects.merge import ROW, MergeStatements
from ultravect.core.errors import UltravectError
from ultravect.core.kinds.sqlserver.bulk import BulkLoad
from ultravect.core.kinds.sqlserver.catalogue import declared
from ultravect.core.kinds.sqlserver.refusals import ENDS_STATEMENT, LOCKED, TAKEN, is_lost, number_of, shown
from ultravect.core.kinds.sqlserver.session import Session
from ultravect.core.loading.refusals import column_gone, outcome_unknown, waiting_message
from ultravect.core.loading.sql_session import SAVEPOINT, InsertingSession

_STAGED, _MATCHED = "[#ultravect_staged]", "[#ultravect_matched]"
# longer keys have no index
_LONG = ("(max)", "text", "xml", "image")
_PAGES = ("char", "varchar", "text")
_SHORT_WAIT = 300  # milliseconds


_THERE_ALREADY = 2714


class SqlserverSession(InsertingSession):
    """See ``InsertingSession``. Other sessions can write to the table until it is locked, which a load does that looks at the rows there are."""

    staged_table, matched_table = _STAGED, _MATCHED

    def __init__(self, session: Session, connection: str, dialect: Dialect, attempt: Attempt) -> None:
        super().__init__(dialect, attempt, _KeepingNumbers(self, session))
        self._session, self._connection = session, connection
        self._locked = attempt.plan.create is not None
        self.counter = self._through_stage = False
        self._bulk: BulkLoad | None = None

    def begin(self) -> None:
        plan = self.plan
        for table in self.ledger.needed(plan, self.attempt.key):
            if self.has(table.name):
                continue
            try:
                self.execute(table.create())
            except pytds.Error as error:
                if number_of(error) != _THERE_ALREADY:
                    raise  # else another load was first
        self.begin_transaction("BEGIN TRANSACTION")
        if plan.is_new:
            return
        locks = (
            plan.replaces is not None
            or plan.merges is not None
            or plan.removes is not None
            or plan.lock_table
            or plan.rebuild
        )
        # without a row asked for, the table would not be opened, and no lock taken; others go on, unless rows that are there are looked at
        hint = "TABLOCK, UPDLOCK, HOLDLOCK" if locks else "READCOMMITTEDLOCK"
        look = f"SELECT TOP (1) 1 FROM {self.table} WITH ({hint})"
        try:
            self.execute(f"SET LOCK_TIMEOUT {_SHORT_WAIT}; {look}")
        except pytds.Error as error:
            if number_of(error) != LOCKED:
                raise
            self.attempt.notify(waiting_message(plan))
            self.execute(f"SET LOCK_TIMEOUT {max(1, int(plan.lock_seconds * 1000))}; {look}")
        self.execute(f"SET LOCK_TIMEOUT {max(1, int(plan.lock_seconds * 1000))}")
        self._locked = locks

    def execute(self, statement: str) -> Sequence[Any] | None:
        rows = self._session.rows(statement)
        return rows[0] if rows else None

    def run(self, statements: Sequence[str]) -> None:
        for statement in statements:
            self._session.rows(statement)
            ((depth,),) = self._session.rows("SELECT @@TRANCOUNT")
            if depth != 1:
                raise UltravectError(
                    "statement-ends-load",
                    f"a statement of the job has ended the load's transaction: {statement[:200]}",
                    hint="take out what begins or ends transactions, in procedures too",
                )

    def rows(self, *, exact: bool) -> int | None:
        if not exact:
            return super().rows(exact=False)
        row = self.execute(f"SELECT COUNT_BIG(*) FROM {self.table}")
        return int(row[0]) if row else 0

    @cached_property
    def _declared(self) -> Mapping[str, tuple[str, str, bool]]:
        """The table's columns, once it is as the load needs it: see ``declared``."""
        return declared(self._session.rows, self.dialect, self.table)

    def stage(self) -> None:
        super().stage()
        sent = list(self.attempt.sent)
        self._bulk = BulkLoad(self._session, self.dialect, self.into, sent, lock=self.stages or self._locked)
        if not self.stages:
            self._send_as_declared(self._bulk)

    def make_stage(self) -> None:
        live = self._declared
        parts = []
        for column in self.plan.columns:
            if column.name not in live:
                raise column_gone(self.plan, column.name)
            native, collation, counter = live[column.name]
            self.counter |= counter
            sent = self.dialect.from_canonical(column.type).native
            kept = f"{native} COLLATE {collation}" if collation else native
            # the bytes of a code page are sent as Unicode, and turned into them by the server; so are all types that are sent as others
            if native != sent:
                kept = (
                    f"{sent} COLLATE {collation or 'DATABASE_DEFAULT'}"
                    if column.type.name in ("text", "json")
                    else sent
                )
            parts.append(f"{self.dialect.quote(column.name)} {kept} NULL")
        self.execute(f"CREATE TABLE {_STAGED} ({', '.join(parts)}, {ROW} bigint NOT NULL)")

    def _send_as_declared(self, bulk: BulkLoad) -> None:
        """Rows whose types are not those of the table go through a staging table, where the server converts them."""
        live = self._declared
        natives = [live.get(column.name, ("", "", False)) for column in self.plan.columns]
        self.counter = any(counter for _, _, counter in natives)
        if [native for native, _, _ in natives] == list(bulk.natives):
            return
        self.make_stage()
        self._through_stage = True
        columns = replace(self.attempt, isolates=True).sent
        self._bulk = BulkLoad(self._session, self.dialect, _STAGED, list(columns), lock=True)

    def insert(self, batch: pa.RecordBatch) -> int:
        assert self._bulk is not None, "it is opened before rows come"
        if self._through_stage:
            numbers = pa.array(range(self._taken, self._taken + batch.num_rows), pa.int64())
            batch = pa.RecordBatch.from_arrays([*batch.columns, numbers], names=[*batch.schema.names, ROW])
        return self._bulk.send(batch)

    def end_rows(self) -> int:
        if not self._through_stage:
            return super().end_rows()
        merge = self._merge()
        self._require_same_texts(merge)
        return self.statements.changed(merge.insert_all())

    def _merge(self) -> MergeStatements:
        return MergeStatements.of(self.dialect, self.table, _STAGED, self.plan.columns, self.plan.keys)

    def settle(self) -> None:
        if not self.stages:
            return
        live, keys = self._declared, self.plan.keys
        if keys and not any(mark in live[key][0] for key in keys for mark in _LONG):
            self.execute(f"CREATE INDEX ultravect_keys ON {_STAGED} ({', '.join(map(self.dialect.quote, keys))})")
        if self.attempt.isolates:
            self.execute(f"CREATE INDEX ultravect_rows ON {_STAGED} ({ROW})")
        self._require_same_texts(self._merge())

    def find_matches(self, merge: MergeStatements) -> Matches:
        found = super().find_matches(merge)
        self.execute(f"CREATE INDEX ultravect_matched_staged ON {_MATCHED} (staged)")
        return found

    def _require_same_texts(self, merge: MergeStatements) -> None:
        """Refuses texts with characters that the code page of their column has not: the server would turn them into question marks."""
        live = self._declared
        for column in self.plan.columns:
            native, collation, _ = live[column.name]
            if native.partition("(")[0] not in _PAGES or "_UTF8" in collation:
                continue
            name = self.dialect.quote(column.name)
            kept = f"CAST({name} AS varchar(max)) COLLATE {collation}"
            lost = f"CAST({kept} AS nvarchar(max)) COLLATE Latin1_General_100_BIN2 <> {name} COLLATE Latin1_General_100_BIN2"
            found = self._session.rows(
                self.dialect.first_rows(f"SELECT {ROW}, {name} FROM {_STAGED} WHERE {lost} ORDER BY {ROW}", 1)
            )
            if found:
                row, value = found[0]
                raise UltravectError(
                    "character-lost",
                    f"{self.plan.source}, row {int(row) + 1}: column {column.name!r} of {self.plan.table} is {native} with collation "
                    f"{collation}, which has not all characters of {value!r}; nothing was written",
                    hint="make the column nvarchar, or replace the characters in columns",
                    table=str(self.plan.table),
                    column=column.name,
                )

    def remove_old(self) -> int | None:
        replaces = self.plan.replaces
        if replaces is not None and replaces.how == "truncate" and not self._keeps_history():
            self.execute(f"TRUNCATE TABLE {self.table}")
            return None
        return super().remove_old()

    def _keeps_history(self) -> bool:
        """Whether rows that go are kept as history: such tables cannot be truncated."""
        name = self.dialect.literal(self.table)
        asked = f"SELECT 1 FROM sys.tables WHERE object_id = OBJECT_ID({name}) AND temporal_type = 2"
        return self.execute(asked) is not None

    def set_savepoint(self) -> None:
        self.execute(f"SAVE TRANSACTION {SAVEPOINT}")

    def undo_to_savepoint(self) -> None:
        self.execute(f"ROLLBACK TRANSACTION {SAVEPOINT}")

    def drop_savepoint(self) -> None:
        """A savepoint here is replaced by the next one of its name."""

    def refusal(self, error: Exception) -> str | None:
        return shown(error) if number_of(error) in ENDS_STATEMENT else None

    def is_taken(self, error: Exception) -> bool:
        return number_of(error) in TAKEN

    def has(self, table: TableName) -> bool:
        return (
            self.execute(f"SELECT 1 WHERE OBJECT_ID({self.dialect.literal(self.dialect.table(table))}) IS NOT NULL")
            is not None
        )

    def drop_stage(self) -> None:
        if self._through_stage:
            self.execute(f"DROP TABLE {_STAGED}")
        super().drop_stage()

    def end_transaction(self) -> None:
        try:
            self.execute("COMMIT")
        except (pytds.Error, OSError) as error:
            if not is_lost(error):
                raise
            raise outcome_unknown(self._connection, self.plan, "database") from error

    @property
    def alone(self) -> bool:
        return self._locked


class _KeepingNumbers:
    """See ``Statements``: an INSERT into a table with a counting column keeps the values that rows bring for it."""

    def __init__(self, writing: SqlserverSession, session: Session) -> None:
        self._writing, self._session = writing, session

    def rows(self, statement: str) -> Sequence[Sequence[Any]]:
        return self._session.rows(statement)

    def changed(self, statement: str) -> int:
        table = self._writing.table
        if not self._writing.counter or not statement.startswith(f"INSERT INTO {table} "):
            return self._session.changed(statement)
        self._session.rows(f"SET IDENTITY_INSERT {table} ON")
        try:
            return self._session.changed(statement)
        finally:
            self._session.rows(f"SET IDENTITY_INSERT {table} OFF")
