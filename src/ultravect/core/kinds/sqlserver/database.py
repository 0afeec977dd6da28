"""SQL Server as the place that a connection names."""

from __future__ import annotations

import secrets
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import AbstractContextManager, contextmanager, suppress

import pyarrow as pa
import pytds

from ultravect.core.contracts.catalogue import Answer, LiveColumn, LiveTable, Objection, Reference, Remark, TableInfo
from ultravect.core.contracts.change_log import WARNINGS, ChangeLog
from ultravect.core.contracts.probe import SUPERUSER, Step, network_steps
from ultravect.core.contracts.receipt import ReceiptKey
from ultravect.core.contracts.target import SwapNeeds
from ultravect.core.contracts.write_plan import Attempt
from ultravect.core.contracts.write_session import Statements
from ultravect.core.dialects.base import Dialect, TableName
from ultravect.core.dialects.statements import Statement
from ultravect.core.errors import UltravectError
from ultravect.core.kinds.sqlserver.catalogue import USUAL_SCHEMA, Catalogue
from ultravect.core.kinds.sqlserver.change_log import SqlserverLog, held_snapshots
from ultravect.core.kinds.sqlserver.derived import standalone
from ultravect.core.kinds.sqlserver.dialect import SqlserverDialect
from ultravect.core.kinds.sqlserver.kind import SqlserverSettings
from ultravect.core.kinds.sqlserver.questions import described, require_reading
from ultravect.core.kinds.sqlserver.read import read_rows
from ultravect.core.kinds.sqlserver.refusals import LOCKED, TAKEN, number_of, shown
from ultravect.core.kinds.sqlserver.session import APPLICATION, KeptSession, Session, session
from ultravect.core.kinds.sqlserver.write import SqlserverSession
from ultravect.core.loading.questions import answer_columns
from ultravect.core.loading.refusals import doing_of
from ultravect.core.loading.shared_loads import SharedLoads
from ultravect.core.loading.sql_ledger import SqlLedger
from ultravect.core.loading.usual_database import UsualDatabase
from ultravect.core.types.canonical import CanonicalType
from ultravect.core.words import counted

_LOCK_SECONDS = 60
_COMMIT_SECONDS = 5
"""How long an attempt that is committing may take, before its session is ended."""

_END_SECONDS = 5.0
_SNAPSHOTS = (
    "SELECT snapshot_isolation_state, is_read_committed_snapshot_on FROM sys.databases WHERE name = DB_NAME()"
)


