"""MariaDB or MySQL as the place that a connection names."""

from __future__ import annotations

import functools
import secrets
from collections.abc import Callable, Iterator, Mapping, Sequence
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
    Remark,
    TableInfo,
)
from ultravect.core.contracts.change_log import WARNINGS, ChangeLog
from ultravect.core.contracts.probe import SUPERUSER, Step, network_steps
from ultravect.core.contracts.target import NEEDS, SwapNeeds
from ultravect.core.contracts.write_plan import Attempt
from ultravect.core.contracts.write_session import Statements
from ultravect.core.dialects.base import Dialect, TableName
from ultravect.core.dialects.statements import Statement
from ultravect.core.errors import UltravectError
from ultravect.core.kinds.mariadb import catalogue
from ultravect.core.kinds.mariadb.change_log import MariadbLog, held_snapshots, reader_name
from ultravect.core.kinds.mariadb.dialect import MariadbDialect
from ultravect.core.kinds.mariadb.guard import cipher
from ultravect.core.kinds.mariadb.kind import MariadbSettings
from ultravect.core.kinds.mariadb.ledger import MariadbLedger
from ultravect.core.kinds.mariadb.read import native_of, read_rows
from ultravect.core.kinds.mariadb.session import (
    IdleSession,
    SessionStatements,
    session,
    sign_in,
    transaction,
    translated,
)
from ultravect.core.kinds.mariadb.staging import new_stage, session_locks, swap_obstacle
from ultravect.core.kinds.mariadb.transfer import file_settings, remarks_of
from ultravect.core.kinds.mariadb.write import MariadbSession, open_session, require_ledger
from ultravect.core.loading.defaults import constant_default
from ultravect.core.loading.questions import answer_columns, require_question, table_gone
from ultravect.core.loading.refusals import doing_of
from ultravect.core.loading.shared_loads import SharedLoads
from ultravect.core.loading.usual_database import UsualDatabase
from ultravect.core.types.canonical import CanonicalType
from ultravect.core.words import counted

_GRANTED = PRIVILEGES | {"CREATE", "ALTER", "DROP", "LOCK TABLES"}
_READING = frozenset(["SELECT", "WITH", "VALUES", "TABLE", "SHOW", "DESCRIBE", "DESC", "EXPLAIN"])


