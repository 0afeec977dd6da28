"""Loads into SQL Server: rows by bulk load, all of it in one transaction."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from functools import cached_property
from typing import Any

import pyarrow as pa
import pytds

from ultravect.core.contracts.load import Counts, LoadOrder
from ultravect.core.contracts.mark import MarkChange
from ultravect.core.contracts.receipt import Receipt
from ultravect.core.contracts.target import Verified
from ultravect.core.dialects.base import Dialect, TableName
from ultravect.core.dialects.merge import ROW, Merge
from ultravect.core.errors import UltravectError
from ultravect.core.kinds.sqlserver.bulk import BulkLoad
from ultravect.core.kinds.sqlserver.catalogue import declared
from ultravect.core.kinds.sqlserver.refusals import ENDS_STATEMENT, LOCKED, TAKEN, is_lost, number_of, shown
from ultravect.core.kinds.sqlserver.session import Session
from ultravect.core.loading.local.local_load import LocalLoad
from ultravect.core.loading.refusals import column_gone, outcome_unknown, waiting_message
from ultravect.core.loading.steps.isolating_load import SAVEPOINT

_STAGED, _MATCHED = "[#ultravect_staged]", "[#ultravect_matched]"
# longer keys have no index
_LONG = ("(max)", "text", "xml", "image")
_PAGES = ("char", "varchar", "text")
_SHORT_WAIT = 300  # milliseconds


class SqlserverLoad(LocalLoad):
    """See ``LocalLoad``. Other sessions can write to the table until it is locked, which a load does that looks at the rows there are."""

    _staged, _matched = _STAGED, _MATCHED

    def __init__(self, session: Session, connection: str, dialect: Dialect, order: LoadOrder) -> None:
        self._session = self._statements = session
        self._connection = connection
        self._locked = order.create is not None
        self._counter = False
        self._through_stage = False
        super().__init__(dialect, order)
        sent = list(order.sent)
        self._bulk = BulkLoad(session, dialect, self._into, sent, lock=order.staged or self._locked)
        if not order.staged:
            self._send_as_declared()

    def _begin(self) -> None:
        self._execute("BEGIN TRANSACTION")
        order = self._order
        if order.create is not None and not order.rebuild:
            return
        locks = order.removes_old or order.matches_rows or order.lock_table or order.rebuild
        # without a row asked for, the table would not be opened, and no lock taken; others go on, unless rows that are there are looked at
        hint = "TABLOCK, UPDLOCK, HOLDLOCK" if locks else "READCOMMITTEDLOCK"
        look = f"SELECT TOP (1) 1 FROM {self._table} WITH ({hint})"
        try:
            self._execute(f"SET LOCK_TIMEOUT {_SHORT_WAIT}; {look}")
        except pytds.Error as error:
            if number_of(error) != LOCKED:
                raise
            order.notify(waiting_message(order))
            self._execute(f"SET LOCK_TIMEOUT {max(1, int(order.lock_seconds * 1000))}; {look}")
        self._execute(f"SET LOCK_TIMEOUT {max(1, int(order.lock_seconds * 1000))}")
        self._locked = locks

    def _execute(self, statement: str) -> Sequence[Any] | None:
        rows = self._session.rows(statement)
        return rows[0] if rows else None

    def _run_own(self, statements: Sequence[str]) -> None:
        for statement in statements:
            self._session.rows(statement)
            ((depth,),) = self._session.rows("SELECT @@TRANCOUNT")
            if depth != 1:
                raise UltravectError(
                    "statement-ends-load",
                    f"a statement of the job has ended the load's transaction: {statement[:200]}",
                    hint="take out what begins or ends transactions, in procedures too",
                )

    def _count(self) -> int:
        row = self._execute(f"SELECT COUNT_BIG(*) FROM {self._table}")
        return int(row[0]) if row else 0

    @cached_property
    def _declared(self) -> Mapping[str, tuple[str, str, bool]]:
        """The table's columns, once it is as the load needs it: see ``declared``."""
        return declared(self._session.rows, self._dialect, self._table)

    def _stage(self) -> None:
        live = self._declared
        parts = []
        for column in self._order.columns:
            if column.name not in live:
                raise column_gone(self._order, column.name)
            native, collation, counter = live[column.name]
            self._counter |= counter
            sent = self._dialect.from_canonical(column.type).native
            kept = f"{native} COLLATE {collation}" if collation else native
            # the bytes of a code page are sent as Unicode, and turned into them by the server; so are all types that are sent as others
            if native != sent:
                kept = (
                    f"{sent} COLLATE {collation or 'DATABASE_DEFAULT'}"
                    if column.type.name in ("text", "json")
                    else sent
                )
            parts.append(f"{self._dialect.quote(column.name)} {kept} NULL")
        self._execute(f"CREATE TABLE {_STAGED} ({', '.join(parts)}, {ROW} bigint NOT NULL)")

    def _send_as_declared(self) -> None:
        """Rows whose types are not those of the table go through a staging table, where the server converts them."""
        live = self._declared
        natives = [live.get(column.name, ("", "", False)) for column in self._order.columns]
        self._counter = any(counter for _, _, counter in natives)
        if [native for native, _, _ in natives] == list(self._bulk.natives):
            return
        self._stage()
        self._through_stage = True
        columns = replace(self._order, isolate=True).sent
        self._bulk = BulkLoad(self._session, self._dialect, _STAGED, list(columns), lock=True)

    def _insert(self, batch: pa.RecordBatch) -> int:
        if self._through_stage:
            numbers = pa.array(range(self._written, self._written + batch.num_rows), pa.int64())
            batch = pa.RecordBatch.from_arrays([*batch.columns, numbers], names=[*batch.schema.names, ROW])
        return self._bulk.send(batch)

    def finish(self, tolerated: int = 0, *, complete: bool = True) -> Counts:
        if self._order.staged:
            self._index_keys()
        elif self._through_stage:
            merge = self._order.merge(self._dialect, self._table, _STAGED)
            self._require_same_texts(merge)
            self._written = self._keeping_numbers(merge.insert_all())
        return super().finish(tolerated, complete=complete)

    def _index_keys(self) -> None:
        live = self._declared
        keys = self._order.keys
        if keys and not any(mark in live[key][0] for key in keys for mark in _LONG):
            self._execute(f"CREATE INDEX ultravect_keys ON {_STAGED} ({', '.join(map(self._dialect.quote, keys))})")
        if self._order.isolate:
            self._execute(f"CREATE INDEX ultravect_rows ON {_STAGED} ({ROW})")
        self._require_same_texts(self._order.merge(self._dialect, self._table, _STAGED))

    def _require_same_texts(self, merge: Merge) -> None:
        """Refuses texts with characters that the code page of their column has not: the server would turn them into question marks."""
        live = self._declared
        for column in self._order.columns:
            native, collation, _ = live[column.name]
            if native.partition("(")[0] not in _PAGES or "_UTF8" in collation:
                continue
            name = self._dialect.quote(column.name)
            kept = f"CAST({name} AS varchar(max)) COLLATE {collation}"
            lost = f"CAST({kept} AS nvarchar(max)) COLLATE Latin1_General_100_BIN2 <> {name} COLLATE Latin1_General_100_BIN2"
            found = self._session.rows(
                self._dialect.first_rows(f"SELECT {ROW}, {name} FROM {_STAGED} WHERE {lost} ORDER BY {ROW}", 1)
            )
            if found:
                row, value = found[0]
                raise UltravectError(
                    "character-lost",
                    f"{self._order.source}, row {int(row) + 1}: column {column.name!r} of {self._order.table} is {native} with collation "
                    f"{collation}, which has not all characters of {value!r}; nothing was written",
                    hint="make the column nvarchar, or replace the characters in columns",
                    table=str(self._order.table),
                    column=column.name,
                )

    def _changed(self, statement: str) -> int:
        if self._counter and statement.startswith(f"INSERT INTO {self._table} "):
            return self._keeping_numbers(statement)
        return super()._changed(statement)

    def _keeping_numbers(self, statement: str) -> int:
        """Runs an INSERT whose values for a counting column are kept."""
        if not self._counter:
            return self._session.changed(statement)
        self._execute(f"SET IDENTITY_INSERT {self._table} ON")
        try:
            return self._session.changed(statement)
        finally:
            self._execute(f"SET IDENTITY_INSERT {self._table} OFF")

    def _delete_old(self, table: str) -> int | None:
        if self._order.truncate and not self._order.replaces and not self._keeps_history():
            self._execute(f"TRUNCATE TABLE {table}")
            return self.rows_before
        return super()._delete_old(table)

    def _keeps_history(self) -> bool:
        """Whether rows that go are kept as history: such tables cannot be truncated."""
        name = self._dialect.literal(self._table)
        asked = f"SELECT 1 FROM sys.tables WHERE object_id = OBJECT_ID({name}) AND temporal_type = 2"
        return self._execute(asked) is not None

    def _set_savepoint(self) -> None:
        self._execute(f"SAVE TRANSACTION {SAVEPOINT}")

    def _undo_to_savepoint(self) -> None:
        self._execute(f"ROLLBACK TRANSACTION {SAVEPOINT}")

    def _drop_savepoint(self) -> None:
        """A savepoint here is replaced by the next one of its name."""

    def _refusal(self, error: Exception) -> str | None:
        return shown(error) if number_of(error) in ENDS_STATEMENT else None

    def _is_taken(self, error: Exception) -> bool:
        return number_of(error) in TAKEN

    def _has(self, table: TableName) -> bool:
        return (
            self._execute(
                f"SELECT 1 WHERE OBJECT_ID({self._dialect.literal(self._dialect.table(table))}) IS NOT NULL"
            )
            is not None
        )

    def publish(self, receipt: Receipt | None = None, marks: Sequence[MarkChange] = ()) -> None:
        if self._through_stage:
            self._execute(f"DROP TABLE {_STAGED}")
        super().publish(receipt, marks)

    def _commit(self) -> None:
        try:
            self._execute("COMMIT")
        except (pytds.Error, OSError) as error:
            if not is_lost(error):
                raise
            raise outcome_unknown(self._connection, self._order, "database") from error

    def verify(self) -> Verified:
        return self._verified(alone=self._locked)