class SqlserverDatabase(UsualDatabase):
    """See ``Database``."""

    locks_tables = True
    truncates = True

    def __init__(self, name: str, settings: SqlserverSettings, roots: Sequence[str]) -> None:
        self._name, self._settings = name, settings
        self._kept = KeptSession(name, settings)
        self.dialect: Dialect = SqlserverDialect()
        self._catalogue = Catalogue(self._kept.rows, self.dialect)

    @property
    def database(self) -> SqlserverDatabase:
        return self

    def session(
        self, doing: str, *, reads: bool = False, application: str = APPLICATION
    ) -> AbstractContextManager[Session]:
        return session(self._name, self._settings, doing, reads=reads, application=application)

    def steps(self) -> Sequence[Step]:
        settings = self._settings

        def signed_in() -> str:
            with self.session("asking for the server's version") as opened:
                ((version, user, everything),) = opened.rows(
                    "SELECT @@VERSION, SUSER_SNAME(), IS_SRVROLEMEMBER('sysadmin')"
                )
                encrypted = f"encrypted with {opened.encrypted}" if opened.encrypted else "not encrypted"
            seen = f"{version.splitlines()[0]}, database {settings.database}, as user {user}, {encrypted}"
            return seen + (SUPERUSER if everything else "")

        def read() -> str:
            found = self.tables("", "", 1)
            if not found:
                return "there is no table that this user may read yet"
            self._kept.rows("reading a row", f"SELECT TOP (1) 1 FROM {self.dialect.table(found[0].table)}")
            allowed, versioned = self._snapshots()
            how = "rows are read in a snapshot" if allowed else "rows are read as statements see them"
            return f"{found[0].name} can be read; {how}" + ("" if allowed or versioned else _NO_VERSIONS)

        def listed() -> str:
            return f"{counted(len(self.tables('', '', 100_000)), 'table or view', 'tables and views')} can be seen"

        reached = [] if settings.instance else network_steps(self._name, settings.host, settings.port)
        return [
            *reached,
            Step("sign in", signed_in),
            Step("list", listed),
            Step("read", read),
            Step("log", self._try_log),
        ]

    def _try_log(self) -> str:
        found = [remark for remark in self.change_log("", "", "").lacks([]) if remark.code not in WARNINGS]
        return (
            f"it cannot be followed: {found[0].message}"
            if found
            else "it can be followed, of tables whose changes are tracked"
        )

    def _snapshots(self) -> tuple[bool, bool]:
        """Whether transactions may read snapshots, and whether each statement does."""
        ((allowed, versioned),) = self._kept.rows("asking for snapshots", _SNAPSHOTS)
        return allowed == 1, bool(versioned)

    def write_steps(self) -> Sequence[Step]:
        def written() -> str:
            name = self.dialect.table(TableName(USUAL_SCHEMA, f"ultravect_test_{secrets.token_hex(6)}"))
            with self.session("creating a table") as opened:
                opened.execute(f"BEGIN TRANSACTION; CREATE TABLE {name} (a int); ROLLBACK")
                opened.execute("CREATE TABLE #ultravect_test (a int); DROP TABLE #ultravect_test")
            return f"a table was created in {USUAL_SCHEMA} and taken back, and a temporary one"

        return [Step("write", written)]

    def tables(self, search: str, after: str, limit: int) -> Sequence[TableInfo]:
        return self._catalogue.tables(search, after, limit)

    def references(self) -> Sequence[Reference]:
        return self._catalogue.references()

    def table(self, name: TableName) -> LiveTable | None:
        return self._catalogue.table(name)

    def ask(self, sql: str, limit: int, seconds: float) -> Answer:
        question = self._question(sql)
        with self.session("answering the question", reads=True) as opened:
            # whatever the statement is: what it has done is taken back
            opened.execute(f"SET LOCK_TIMEOUT {int(seconds * 1000)}; BEGIN TRANSACTION")
            opened.driver._tds_socket.sock.settimeout(seconds)
            cursor = opened.execute(standalone(question.text, self.dialect.lexical))
            if not cursor.description:
                raise UltravectError(
                    "question-refused", f"connection {self._name}: the statement gives no rows", connection=self._name
                )
            names = [column[0] for column in cursor.description]
            rows = [list(row) for row in cursor.fetchmany(limit + 1)]
            # the rest of a large answer is never sent: the session ends, and the transaction with it
        return Answer(names, rows[:limit], len(rows) > limit, [""] * len(names))

    def _question(self, sql: str) -> Statement:
        return require_reading(self._name, self.dialect, sql)

    def objection(self, statement: str) -> Objection | None:
        with self.session("parsing a statement") as opened:
            try:
                # as a value of a procedure that carries nothing out, whatever the text says of settings
                described(opened, self.dialect, statement)
            except pytds.Error as error:
                return Objection(shown(error), number_of(error) in (102, 156, 195))
        return None

    def columns_of(self, query: str) -> Sequence[LiveColumn]:
        text = standalone(f"SELECT * FROM (\n{self._question(query).text}\n) q", self.dialect.lexical)
        with self.session("reading the columns of the query") as opened:
            return answer_columns(self.dialect, described(opened, self.dialect, text))

    def read(
        self, statement: str, types: Sequence[CanonicalType], doing: str, snapshot: str = ""
    ) -> Iterator[pa.Table]:
        if snapshot:
            yield from read_rows(held_snapshots[snapshot], standalone(statement, self.dialect.lexical), types)
            return
        isolation = "SNAPSHOT" if self._snapshots()[0] else "READ COMMITTED"
        with self.session(doing, reads=True) as opened:
            opened.execute(f"SET TRANSACTION ISOLATION LEVEL {isolation}; BEGIN TRANSACTION")
            yield from read_rows(opened, standalone(statement, self.dialect.lexical), types)
            opened.execute("COMMIT")

    def change_log(self, job: str, owner: str, publication: str) -> ChangeLog:
        def opens(doing: str) -> AbstractContextManager[Session]:
            return self.session(doing, reads=True)

        return SqlserverLog(self._name, self.dialect, job, opens, self._columns)

    def _columns(self, table: TableName) -> Sequence[LiveColumn]:
        found = self.table(table)
        return found.columns if found is not None else ()

    def may_create(self, name: TableName) -> str:
        schema = name.schema or USUAL_SCHEMA
        quoted = self.dialect.literal(self.dialect.quote(schema))
        asked = f"SELECT SCHEMA_ID({self.dialect.literal(schema)}), HAS_PERMS_BY_NAME(DB_NAME(), 'DATABASE', 'CREATE TABLE'), "
        ((found, database, within),) = self._kept.rows(
            "looking for the schema", f"{asked} HAS_PERMS_BY_NAME({quoted}, 'SCHEMA', 'ALTER')"
        )
        if found is None:
            return f"there is no schema {schema!r}"
        may = database and within
        return "" if may else f"user {self._settings.user!r} may not create tables in {schema!r}"

    def remarks(self) -> Sequence[Remark]:
        if self._snapshots()[1]:
            return ()
        what = f"connection {self._name}: READ_COMMITTED_SNAPSHOT is off, so readers of a table wait until a load that changes it has ended"
        fix = "ALTER DATABASE … SET READ_COMMITTED_SNAPSHOT ON lets them read the old rows meanwhile"
        return (Remark("readers-wait-for-loads", what, fix),)

    def swap_obstacle(self, live: LiveTable, needs: SwapNeeds) -> str:
        return "in SQL Server the rows are deleted and inserted in one transaction"

    def has(self, opened: Statements, table: TableName) -> bool:
        quoted = self.dialect.literal(self.dialect.table(table))
        return bool(opened.rows(f"SELECT 1 WHERE OBJECT_ID({quoted}) IS NOT NULL"))

    def ledger(self, table: TableName) -> SqlserverLedger:
        return SqlserverLedger(self, self._placed(table))

    @staticmethod
    def _placed(table: TableName) -> TableName:
        return TableName(table.schema or USUAL_SCHEMA, table.name)

    @contextmanager
    def write(self, attempt: Attempt) -> Iterator[SqlserverSession]:
        application = _session_of(attempt.key) if attempt.key is not None else APPLICATION
        with self.session(doing_of(attempt), application=application) as opened:
            # closing the session undoes what was not committed
            yield SqlserverSession(opened, self._name, self.dialect, attempt)

    @property
    def windows(self) -> Callable[[Sequence[Attempt]], AbstractContextManager[SharedLoads]]:
        def opens(attempt: Attempt) -> AbstractContextManager[Session]:
            return self.session(doing_of(attempt))

        return lambda attempts: SharedLoads(
            opens, lambda opened, attempt: SqlserverSession(opened, self._name, self.dialect, attempt), keeps=True
        ).opened()

    @contextmanager
    def transaction(self, table: TableName, doing: str) -> Iterator[Statements]:
        with self.session(doing) as opened:
            opened.execute(f"SET LOCK_TIMEOUT {_LOCK_SECONDS * 1000}; BEGIN TRANSACTION")
            if self.has(opened, table):
                opened.execute(f"SELECT TOP (1) 1 FROM {self.dialect.table(table)} WITH (TABLOCK, UPDLOCK, HOLDLOCK)")
            yield opened
            opened.execute("COMMIT")

    def drop(self, table: TableName) -> None:
        with self.session(f"dropping {table}") as opened:
            opened.execute(f"DROP TABLE IF EXISTS {self.dialect.table(table)}")


