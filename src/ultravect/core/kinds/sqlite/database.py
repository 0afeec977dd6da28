"""SQLite: a database in a file, opened for writing only by loads."""

from __future__ import annotations

import sqlite3
import threading
from collections.abc import Iterator, Sequence
from contextlib import closing, contextmanager
from typing import Any
from urllib.parse import quote

import pyarrow as pa
import pyarrow.compute as pc

from ultravect.core.contracts.catalogue import Answer, LiveColumn, LiveTable, Objection, Reference, TableInfo
from ultravect.core.contracts.load import STAGED, LoadOrder
from ultravect.core.contracts.statements import noted
from ultravect.core.contracts.target import Database, Statements
from ultravect.core.dialects.base import Dialect, TableName
from ultravect.core.dialects.merge import ROW
from ultravect.core.errors import UltravectError
from ultravect.core.kinds.sqlite.dialect import SqliteDialect
from ultravect.core.kinds.sqlite.settings import SqliteSettings
from ultravect.core.kinds.sqlite.types import judged
from ultravect.core.loading.answers import count_rows
from ultravect.core.loading.defaults import constant_default
from ultravect.core.loading.local.local_database import LocalDatabase
from ultravect.core.loading.local.local_file import database_file, may_be_made
from ultravect.core.loading.local.local_load import LocalLoad
from ultravect.core.loading.questions import require_question
from ultravect.core.loading.refusals import column_gone, waiting_message
from ultravect.core.types.canonical import CanonicalType
from ultravect.core.types.stored import loose_values
from ultravect.core.types.written import plain_text
from ultravect.core.words import counted

_READING = frozenset(["SELECT", "WITH", "VALUES", "EXPLAIN", "PRAGMA"])
# what a statement may do that only reads, and the settings that it may look at
_READS = frozenset([sqlite3.SQLITE_SELECT, sqlite3.SQLITE_READ, sqlite3.SQLITE_RECURSIVE])
_SHOWN = frozenset(
    [
        "table_info", "table_xinfo", "table_list", "index_list", "index_info", "index_xinfo", "foreign_key_list",
        "foreign_key_check", "database_list", "collation_list", "function_list", "compile_options", "encoding",
        "user_version", "schema_version", "application_id", "page_count", "page_size", "integrity_check", "quick_check",
    ]
)  # fmt: skip
_UNSAFE_FUNCTIONS = frozenset(["load_extension", "fts3_tokenizer", "readfile", "writefile", "edit"])
# what statements of a job's own must not do: reach other files, change settings, or end the load's transaction
_LEAVES = frozenset(
    [
        sqlite3.SQLITE_ATTACH, sqlite3.SQLITE_DETACH, sqlite3.SQLITE_PRAGMA, sqlite3.SQLITE_TRANSACTION,
        sqlite3.SQLITE_SAVEPOINT,
    ]
)  # fmt: skip


def _may_read(action: int, first: str | None, second: str | None, database: str | None, trigger: str | None) -> int:
    """An authorizer: what it denies cannot be compiled, however it is written."""
    allowed = action in _READS
    if action == sqlite3.SQLITE_FUNCTION:
        allowed = (second or "").lower() not in _UNSAFE_FUNCTIONS
    elif action == sqlite3.SQLITE_PRAGMA:
        allowed = (first or "").lower() in _SHOWN
    return sqlite3.SQLITE_OK if allowed else sqlite3.SQLITE_DENY


def _may_write_here(action: int, first: str | None, second: str | None, *_: object) -> int:
    refused = action in _LEAVES or (action == sqlite3.SQLITE_FUNCTION and (second or "").lower() in _UNSAFE_FUNCTIONS)
    return sqlite3.SQLITE_DENY if refused else sqlite3.SQLITE_OK


_SYNTAX = ("syntax error", "incomplete input", "one statement", "unrecognized token")
_HELD = {
    frozenset(["integer"]): CanonicalType("bigint"),
    frozenset(["real"]): CanonicalType("double"),
    frozenset(["text"]): CanonicalType("text"),
    frozenset(): CanonicalType("text"),
    frozenset(["blob"]): CanonicalType("binary"),
}
_SHORT_WAIT = 300  # milliseconds
_DESCRIBE_SECONDS = 60.0
_BLOCK_ROWS = 20_000
# a key of one whole number is the row's own place
_INDEXED = """
SELECT DISTINCT c.name FROM pragma_index_list(?1) i JOIN pragma_index_info(i.name) c WHERE c.seqno = 0 AND NOT i.partial
UNION SELECT name FROM pragma_table_info(?1) WHERE pk = 1
"""
_REFERENCES = """
SELECT DISTINCT m.name, coalesce(r.name, f."table") FROM sqlite_schema m JOIN pragma_foreign_key_list(m.name) f
  LEFT JOIN sqlite_schema r ON lower(r.name) = lower(f."table") AND r.type = 'table'
WHERE m.type = 'table' AND lower(m.name) <> lower(f."table")
"""
_TABLES = """
SELECT name, type FROM sqlite_schema
WHERE type IN ('table', 'view') AND name NOT LIKE 'sqlite\\_%' ESCAPE '\\'
  AND instr(lower(name), lower(?)) > 0 AND name > ? ORDER BY name LIMIT ?
"""
_COLLATIONS = """
SELECT x.name, x.coll FROM pragma_index_list(?) l JOIN pragma_index_xinfo(l.name) x WHERE x.key AND x.name IS NOT NULL
"""


