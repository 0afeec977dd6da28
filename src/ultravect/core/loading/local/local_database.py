"""What databases in a file share: one transaction writes to them at a time, and no server is needed."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Mapping, Sequence
from contextlib import AbstractContextManager, nullcontext
from typing import Any

from ultravect.core.contracts.catalogue import PRIVILEGES, LiveTable, TableInfo
from ultravect.core.contracts.load import ReceiptKey
from ultravect.core.contracts.mark import MarkKey
from ultravect.core.contracts.probe import Step
from ultravect.core.contracts.receipt import Receipt
from ultravect.core.contracts.target import NEEDS, Database, Statements, SwapNeeds
from ultravect.core.dialects.base import Dialect, TableName
from ultravect.core.loading.key_ranges import key_ranges
from ultravect.core.loading.local.local_file import file_steps, write_obstacle
from ultravect.core.loading.local.local_load import committed_in
from ultravect.core.loading.steps.marks import MarkTable, entries, set_mark
from ultravect.core.loading.steps.receipts import ReceiptTable, standing
from ultravect.core.loading.usual_database import UsualDatabase
from ultravect.core.model.connection import DatabaseFileSettings


class LocalDatabase(UsualDatabase, ABC):
    """The part of ``Database`` that is the same in all of them; sessions have ``execute``, as the modules of drivers give them."""

    dialect: Dialect
    needs: Mapping[str, frozenset[str]] = NEEDS
    together = None
    _begin = "BEGIN TRANSACTION"

    def __init__(self, name: str, settings: DatabaseFileSettings, roots: Sequence[str]) -> None:
        self._name, self._settings, self._roots = name, settings, roots

    @abstractmethod
    def _session(self, doing: str, *, write: bool = False) -> AbstractContextManager[Any]:
        """An open session; the driver's errors in it become UltravectError."""

    @abstractmethod
    def _described(self, session: Any) -> str:
        """The database's version, and what it holds, for a test."""

    @abstractmethod
    def _finding(self, table: TableName) -> str:
        """A query that gives a row where there is such a table."""

    @property
    @abstractmethod
    def database(self) -> Database:
        """See ``Target``."""

    @abstractmethod
    def tables(self, search: str, after: str, limit: int) -> Sequence[TableInfo]:
        """See ``Database``."""

    @abstractmethod
    def transaction(self, table: TableName, doing: str) -> AbstractContextManager[Statements]:
        """See ``Database``."""

    def steps(self) -> Sequence[Step]:
        def signed_in() -> str:
            with self._session("opening the database") as session:
                return self._described(session)

        def read(name: str) -> None:
            with self._session("reading a row") as session:
                table = self.dialect.table(self.dialect.parse_table(name))
                session.execute(self.dialect.first_rows(f"SELECT 1 FROM {table}", 1)).fetchone()

        return file_steps(
            self._name, self._settings.path, self._roots, signed_in, self.tables, read, create=self._settings.create
        )

    def ranges(self, table: LiveTable, count: int) -> Sequence[str]:
        return key_ranges(self.database, table, count)

    def snapshot(self) -> AbstractContextManager[str]:
        return nullcontext("")

    def write_steps(self) -> Sequence[Step]:
        return [Step("write", self._try_write)]

    def _try_write(self) -> str:
        with self._session("creating a table in the staging place", write=True) as session:
            session.execute(self._begin)
            session.execute("CREATE TABLE ultravect_test (a INTEGER)")
            session.execute("ROLLBACK")
        return "a table was created and dropped again"

    def _write_obstacle(self) -> str:
        """Why the file cannot be written; "" where it can."""
        return write_obstacle(self._name, self._settings.path, self._roots, create=self._settings.create)

    def _granted(self) -> frozenset[str]:
        return frozenset(["SELECT"]) if self._write_obstacle() else PRIVILEGES

    def swap_obstacle(self, live: LiveTable, needs: SwapNeeds) -> str:
        return "in a database of one file, deleting is as quick"

    def receipt(self, table: TableName, key: ReceiptKey) -> Receipt | None:
        receipts = ReceiptTable(self.dialect, table)
        with self._session("looking for a receipt") as session:
            if not session.execute(self._finding(receipts.name)).fetchall():
                return None
            return standing(session.execute(receipts.find(key)).fetchall())

    def mark(self, table: TableName, key: MarkKey) -> Mapping[str, str]:
        marks = MarkTable(self.dialect, table)
        with self._session("looking for a mark") as session:
            if not session.execute(self._finding(marks.name)).fetchall():
                return {}
            return entries(session.execute(marks.find(key)).fetchall())

    def set_mark(self, table: TableName, key: MarkKey, value: str | None) -> None:
        set_mark(self._own(), table, key, value)

    @abstractmethod
    def _own(self) -> Database:
        """The database itself, as what it is outside."""

    def committed(self, table: TableName, keys: Sequence[ReceiptKey]) -> Receipt | None:
        receipts = ReceiptTable(self.dialect, table)
        with self.transaction(table, "asking which attempt was committed") as statements:
            held = bool(statements.rows(self._finding(receipts.name)))
            return committed_in(receipts, keys, statements, has_table=held)

    def drop(self, table: TableName) -> None:
        with self._session(f"dropping {table}", write=True) as session:
            session.execute(f"DROP TABLE IF EXISTS {self.dialect.table(table)}")