_NO_VERSIONS = (
    "; the database keeps no versions of rows: what others change during a copy may be read or not, and readers of a target wait for its "
    "loads (ALTER DATABASE … SET ALLOW_SNAPSHOT_ISOLATION ON, SET READ_COMMITTED_SNAPSHOT ON)"
)


def _session_of(attempt: ReceiptKey) -> str:
    """What the sessions of an attempt are called in the server's list."""
    return f"{APPLICATION} {attempt.session}"[:128]


class SqlserverLedger(SqlLedger):
    """See ``SqlLedger``."""

    def __init__(self, database: SqlserverDatabase, table: TableName) -> None:
        super().__init__(database.dialect, table)
        self._database = database

    @contextmanager
    def opened(self, doing: str, *, writes: bool = False) -> Iterator[Session]:
        with self._database.session(doing) as opened:
            if writes:
                opened.execute(f"SET LOCK_TIMEOUT {_LOCK_SECONDS * 1000}")
            yield opened

    @contextmanager
    def transaction(self, doing: str) -> Iterator[Statements]:
        # without a lock of the table: a load that is under way need not end first
        with self._database.session(doing) as opened:
            opened.execute(f"SET LOCK_TIMEOUT {_LOCK_SECONDS * 1000}; BEGIN TRANSACTION")
            yield opened
            opened.execute("COMMIT")

    def has(self, statements: Statements, table: TableName) -> bool:
        return self._database.has(statements, table)

    def is_taken(self, error: Exception) -> bool:
        return number_of(error) in TAKEN

    def create_receipts(self, statements: Statements) -> None:
        with suppress(pytds.Error):  # another session was quicker
            statements.changed(self.receipts.create())

    def bar(self, statements: Statements, key: ReceiptKey) -> bool:
        assert isinstance(statements, Session)
        statements.execute(f"SET LOCK_TIMEOUT {_COMMIT_SECONDS * 1000}")
        try:
            return super().bar(statements, key)
        except pytds.Error as error:
            if number_of(error) != LOCKED:
                raise
            # it has written its receipt, and does not commit: what becomes of it, the end of its session decides
            self.end_attempts(statements, [key])
            statements.execute(f"SET LOCK_TIMEOUT {_LOCK_SECONDS * 1000}")
            return super().bar(statements, key)

    def end_attempts(self, statements: Statements, keys: Sequence[ReceiptKey]) -> None:
        """As far as the user may: one that lacks the privilege sees no sessions but its own, and its loads wait for the locks."""
        for key in keys:
            named = f"SELECT session_id FROM sys.dm_exec_sessions WHERE program_name = {self.dialect.literal(_session_of(key))}"
            until = time.monotonic() + _END_SECONDS
            # relatives of the server may lack the view, and users the privileges
            with suppress(pytds.Error):
                while (found := statements.rows(f"{named} AND session_id <> @@SPID")) and time.monotonic() < until:
                    for (number,) in found:
                        statements.changed(f"KILL {int(number)}")
                    time.sleep(0.05)
