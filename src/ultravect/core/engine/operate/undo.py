"""Undoes a load, where what was before it can be known: by its receipt, its rows' run, or the content that it replaced."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from contextlib import AbstractContextManager, nullcontext
from typing import Any, NoReturn

from ultravect.core.contracts.catalogue import LiveTable
from ultravect.core.contracts.receipt import Receipt, ReceiptKey
from ultravect.core.contracts.target import Database
from ultravect.core.contracts.write_session import Statements
from ultravect.core.dialects.base import TableName
from ultravect.core.engine.objects.connections import ConnectionSpec
from ultravect.core.engine.objects.names import RunFacts
from ultravect.core.engine.objects.targets import open_target
from ultravect.core.engine.run.counting.tally import Tally
from ultravect.core.engine.run.leg import LegResult, Listener
from ultravect.core.errors import UltravectError
from ultravect.core.expressions.parse import parse_item
from ultravect.core.expressions.tree import Call, Item
from ultravect.core.loading.sql_ledger import ReceiptTable
from ultravect.core.model.jobs.job import Job
from ultravect.core.words import counted

_ASK_SECONDS, _MOST_RECEIPTS = 60.0, 1_000_000
UNDONE = "undo"
"""The mode in the receipt that an undo leaves."""


def undo_leg(
    job: Job,
    target: ConnectionSpec,
    listener: Listener,
    shield: Callable[[], AbstractContextManager[None]] = nullcontext,
    *,
    facts: RunFacts,
    loads: Sequence[ReceiptKey],
    receipt: ReceiptKey,
    earlier: Sequence[ReceiptKey] = (),
) -> LegResult:
    """Undoes the load of ``job``, whose receipt has one of the names ``loads``, in one transaction that leaves ``receipt``.

    ``facts`` are those of the run that loaded; ``earlier``: see ``run_leg``. An undo reads no rows, so its tally is all zero.
    Raises UltravectError, with the target as it is, when the load cannot be undone.
    """
    started = time.monotonic()
    if job.into.table is None:
        _refuse("files are not undone", "remove the files that the run wrote: its log names them")
    opened, name = open_target(job, target, facts)
    database = opened.database
    if database is None:
        _refuse("files are not undone", "remove the files that the run wrote: its log names them")
    if earlier and (known := database.ledger(name).committed(earlier)):
        listener.log("info", "the load was undone before the run was taken over: the receipt is in the target")
        return LegResult(Tally(), known.rows_before, database.count(name), False, 0.0)
    key, found = _found(database, name, loads)
    if found is None:
        _refuse(
            f"{name} has no receipt of run {facts.id}",
            "receipts are kept for 90 days, and a load is undone once; connections with receipts: false have none",
        )
    live = database.table(name)
    if live is None:
        _refuse(f"{name} is no longer there", "")
    if database.versions is not None:
        return _restored(database, live, facts, key, receipt, listener, shield)
    listener.phase("stage", "running")
    undo = _Undo(job, database, live, found, facts)
    with shield(), database.transaction(live.name, f"undoing run {facts.id} in {live.name}") as statements:
        undo.carry_out(statements, ReceiptTable(database.dialect, live.name), key, receipt)
        listener.phase("stage", "done")
        listener.phase("publish", "running")
    listener.phase("publish", "done")
    if found.previous:
        database.drop(TableName(live.name.schema, found.previous))
    listener.log("info", undo.summary)
    return LegResult(Tally(), undo.before, database.count(name), False, time.monotonic() - started)


def _restored(
    database: Database,
    live: LiveTable,
    facts: RunFacts,
    load: ReceiptKey,
    own: ReceiptKey,
    listener: Listener,
    shield: Callable[[], AbstractContextManager[None]],
) -> LegResult:
    """By the version of the table before the load."""
    started = time.monotonic()
    assert database.versions is not None
    if obstacle := database.versions.obstacle(live.name, load):
        _refuse(obstacle, "copy the version that is wanted: from.at names it")
    listener.phase("publish", "running")
    with shield():
        before = database.versions.restore(live.name, load, own, UNDONE)
    listener.phase("publish", "done")
    after = database.count(live.name)
    listener.log(
        "info",
        f"the version of {live.name} before run {facts.id} is its newest again: {before:,} rows were there, now {after:,}",
    )
    return LegResult(Tally(), before, after, False, time.monotonic() - started)


def _found(database: Database, table: TableName, loads: Sequence[ReceiptKey]) -> tuple[ReceiptKey, Receipt | None]:
    for load in loads:
        if receipt := database.ledger(table).receipt(load):
            return load, receipt
    return loads[0], None


def require_undoable(job: Job, target: ConnectionSpec, facts: RunFacts, loads: Sequence[ReceiptKey]) -> None:
    """Raises where it is known beforehand that a load cannot be undone; see ``undo_leg``."""
    if job.into.table is None:
        _refuse("files are not undone", "remove the files that the run wrote: its log names them")
    opened, name = open_target(job, target, facts)
    database = opened.database
    assert database is not None
    key, found = _found(database, name, loads)
    live = database.table(name)
    if found is None or live is None:
        _refuse(
            f"{name} has no receipt of run {facts.id}" if live else f"{name} is no longer there",
            "receipts are kept for 90 days, and a load is undone once; connections with receipts: false have none",
        )
    if database.versions is not None:
        if obstacle := database.versions.obstacle(live.name, key):
            _refuse(obstacle, "copy the version that is wanted: from.at names it")
        return
    undo = _Undo(job, database, live, found, facts)
    undo.require_possible()
    if found.mode == "overwrite":
        receipts = ReceiptTable(database.dialect, live.name)
        undo.require_newest(database.ask(receipts.all(), _MOST_RECEIPTS, _ASK_SECONDS).rows, key)


def _refuse(why: str, hint: str) -> NoReturn:
    raise UltravectError("undo-refused", f"the load cannot be undone: {why}; nothing was changed", hint=hint)


class _Undo:
    def __init__(self, job: Job, database: Database, live: LiveTable, receipt: Receipt, facts: RunFacts) -> None:
        self._job, self._database, self._live, self._receipt, self._facts = job, database, live, receipt, facts
        self._table = database.dialect.table(live.name)
        self.before = 0
        self.summary = ""

    def require_possible(self) -> None:
        """Raises where the job, the receipt and the catalogue already say that it cannot be undone."""
        match self._receipt.mode:
            case "append":
                self._column()
            case "overwrite":
                self._kept()
            case mode:
                _refuse(f"an {mode} changes rows in their place", "its changed rows are listed with the run")

    def carry_out(self, statements: Statements, receipts: ReceiptTable, key: ReceiptKey, own: ReceiptKey) -> None:
        """Everything that changes, in the transaction of ``statements``."""
        self.before = self._number(statements, f"SELECT count(*) FROM {self._table}")
        match self._receipt.mode:
            case "append":
                self._take_out(statements)
            case "overwrite":
                self._put_back(statements, receipts, key)
            case mode:
                _refuse(f"an {mode} changes rows in their place", "its changed rows are listed with the run")
        statements.changed(receipts.withdraw(key))
        account = Receipt(str(self._live.name), UNDONE, {}, self.before)
        statements.changed(receipts.write(own, account))

    @staticmethod
    def _number(statements: Statements, statement: str) -> int:
        return int(statements.rows(statement)[0][0])

    def _take_out(self, statements: Statements) -> None:
        """Removes the rows that carry the run's number."""
        column = self._column()
        dialect = self._database.dialect
        where = f"{dialect.quote(column)} = {dialect.literal(self._facts.id)}"
        removed = statements.changed(f"DELETE FROM {self._table} WHERE {where}")
        loaded = self._receipt.tally.get("inserted", 0)
        if removed != loaded:
            _refuse(
                f"{self._live.name} holds {counted(removed, 'row')} of run {self._facts.id}, which loaded {loaded:,}",
                "others changed them since",
            )
        self.summary = f"{counted(removed, 'row')} of run {self._facts.id} removed"

    def _column(self) -> str:
        column = _run_column(self._job)
        if column is None or self._live.column(column) is None:
            _refuse(
                "an append is only undone when its rows name their run",
                "add `run_id() as load_run` to the job's columns for the loads to come",
            )
        return column

    def _kept(self) -> tuple[TableName, list[str]]:
        """The table that holds what was there before, and its columns."""
        previous = self._receipt.previous
        if not previous:
            _refuse(
                "the job keeps no earlier content", "write into.keep_previous: 1 into the job for the loads to come"
            )
        kept = TableName(self._live.name.schema, previous)
        held = self._database.table(kept)
        if held is None:
            _refuse(f"{kept}, the content before it, is no longer there", "one earlier content is kept")
        names = [column.name for column in held.columns]
        if names != [column.name for column in self._live.columns]:
            _refuse(
                f"{self._live.name} has other columns than before",
                f"it was rebuilt or altered; what it held before is in {kept}",
            )
        return kept, names

    def _put_back(self, statements: Statements, receipts: ReceiptTable, key: ReceiptKey) -> None:
        """Gives the table the rows that it had before."""
        kept, names = self._kept()
        self.require_newest(statements.rows(receipts.all()), key)
        generated = {column.name for column in self._live.columns if column.generated}
        listed = ", ".join(self._database.dialect.quote(name) for name in names if name not in generated)
        # what is removed is counted, and not what was seen before: others may have written in between
        removed, loaded = statements.changed(f"DELETE FROM {self._table}"), self._receipt.tally.get("inserted", 0)
        if removed != loaded:
            _refuse(
                f"{self._live.name} holds {removed:,} rows, not the {loaded:,} that were loaded",
                f"others changed it since; what it held before is in {kept}",
            )
        restored = statements.changed(
            f"INSERT INTO {self._table} ({listed}) SELECT {listed} FROM {self._database.dialect.table(kept)}"
        )
        if self._receipt.rows_before not in (None, restored):
            _refuse(f"{kept} holds {restored:,} rows, not {self._receipt.rows_before or 0:,}", "others changed it")
        self.summary = f"{counted(removed, 'row')} removed, the {counted(restored, 'row')} from before put back"

    def require_newest(self, receipts: Sequence[Sequence[Any]], key: ReceiptKey) -> None:
        """Raises where a later load has written into the same table."""
        mine = _order(key.run)
        for run, account in receipts:
            other = Receipt.from_text(account)
            if other.table == self._receipt.table and other.mode != UNDONE and not other.bars and _order(run) > mine:
                _refuse(
                    f"run {run.split('-')[0]} loaded into {other.table} after it", "undo that one first, if it can be"
                )


def _order(receipt: str) -> str:
    """The moment at which a run was queued, which its receipt's name ends with."""
    return receipt.partition("-")[2]


def _run_column(job: Job) -> str | None:
    """The column in which the job's rows name their run."""
    for number, text in enumerate(job.columns):
        item = parse_item(text, f"columns.{number}")
        if isinstance(item, Item) and isinstance(item.value, Call) and item.value.function == "run_id":
            return item.name
    return None
