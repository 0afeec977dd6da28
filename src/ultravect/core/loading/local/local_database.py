"""What databases in a file share: one transaction writes to them at a time, and no server is needed."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterator, Sequence
from contextlib import AbstractContextManager, contextmanager
from typing import Any

from ultravect.core.contracts.catalogue import PRIVILEGES, LiveTable, TableInfo
from ultravect.core.contracts.probe import Step
from ultravect.core.contracts.target import Database, SwapNeeds
from ultravect.core.contracts.write_session import Statements
from ultravect.core.dialects.base import Dialect, TableName
from ultravect.core.loading.executed import ExecutedStatements
from ultravect.core.loading.local.local_file import file_steps, write_obstacle
from ultravect.core.loading.sql_ledger import SqlLedger
from ultravect.core.loading.usual_database import UsualDatabase
from ultravect.core.model.connection import DatabaseFileSettings


class LocalDatabase(UsualDatabase, ABC):
    """The part of ``Database`` that is the same in all of them; sessions have ``execute``, as the modules of drivers give them."""

    dialect: Dialect
    _begin = "BEGIN TRANSACTION"

    def __init__(self, name: str, settings: DatabaseFileSettings, roots: Sequence[str]) -> None:
        self._name, self._settings, self._roots = name, settings, roots

    @abstractmethod
    def session(self, doing: str, *, write: bool = False) -> AbstractContextManager[Any]:
        """An open session; the driver's errors in it become UltravectError."""

    @abstractmethod
    def _described(self, session: Any) -> str:
        """The database's version, and what it holds, for a test."""

    def statements(self, session: Any) -> Statements:
        """The statements of an open session."""
        return ExecutedStatements(session)

    @abstractmethod
    def is_taken(self, error: Exception) -> bool:
        """See ``SqlLedger``."""

    @abstractmethod
    def finding(self, table: TableName) -> str:
        """A query that gives a row where there is such a table."""

    @property
    @abstractmethod
    def database(self) -> Database:
        """See ``Target``."""

    @abstractmethod
    def tables(self, search: str, after: str, limit: int) -> Sequence[TableInfo]:
        """See ``Database``."""

    @contextmanager
    def transaction(self, table: TableName, doing: str) -> Iterator[Statements]:
        with self.session(doing, write=True) as session:
            session.execute(self._begin)
            # closing the session undoes what was not committed
            yield self.statements(session)
            session.execute("COMMIT")

    def steps(self) -> Sequence[Step]:
        def signed_in() -> str:
            with self.session("opening the database") as session:
                return self._described(session)

        def read(name: str) -> None:
            with self.session("reading a row") as session:
                table = self.dialect.table(self.dialect.parse_table(name))
                session.execute(self.dialect.first_rows(f"SELECT 1 FROM {table}", 1)).fetchone()

        return file_steps(
            self._name, self._settings.path, self._roots, signed_in, self.tables, read, create=self._settings.create
        )

    def write_steps(self) -> Sequence[Step]:
        return [Step("write", self._try_write)]

    def _try_write(self) -> str:
        with self.session("creating a table in the staging place", write=True) as session:
            session.execute(self._begin)
            session.execute("CREATE TABLE ultravect_test (a INTEGER)")
            session.execute("ROLLBACK")
        return "a table was created and dropped again"

    def _write_obstacle(self) -> str:
        """Why the file cannot be written; "" where it can."""
        return write_obstacle(self._name, self._settings.path, self._roots, create=self._settings.create)

    def may_create(self, name: TableName) -> str:
        return self._write_obstacle()

    def _granted(self) -> frozenset[str]:
        return frozenset(["SELECT"]) if self._write_obstacle() else PRIVILEGES

    def swap_obstacle(self, live: LiveTable, needs: SwapNeeds) -> str:
        return "in a database of one file, deleting is as quick"

    def ledger(self, table: TableName) -> LocalLedger:
        return LocalLedger(self, table)

    def drop(self, table: TableName) -> None:
        with self.session(f"dropping {table}", write=True) as session:
            session.execute(f"DROP TABLE IF EXISTS {self.dialect.table(table)}")


class LocalLedger(SqlLedger):
    """See ``SqlLedger``."""

    def __init__(self, database: LocalDatabase, table: TableName) -> None:
        super().__init__(database.dialect, table)
        self._database = database

    @contextmanager
    def opened(self, doing: str, *, writes: bool = False) -> Iterator[Statements]:
        with self._database.session(doing, write=writes) as session:
            yield self._database.statements(session)

    def transaction(self, doing: str) -> AbstractContextManager[Statements]:
        return self._database.transaction(self.table, doing)

    def has(self, statements: Statements, table: TableName) -> bool:
        return bool(statements.rows(self._database.finding(table)))

    def is_taken(self, error: Exception) -> bool:
        return self._database.is_taken(error)
