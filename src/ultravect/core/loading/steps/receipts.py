"""Receipts: the bookkeeping table of a target, in which each load leaves a row in its own transaction."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Sequence
from typing import Any

from ultravect.core.contracts.load import PREVIOUS, ReceiptKey
from ultravect.core.contracts.receipt import FENCE, RECEIPTS, Receipt
from ultravect.core.dialects.base import Dialect, NewColumn, NewTable, TableName
from ultravect.core.types.canonical import CanonicalType

_KEPT = dt.timedelta(days=90)
_MOMENT = "%Y-%m-%d %H:%M:%S"


class ReceiptTable:
    """The statements for receipts next to ``table``; ``pending`` names what is left to be renamed, where renaming is not
    part of a transaction."""

    def __init__(self, dialect: Dialect, table: TableName) -> None:
        self._dialect = dialect
        self._of = table
        self.name = TableName(table.schema, RECEIPTS)
        self._table = dialect.table(self.name)

    def create(self) -> str:
        text, number = CanonicalType("text", length=64), CanonicalType("integer")
        columns = [
            NewColumn("run", text),
            NewColumn("leg", number),
            NewColumn("slice", number),
            NewColumn("pending", CanonicalType("text", length=128), nullable=False),
            NewColumn("loaded_at", CanonicalType("timestamp", precision=0), nullable=False),
            NewColumn("account", CanonicalType("text"), nullable=False),
        ]
        return self._dialect.create_table(self.name, NewTable(columns, ("run", "leg", "slice")))[0]

    def write(self, key: ReceiptKey, receipt: Receipt, pending: str = "") -> str:
        literal = self._dialect.literal
        now = dt.datetime.now(dt.UTC).strftime(_MOMENT)
        return (
            f"INSERT INTO {self._table} (run, leg, slice, pending, loaded_at, account) VALUES "
            f"({literal(key.run)}, {int(key.leg)}, {int(key.slice)}, {literal(pending)}, {literal(now)}, "
            f"{literal(receipt.as_text())})"
        )

    def fence(self, key: ReceiptKey) -> str:
        """Takes the key of a receipt, so that the load which would write it can commit no more."""
        return self.write(key, Receipt(str(self._of), FENCE, rows_before=None))

    def find(self, key: ReceiptKey) -> str:
        return f"SELECT account, pending FROM {self._table} WHERE {self._is(key)}"

    def forget_slices(self, key: ReceiptKey) -> str:
        """Removes the receipts of a load's slices, which its own takes the place of."""
        run = self._dialect.literal(key.run)
        return f"DELETE FROM {self._table} WHERE run = {run} AND leg = {int(key.leg)} AND slice > 0"

    def settle(self, key: ReceiptKey) -> str:
        """Notes that nothing is left to be renamed."""
        return f"UPDATE {self._table} SET pending = '' WHERE {self._is(key)}"

    def withdraw(self, key: ReceiptKey, pending: str = "") -> str:
        """Removes a receipt, if ``pending`` is what it leaves to be renamed."""
        return f"DELETE FROM {self._table} WHERE {self._is(key)} AND pending = {self._dialect.literal(pending)}"

    def all(self) -> str:
        """Every receipt: the run, and its account."""
        return f"SELECT run, account FROM {self._table} ORDER BY loaded_at, run"

    def kept(self) -> str:
        """The accounts of loads that kept what they replaced."""
        return f"SELECT account FROM {self._table} WHERE account LIKE '%{PREVIOUS}%'"

    def drop_previous(self, accounts: Sequence[Sequence[Any]], table: str) -> list[str]:
        """The statements that drop what earlier loads into ``table`` kept: one is kept."""
        earlier = [Receipt.from_text(account) for (account,) in accounts]
        return [
            f"DROP TABLE IF EXISTS {self._dialect.table(TableName(self.name.schema, item.previous))}"
            for item in earlier
            if item.table == table and item.previous
        ]

    def prune(self) -> str:
        """Removes what is older than any run that could be taken over."""
        past = (dt.datetime.now(dt.UTC) - _KEPT).strftime(_MOMENT)
        return f"DELETE FROM {self._table} WHERE loaded_at < {self._dialect.literal(past)}"

    def pending(self) -> str:
        return f"SELECT pending FROM {self._table} WHERE pending <> ''"

    def _is(self, key: ReceiptKey) -> str:
        return f"run = {self._dialect.literal(key.run)} AND leg = {int(key.leg)} AND slice = {int(key.slice)}"


def committed_or_barred(
    receipts: ReceiptTable,
    keys: Sequence[ReceiptKey],
    written: Callable[[ReceiptKey], bool],
    rows: Callable[[str], Sequence[Sequence[Any]]],
) -> Receipt | None:
    """The receipt of the attempt that was committed; where none was, no attempt of ``keys`` can commit any more.

    ``written`` commits the fence of a key, after waiting for a session that is about to commit the same key; False where the key is
    taken. ``rows`` runs a select.
    """
    for key in keys:
        if not written(key):
            found = Receipt.from_text(str(rows(receipts.find(key))[0][0]))
            if not found.bars:
                return found
    return None


def standing(rows: Sequence[Sequence[Any]]) -> Receipt | None:
    """The receipt in what ``ReceiptTable.find`` gives; None where there is none, or a fence in its place."""
    found = Receipt.from_text(rows[0][0]) if rows else None
    return None if found is None or found.bars else found
