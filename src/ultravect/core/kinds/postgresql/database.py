"""PostgreSQL as the place that a connection names."""

from __future__ import annotations

import secrets
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import AbstractContextManager, closing, contextmanager

import pyarrow as pa
from psycopg import IsolationLevel, sql
from psycopg.errors import Error
from psycopg.pq import DiagnosticField, ExecStatus

from ultravect.core.contracts.catalogue import Answer, LiveColumn, LiveTable, Objection, Reference, Remark, TableInfo
from ultravect.core.contracts.change_log import ChangeLog
from ultravect.core.contracts.kept_sessions import kept_sessions
from ultravect.core.contracts.probe import SUPERUSER, Step
from ultravect.core.contracts.stage import Stages
from ultravect.core.contracts.target import NEEDS, SwapNeeds
from ultravect.core.contracts.write_plan import Attempt
from ultravect.core.contracts.write_session import Statements
from ultravect.core.dialects.base import Dialect, NewColumn, NewTable, TableName
from ultravect.core.errors import UltravectError
from ultravect.core.kinds.postgresql import catalogue
from ultravect.core.kinds.postgresql.abilities import Abilities, find_abilities
from ultravect.core.kinds.postgresql.catalogue import Session, SessionStatements
from ultravect.core.kinds.postgresql.change_log import PostgresqlLog, log_state, slot_name
from ultravect.core.kinds.postgresql.dialect import PostgresqlDialect
from ultravect.core.kinds.postgresql.kind import PostgresqlSettings
from ultravect.core.kinds.postgresql.ledger import LOCK_SECONDS, PostgresqlLedger
from ultravect.core.kinds.postgresql.locks import session_of
from ultravect.core.kinds.postgresql.plain_write import PlainSession, open_plain_session
from ultravect.core.kinds.postgresql.questions import BY_CURSOR, READING, answered, described
from ultravect.core.kinds.postgresql.read import read_rows, read_texts
from ultravect.core.kinds.postgresql.session import (
    explained,
    is_answering,
    is_idle,
    is_named,
    is_renewed,
    reach_steps,
    sign_in,
)
from ultravect.core.kinds.postgresql.slices import PostgresqlStages
from ultravect.core.kinds.postgresql.table_swap import swap_obstacle
from ultravect.core.kinds.postgresql.write import PostgresqlSession, PostgresqlTogether, open_session, together
from ultravect.core.loading.key_ranges import ranges
from ultravect.core.loading.questions import answer_columns, require_question
from ultravect.core.loading.usual_database import UsualDatabase
from ultravect.core.types.canonical import CanonicalType
from ultravect.core.words import counted

_SYNTAX = b"42601"


