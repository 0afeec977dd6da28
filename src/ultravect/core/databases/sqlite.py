"""SQLite: a database in a file, opened for reading only."""

from __future__ import annotations

import sqlite3
import threading
from collections.abc import Iterator, Sequence
from contextlib import closing, contextmanager
from urllib.parse import quote

from ultravect.core.databases.base import Answer, LiveColumn, LiveTable, TableInfo
from ultravect.core.databases.local_file import database_file, file_steps, refuse_writing
from ultravect.core.databases.questions import require_reading
from ultravect.core.dialects.base import Dialect, TableName
from ultravect.core.dialects.sqlite import SqliteDialect
from ultravect.core.errors import UltravectError
from ultravect.core.model.connection import SqliteSettings
from ultravect.core.probe import Step
from ultravect.core.words import counted

_READING = ("select", "with", "values", "explain", "pragma")
_TABLES = """
SELECT name, type FROM sqlite_schema
WHERE type IN ('table', 'view') AND name NOT LIKE 'sqlite\\_%' ESCAPE '\\'
  AND instr(lower(name), lower(?)) > 0 AND name > ? ORDER BY name LIMIT ?
"""


class SqliteDatabase:
    """See ``Database``."""

    def __init__(self, name: str, settings: SqliteSettings, roots: Sequence[str]) -> None:
        self._name = name
        self._settings = settings
        self._roots = roots
        self.dialect: Dialect = SqliteDialect()

    @contextmanager
    def _session(self, doing: str) -> Iterator[sqlite3.Connection]:
        path = database_file(self._name, self._settings.path, self._roots)
        try:
            with closing(sqlite3.connect(f"file:{quote(str(path))}?mode=ro", uri=True, timeout=10)) as session:
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
        if "interrupted" in text:
            return UltravectError(
                "time-limit",
                f"connection {self._name}: it took too long, while {doing}",
                hint="ask for less, or raise the limit",
                connection=self._name,
            )
        code = "read-only" if "readonly" in text or "not authorized" in text else "database-error"
        return UltravectError(
            code,
            f"connection {self._name}, while {doing}: {text}",
            hint="check table and column names with `ultravect look`",
            connection=self._name,
        )

    def steps(self) -> Sequence[Step]:
        def signed_in() -> str:
            with self._session("opening the database") as session:
                (tables,) = session.execute("SELECT count(*) FROM sqlite_schema").fetchone()
            return f"SQLite {sqlite3.sqlite_version}, {counted(tables, 'object')} in its catalogue"

        def read(name: str) -> None:
            with self._session("reading a row") as session:
                session.execute(f"SELECT 1 FROM {self.dialect.quote(name)} LIMIT 1").fetchone()

        return file_steps(self._name, self._settings.path, self._roots, signed_in, self.tables, read)

    def write_steps(self) -> Sequence[Step]:
        return refuse_writing(self._name, "sqlite")

    def tables(self, search: str, after: str, limit: int) -> Sequence[TableInfo]:
        with self._session("listing tables") as session:
            found = session.execute(_TABLES, (search, after, limit)).fetchall()
            estimates = self._estimates(session)
        return [TableInfo(name, kind, estimates.get(name)) for name, kind in found]

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
                )
                for _, column, native, required, default, key, hidden in session.execute(
                    "SELECT * FROM pragma_table_xinfo(?)", (row[0],)
                )
                if hidden != 1
            ]
            estimate = self._estimates(session).get(row[0])
        return LiveTable(TableName(None, row[0]), row[1], columns, False, estimate)

    def ask(self, sql: str, limit: int, seconds: float) -> Answer:
        require_reading(self._name, sql, _READING)
        with self._session("answering the question") as session:
            watch = threading.Timer(seconds, session.interrupt)
            watch.start()
            try:
                cursor = session.execute(sql.strip().rstrip(";"))
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
            names = [one[0] for one in cursor.description or ()]
        return Answer(names, rows[:limit], len(rows) > limit, [""] * len(names))
