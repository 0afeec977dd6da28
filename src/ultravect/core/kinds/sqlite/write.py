"""Writes to SQLite: one transaction, in which all that changes changes."""

from __future__ import annotations

import sqlite3
from collections.abc import Sequence
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from ultravect.core.contracts.write_plan import Attempt
from ultravect.core.contracts.write_session import STAGED, Matches
from ultravect.core.dialects.base import Dialect, TableName
from ultravect.core.dialects.merge import ROW, MergeStatements
from ultravect.core.kinds.sqlite.session import has_table, may_write_here
from ultravect.core.loading.executed import ExecutedStatements
from ultravect.core.loading.refusals import column_gone, waiting_message
from ultravect.core.loading.sql_session import InsertingSession
from ultravect.core.types.written import plain_text

_SHORT_WAIT = 300  # milliseconds
_COLLATIONS = """
SELECT x.name, x.coll FROM pragma_index_list(?) l JOIN pragma_index_xinfo(l.name) x WHERE x.key AND x.name IS NOT NULL
"""


class SqliteSession(InsertingSession):
    """See ``InsertingSession``. Only one transaction writes to such a file at a time, and no one sees it before it commits."""

    def __init__(self, session: sqlite3.Connection, dialect: Dialect, attempt: Attempt) -> None:
        super().__init__(dialect, attempt, ExecutedStatements(session))
        self._session = session
        names = ", ".join(dialect.quote(column.name) for column in attempt.sent)
        marks = ", ".join("?" * len(attempt.sent))
        self._insert = f"INSERT INTO {self.into} ({names}) VALUES ({marks})"

    def begin(self) -> None:
        if not self.is_first:
            return
        begin = "BEGIN IMMEDIATE"  # takes the lock before rows are read, not when the first is written
        try:
            self.execute(f"PRAGMA busy_timeout = {_SHORT_WAIT}")
            self.execute(begin)
        except sqlite3.OperationalError as error:
            if "locked" not in str(error):
                raise
            self.attempt.notify(waiting_message(self.plan))
            self.execute(f"PRAGMA busy_timeout = {int(self.plan.lock_seconds * 1000)}")
            self.execute(begin)

    def run(self, statements: Sequence[str]) -> None:
        self._session.set_authorizer(may_write_here)
        try:
            super().run(statements)
        finally:
            self._session.set_authorizer(None)

    def make_stage(self) -> None:
        # as declared, and with the collations that indexes name; CREATE TABLE AS would rename a column called TRUE
        table, columns = self.plan.table.name, self.plan.columns
        declared = dict(self._session.execute("SELECT name, type FROM pragma_table_xinfo(?)", (table,)))
        for column in columns:
            if column.name not in declared:
                raise column_gone(self.plan, column.name)
        collated = dict(self._session.execute(_COLLATIONS, (table,)))
        parts = [
            f"{self.dialect.quote(column.name)} {declared[column.name]} COLLATE {collated.get(column.name, 'BINARY')}"
            for column in columns
        ]
        self.execute(f"CREATE TEMPORARY TABLE {STAGED} ({', '.join(parts)}, {ROW} INTEGER)")

    def find_matches(self, merge: MergeStatements) -> Matches:
        found = super().find_matches(merge)
        self.execute(f"CREATE INDEX ultravect_matched_staged ON {self.matched_table} (staged)")
        return found

    def execute(self, statement: str) -> Sequence[Any] | None:
        row: Sequence[Any] | None = self._session.execute(statement).fetchone()
        return row

    def insert(self, batch: pa.RecordBatch) -> int:
        columns = [_bound(array).to_pylist() for array in batch.columns]
        return self._session.executemany(self._insert, zip(*columns, strict=True)).rowcount

    def refusal(self, error: Exception) -> str | None:
        return str(error) if isinstance(error, sqlite3.IntegrityError) else None

    def is_taken(self, error: Exception) -> bool:
        return isinstance(error, sqlite3.IntegrityError)

    def has(self, table: TableName) -> bool:
        return has_table(self._session, table.name)


def _bound(array: pa.Array) -> pa.Array:
    """Values of a kind that SQLite has: numbers and bytes as they are, others as text."""
    kind = array.type
    if pa.types.is_boolean(kind):
        return array.cast(pa.int8())
    if pa.types.is_integer(kind) or pa.types.is_floating(kind) or kind == pa.binary():
        return array
    text = plain_text(array)
    if pa.types.is_timestamp(kind) or pa.types.is_time(kind):
        # as SQLite's own functions write them: no fraction where there is none
        text = pc.replace_substring_regex(
            pc.replace_substring_regex(text, r"\.0+$", ""), r"(\.[0-9]*[1-9])0+$", r"\1"
        )
    return pc.binary_join_element_wise(text, "+00:00", "") if pa.types.is_timestamp(kind) and kind.tz else text
