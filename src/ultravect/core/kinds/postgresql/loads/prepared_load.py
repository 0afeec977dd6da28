"""The first half of a load: its locks, and the table that rows are written into."""

from __future__ import annotations

import secrets
from collections.abc import Sequence
from typing import Any

import psycopg

from ultravect.core.contracts.catalogue import LiveTable
from ultravect.core.contracts.load import DELETE_AND_INSERT, STAGED, SWAP, LoadOrder
from ultravect.core.dialects.base import Dialect, TableName
from ultravect.core.kinds.postgresql.catalogue import Session, SessionStatements, find_table
from ultravect.core.kinds.postgresql.loads.copy_in import CopyIn
from ultravect.core.kinds.postgresql.loads.locks import holders, try_lock
from ultravect.core.kinds.postgresql.loads.shadow_table import LARGE_ROWS, ShadowTable
from ultravect.core.kinds.postgresql.loads.staging import staging_query
from ultravect.core.loading.refusals import (
    previous_name,
    require_empty,
    table_changed,
    waiting_message,
)
from ultravect.core.loading.steps.isolating_load import IsolatingLoad

_TRIGGERS = """
SELECT 1 FROM pg_class c WHERE c.oid = to_regclass(%s) AND (c.relhasrules
  OR EXISTS (SELECT 1 FROM pg_trigger g WHERE g.tgrelid = c.oid AND NOT g.tgisinternal))
"""
_IN_ONE = "SELECT 1 FROM pg_class WHERE oid = to_regclass(%s) AND relkind = 'r'"


class PreparedLoad(IsolatingLoad):
    """A load that can be written to: into the table itself, a staging table, or one that takes the place of the table."""

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
        self._binary = binary
        self._given = 0
        self._removed = 0
        self._parts: Sequence[str] = ()
        self._counted: int | None = None
        self._shadow: ShadowTable | None = None
        self._copy: CopyIn | None = None
        self._stages = order.staged or bool(order.changes) or (order.staged_in is not None and not order.filled)

    def prepare(self) -> None:
        """Takes the locks, and makes what rows are written into."""
        session, dialect, order = self._session, self._dialect, self._order
        self._has_triggers = bool(session.execute(_TRIGGERS, (self._table,)).fetchone())
        self._take_lock()
        self._transaction = str(self._scalar("SELECT pg_current_xact_id()::text"))
        self.rows_before = 0 if order.create is not None and not order.rebuild else self._count_if_few()
        require_empty(order, self.rows_before)
        into = table = self._live
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
            self._note_removed(self.rows_before if self._shadow else self._take_away())
        self._final = into.name
        if self._shadow:
            into = self._shadow.table
        if self._stages:
            into = self._staged(into)
        self._into = into.name
        emptied = order.truncate and order.removes_old and self.rows_before != 0
        freeze = bool(self._shadow) or (emptied and not self._stages and self._whole())
        if not order.staged_in:
            self._copy = CopyIn(session, dialect, into, order.sent, freeze=freeze, binary=self._binary)

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
            self._order.notify(waiting_message(self._order, holders(self._session, self._table)))
            self._execute(f"LOCK TABLE {self._table} IN {mode} MODE")

    def _shadow_table(self) -> ShadowTable | None:
        """The table that takes this one's place, where that is quicker than deleting its rows and as good."""
        order = self._order
        if not order.may_swap or not self._is_large() or order.truncate or order.keep_previous or order.after:
            return None
        return ShadowTable.create(self._session, self._dialect, self._live, self._staging)

    def _is_large(self) -> bool:
        if self.rows_before is not None:
            return self.rows_before >= LARGE_ROWS
        return bool(self._scalar(f"SELECT 1 FROM {self._table} OFFSET {LARGE_ROWS - 1} LIMIT 1"))

    def _whole(self) -> bool:
        """Whether the table has no partitions, which take no rows that are frozen."""
        return bool(self._session.execute(_IN_ONE, (self._table,)).fetchone())

    def _take_away(self) -> int | None:
        """Takes the rows of the table away; how many there were, None: all of them."""
        if self._order.truncate:
            self._execute(f"TRUNCATE {self._table}")
            return self.rows_before
        return self._delete_old(self._table)

    def _keep_previous(self) -> None:
        if self._order.keep_previous:
            self.previous = previous_name()
            kept = self._dialect.table(TableName(self._name.schema, self.previous))
            self._execute(f"CREATE TABLE {kept} AS TABLE {self._table}")
