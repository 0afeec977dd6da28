"""The ledger of targets that are databases: two tables next to those that loads write into, changed in the transaction of the rows.

Each load leaves a row in the table of receipts, whose key keeps two attempts apart: a fence is such a row that was there first. Marks are in
another table, an entry a row; a load changes an entry only if it is as it was when the load was planned.
"""

from __future__ import annotations

import datetime as dt
import hashlib
import zlib
from abc import ABC, abstractmethod
from collections.abc import Callable, Mapping, Sequence
from contextlib import AbstractContextManager

from ultravect.core.contracts.ledger import Entry
from ultravect.core.contracts.mark import MARKS, MarkChange, MarkKey
from ultravect.core.contracts.receipt import FENCE, RECEIPTS, Receipt, ReceiptKey
from ultravect.core.contracts.write_plan import WritePlan
from ultravect.core.contracts.write_session import PREVIOUS, Statements
from ultravect.core.dialects.base import Dialect, NewColumn, NewTable, TableName
from ultravect.core.loading.refusals import attempt_replaced, mark_moved, no_table
from ultravect.core.types.canonical import CanonicalType

_KEPT = dt.timedelta(days=90)
_PRUNES_ONE_OF = 16
_MOMENT = "%Y-%m-%d %H:%M:%S"
_ROWS_AT_ONCE = 500
_REMOVED_AT_ONCE = 100


def _prunes(key: ReceiptKey) -> bool:
    """Whether the load of a key is one of those, one of some, that remove old receipts."""
    return zlib.crc32(f"{key.run}.{key.leg}".encode()) % _PRUNES_ONE_OF == 0


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

    def prune(self) -> str:
        """Removes what is older than any run that could be taken over."""
        past = (dt.datetime.now(dt.UTC) - _KEPT).strftime(_MOMENT)
        return f"DELETE FROM {self._table} WHERE loaded_at < {self._dialect.literal(past)}"

    def pending(self) -> str:
        return f"SELECT pending FROM {self._table} WHERE pending <> ''"

    def _is(self, key: ReceiptKey) -> str:
        return f"run = {self._dialect.literal(key.run)} AND leg = {int(key.leg)} AND slice = {int(key.slice)}"


