"""MariaDB or MySQL as the place that a connection names."""

from __future__ import annotations

import secrets
from collections.abc import Iterator, Mapping, Sequence
from contextlib import AbstractContextManager, contextmanager
from typing import Any

import MySQLdb
import MySQLdb.cursors
import pyarrow as pa
from MySQLdb.constants import ER

from ultravect.core.contracts.catalogue import (
    PRIVILEGES,
    Answer,
    LiveCheck,
    LiveColumn,
    LiveTable,
    Objection,
    Reference,
    TableInfo,
)
from ultravect.core.contracts.probe import SUPERUSER, Step, network_steps
from ultravect.core.contracts.target import NEEDS, Remark, SwapNeeds
from ultravect.core.contracts.write_plan import Attempt
from ultravect.core.contracts.write_session import Statements
from ultravect.core.dialects.base import Dialect, TableName
from ultravect.core.dialects.statements import Statement
from ultravect.core.errors import UltravectError
from ultravect.core.kinds.mariadb import catalogue
from ultravect.core.kinds.mariadb.dialect import MariadbDialect
from ultravect.core.kinds.mariadb.guard import cipher
from ultravect.core.kinds.mariadb.kind import MariadbSettings
from ultravect.core.kinds.mariadb.ledger import MariadbLedger
from ultravect.core.kinds.mariadb.read import native_of, read_rows
from ultravect.core.kinds.mariadb.session import IdleSession, SessionStatements, session, sign_in, transaction
from ultravect.core.kinds.mariadb.staging import first_row, session_locks, swap_obstacle
from ultravect.core.kinds.mariadb.transfer import file_settings, remarks_of
from ultravect.core.kinds.mariadb.write import MariadbSession, open_session
from ultravect.core.loading.defaults import constant_default
from ultravect.core.loading.questions import answer_columns, require_question, table_gone
from ultravect.core.loading.usual_database import UsualDatabase
from ultravect.core.types.canonical import CanonicalType
from ultravect.core.words import counted

_READING = frozenset(["SELECT", "WITH", "VALUES", "TABLE", "SHOW", "DESCRIBE", "DESC", "EXPLAIN"])


