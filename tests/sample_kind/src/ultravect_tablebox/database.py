"""Tables of a box: their dialect, how they are read, and the steps of a load that are done in this database's own way."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator, Sequence
from contextlib import closing, contextmanager
from typing import Any

import pyarrow as pa

from ultravect.core.contracts.catalogue import Answer, LiveColumn, LiveTable, TableInfo
from ultravect.core.contracts.target import Database
from ultravect.core.contracts.write_plan import Attempt
from ultravect.core.dialects.base import Dialect, TableName, Translation
from ultravect.core.dialects.common import CommonDialect
from ultravect.core.errors import UltravectError
from ultravect.core.loading.executed import ExecutedStatements
from ultravect.core.loading.local.local_database import LocalDatabase
from ultravect.core.loading.local.local_file import database_file
from ultravect.core.loading.questions import require_question
from ultravect.core.loading.sql_session import InsertingSession
from ultravect.core.types.canonical import CanonicalType, Fit
from ultravect.core.types.stored import loose_values
from ultravect.core.types.written import plain_text

_NATIVE = {"smallint": "INTEGER", "integer": "INTEGER", "bigint": "INTEGER", "double": "REAL"}
_CANONICAL = {"INTEGER": "bigint", "REAL": "double", "TEXT": "text"}
_NUMBERS = [pa.int16(), pa.int32(), pa.int64(), pa.float64()]
_READING = frozenset(["SELECT", "WITH", "VALUES"])


class TableboxDialect(CommonDialect):
    """See ``Dialect``: numbers, and texts for everything else."""

    name, text_type, keeps_comments = "tablebox", "TEXT", False
    natives: Sequence[str] = tuple(_CANONICAL)

    def from_canonical(self, wanted: CanonicalType) -> Translation:
        native = _NATIVE.get(wanted.name, "TEXT")
        same = native != "TEXT" or wanted.name == "text"
        return Translation(native, Fit.EXACT if same else Fit.WIDER, "" if same else "kept as text")

    def to_canonical(self, native: str) -> CanonicalType | None:
        return CanonicalType(_CANONICAL.get(native.upper(), "text"))

    def table(self, table: TableName) -> str:
        return self.quote(table.name)

    def differs(self, left: str, right: str) -> str:
        return f"{left} IS NOT {right}"


class TableboxSession(InsertingSession):
    """See ``WriteSession``: what is not said here is the same in most databases."""

    def __init__(self, session: sqlite3.Connection, attempt: Attempt) -> None:
        super().__init__(TableboxDialect(), attempt, ExecutedStatements(session))
        self._session = session

    def begin(self) -> None:
        self.execute("BEGIN IMMEDIATE")

    def execute(self, statement: str) -> Sequence[Any] | None:
        return self._session.execute(statement).fetchone()

    def insert(self, batch: pa.RecordBatch) -> int:
        names = ", ".join(self.dialect.quote(column.name) for column in self.attempt.sent)
        columns = [array if array.type in _NUMBERS else plain_text(array) for array in batch.columns]
        marks = ", ".join("?" * batch.num_columns)
        rows = zip(*(column.to_pylist() for column in columns), strict=True)
        return self._session.executemany(f"INSERT INTO {self.into} ({names}) VALUES ({marks})", rows).rowcount

    def is_taken(self, error: Exception) -> bool:
        return isinstance(error, sqlite3.IntegrityError)

    def refusal(self, error: Exception) -> str | None:
        return str(error) if isinstance(error, sqlite3.IntegrityError) else None

    def has(self, table: TableName) -> bool:
        return bool(self.statements.rows(f"PRAGMA table_info({self.dialect.table(table)})"))


class TableboxDatabase(LocalDatabase):
    """See ``Database``."""

    dialect: Dialect = TableboxDialect()

    @property
    def database(self) -> Database:
        return self

    @contextmanager
    def session(self, doing: str, *, write: bool = False) -> Iterator[sqlite3.Connection]:
        path = database_file(self._name, self._settings.path, self._roots)
        try:
            with closing(sqlite3.connect(path, isolation_level=None)) as session:
                yield session
        except sqlite3.Error as error:
            code = "constraint-refused" if self.is_taken(error) else "database-error"
            detail = f"connection {self._name}, while {doing}: {error}"
            raise UltravectError(code, detail, hint="look at the file") from None

    @contextmanager
    def write(self, attempt: Attempt) -> Iterator[TableboxSession]:
        with self.session(f"loading {attempt.plan.source} into {attempt.plan.table}") as session:
            yield TableboxSession(session, attempt)

    def is_taken(self, error: Exception) -> bool:
        return isinstance(error, sqlite3.IntegrityError)

    def finding(self, table: TableName) -> str:
        return f"SELECT 1 FROM sqlite_schema WHERE name = {self.dialect.literal(table.name)}"

    def _described(self, session: sqlite3.Connection) -> str:
        return f"SQLite {sqlite3.sqlite_version}"

    def tables(self, search: str, after: str, limit: int) -> Sequence[TableInfo]:
        asked = (
            f"SELECT name FROM sqlite_schema WHERE type = 'table' AND name > {self.dialect.literal(after)} ORDER BY 1"
        )
        with self.session("listing tables") as session:
            names = [name for (name,) in session.execute(asked) if search.lower() in name.lower()][:limit]
        return [TableInfo(name, "table", None, "", TableName(None, name)) for name in names]

    def table(self, name: TableName) -> LiveTable | None:
        with self.session(f"reading the columns of {name}") as session:
            found = session.execute(f"PRAGMA table_info({self.dialect.table(name)})").fetchall()
        columns = [
            LiveColumn(column, native, native.lower(), self.dialect.to_canonical(native), not required, bool(default), key=bool(key))
            for _, column, native, required, default, key in found
        ]  # fmt: skip
        keys = frozenset(column.name for column in columns if column.key)
        return (
            LiveTable(TableName(None, name.name), "table", columns, unique=[keys] if keys else ()) if found else None
        )

    def ask(self, sql: str, limit: int, seconds: float) -> Answer:
        question = require_question(self._name, self.dialect, sql, _READING)
        with self.session("answering the question") as session:
            cursor = session.execute(question.text)
            rows = [list(row) for row in cursor.fetchmany(limit + 1)]
        names = [item[0] for item in cursor.description or ()]
        return Answer(names, rows[:limit], len(rows) > limit, [""] * len(names))

    def read(
        self, statement: str, types: Sequence[CanonicalType], doing: str, snapshot: str = ""
    ) -> Iterator[pa.Table]:
        with self.session(doing) as session:
            cursor = session.execute(statement)
            while rows := cursor.fetchmany(20_000):
                columns = [
                    loose_values(values, kind) for values, kind in zip(zip(*rows, strict=True), types, strict=True)
                ]
                yield pa.table(columns, names=[str(place) for place in range(len(types))])