class MarkTable:
    """The statements for marks next to ``table``."""

    def __init__(self, dialect: Dialect, table: TableName) -> None:
        self._dialect = dialect
        self.name = TableName(table.schema, MARKS)
        self._table = dialect.table(self.name)

    def create(self) -> str:
        text = CanonicalType("text")
        columns = [
            # names are long, and keys of some databases are not
            NewColumn("entry", CanonicalType("text", length=64)),
            NewColumn("job", CanonicalType("text", length=64), nullable=False),
            NewColumn("object", text, nullable=False),
            NewColumn("item", text, nullable=False),
            NewColumn("value", text, nullable=False),
            NewColumn("run", CanonicalType("text", length=64), nullable=False),
            NewColumn("written_at", CanonicalType("timestamp", precision=0), nullable=False),
        ]
        return self._dialect.create_table(self.name, NewTable(columns, ("entry",)))[0]

    def find(self, key: MarkKey) -> str:
        """All entries of a mark: ``item`` and ``value``."""
        return f"SELECT item, value FROM {self._table} WHERE {self._of(key)}"

    def forget(self, key: MarkKey) -> str:
        return f"DELETE FROM {self._table} WHERE {self._of(key)}"

    def holds(self, statements: Statements, change: MarkChange) -> bool:
        """Whether there is an entry where a change makes one."""
        entry = self._entry(change.key, change.item)
        return bool(statements.rows(f"SELECT 1 FROM {self._table} WHERE entry = {entry}"))

    def withdraw(self, run: str) -> str:
        """Removes what a load has written whose table could not be put in its place."""
        return f"DELETE FROM {self._table} WHERE run = {self._dialect.literal(run)}"

    def write(self, statements: Statements, changes: Sequence[MarkChange], run: str) -> None:
        """Changes entries in an open transaction; UltravectError where another run has changed one since it was read, the
        database's own error where it has made one. ``run``: the receipt's name of the attempt.
        """
        literal = self._dialect.literal
        now = literal(dt.datetime.now(dt.UTC).strftime(_MOMENT))
        new = [change for change in changes if change.before is None and change.value is not None]
        for start in range(0, len(new), _ROWS_AT_ONCE):
            rows = ", ".join(
                f"({self._entry(change.key, change.item)}, {literal(change.key.job)}, {literal(change.key.object)}, "
                f"{literal(change.item)}, {literal(change.value or '')}, {literal(run)}, {now})"
                for change in new[start : start + _ROWS_AT_ONCE]
            )
            statements.changed(
                f"INSERT INTO {self._table} (entry, job, object, item, value, run, written_at) VALUES {rows}"
            )
        removed = [change for change in changes if change.value is None]
        for start in range(0, len(removed), _REMOVED_AT_ONCE):
            some = removed[start : start + _REMOVED_AT_ONCE]
            wanted = " OR ".join(
                f"(entry = {self._entry(change.key, change.item)} AND value = {literal(change.before or '')})"
                for change in some
            )
            if statements.changed(f"DELETE FROM {self._table} WHERE {wanted}") != len(some):
                raise mark_moved(some[0].key)
        for change in changes:
            if change.before is None or change.value is None or change.before == change.value:
                continue
            if not statements.changed(
                f"UPDATE {self._table} SET value = {literal(change.value)}, run = {literal(run)}, written_at = {now} "
                f"WHERE entry = {self._entry(change.key, change.item)} AND value = {literal(change.before)}"
            ):
                raise mark_moved(change.key)

    def _of(self, key: MarkKey) -> str:
        literal = self._dialect.literal
        return f"job = {literal(key.job)} AND object = {literal(key.object)}"

    def _entry(self, key: MarkKey, item: str) -> str:
        text = "\0".join([key.job, key.object, item])
        return self._dialect.literal(hashlib.sha256(text.encode()).hexdigest())


class LedgerTables:
    """The tables of receipts and of marks next to ``table``, in whose schema they are."""

    def __init__(self, dialect: Dialect, table: TableName) -> None:
        self.dialect, self.table = dialect, table
        self.receipts, self.marks = ReceiptTable(dialect, table), MarkTable(dialect, table)

    def needed(self, plan: WritePlan, key: ReceiptKey | None) -> Sequence[ReceiptTable | MarkTable]:
        """Those that a load by this plan writes to."""
        return [*([self.receipts] if key is not None else []), *([self.marks] if plan.marks else [])]

    def record(
        self,
        plan: WritePlan,
        statements: Statements,
        entry: Entry,
        is_taken: Callable[[Exception], bool],
        *,
        pending: str = "",
        prunes: bool = True,
    ) -> None:
        """Leaves receipt and marks in the open transaction of a load; it is all that publishes, once that is committed.

        ``is_taken`` says whether a statement failed because its key is there already. ``pending``: see ``ReceiptTable``.
        ``prunes``: whether receipts that are older than any run that could be taken over are removed.
        UltravectError ``mark-moved`` or ``attempt-replaced`` where another run or attempt was first.
        """
        if entry.marks:
            try:
                self.marks.write(statements, entry.marks, entry.run)
            except Exception as error:
                if not is_taken(error):
                    raise
                raise mark_moved(entry.marks[0].key) from None
        if entry.receipt is None or entry.key is None:
            return
        if prunes and _prunes(entry.key):
            statements.changed(self.receipts.prune())
        try:
            statements.changed(self.receipts.write(entry.key, entry.receipt, pending))
        except Exception as error:
            if not is_taken(error):
                raise
            raise attempt_replaced(plan) from None

    def drop_earlier(self, statements: Statements, receipt: Receipt) -> None:
        """Drops what loads before that of ``receipt`` kept of what they replaced in its table: one is kept."""
        for (account,) in statements.rows(self.receipts.kept()):
            earlier = Receipt.from_text(account)
            if earlier.table == receipt.table and earlier.previous and earlier.previous != receipt.previous:
                held = TableName(self.receipts.name.schema, earlier.previous)
                statements.changed(f"DROP TABLE IF EXISTS {self.dialect.table(held)}")


