"""Targets in memory: what planning asks of one, and one that takes rows."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from typing import Any

import pyarrow as pa

from ultravect.core.contracts.catalogue import LiveColumn, LiveTable
from ultravect.core.contracts.load import Counts, LoadOrder, ReceiptKey, RefusedRow
from ultravect.core.contracts.mark import MarkChange
from ultravect.core.contracts.receipt import Receipt
from ultravect.core.contracts.target import NEEDS, Remark, SwapNeeds, Verified
from ultravect.core.dialects.base import Dialect, TableName
from ultravect.core.errors import UltravectError
from ultravect.core.kinds.postgresql.dialect import PostgresqlDialect
from ultravect.core.types.canonical import parse_type


@dataclass
class FakeTarget:
    """See ``Target``: only what planning asks."""

    tables: Mapping[str, LiveTable] = field(default_factory=dict)
    refuses_to_create: str = ""
    obstacle: str = ""
    dialect: Dialect = field(default_factory=PostgresqlDialect)
    needs: Mapping[str, frozenset[str]] = field(default_factory=lambda: dict(NEEDS))
    database = None
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
    """A table ``hut`` in memory, which does what an order says and remembers what it was asked, step by step.

    ``faults``: what goes wrong, by the step: an error that is raised there. ``refuses``: rows that it does not take.
    ``loses``: how many rows it writes without counting them, or counts without writing them.
    """

    def __init__(self, rows: Sequence[Row] = (), **others: Any) -> None:
        super().__init__({"hut": HUT}, **others)
        self.rows = list(rows)
        self.steps: list[str] = []
        self.receipts: dict[ReceiptKey, Receipt] = {}
        self.faults: dict[str, UltravectError] = {}
        self.refuses: frozenset[Row] = frozenset()
        self.miscounted = 0
        self.unseen = 0
        self.orders: list[LoadOrder] = []

    def count(self, name: TableName) -> int:
        return len(self.rows)

    def committed(self, table: TableName, keys: Sequence[ReceiptKey]) -> Receipt | None:
        self.steps.append("committed?")
        return next((self.receipts[key] for key in keys if key in self.receipts), None)

    @contextmanager
    def load(self, order: LoadOrder) -> Iterator[MemoryLoad]:
        self.orders.append(order)
        self.steps.append("open")
        yield MemoryLoad(self, order)
        self.steps.append("close")


class MemoryLoad:
    """See ``Load``: rows come into a copy of the table, which publishing puts in its place."""

    written: Sequence[str] = ()
    changes: Sequence[Any] = ()
    comparison = None
    strategy = ""
    previous = ""

    def __init__(self, target: MemoryTarget, order: LoadOrder) -> None:
        self._target, self._order = target, order
        self._staged: list[Row] = []
        self._new: list[Row] = []
        self.rows_before = len(target.rows)
        self.refused: list[RefusedRow] = []

    def _step(self, name: str) -> None:
        self._target.steps.append(name)
        if name in self._target.faults:
            raise self._target.faults[name]

    def write(self, batch: pa.RecordBatch) -> None:
        self._step("write")
        self._staged += zip(*(column.to_pylist() for column in batch.columns), strict=True)

    def finish(self, tolerated: int = 0, *, complete: bool = True) -> Counts:
        self._step("finish")
        order, target = self._order, self._target
        if (bad := target.refuses.intersection(self._staged)) and not order.isolate:
            raise UltravectError("constraint-refused", f"the table does not take {min(bad)}")
        self.refused = [RefusedRow(at, "not taken", "{}") for at, row in enumerate(self._staged) if row in bad]
        taken = [row for row in self._staged if row not in bad]
        old = [] if order.removes_old else list(target.rows)
        if not order.matches_rows:
            self._new = old + taken
            counts = Counts(
                len(taken) - target.miscounted, removed=self.rows_before - len(old), refused=len(self.refused)
            )
            self._written = len(taken)
            return counts
        at = [[column.name for column in order.columns].index(key) for key in order.keys]
        known = {tuple(row[place] for place in at): row for row in old}
        new = {tuple(row[place] for place in at): row for row in taken}
        inserted = sum(key not in known for key in new)
        updated = sum(key in known and known[key] != row for key, row in new.items())
        self._new = list({**known, **new}.values())
        self._written = inserted + updated
        return Counts(
            inserted - target.miscounted, updated, len(new) - inserted - updated, len(taken) - len(new), refused=len(self.refused)
        )  # fmt: skip

    def publish(self, receipt: Receipt | None = None, marks: Sequence[MarkChange] = ()) -> None:
        self._step("publish")
        self._target.rows = self._new
        if receipt is not None and self._order.receipt is not None:
            self._target.receipts[self._order.receipt] = receipt

    def verify(self) -> Verified:
        self._step("verify")
        return Verified(len(self._target.rows), self._written - self._target.unseen)