class PostgresqlDatabase(UsualDatabase):
    """See ``Database``."""

    locks_tables = truncates = True

    def __init__(self, name: str, settings: PostgresqlSettings, roots: Sequence[str] = ()) -> None:
        self._name = name
        self._settings = settings
        self._roots = roots
        self.dialect: Dialect = PostgresqlDialect()
        self.needs: Mapping[str, frozenset[str]] = {**NEEDS, "upsert": NEEDS["upsert"] | {"TEMPORARY"}}
        self._stages = PostgresqlStages(
            name, self.dialect, settings.staging, lambda doing: sign_in(name, settings, doing, roots)
        )
        self._abilities: Abilities | None = None

    @property
    def abilities(self) -> Abilities:
        """What the server can do, as it was when this was first asked; all of it where it cannot be asked: then the next step says why."""
        known, place = kept.known if (kept := kept_sessions()) else {}, ("abilities", self._place(as_new=True))
        self._abilities = self._abilities or known.get(place)
        if self._abilities is None:
            try:
                with self._session("plan", asks=True) as session:
                    self._abilities = known[place] = find_abilities(session)
            except (UltravectError, Error):
                return Abilities()
        return self._abilities

    @property
    def can_isolate(self) -> bool:
        return self.abilities.complete

    @property
    def shares_snapshots(self) -> bool:
        return self.abilities.all

    @property
    def stages(self) -> Stages | None:
        return self._stages if self.abilities.all else None

    @property
    def together(self) -> Callable[[Sequence[Attempt]], AbstractContextManager[PostgresqlTogether]] | None:
        return self._together if self.abilities.all else None

    def remarks(self) -> Sequence[Remark]:
        return self.abilities.remarks()

    @contextmanager
    def _session(self, application: str, *, asks: bool = False) -> Iterator[Session]:
        """``asks``: only the catalogue is asked in it, so that the next one may go on with it as it is."""
        kept, place = kept_sessions(), self._place(as_new=asks)
        session = self._taken(application, asks=asks)
        try:
            yield session
        except BaseException:
            session.close()
            raise
        if kept and is_idle(session):
            kept.keep(place, session)
        else:
            session.close()

    def _place(self, *, as_new: bool) -> object:
        return (PostgresqlDatabase, self._settings, tuple(self._roots), as_new)

    def _taken(self, application: str, *, asks: bool = False) -> Session:
        """A session that was kept, or a new one. ``asks``: its name does not matter."""
        if kept := kept_sessions():
            session: Session | None = kept.take(self._place(as_new=True))
            if session is not None and (is_answering(session) if asks else is_named(session, application)):
                return session
            used: Session | None = kept.take(self._place(as_new=False))
            if used is not None and is_renewed(used, application):
                return used
        return sign_in(self._name, self._settings, application, self._roots)

    def change_log(self, job: str, owner: str, publication: str) -> ChangeLog | None:
        if not self.abilities.all:
            return None
        return PostgresqlLog(self._name, self._settings, self._roots, slot_name(job, owner), publication)

    def steps(self) -> Sequence[Step]:
        return [
            *reach_steps(self._name, self._settings),
            Step("sign in", self._try_sign_in),
            Step("list", self._try_list),
            Step("read", self._try_read),
            Step("log", self._try_log),
        ]

    def _try_sign_in(self) -> str:
        with self._session("connection test") as session, explained(self._name, "asking for the server's version"):
            row = session.execute(
                "SELECT current_setting('server_version'), current_database(), current_user, "
                "coalesce((SELECT ssl FROM pg_stat_ssl WHERE pid = pg_backend_pid()), false), "
                "current_setting('is_superuser') = 'on'"
            ).fetchone()
        version, database, user, tls, superuser = row or ("", "", "", False, False)
        encrypted = "encrypted" if tls else "not encrypted"
        seen = f"PostgreSQL {str(version).split()[0]}, database {database}, as user {user}, {encrypted}"
        return seen + (SUPERUSER if superuser else "")

    def _try_list(self) -> str:
        with self._session("connection test") as session, explained(self._name, "listing tables"):
            count = len(catalogue.list_tables(session, "", "", 100_000))
        return f"{counted(count, 'table or view', 'tables and views')} can be seen"

    def _try_read(self) -> str:
        with self._session("connection test") as session, explained(self._name, "reading a row"):
            session.read_only = True
            readable = catalogue.readable_table(session)
            if readable is None:
                return "there is no table that this user may read yet"
            session.execute(f"SELECT 1 FROM {self.dialect.table(readable)} LIMIT 1".encode())
        return f"{readable} can be read"

    def _try_log(self) -> str:
        """Whether the log could be followed, and what the server keeps of it for streams that no one follows now."""
        if not self.abilities.all:
            return "a relative of PostgreSQL, whose log is not followed"
        with self._session("connection test") as session, explained(self._name, "looking at the log"):
            return log_state(session)

    def write_steps(self) -> Sequence[Step]:
        return [Step("write", self._try_write)]

    def _try_write(self) -> str:
        """Creates and drops a table where a load would stage, all in one transaction."""
        name = TableName(self._settings.staging or None, f"ultravect_test_{secrets.token_hex(6)}")
        with (
            self._session("connection test") as session,
            explained(self._name, "creating a table in the staging place"),
        ):
            new = NewTable([NewColumn("a", CanonicalType("integer"))])
            session.execute(self.dialect.create_table(name, new)[0].encode())
            session.execute(f"DROP TABLE {self.dialect.table(name)}".encode())
            row = session.execute("SELECT current_schema()").fetchone()
            session.rollback()
        schema = self._settings.staging or (row[0] if row else "")
        return f"a table was created in schema {schema} and dropped again"

    def tables(self, search: str, after: str, limit: int) -> Sequence[TableInfo]:
        with self._session("look", asks=True) as session, explained(self._name, "listing tables"):
            return catalogue.list_tables(session, search, after, limit)

    def references(self) -> Sequence[Reference]:
        with self._session("look", asks=True) as session, explained(self._name, "reading the foreign keys"):
            return catalogue.references(session)

    def table(self, name: TableName) -> LiveTable | None:
        with (
            self._session("catalogue", asks=True) as session,
            explained(self._name, f"reading the columns of {name}"),
        ):
            return catalogue.find_table(session, self.dialect, name)

    def may_create(self, name: TableName) -> str:
        with (
            self._session("catalogue", asks=True) as session,
            explained(self._name, f"reading the privileges for {name}"),
        ):
            return catalogue.create_obstacle(session, name)

    def ledger(self, table: TableName) -> PostgresqlLedger:
        home = table
        if not table.schema:
            with self._session("plan", asks=True) as session, explained(self._name, f"looking for {table}"):
                live = catalogue.find_table(session, self.dialect, table, whole=False)
                home = live.name if live else table
        return PostgresqlLedger(self._name, self.dialect, home, self._session, ends_sessions=self.abilities.complete)

    @property
    def database(self) -> PostgresqlDatabase:
        return self

    def swap_obstacle(self, live: LiveTable, needs: SwapNeeds) -> str:
        if not self.abilities.complete:
            return "the server is a relative of PostgreSQL, where rows are deleted and inserted"
        with (
            self._session("plan", asks=True) as session,
            explained(self._name, f"looking whether {live.name} can be replaced"),
        ):
            return swap_obstacle(session, self.dialect, live, self._settings.staging or live.name.schema, needs)

    @contextmanager
    def write(self, attempt: Attempt) -> Iterator[PostgresqlSession | PlainSession]:
        abilities, staging = self.abilities, self._settings.staging
        with (
            self._session(session_of(attempt.key, attempt.plan.table)) as session,
            (
                open_session(session, self._name, self.dialect, attempt, staging, binary=abilities.binary_copy)
                if abilities.complete
                else open_plain_session(session, self._name, self.dialect, attempt, abilities, staging)
            ) as opened,
        ):
            yield opened

    @contextmanager
    def _together(self, attempts: Sequence[Attempt]) -> Iterator[PostgresqlTogether]:
        doing = session_of(attempts[0].key if attempts else None, "together")
        session = sign_in(self._name, self._settings, doing, self._roots)
        with together(session, self._name, self.dialect, attempts, self._settings.staging) as loads:
            yield loads

    def ask(self, sql: str, limit: int, seconds: float) -> Answer:
        question = require_question(self._name, self.dialect, sql, READING)
        with self._session("ask") as session, explained(self._name, "answering the question"):
            return answered(session, self._name, question, limit, seconds)

    def objection(self, statement: str) -> Objection | None:
        with self._session("check") as session, explained(self._name, "parsing a statement"):
            prepared = session.pgconn.prepare(b"", statement.encode())
        if prepared.status != ExecStatus.FATAL_ERROR:
            return None
        message = (prepared.error_field(DiagnosticField.MESSAGE_PRIMARY) or b"").decode("utf-8", "replace")
        return Objection(message, prepared.error_field(DiagnosticField.SQLSTATE) == _SYNTAX)

    @contextmanager
    def transaction(self, table: TableName, doing: str) -> Iterator[Statements]:
        with self._session("undo") as session, explained(self._name, doing):
            session.execute(f"SET lock_timeout = '{LOCK_SECONDS}s'".encode())
            session.execute(f"LOCK TABLE {self.dialect.table(table)} IN SHARE ROW EXCLUSIVE MODE".encode())
            yield SessionStatements(session)
            session.commit()

    def drop(self, table: TableName) -> None:
        with self._session("drop") as session, explained(self._name, f"dropping {table}"):
            session.execute(f"DROP TABLE IF EXISTS {self.dialect.table(table)}".encode())
            session.commit()

    def columns_of(self, query: str) -> Sequence[LiveColumn]:
        question = require_question(self._name, self.dialect, query, BY_CURSOR)
        with self._session("describe") as session, explained(self._name, "reading the columns of the query"):
            names, natives = described(session, self._name, question.text.encode())
        return answer_columns(self.dialect, zip(names, natives, strict=True))

    def read(
        self, statement: str, types: Sequence[CanonicalType], doing: str, snapshot: str = ""
    ) -> Iterator[pa.Table]:
        with self._session("read") as session, explained(self._name, doing):
            session.read_only = True
            if snapshot:
                session.isolation_level = IsolationLevel.REPEATABLE_READ
                session.execute(sql.SQL("SET TRANSACTION SNAPSHOT {}").format(snapshot))
            reads = read_rows if self.abilities.binary_copy else read_texts
            yield from reads(session, statement, types)

    def ranges(self, table: LiveTable, count: int) -> Sequence[str]:
        if not self.abilities.all:
            return []
        with (
            self._session("plan", asks=True) as session,
            explained(self._name, f"looking how {table.name} can be divided"),
        ):
            pages = catalogue.pages(session, self.dialect, table.name)
        cuts = sorted({pages * number // count for number in range(1, count)} - {0}) if pages else []
        return ranges([f"'({cut},0)'::tid" for cut in cuts], "ctid")

    @contextmanager
    def snapshot(self) -> Iterator[str]:
        session = sign_in(self._name, self._settings, "snapshot", self._roots)
        with closing(session), explained(self._name, "taking a snapshot"):
            session.read_only = True
            session.isolation_level = IsolationLevel.REPEATABLE_READ
            row = session.execute("SELECT pg_export_snapshot()").fetchone()
            assert row is not None
            yield str(row[0])
