"""DuckDB: a database in a file, opened by a connection that reaches nothing else, for writing only by loads."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import AbstractContextManager, ExitStack, contextmanager
from pathlib import Path
from typing import Any

import duckdb
import pyarrow as pa

from ultravect.core.contracts.catalogue import (
    Answer,
    LiveCheck,
    LiveColumn,
    LiveTable,
    Objection,
    Reference,
    TableInfo,
)
from ultravect.core.contracts.write_plan import Attempt
from ultravect.core.dialects.base import TableName
from ultravect.core.dialects.duckdb import DuckdbDialect
from ultravect.core.errors import UltravectError
from ultravect.core.kinds.duckdb.kind import DuckdbSettings
from ultravect.core.loading.defaults import constant_default
from ultravect.core.loading.duckdb.duckdb_reading import answered, read_rows
from ultravect.core.loading.duckdb.duckdb_write import FIND, TABLES, DuckdbSession, DuckdbStatements
from ultravect.core.loading.local.local_database import LocalDatabase
from ultravect.core.loading.local.local_file import database_file, may_be_made
from ultravect.core.loading.questions import answer_columns, require_question
from ultravect.core.loading.refusals import doing_of, waiting_message
from ultravect.core.loading.shared_loads import SharedLoads
from ultravect.core.types.canonical import CanonicalType

_READING = frozenset(["SELECT", "WITH", "VALUES", "FROM", "SHOW", "DESCRIBE", "SUMMARIZE", "EXPLAIN", "TABLE"])
_LIST = f"""
SELECT schema_name, table_name, kind, estimated_size, comment FROM ({TABLES})
WHERE contains(lower(schema_name || '.' || table_name), lower(?)) AND schema_name || '.' || table_name > ?
ORDER BY schema_name || '.' || table_name LIMIT ?
"""
_REFERENCES = """
SELECT DISTINCT schema_name, table_name, referenced_table FROM duckdb_constraints()
WHERE constraint_type = 'FOREIGN KEY' AND referenced_table IS NOT NULL AND table_name <> referenced_table
"""
_COLUMNS = """
SELECT c.column_name, c.data_type, c.is_nullable, c.column_default IS NOT NULL, c.comment, c.column_default,
       list_contains(coalesce((SELECT k.constraint_column_names FROM duckdb_constraints() k
           WHERE k.schema_name = c.schema_name AND k.table_name = c.table_name AND k.constraint_type = 'PRIMARY KEY' LIMIT 1), []), c.column_name)
