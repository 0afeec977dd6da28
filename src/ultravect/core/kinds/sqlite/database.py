"""SQLite: a database in a file, opened for writing only by loads."""

from __future__ import annotations

import sqlite3
import threading
from collections.abc import Callable, Iterator, Sequence
from contextlib import AbstractContextManager, closing, contextmanager
from urllib.parse import quote

import pyarrow as pa

from ultravect.core.contracts.catalogue import Answer, LiveColumn, LiveTable, Objection, Reference, TableInfo
from ultravect.core.contracts.write_plan import Attempt
from ultravect.core.dialects.base import TableName
from ultravect.core.errors import UltravectError
from ultravect.core.kinds.sqlite.dialect import SqliteDialect
from ultravect.core.kinds.sqlite.kind import SqliteSettings
from ultravect.core.kinds.sqlite.session import (
    NotingConnection,
    may_read,
    may_write_here,
)
from ultravect.core.kinds.sqlite.types import judged
from ultravect.core.kinds.sqlite.write import SqliteSession
from ultravect.core.loading.defaults import constant_default
from ultravect.core.loading.local.local_database import LocalDatabase
from ultravect.core.loading.local.local_file import database_file, may_be_made
from ultravect.core.loading.questions import require_question
from ultravect.core.loading.refusals import doing_of
from ultravect.core.loading.shared_loads import SharedLoads
from ultravect.core.types.canonical import CanonicalType
from ultravect.core.types.stored import loose_values
from ultravect.core.words import counted

_READING = frozenset(["SELECT", "WITH", "VALUES", "EXPLAIN", "PRAGMA"])
_SYNTAX = ("syntax error", "incomplete input", "one statement", "unrecognized token")
_HELD = {
    frozenset(["integer"]): CanonicalType("bigint"),
    frozenset(["real"]): CanonicalType("double"),
    frozenset(["text"]): CanonicalType("text"),
    frozenset(): CanonicalType("text"),
    frozenset(["blob"]): CanonicalType("binary"),
}


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
SELECT name, coalesce((SELECT CASE l.type WHEN 'virtual' THEN 'virtual table' WHEN 'shadow' THEN 'table of a virtual table' ELSE l.type END
  FROM pragma_table_list l WHERE l.schema = 'main' AND l.name = s.name), type) FROM sqlite_schema s
WHERE type IN ('table', 'view') AND name NOT LIKE 'sqlite\\_%' ESCAPE '\\'
  AND instr(lower(name), lower(?)) > 0 AND name > ? ORDER BY name LIMIT ?
"""


def _held_type(kinds: str | None) -> CanonicalType | None:
    """The type that takes values of these kinds as they are; None where only text takes all of them."""
    found = frozenset((kinds or "").split(",")) - {"null", ""}
    return _HELD.get(found)


class SqliteDatabase(LocalDatabase):
    """See ``Database``."""

    _begin = "BEGIN IMMEDIATE"

    def __init__(self, name: str, settings: SqliteSettings, roots: Sequence[str]) -> None:
        super().__init__(name, settings, roots)
        self.dialect = SqliteDialect()

    @contextmanager
    def session(self, doing: str, *, write: bool = False) -> Iterator[sqlite3.Connection]:
        if self._settings.create and may_be_made(self._name, self._settings.path, self._roots):
            # nothing was loaded into it yet: to readers it is an empty database
            source = f"file:{quote(self._settings.path)}?mode=rwc" if write else "file::memory:"
        else:
            path = database_file(self._name, self._settings.path, self._roots)
            source = f"file:{quote(str(path))}?mode={'rw' if write else 'ro'}"
        try:
            with closing(
                sqlite3.connect(source, uri=True, timeout=10, isolation_level=None, factory=NotingConnection)
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

    def finding(self, table: TableName) -> str:
        return f"SELECT 1 FROM sqlite_schema WHERE lower(name) = lower({self.dialect.literal(table.name)})"

    def may_create(self, name: TableName) -> str:
        if (name.schema or "main").lower() != "main":
            return f"a SQLite database has no schema {name.schema!r}"
        return self._write_obstacle()

    @property
    def database(self) -> SqliteDatabase:
        return self

    def is_taken(self, error: Exception) -> bool:
        return isinstance(error, sqlite3.IntegrityError)

    @contextmanager
    def write(self, attempt: Attempt) -> Iterator[SqliteSession]:
        with self.session(doing_of(attempt), write=True) as session:
            try:
                yield SqliteSession(session, self.dialect, attempt)
            finally:
                if session.in_transaction:
                    session.execute("ROLLBACK")

    def tables(self, search: str, after: str, limit: int) -> Sequence[TableInfo]:
        with self.session("listing tables") as session:
            found = session.execute(_TABLES, (search, after, limit)).fetchall()
            estimates = self._estimates(session)
        return [TableInfo(name, kind, estimates.get(name), "", TableName(None, name)) for name, kind in found]

    def references(self) -> Sequence[Reference]:
        with self.session("reading the foreign keys") as session:
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

    @property
    def windows(self) -> Callable[[Sequence[Attempt]], AbstractContextManager[SharedLoads]]:
        def opens(attempt: Attempt) -> AbstractContextManager[sqlite3.Connection]:
            return self.session(doing_of(attempt), write=True)

        return lambda attempts: SharedLoads(
            opens, lambda session, attempt: SqliteSession(session, self.dialect, attempt), keeps=False
        ).opened()

    def table(self, name: TableName) -> LiveTable | None:
        with self.session(f"reading the columns of {name}") as session:
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
        with self.session("answering the question") as session:
            session.set_authorizer(may_read)
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
        with self.session("parsing a statement") as session:
            try:
                session.set_authorizer(may_write_here)
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
        with self.session(doing) as session:
            session.set_authorizer(may_read)
            session.text_factory = str
            names = [str(position) for position in range(len(types))]
            cursor = session.execute(statement)
            while rows := cursor.fetchmany(_BLOCK_ROWS):
                columns = [
                    loose_values(values, kind) for values, kind in zip(zip(*rows, strict=True), types, strict=True)
                ]
                yield pa.table(columns, names=names)
