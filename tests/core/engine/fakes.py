"""Targets in memory: what planning asks of one, and one that takes rows."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from typing import Any

import pyarrow as pa

from ultravect.core.contracts.catalogue import LiveColumn, LiveTable, Remark
from ultravect.core.contracts.ledger import Entry
from ultravect.core.contracts.receipt import Receipt, ReceiptKey
from ultravect.core.contracts.target import NEEDS, SwapNeeds
from ultravect.core.contracts.write_plan import Attempt
from ultravect.core.contracts.write_session import Counts, Verified
from ultravect.core.dialects.base import Dialect, TableName
from ultravect.core.errors import UltravectError
from ultravect.core.kinds.postgresql.dialect import PostgresqlDialect
from ultravect.core.kinds.sqlite.dialect import SqliteDialect
from ultravect.core.loading.executed import ExecutedStatements
from ultravect.core.loading.sql_session import InsertingSession
from ultravect.core.types.canonical import parse_type


@dataclass
class FakeTarget:
    """See ``Target``: only what planning asks."""

    tables: Mapping[str, LiveTable] = field(default_factory=dict)
    refuses_to_create: str = ""
    obstacle: str = ""
    dialect: Dialect = field(default_factory=PostgresqlDialect)
    needs: Mapping[str, frozenset[str]] = field(default_factory=lambda: dict(NEEDS))
    database: Any = None
    can_isolate = True
    locks_tables = True
    truncates = True
    partitions = False
    arranges: frozenset[str] = frozenset()
    enforces_keys = True
    exclusive_file = ""
    asked: list[SwapNeeds] = field(default_factory=list)

    def table(self, name: TableName) -> LiveTable | None:
        return self.tables.get(str(name))

    def may_create(self, name: TableName) -> str:
        return self.refuses_to_create

    def remarks(self) -> Sequence[Remark]:
        return ()

    def swap_obstacle(self, live: LiveTable, needs: SwapNeeds) -> str:
        self.asked.append(needs)
        return self.obstacle


def column(name: str, kind: str, native: str = "", **others: Any) -> LiveColumn:
    return LiveColumn(
        name, native or kind, native or kind, parse_type(kind), others.pop("nullable", True), False, **others
    )


HUT = LiveTable(
    TableName("public", "hut"), "table", [column("hut", "text"), column("beds", "integer"), column("opened", "date")]
)


Row = tuple[Any, ...]


class MemoryTarget(FakeTarget):
    """A table ``hut`` in memory, which does what a plan says and remembers what it was asked, step by step.

    ``faults``: what goes wrong, by the step: an error that is raised there. ``refuses``: rows that it does not take.
    ``miscounted``: how many rows it writes without counting them; ``unseen``: how many it does not find again.
    """

    def __init__(self, rows: Sequence[Row] = (), **others: Any) -> None:
        super().__init__({"hut": HUT}, dialect=SqliteDialect(), **others)
        self.session = sqlite3.connect(":memory:", isolation_level=None)
        self.session.execute("CREATE TABLE hut (hut text, beds integer, opened text)")
        self.session.executemany("INSERT INTO hut VALUES (?, ?, ?)", rows)
        self.steps: list[str] = []
        self.receipts: dict[ReceiptKey, Receipt] = {}
        self.faults: dict[str, Exception] = {}
        self.miscounted = 0
        self.unseen = 0
        self.attempts: list[Attempt] = []

    @property
    def rows(self) -> list[Row]:
        return self.session.execute("SELECT * FROM hut ORDER BY rowid").fetchall()

    def refuse(self, *rows: Row) -> None:
        """Has rows be refused."""
        for number, (hut, *_) in enumerate(rows):
            self.session.execute(
                f"CREATE TRIGGER refuses_{number} BEFORE INSERT ON hut WHEN NEW.hut = '{hut}' "
                "BEGIN SELECT RAISE(ABORT, 'not taken'); END"
            )

    def count(self, name: TableName) -> int:
        return len(self.rows)

    def ledger(self, table: TableName) -> MemoryTarget:
        return self

    def committed(self, keys: Sequence[ReceiptKey]) -> Receipt | None:
        self.steps.append("committed?")
        return next((self.receipts[key] for key in keys if key in self.receipts), None)

    @contextmanager
    def write(self, attempt: Attempt) -> Iterator[MemorySession]:
        self.attempts.append(attempt)
        self.steps.append("open")
        try:
            yield MemorySession(self, attempt)
        except sqlite3.IntegrityError as error:
            raise UltravectError("constraint-refused", str(error)) from None
        finally:
            if self.session.in_transaction:
                self.session.execute("ROLLBACK")
        self.steps.append("close")


class MemorySession(InsertingSession):
    """See ``InsertingSession``."""

    def __init__(self, target: MemoryTarget, attempt: Attempt) -> None:
        super().__init__(target.dialect, attempt, ExecutedStatements(target.session))
        self._target = target

    def _step(self, name: str) -> None:
        self._target.steps.append(name)
        if name in self._target.faults:
            raise self._target.faults[name]

    def execute(self, statement: str) -> Sequence[Any] | None:
        return self._target.session.execute(statement).fetchone()

    def insert(self, batch: pa.RecordBatch) -> int:
        self._step("write")
        rows = list(zip(*(column.to_pylist() for column in batch.columns), strict=True))
        marks = ", ".join("?" * batch.num_columns)
        self._target.session.executemany(f"INSERT INTO {self.into} VALUES ({marks})", rows)
        return len(rows) - self._target.miscounted

    def settle(self) -> None:
        self._step("finish")

    def is_taken(self, error: Exception) -> bool:
        return False

    def has(self, table: TableName) -> bool:
        return True

    def refusal(self, error: Exception) -> str | None:
        return str(error) if isinstance(error, sqlite3.IntegrityError) else None

    def commit(self, entry: Entry) -> None:
        self._step("publish")
        self.drop_stage()
        self.execute("COMMIT")
        if entry.receipt is not None and entry.key is not None:
            self._target.receipts[entry.key] = entry.receipt

    def verify(self, counts: Counts) -> Verified:
        self._step("verify")
        return Verified(len(self._target.rows), counts.inserted + counts.updated - self._target.unseen)