class MariadbDatabase(UsualDatabase):
    """See ``Database``."""

    def __init__(self, name: str, settings: MariadbSettings, roots: Sequence[str]) -> None:
        self._name = name
        self._settings = settings
        self._idle = IdleSession(name, settings)
        self.dialect: Dialect = MariadbDialect()
        self.needs: Mapping[str, frozenset[str]] = {
            **NEEDS,
            "overwrite": NEEDS["overwrite"] | {"CREATE", "ALTER", "DROP"},
            "upsert": NEEDS["upsert"] | {"CREATE", "DROP"},
        }

    def _rows(self, doing: str, sql: str, values: Sequence[Any] = ()) -> list[tuple[Any, ...]]:
        with self._idle.session(doing) as opened, opened.cursor() as cursor:
            cursor.execute(sql, values)
            return list(cursor.fetchall())

    def steps(self) -> Sequence[Step]:
        settings = self._settings

        def signed_in() -> str:
            ((version, user),) = self._rows("asking for the server's version", "SELECT version(), current_user()")
            with session(self._name, settings, "asking for the encryption") as opened:
                used = cipher(opened)
            encrypted = f"encrypted with {used}" if used else "not encrypted"
            seen = f"{version}, database {settings.database}, as user {user}, {encrypted}"
            return seen + (SUPERUSER if self._may_everything() else "")

        def read() -> str:
            found = self.tables("", "", 1)
            if not found:
                return "there is no table that this user may read yet"
            self._rows("reading a row", f"SELECT 1 FROM {self.dialect.quote(found[0].name)} LIMIT 1")
            return f"{found[0].name} can be read"

        def listed() -> str:
            count = len(self.tables("", "", 100_000))
            return f"{counted(count, 'table or view', 'tables and views')} can be seen"

        return [
            *network_steps(self._name, settings.host, settings.port),
            Step("sign in", signed_in),
            Step("list", listed),
            Step("read", read),
        ]

    def _may_everything(self) -> bool:
        wanted = "SELECT count(*) FROM information_schema.user_privileges WHERE privilege_type IN ('SUPER', 'FILE')"
        return bool(self._rows("reading the user's privileges", wanted)[0][0])

    def write_steps(self) -> Sequence[Step]:
        def written() -> str:
            schema = self._settings.staging or self._settings.database
            name = self.dialect.table(TableName(schema, f"ultravect_test_{secrets.token_hex(6)}"))
            with (
                session(self._name, self._settings, "creating a table in the staging place") as opened,
                opened.cursor() as cursor,
            ):
                cursor.execute(f"CREATE TABLE {name} (a int)")
                cursor.execute(f"DROP TABLE {name}")
                allowed, _ = file_settings(opened)
            slow = "" if allowed else "; rows are sent by INSERT, since local_infile is off: some five times slower"
            return f"a table was created in {schema} and dropped again{slow}"

        return [Step("write", written)]

    def tables(self, search: str, after: str, limit: int) -> Sequence[TableInfo]:
        return [
            TableInfo(name, catalogue.KINDS.get(kind, kind.lower()), rows, comment, TableName(None, name))
            for name, kind, rows, comment in self._rows("listing tables", catalogue.LIST, (search, after, limit))
        ]

    def references(self) -> Sequence[Reference]:
        found = self._rows("reading the foreign keys", catalogue.REFERENCES, ())
        return [Reference(TableName(None, table), TableName(None, referred)) for table, referred in found]

    def table(self, name: TableName) -> LiveTable | None:
        return self._described(name, whole=True)

    def _described(self, name: TableName, *, whole: bool) -> LiveTable | None:
        """``whole`` False: without privileges, indexes and checks."""
        doing = f"reading the columns of {name}"
        found = self._rows(doing, catalogue.FIND, (name.schema, name.name))
        if not found:
            return None
        schema, table, kind, rows, comment = found[0]
        columns = [
            LiveColumn(
                column,
                native,
                base,
                self.dialect.to_canonical(native),
                bool(nullable),
                bool(has_default),
                bool(generated),
                bool(key),
                summary,
                constant_default(default, backslash=True),
            )
            for column, native, base, nullable, has_default, generated, key, summary, default in self._rows(
                doing, catalogue.COLUMNS, (schema, table)
            )
        ]
        shown = None if schema == self._settings.database else schema
        kind, shown_name = catalogue.KINDS.get(kind, kind.lower()), TableName(shown, table)
        if not whole:
            return LiveTable(shown_name, kind, columns, rows=rows, comment=comment)
        granted = self._privileges(schema, table)
        unique = [frozenset(names.split("\0")) for (names,) in self._rows(doing, catalogue.UNIQUE, (schema, table))]
        return LiveTable(
            shown_name,
            kind,
            columns,
            granted,
            rows,
            comment,
            unique,
            checks=self._checks(schema, table),
            indexed=frozenset(name for (name,) in self._rows(doing, catalogue.INDEXED, (schema, table))),
        )

    def _checks(self, schema: str, table: str) -> Sequence[LiveCheck]:
        try:
            found = self._rows("reading checks", catalogue.CHECKS, (schema, table))
        except UltravectError:
            return ()  # MySQL does not say there whose they are
        return [LiveCheck(name, condition) for name, condition in found]

    def ask(self, sql: str, limit: int, seconds: float) -> Answer:
        question = self._question(sql)
        with session(self._name, self._settings, "answering the question") as opened:
            with opened.cursor() as cursor:
                self._limit(cursor, seconds)
                cursor.execute("START TRANSACTION READ ONLY")
            # streamed: a large answer is never held whole
            cursor = opened.cursor(MySQLdb.cursors.SSCursor)
            cursor.execute(question.text)
            rows = [list(row) for row in cursor.fetchmany(limit + 1)]
            described, flags = cursor.description or (), cursor.description_flags or ()
        if not described:
            raise UltravectError(
                "question-refused", f"connection {self._name}: the statement gives no rows", connection=self._name
            )
        natives = [native_of(entry, flag) for entry, flag in zip(described, flags, strict=True)]
        return Answer([item[0] for item in described], rows[:limit], len(rows) > limit, natives)

    def _question(self, sql: str) -> Statement:
        question = require_question(self._name, self.dialect, sql, _READING)
        if "INTO" in question.words:
            raise UltravectError(
                "question-refused",
                f"connection {self._name}: INTO would write the answer somewhere; the answer is shown here",
                hint="take INTO out of the question",
                connection=self._name,
            )
        return question

    def objection(self, statement: str) -> Objection | None:
        with session(self._name, self._settings, "parsing a statement") as opened, opened.cursor() as cursor:
            try:
                cursor.execute(f"PREPARE ultravect_statement FROM {self.dialect.literal(statement)}")
            except MySQLdb.Error as error:
                number, message = error.args[0], str(error.args[-1])
                if number == ER.UNSUPPORTED_PS:
                    return None  # it is understood, and can only be tried
                return Objection(message, number == ER.PARSE_ERROR)
        return None

    def columns_of(self, query: str) -> Sequence[LiveColumn]:
        question = self._question(query)
        doing = "reading the columns of the query"
        with session(self._name, self._settings, doing) as opened, opened.cursor() as cursor:
            cursor.execute("START TRANSACTION READ ONLY")
            cursor.execute(f"SELECT * FROM (\n{question.text}\n) q LIMIT 0")
            shown = zip(cursor.description, cursor.description_flags, strict=True)
            natives = [(entry[0], native_of(entry, flags)) for entry, flags in shown]
        return answer_columns(self.dialect, natives)

    def read(
        self, statement: str, types: Sequence[CanonicalType], doing: str, snapshot: str = ""
    ) -> Iterator[pa.Table]:
        # without converters the C client gives bytes as they came, which kernels convert
        with session(self._name, self._settings, doing, use_unicode=False, conv={}) as opened:
            yield from read_rows(opened, statement, types)

    def may_create(self, name: TableName) -> str:
        schema = name.schema or self._settings.database
        if not self._rows(
            "looking for the database", "SELECT 1 FROM information_schema.schemata WHERE schema_name = %s", (schema,)
        ):
            return f"there is no database {schema!r}"
        return (
            ""
            if "CREATE" in self._privileges_listed(schema)
            else f"user {self._settings.user!r} may not create tables in {schema!r}"
        )

    def _privileges(self, schema: str, table: str) -> frozenset[str]:
        return self._privileges_listed(schema, table) & (PRIVILEGES | {"CREATE", "ALTER", "DROP"})

    def _privileges_listed(self, schema: str, table: str | None = None) -> frozenset[str]:
        """What the catalogue lists for the user; it lists the privileges of roles in force too."""
        listed = self._rows(f"reading the privileges for {schema}", catalogue.PRIVILEGES, (schema, schema, table))
        return frozenset(privilege for (privilege,) in listed)

    def ledger(self, table: TableName) -> MariadbLedger:
        return MariadbLedger(self._name, self._settings, self.dialect, table)

    @property
    def database(self) -> MariadbDatabase:
        return self

    def remarks(self) -> Sequence[Remark]:
        with self._idle.session("asking how rows may be sent") as opened:
            return remarks_of(self._name, opened)

    def swap_obstacle(self, live: LiveTable, needs: SwapNeeds) -> str:
        if "LOCK TABLES" not in self._privileges_listed(live.name.schema or self._settings.database):
            return "the user may not keep other writers away meanwhile: it lacks LOCK TABLES"
        with session(self._name, self._settings, f"looking whether {live.name} can be replaced") as opened:
            rows = SessionStatements(opened).rows
            return swap_obstacle(lambda statement: next(iter(rows(statement)), None), self.dialect, live, needs)

    @contextmanager
    def write(self, attempt: Attempt) -> Iterator[MariadbSession]:
        live = self._described(attempt.plan.table, whole=False)
        if attempt.plan.create is None and live is None:
            raise table_gone(self._name, attempt.plan.table)
        opened = sign_in(self._name, self._settings, local_infile=1)

        # of a load: its own session, one that keeps others away, and one that hands the table over
        names = iter(session_locks(attempt.key) if attempt.key is not None else ())

        def named(signed_in: Any) -> Any:
            if name := next(names, ""):
                first_row(signed_in, f"DO GET_LOCK('{name}', 0)")
            return signed_in

        def another() -> Any:
            return named(sign_in(self._name, self._settings))

        named(opened)
        staging = self._settings.staging
        with open_session(opened, self._name, self.dialect, attempt, live, staging, another) as writing:
            yield writing

    def transaction(self, table: TableName, doing: str) -> AbstractContextManager[Statements]:
        return transaction(self._name, self._settings, doing)

    def drop(self, table: TableName) -> None:
        with session(self._name, self._settings, f"dropping {table}") as opened:
            SessionStatements(opened).changed(f"DROP TABLE IF EXISTS {self.dialect.table(table)}")

    @staticmethod
    def _limit(cursor: Any, seconds: float) -> None:
        """Both families have a limit of their own for a statement's time."""
        cursor.execute("SELECT version()")
        if "mariadb" in str(cursor.fetchone()[0]).lower():
            cursor.execute("SET SESSION max_statement_time = %s", (seconds,))
        else:
            cursor.execute("SET SESSION max_execution_time = %s", (int(seconds * 1000),))