class MariadbDatabase(UsualDatabase):
    """See ``Database``."""

    def __init__(self, name: str, settings: MariadbSettings, roots: Sequence[str]) -> None:
        self._name = name
        self._settings = settings
        self._idle = IdleSession(name, settings)
        self._sending: tuple[bool, int] | None = None
        self.dialect: Dialect = MariadbDialect()
        self.needs: Mapping[str, frozenset[str]] = {
            **NEEDS,
            "overwrite": NEEDS["overwrite"] | {"CREATE", "ALTER", "DROP"},
            "upsert": NEEDS["upsert"] | {"CREATE", "DROP"},
        }

    def _rows(self, doing: str, sql: str, values: Sequence[Any] | Mapping[str, Any] = ()) -> list[tuple[Any, ...]]:
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
            Step("log", self._try_log),
        ]

    def _try_log(self) -> str:
        log = MariadbLog(self._name, self._settings, self.dialect, "")
        found = [remark for remark in log.lacks([]) if remark.code not in WARNINGS]
        return f"it cannot be followed: {found[0].message}" if found else f"it can be followed; {log.keeping()}"

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
            TableInfo(name, catalogue.KINDS.get(kind, kind.lower()), rows, comment, TableName(None, name), size)
            for name, kind, rows, comment, size in self._rows(
                "listing tables", catalogue.LIST, (search, after, limit)
            )
        ]

    def references(self) -> Sequence[Reference]:
        found = self._rows("reading the foreign keys", catalogue.REFERENCES, ())
        return [Reference(TableName(None, table), TableName(None, referred)) for table, referred in found]

    def table(self, name: TableName) -> LiveTable | None:
        return self._described(name, whole=True)

    def _described(self, name: TableName, *, whole: bool) -> LiveTable | None:
        """``whole`` False: without privileges, indexes and checks."""
        doing, schema = f"reading the columns of {name}", name.schema or self._settings.database
        asked = catalogue.WHOLE if whole else catalogue.BARE
        found = self._rows(doing, asked, {"schema": schema, "table": name.name})
        if not found:
            return None
        table, kind, rows, comment, privileges = found[0][:5]
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
            for *_, column, native, base, nullable, has_default, generated, key, summary, default in found
        ]
        shown = None if schema == self._settings.database else schema
        kind, shown_name = catalogue.KINDS.get(kind, kind.lower()), TableName(shown, table)
        if not whole:
            return LiveTable(shown_name, kind, columns, rows=rows, comment=comment)
        indexes: dict[str, list[str | None]] = {}
        unique = set()
        for index, repeats, column in self._rows(doing, catalogue.INDEXES, (schema, table)):
            indexes.setdefault(index, []).append(column)
            if not int(repeats):
                unique.add(index)
        return LiveTable(
            shown_name,
            kind,
            columns,
            frozenset((privileges or "").split(",")) & _GRANTED,
            rows,
            comment,
            # an index of expressions is not of columns alone
            [frozenset(map(str, names)) for index, names in indexes.items() if index in unique and None not in names],
            checks=self._checks(schema, table),
            indexed=frozenset(names[0] for names in indexes.values() if names[0] is not None),
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
        if snapshot:
            with translated(self._name, doing):
                yield from read_rows(held_snapshots[snapshot], statement, types)
            return
        # without converters the C client gives bytes as they came, which kernels convert
        with session(self._name, self._settings, doing, use_unicode=False, conv={}) as opened:
            opened.query(b"START TRANSACTION READ ONLY")
            yield from read_rows(opened, statement, types)

    def change_log(self, job: str, owner: str, publication: str) -> ChangeLog:
        return MariadbLog(self._name, self._settings, self.dialect, reader_name(job, owner))

    def may_create(self, name: TableName) -> str:
        schema = name.schema or self._settings.database
        if not self._rows(
            "looking for the database", "SELECT 1 FROM information_schema.schemata WHERE schema_name = %s", (schema,)
        ):
            return f"there is no database {schema!r}"
        # what the catalogue lists for the user; it lists the privileges of roles in force too
        listed = self._rows(
            f"reading the privileges for {schema}", catalogue.PRIVILEGES, {"schema": schema, "table": None}
        )
        return "" if ("CREATE",) in listed else f"user {self._settings.user!r} may not create tables in {schema!r}"

    def ledger(self, table: TableName) -> MariadbLedger:
        return MariadbLedger(self._name, self._settings, self.dialect, table)

    @property
    def database(self) -> MariadbDatabase:
        return self

    def remarks(self) -> Sequence[Remark]:
        with self._idle.session("asking how rows may be sent") as opened:
            self._sending = file_settings(opened)
        return remarks_of(self._name, self._sending)

    def swap_obstacle(self, live: LiveTable, needs: SwapNeeds) -> str:
        if "LOCK TABLES" not in live.granted:
            return "the user may not keep other writers away meanwhile: it lacks LOCK TABLES"
        with self._idle.session(f"looking whether {live.name} can be replaced") as opened:
            rows = SessionStatements(opened).rows
            return swap_obstacle(lambda statement: next(iter(rows(statement)), None), self.dialect, live, needs)

    @contextmanager
    def write(self, attempt: Attempt) -> Iterator[MariadbSession]:
        live = self._described(attempt.plan.table, whole=False)
        if attempt.plan.create is None and live is None:
            raise table_gone(self._name, attempt.plan.table)
        # of a load: its own session, one that keeps others away, and one that hands the table over
        names = iter(session_locks(attempt.key) if attempt.key is not None else ())

        def sets(*more: str) -> Sequence[str]:
            name, seconds = next(names, ""), max(1, int(attempt.plan.lock_seconds))
            held = [
                f"@ultravect_lock_{number} = GET_LOCK('{lock}', 0)"
                for number, lock in enumerate((name, *more))
                if lock
            ]
            return [*held, f"SESSION lock_wait_timeout = {seconds}", f"SESSION innodb_lock_wait_timeout = {seconds}"]

        def another() -> Any:
            return sign_in(self._name, self._settings, also=sets())

        stage = new_stage()
        opened = self._idle.take(sets(stage))
        try:
            sending = self._sending or file_settings(opened)
        except BaseException:
            opened.close()
            raise
        staging = self._settings.staging
        with open_session(
            opened, self._name, self.dialect, attempt, live, staging, stage, sending, another
        ) as writing:
            yield writing

    @property
    def windows(self) -> Callable[[Sequence[Attempt]], AbstractContextManager[SharedLoads]]:
        return self._windows

    @contextmanager
    def _windows(self, attempts: Sequence[Attempt]) -> Iterator[SharedLoads]:
        live = {attempt.plan.table: self._described(attempt.plan.table, whole=False) for attempt in attempts}
        seconds = max(1, int(max(attempt.plan.lock_seconds for attempt in attempts)))
        sets = (f"SESSION lock_wait_timeout = {seconds}", f"SESSION innodb_lock_wait_timeout = {seconds}")
        sending: tuple[bool, int] | None = None

        @contextmanager
        def opens(attempt: Attempt) -> Iterator[Any]:
            nonlocal sending
            opened = sign_in(self._name, self._settings, also=sets, local_infile=1)
            try:
                with translated(self._name, doing_of(attempt)):
                    sending = sending or file_settings(opened)
                    require_ledger(opened, self._name, self.dialect, attempts)
                    yield opened
            finally:
                opened.close()

        def loads(opened: Any, attempt: Attempt) -> MariadbSession:
            assert sending is not None, "it was asked when the session was opened"
            table = live[attempt.plan.table]
            another = functools.partial(sign_in, self._name, self._settings)
            return MariadbSession(opened, self._name, self.dialect, attempt, table, "", new_stage(), sending, another)

        with SharedLoads(opens, loads, keeps=True).opened() as shared:
            yield shared

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
