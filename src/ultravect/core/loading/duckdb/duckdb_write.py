"""Writes by a session of DuckDB: into a database of its own, or into a copy of what is to be changed elsewhere."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Any

import duckdb
import pyarrow as pa

from ultravect.core.contracts.statements import noted
from ultravect.core.contracts.write_plan import Attempt
from ultravect.core.contracts.write_session import Isolated
from ultravect.core.dialects.base import Dialect, TableName
from ultravect.core.dialects.merge import MergeStatements
from ultravect.core.loading.duckdb.duckdb_refusals import Refusals
from ultravect.core.loading.refusals import column_gone
from ultravect.core.loading.sql_session import InsertingSession
from ultravect.core.types.canonical import CanonicalType
from ultravect.core.types.hexadecimal import uuid_text

_NESTED = re.compile(r"\]$|^(STRUCT|MAP|UNION)\(")
TABLES = """
SELECT schema_name, table_name, 'table' AS kind, estimated_size, comment FROM duckdb_tables() WHERE NOT internal
UNION ALL
SELECT schema_name, view_name, 'view', NULL, comment FROM duckdb_views() WHERE NOT internal
"""
FIND = f"""
SELECT schema_name, table_name, kind, estimated_size, comment FROM ({TABLES})
WHERE lower(table_name) = lower(?) AND lower(schema_name) = lower(coalesce(?, current_schema()))
"""


class DuckdbSession(InsertingSession):
    """See ``InsertingSession``."""

    def __init__(self, session: duckdb.DuckDBPyConnection, dialect: Dialect, attempt: Attempt) -> None:
        super().__init__(dialect, attempt, DuckdbStatements(session))
        self._session = session
        self._insert = ""
        self._positions: list[str] = []

    def run(self, statements: Sequence[str]) -> None:
        for statement in statements:
            # settings and other files are locked for this session; a transaction of its own is not
            if any(
                item.type == duckdb.StatementType.TRANSACTION for item in self._session.extract_statements(statement)
            ):
                raise duckdb.PermissionException("the load's transaction is not the statement's to end")
        super().run(statements)

    def stage(self) -> None:
        super().stage()
        columns = self.attempt.sent
        names = ", ".join(self.dialect.quote(column.name) for column in columns)
        self._positions = [str(position) for position in range(len(columns))]
        natives = {row[0]: str(row[1]) for row in self.statements.rows(f"DESCRIBE {self.into}")}
        for column in columns:
            if column.name not in natives:
                raise column_gone(self.plan, column.name)
        values = ", ".join(
            _taken(self.dialect.quote(position), natives[column.name], column.type)
            for position, column in zip(self._positions, columns, strict=True)
        )
        self._insert = f"INSERT INTO {self.into} ({names}) SELECT {values} FROM ultravect_rows"

    def execute(self, statement: str) -> Sequence[Any] | None:
        rows = self.statements.rows(statement)
        return rows[0] if rows else None

    def insert(self, batch: pa.RecordBatch) -> int:
        arrays = [uuid_text(array) if array.type == pa.binary(16) else array for array in batch.columns]
        self._session.register("ultravect_rows", pa.table(arrays, names=self._positions))
        # left registered when this fails, or what fails next would be reported instead of the reason
        taken = self.statements.changed(self._insert)
        self._session.unregister("ultravect_rows")
        return taken

    def isolate(self, merge: MergeStatements, rows: int, tolerated: int, known: str) -> Isolated:
        """All rows at once but those that would be refused: see ``Refusals``."""
        upsert = self.plan.merges is not None
        refusals = Refusals(self.statements, merge, self.plan.table, upsert=upsert)
        done = Isolated(refused=refusals.first(tolerated + 1))
        if len(done.refused) <= tolerated:
            within = refusals.others if done.refused else ""
            update = merge.update(within) if upsert else None
            done.updated = self.statements.changed(update) if update else 0
            done.inserted = self.statements.changed(
                merge.insert(known, within) if upsert else merge.insert_all(within)
            )
        refusals.drop()
        return done

    def refusal(self, error: Exception) -> str | None:
        return str(error) if isinstance(error, duckdb.ConstraintException) else None

    def is_taken(self, error: Exception) -> bool:
        return isinstance(error, duckdb.ConstraintException)

    def has(self, table: TableName) -> bool:
        return has_table(self._session, table)


class DuckdbStatements:
    """See ``Statements``."""

    def __init__(self, session: duckdb.DuckDBPyConnection) -> None:
        self.session = session

    def rows(self, statement: str) -> Sequence[Sequence[Any]]:
        # an answer that is not fetched whole keeps the session busy
        with noted(statement) as ran:
            rows = self.session.execute(statement).fetchall()
            ran.rows = len(rows)
        return rows

    def changed(self, statement: str) -> int:
        with noted(statement) as ran:
            rows = self.session.execute(statement).fetchall()
            ran.rows = int(rows[0][0]) if rows else 0
        return ran.rows


def _taken(value: str, native: str, kind: CanonicalType) -> str:
    """A value as its column takes it: lists and structures come as JSON, or as the database writes them itself."""
    if kind.name not in ("text", "json") or not _NESTED.search(native):
        return value
    return f"COALESCE(TRY_CAST(TRY_CAST({value} AS JSON) AS {native}), CAST({value} AS {native}))"


def has_table(session: duckdb.DuckDBPyConnection, name: TableName) -> bool:
    return bool(session.execute(FIND, (name.name, name.schema)).fetchall())