class SqliteLoad(LocalLoad):
    """See ``LocalLoad``."""

    def __init__(
        self,
        session: sqlite3.Connection,
        dialect: Dialect,
        order: LoadOrder,
    ) -> None:
        self._session, self._statements = session, _Statements(session)
        super().__init__(dialect, order)
        names = ", ".join(dialect.quote(column.name) for column in order.sent)
        marks = ", ".join("?" * len(order.sent))
        self._statement = f"INSERT INTO {self._into} ({names}) VALUES ({marks})"

    def _begin(self) -> None:
        begin = "BEGIN IMMEDIATE"  # takes the lock before rows are read, not when the first is written
        try:
            self._execute(f"PRAGMA busy_timeout = {_SHORT_WAIT}")
            self._execute(begin)
        except sqlite3.OperationalError as error:
            if "locked" not in str(error):
                raise
            self._order.notify(waiting_message(self._order))
            self._execute(f"PRAGMA busy_timeout = {int(self._order.lock_seconds * 1000)}")
            self._execute(begin)

    def _stage(self) -> None:
        # as declared, and with the collations that indexes name; CREATE TABLE AS would rename a column called TRUE
        declared = dict(
            self._session.execute("SELECT name, type FROM pragma_table_xinfo(?)", (self._order.table.name,))
        )
        for column in self._order.columns:
            if column.name not in declared:
                raise column_gone(self._order, column.name)
        collated = dict(self._session.execute(_COLLATIONS, (self._order.table.name,)))
        parts = [
            f"{self._dialect.quote(column.name)} {declared[column.name]} COLLATE {collated.get(column.name, 'BINARY')}"
            for column in self._order.columns
        ]
        self._execute(f"CREATE TEMPORARY TABLE {STAGED} ({', '.join(parts)}, {ROW} INTEGER)")

    def _run_own(self, statements: Sequence[str]) -> None:
        self._session.set_authorizer(_may_write_here)
        try:
            super()._run_own(statements)
        finally:
            self._session.set_authorizer(None)

    def _execute(self, statement: str) -> Sequence[Any] | None:
        row: Sequence[Any] | None = self._session.execute(statement).fetchone()
        return row

    def _refusal(self, error: Exception) -> str | None:
        return str(error) if isinstance(error, sqlite3.IntegrityError) else None

    def _has(self, table: TableName) -> bool:
        return _has_table(self._session, table.name)

    def _insert(self, batch: pa.RecordBatch) -> int:
        columns = [_bound(array).to_pylist() for array in batch.columns]
        return self._session.executemany(self._statement, zip(*columns, strict=True)).rowcount


class _Statements:
    """See ``Statements``."""

    def __init__(self, session: sqlite3.Connection) -> None:
        self._session = session

    def rows(self, statement: str) -> Sequence[Sequence[Any]]:
        return self._session.execute(statement).fetchall()

    def changed(self, statement: str) -> int:
        return self._session.execute(statement).rowcount


def _held_type(kinds: str | None) -> CanonicalType | None:
    """The type that takes values of these kinds as they are; None where only text takes all of them."""
    found = frozenset((kinds or "").split(",")) - {"null", ""}
    return _HELD.get(found)


def _has_table(session: sqlite3.Connection, name: str) -> bool:
    found = session.execute("SELECT 1 FROM sqlite_schema WHERE type = 'table' AND name = ?", (name,)).fetchone()
    return found is not None


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


class _Noting(sqlite3.Connection):
    """A connection that notes what it runs: see ``contracts/statements.py``."""

    def execute(self, statement: str, parameters: Any = (), /) -> sqlite3.Cursor:
        with noted(statement) as ran:
            cursor = super().execute(statement, parameters)
            ran.rows = cursor.rowcount
        return cursor

    def executemany(self, statement: str, parameters: Any, /) -> sqlite3.Cursor:
        with noted(statement) as ran:
            cursor = super().executemany(statement, parameters)
            ran.rows = cursor.rowcount
        return cursor