class SqlLedger(LedgerTables, ABC):
    """See ``Ledger``. A kind says how a session is opened, and how a fence is written."""

    @abstractmethod
    def opened(self, doing: str, *, writes: bool = False) -> AbstractContextManager[Statements]:
        """A session in which each statement commits by itself."""

    @abstractmethod
    def transaction(self, doing: str) -> AbstractContextManager[Statements]:
        """A transaction: leaving the context commits, an error undoes it."""

    @abstractmethod
    def has(self, statements: Statements, table: TableName) -> bool:
        """Whether there is a table of this name."""

    @abstractmethod
    def is_taken(self, error: Exception) -> bool:
        """Whether a statement failed because its key is there already."""

    def bar(self, statements: Statements, key: ReceiptKey) -> bool:
        """Commits the fence of a key, after waiting for a session that is about to commit the same key; False where that was quicker."""
        try:
            statements.changed(self.receipts.fence(key))
        except Exception as error:
            if not self.is_taken(error):
                raise
            return False
        return True

    def find(self, statements: Statements, key: ReceiptKey) -> Receipt | None:
        """The receipt of a key, a fence too; None where there is none."""
        rows = statements.rows(self.receipts.find(key))
        return Receipt.from_text(str(rows[0][0])) if rows else None

    def receipt(self, key: ReceiptKey) -> Receipt | None:
        with self.opened("looking for a receipt") as statements:
            found = self.find(statements, key) if self.has(statements, self.receipts.name) else None
        return None if found is None or found.bars else found

    def committed(self, keys: Sequence[ReceiptKey]) -> Receipt | None:
        with self.opened("asking which attempt was committed", writes=True) as statements:
            if not self.has(statements, self.receipts.name):
                self.create_receipts(statements)
            found = self._first_committed(statements, keys)
            self.end_attempts(statements, keys)
        return found

    def _first_committed(self, statements: Statements, keys: Sequence[ReceiptKey]) -> Receipt | None:
        for key in keys:
            if self.bar(statements, key):
                continue
            found = self.find(statements, key)
            if found is not None and not found.bars:
                return found
        return None

    def end_attempts(self, statements: Statements, keys: Sequence[ReceiptKey]) -> None:
        """Ends the sessions of attempts that were asked for, where the database names them."""

    def create_receipts(self, statements: Statements) -> None:
        """Makes the table of receipts, which another session may do at the same time."""
        statements.changed(self.receipts.create())

    def mark(self, key: MarkKey) -> Mapping[str, str]:
        with self.opened("looking for a mark") as statements:
            return self.entries(statements, key) if self.has(statements, self.marks.name) else {}

    def entries(self, statements: Statements, key: MarkKey) -> Mapping[str, str]:
        """The entries of a mark by their items; the table of marks is there."""
        return {str(item): str(value) for item, value in statements.rows(self.marks.find(key))}

    def set_mark(self, key: MarkKey, value: str | None) -> None:
        doing = f"setting the mark of {key.object}"
        with self.opened(doing, writes=value is not None) as statements:
            if not self.has(statements, self.table):
                raise no_table(self.table)
            if not self.has(statements, self.marks.name):
                if value is None:
                    return
                statements.changed(self.marks.create())
        with self.transaction(doing) as statements:
            statements.changed(self.marks.forget(key))
            if value is not None:
                self.marks.write(statements, [MarkChange(key, "", value)], "by hand")