FROM duckdb_columns() c WHERE c.schema_name = ? AND c.table_name = ? ORDER BY c.column_index
"""
_UNIQUE = """
SELECT constraint_column_names FROM duckdb_constraints()
WHERE schema_name = ? AND table_name = ? AND constraint_type IN ('PRIMARY KEY', 'UNIQUE')
"""
_CHECKS = """
SELECT constraint_name, expression FROM duckdb_constraints()
WHERE schema_name = ? AND table_name = ? AND constraint_type = 'CHECK'
"""
_LOCK_POLL_SECONDS = 0.2


class DuckdbDatabase(LocalDatabase):
    """See ``Database``."""

    def __init__(self, name: str, settings: DuckdbSettings, roots: Sequence[str]) -> None:
        super().__init__(name, settings, roots)
        self.dialect = DuckdbDialect()
        self.exclusive_file = settings.path

    @contextmanager
    def session(self, doing: str, *, write: bool = False) -> Iterator[duckdb.DuckDBPyConnection]:
        missing = self._settings.create and may_be_made(self._name, self._settings.path, self._roots)
        if missing:
            # nothing was loaded into it yet: to readers it is an empty database
            path = Path(self._settings.path if write else ":memory:")
        else:
            path = database_file(self._name, self._settings.path, self._roots)
            with path.open("rb") as file:
                if file.read(12)[8:] != b"DUCK":
                    raise self._no_database("its first bytes are not those of one")
        session: duckdb.DuckDBPyConnection | None = None
        try:
            # a question must not read other files, nor the network
            session = self._connected(str(path), write or missing)
            yield session
        except duckdb.Error as error:
            raise self._explained(error, doing) from None
        finally:
            if session is not None:
                session.close()

    @staticmethod
    def _connected(path: str, write: bool) -> duckdb.DuckDBPyConnection:
        config: dict[str, str | bool | int | float | list[str]] = {
            "enable_external_access": "false",
            "autoinstall_known_extensions": "false",
            "autoload_known_extensions": "false",
            "allow_community_extensions": "false",
            "lock_configuration": "true",
        }
        try:
            return duckdb.connect(path, read_only=not write, config=config)
        except duckdb.ConnectionException:
            # a load of this process has the file open, and in one process all open it alike
            if write:
                raise
            return duckdb.connect(path, config=config)

    def _no_database(self, reason: str) -> UltravectError:
        return UltravectError(
            "file-not-database",
            f"connection {self._name}: {self._settings.path} is not a whole DuckDB database: {reason}",
            hint="check the path; if it is right, the file is damaged, or of another version",
            connection=self._name,
        )

    def _explained(self, error: duckdb.Error, doing: str) -> UltravectError:
        text = str(error).splitlines()[0]
        code, hint = "database-error", "check table and column names with `ultravect look`"
        if "lock" in text and "IO Error" in text:
            code, hint = "database-busy", "another program has the file open for writing; try again when it is done"
        elif "No space left" in text or "not enough space" in text.lower():
            code, hint = "target-full", "free disk space in the target"
        elif isinstance(error, duckdb.SerializationException) or "Corrupt" in text:
            return self._no_database(text)
        elif isinstance(error, duckdb.ConstraintException):
            code, hint = (
                "constraint-refused",
                "fix the source, or tolerate such rows with into.rejects",
            )
        elif isinstance(error, duckdb.InterruptException):
            code, hint = "time-limit", "ask for less, or raise the limit"
        elif "read-only" in text or isinstance(error, duckdb.PermissionException):
            code, hint = "read-only", "questions may only read"
        elif isinstance(error, duckdb.ParserException | duckdb.BinderException | duckdb.CatalogException):
            code = "question-refused"
        return UltravectError(
            code, f"connection {self._name}, while {doing}: {text}", hint=hint, connection=self._name
        )

    def _described(self, session: duckdb.DuckDBPyConnection) -> str:
        row = session.execute("SELECT version()").fetchone()
        return f"DuckDB {row[0] if row else ''}"

    def finding(self, table: TableName) -> str:
        schema = self.dialect.literal(table.schema) if table.schema else "current_schema()"
        named = self.dialect.literal(table.name)
        return f"SELECT 1 FROM duckdb_tables() WHERE lower(table_name) = lower({named}) AND lower(schema_name) = lower({schema})"

    def may_create(self, name: TableName) -> str:
        obstacle = self._write_obstacle()
        if obstacle or name.schema is None:
            return obstacle
        with self.session("looking for the schema") as session:
            found = session.execute(
                "SELECT 1 FROM duckdb_schemas() WHERE lower(schema_name) = lower(?)", (name.schema,)
            ).fetchone()
        return "" if found else f"there is no schema {name.schema!r}"

    @property
    def database(self) -> DuckdbDatabase:
        return self

    def statements(self, session: Any) -> DuckdbStatements:
        return DuckdbStatements(session)

    def is_taken(self, error: Exception) -> bool:
        return isinstance(error, duckdb.ConstraintException)

    @contextmanager
    def write(self, attempt: Attempt) -> Iterator[DuckdbSession]:
        with ExitStack() as opened:
            session = self._opened_for(attempt, opened)
            # closing the session undoes what was not committed
            yield DuckdbSession(session, self.dialect, attempt)

    @property
    def windows(self) -> Callable[[Sequence[Attempt]], AbstractContextManager[SharedLoads]]:
        @contextmanager
        def opens(attempt: Attempt) -> Iterator[duckdb.DuckDBPyConnection]:
            with ExitStack() as opened:
                yield self._opened_for(attempt, opened)

        return lambda attempts: SharedLoads(
            opens, lambda session, attempt: DuckdbSession(session, self.dialect, attempt), keeps=False
        ).opened()

    def _opened_for(self, attempt: Attempt, opened: ExitStack) -> duckdb.DuckDBPyConnection:
        """A session that writes, once no other program has the file open."""
        end, shown = time.monotonic() + attempt.plan.lock_seconds, False
        while True:
            try:
                return opened.enter_context(self.session(doing_of(attempt), write=True))
            except UltravectError as error:
                if error.code != "database-busy" or time.monotonic() >= end:
                    raise
            if not shown:
                attempt.notify(waiting_message(attempt.plan))
                shown = True
            time.sleep(_LOCK_POLL_SECONDS)

    def tables(self, search: str, after: str, limit: int) -> Sequence[TableInfo]:
        with self.session("listing tables") as session:
            found = session.execute(_LIST, (search, after, limit)).fetchall()
        return [
            TableInfo(f"{schema}.{table}", kind, rows, comment or "", TableName(schema, table))
            for schema, table, kind, rows, comment in found
        ]

    def references(self) -> Sequence[Reference]:
        with self.session("reading the foreign keys") as session:
            found = session.execute(_REFERENCES).fetchall()
        return [Reference(TableName(schema, table), TableName(schema, referred)) for schema, table, referred in found]

    def table(self, name: TableName) -> LiveTable | None:
        with self.session(f"reading the columns of {name}") as session:
            row = session.execute(FIND, (name.name, name.schema)).fetchone()
            if row is None:
                return None
            schema, table, kind, estimate, comment = row
            columns = [
                LiveColumn(
                    column,
                    native,
                    native.lower(),
                    self.dialect.to_canonical(native),
                    nullable,
                    has_default,
                    key=bool(key),
                    comment=shown or "",
                    default=constant_default(default),
                )
                for column, native, nullable, has_default, shown, default, key in session.execute(
                    _COLUMNS, (schema, table)
                ).fetchall()
            ]
            unique = [frozenset(names) for (names,) in session.execute(_UNIQUE, (schema, table)).fetchall()]
            checks = [LiveCheck(name, shown) for name, shown in session.execute(_CHECKS, (schema, table)).fetchall()]
        name = TableName(schema, table)
        # each part of a column knows its least and its highest value: rows are found without an index
        indexed = frozenset(column.name for column in columns)
        granted = self._granted()
        return LiveTable(name, kind, columns, granted, estimate, comment or "", unique, (), checks, indexed)

    def ask(self, sql: str, limit: int, seconds: float) -> Answer:
        question = require_question(self._name, self.dialect, sql, _READING)
        with self.session("answering the question") as session:
            return answered(session, self._name, question.text, limit, seconds)

    def objection(self, statement: str) -> Objection | None:
        with self.session("parsing a statement") as session:
            try:
                count = len(session.extract_statements(statement))
                if count != 1:
                    return Objection(f"{count} statements stand here, and one is expected", True)
                session.execute(f"EXPLAIN {statement}").fetchall()
            except duckdb.Error as error:
                if "read-only" in str(error):
                    return None  # all that this session has against it
                return Objection(str(error).splitlines()[0], isinstance(error, duckdb.ParserException))
        return None

    def columns_of(self, query: str) -> Sequence[LiveColumn]:
        question = require_question(self._name, self.dialect, query, _READING)
        with self.session("reading the columns of the query") as session:
            found = session.execute(f"DESCRIBE {question.text}").fetchall()
        return answer_columns(self.dialect, ((name, native) for name, native, *_ in found))

    def read(
        self, statement: str, types: Sequence[CanonicalType], doing: str, snapshot: str = ""
    ) -> Iterator[pa.Table]:
        with self.session(doing) as session:
            yield from read_rows(session, statement, types)