class SqliteDatabase(LocalDatabase):
    """See ``Database``."""

    _begin = "BEGIN IMMEDIATE"

    def __init__(self, name: str, settings: SqliteSettings, roots: Sequence[str]) -> None:
        super().__init__(name, settings, roots)
        self.dialect = SqliteDialect()

    @contextmanager
    def _session(self, doing: str, *, write: bool = False) -> Iterator[sqlite3.Connection]:
        if self._settings.create and may_be_made(self._name, self._settings.path, self._roots):
            # nothing was loaded into it yet: to readers it is an empty database
            source = f"file:{quote(self._settings.path)}?mode=rwc" if write else "file::memory:"
        else:
            path = database_file(self._name, self._settings.path, self._roots)
            source = f"file:{quote(str(path))}?mode={'rw' if write else 'ro'}"
        try:
            with closing(
                sqlite3.connect(source, uri=True, timeout=10, isolation_level=None, factory=_Noting)
            ) as session:
                # what a file's own schema defines is not trusted; foreign keys are checked where the database itself says so
                session.execute("PRAGMA trusted_schema = 0")
                if not write:
                    session.execute("PRAGMA query_only = 1")
                # bytes that are not UTF-8 must not end everything
                session.text_factory = lambda data: data.decode("utf-8", "backslashreplace")
                yield session
        except sqlite3.Error as error:
            raise self._explained(error, doing) from None

    def _explained(self, error: sqlite3.Error, doing: str) -> UltravectError:
        text = str(error)
        if "not a database" in text or "malformed" in text:
            return UltravectError(
                "file-not-database",
                f"connection {self._name}: {self._settings.path} is not a whole SQLite database: {text}",
                hint="check the path; if it is right, the file is damaged or encrypted",
                connection=self._name,
            )
        if "locked" in text or "busy" in text:
            return UltravectError(
                "database-busy",
                f"connection {self._name}: another program has {self._settings.path} locked, while {doing}",
                hint="try again when it is done",
                connection=self._name,
            )
        if "disk is full" in text:
            return UltravectError(
                "target-full",
                f"connection {self._name}: there is no room on the disk of {self._settings.path}, while {doing}",
                hint="free disk space in the target",
                connection=self._name,
            )
        if "interrupted" in text:
            return UltravectError(
                "time-limit",
                f"connection {self._name}: it took too long, while {doing}",
                hint="ask for less, or raise the limit",
                connection=self._name,
            )
        if isinstance(error, sqlite3.IntegrityError):
            return UltravectError(
                "constraint-refused",
                f"connection {self._name}, while {doing}: {text}",
                hint="fix the source or the constraint, or tolerate such rows with into.rejects",
                connection=self._name,
            )
        code = "read-only" if "readonly" in text or "not authorized" in text else "database-error"
        return UltravectError(
            code,
            f"connection {self._name}, while {doing}: {text}",
            hint="check table and column names with `ultravect look`",
            connection=self._name,
        )

    def _described(self, session: sqlite3.Connection) -> str:
        (tables,) = session.execute("SELECT count(*) FROM sqlite_schema").fetchone()
        return f"SQLite {sqlite3.sqlite_version}, {counted(tables, 'object')} in its catalogue"

    def _finding(self, table: TableName) -> str:
        return f"SELECT 1 FROM sqlite_schema WHERE name = {self.dialect.literal(table.name)}"

    def may_create(self, name: TableName) -> str:
        if (name.schema or "main").lower() != "main":
            return f"a SQLite database has no schema {name.schema!r}"
        return self._write_obstacle()

    @property
    def database(self) -> SqliteDatabase:
        return self

    def count(self, name: TableName) -> int | None:
        return count_rows(self, name)

    @contextmanager
    def load(self, order: LoadOrder) -> Iterator[SqliteLoad]:
        with self._session(f"loading {order.source} into {order.table}", write=True) as session:
            try:
                yield SqliteLoad(session, self.dialect, order)
            finally:
                if session.in_transaction:
                    session.execute("ROLLBACK")

    @contextmanager
    def transaction(self, table: TableName, doing: str) -> Iterator[Statements]:
        with self._session(doing, write=True) as session:
            session.execute("BEGIN IMMEDIATE")
            try:
                yield _Statements(session)
                session.execute("COMMIT")
            finally:
                if session.in_transaction:
                    session.execute("ROLLBACK")

    def tables(self, search: str, after: str, limit: int) -> Sequence[TableInfo]:
        with self._session("listing tables") as session:
            found = session.execute(_TABLES, (search, after, limit)).fetchall()
            estimates = self._estimates(session)
        return [TableInfo(name, kind, estimates.get(name), "", TableName(None, name)) for name, kind in found]

    def _own(self) -> Database:
        return self

    def references(self) -> Sequence[Reference]:
        with self._session("reading the foreign keys") as session:
            found = session.execute(_REFERENCES).fetchall()
        return [Reference(TableName(None, table), TableName(None, referred)) for table, referred in found]

    @staticmethod
    def _estimates(session: sqlite3.Connection) -> dict[str, int]:
        """Row counts that ANALYZE has left, where it was run."""
        try:
            return {
                name: int(text.split()[0])
                for name, text in session.execute("SELECT tbl, max(stat) FROM sqlite_stat1 GROUP BY tbl")
            }
        except (sqlite3.Error, ValueError, AttributeError, IndexError):
            return {}

    def table(self, name: TableName) -> LiveTable | None:
        with self._session(f"reading the columns of {name}") as session:
            row = session.execute(
                "SELECT name, type FROM sqlite_schema WHERE lower(name) = lower(?) AND type IN ('table', 'view')",
                (name.name,),
            ).fetchone()
            if row is None or (name.schema or "main").lower() != "main":
                return None
            columns = [
                LiveColumn(
                    column,
                    native,
                    native.lower(),
                    self.dialect.to_canonical(native),
                    not required,
                    default is not None,
                    hidden in (2, 3),
                    key=bool(key),
                    default=constant_default(default),
                )
                for _, column, native, required, default, key, hidden in session.execute(
                    "SELECT * FROM pragma_table_xinfo(?)", (row[0],)
                )
                if hidden != 1
            ]
            columns = judged(session, self.dialect.quote(row[0]), self.dialect, columns)
            estimate = self._estimates(session).get(row[0])
            unique = [
                frozenset(name for (name,) in session.execute("SELECT name FROM pragma_index_info(?)", (index,)))
                for (index,) in session.execute(
                    'SELECT name FROM pragma_index_list(?) WHERE "unique" AND NOT partial', (row[0],)
                ).fetchall()
            ]
            indexed = session.execute(_INDEXED, (row[0],)).fetchall()
            if keyed := frozenset(column.name for column in columns if column.key):
                unique.append(keyed)
        return LiveTable(
            TableName(None, row[0]),
            row[1],
            columns,
            self._granted(),
            estimate,
            unique=unique,
            indexed=frozenset(name for (name,) in indexed),
        )

    def ask(self, sql: str, limit: int, seconds: float) -> Answer:
        question = require_question(self._name, self.dialect, sql, _READING)
        with self._session("answering the question") as session:
            session.set_authorizer(_may_read)
            watch = threading.Timer(seconds, session.interrupt)
            watch.start()
            try:
                cursor = session.execute(question.text)
                rows = [list(row) for row in cursor.fetchmany(limit + 1)]
            except sqlite3.ProgrammingError as error:
                raise UltravectError(
                    "question-refused",
                    f"connection {self._name}: the database does not take the question: {error}",
                    hint="only one statement can be asked at a time",
                    connection=self._name,
                ) from None
            finally:
                watch.cancel()
            names = [item[0] for item in cursor.description or ()]
        return Answer(names, rows[:limit], len(rows) > limit, [""] * len(names))

    def objection(self, statement: str) -> Objection | None:
        with self._session("parsing a statement") as session:
            try:
                session.set_authorizer(_may_write_here)
                session.execute(f"EXPLAIN {statement}").fetchall()
            except (sqlite3.OperationalError, sqlite3.ProgrammingError, sqlite3.Warning) as error:
                return Objection(str(error), any(word in str(error) for word in _SYNTAX))
        return None

    def columns_of(self, query: str) -> Sequence[LiveColumn]:
        # a query's columns have no declared type: the values themselves say
        asked = f"(\n{require_question(self._name, self.dialect, query, _READING).text}\n)"
        names = self.ask(f"SELECT * FROM {asked} LIMIT 0", 1, _DESCRIBE_SECONDS).columns
        plain = len({name.lower() for name in names}) == len(names)
        shown = ", ".join(f"group_concat(DISTINCT typeof({self.dialect.quote(name)}))" for name in names)
        kinds = (
            self.ask(f"SELECT {shown} FROM {asked}", 1, _DESCRIBE_SECONDS).rows[0] if plain else [None] * len(names)
        )
        return [
            LiveColumn(name, "", "", _held_type(kind), True, False) for name, kind in zip(names, kinds, strict=True)
        ]

    def read(
        self, statement: str, types: Sequence[CanonicalType], doing: str, snapshot: str = ""
    ) -> Iterator[pa.Table]:
        with self._session(doing) as session:
            session.set_authorizer(_may_read)
            session.text_factory = str
            names = [str(position) for position in range(len(types))]
            cursor = session.execute(statement)
            while rows := cursor.fetchmany(_BLOCK_ROWS):
                columns = [
                    loose_values(values, kind) for values, kind in zip(zip(*rows, strict=True), types, strict=True)
                ]
                yield pa.table(columns, names=names)
