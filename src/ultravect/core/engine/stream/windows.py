"""Writes windows of changes into the target: the state of the source at a commit, by one transaction where the target can."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import AbstractContextManager, ExitStack, contextmanager
from dataclasses import dataclass, field, replace
from enum import IntEnum
from typing import Any

import pyarrow as pa

from ultravect.core.contracts.change_log import Changes, Emptied, Kind, LogMark
from ultravect.core.contracts.mark import MarkChange, MarkKey
from ultravect.core.contracts.target import LoadsTogether, Target
from ultravect.core.contracts.write_plan import Attempt
from ultravect.core.contracts.write_session import Counts, RefusedRow
from ultravect.core.engine.run.rejected.rejects import Reject, RejectLedger
from ultravect.core.engine.stream.stream_table import Step, StreamTable
from ultravect.core.engine.write.driver import open_write
from ultravect.core.errors import UltravectError

_CHUNK_BYTES = 64 << 20


class Order(IntEnum):
    """In which order the changes of a window are made: one after the other is tried, where constraints of the target refuse the one before."""

    REMOVED_FIRST = 0
    """Rows that are gone make room for those that take their unique values."""

    WRITTEN_FIRST = 1
    """Rows that others point to are there before those, and go after them."""

    IN_RUNS = 2
    """As they were made in the source; those of one table that come one after the other, and are of different rows, by one statement."""

    ONE_BY_ONE = 3
    """As they were made in the source, each by itself."""


@dataclass
class Account:
    """What became of the changes of one table in a window."""

    changes: int = 0
    inserted: int = 0
    updated: int = 0
    unchanged: int = 0
    deleted: int = 0
    rejected: int = 0

    def add(self, step: Step, counts: Counts) -> None:
        self.inserted += counts.inserted
        self.updated += counts.updated
        self.unchanged += counts.unchanged
        self.deleted += counts.gone


@dataclass
class WindowAccount:
    """A window that was committed, at ``position`` of the log, as the source writes it. ``lag``: seconds since the last commit of the source that
    is in it, when it was written; ``seconds`` it took to write."""

    position: str
    lag: float
    seconds: float
    tables: dict[str, Account] = field(default_factory=dict)

    @property
    def changes(self) -> int:
        return sum(account.changes for account in self.tables.values())

    def as_dict(self) -> dict[str, Any]:
        return {
            "position": self.position,
            "lag": round(self.lag, 3),
            "seconds": round(self.seconds, 3),
            "tables": {name: account.__dict__ for name, account in self.tables.items()},
        }


class WindowWriter:
    """Writes windows of these tables, which all go into ``target``. ``key``: whose mark a window leaves, ``held`` that entry as it is.

    ``keep`` is given rows that do not fit, with their table's name in the job.
    """

    def __init__(
        self,
        target: Target,
        tables: Sequence[StreamTable],
        key: MarkKey,
        held: str | None,
        order: Order,
        keep: Callable[[str, Sequence[Reject]], None],
        shield: Callable[[], AbstractContextManager[None]],
    ) -> None:
        self._target, self._tables, self._key, self.held, self._order = target, tables, key, held, order
        self._by_name = {table.live.name: table for table in tables}
        self._keep, self._shield = keep, shield
        self._loads: LoadsTogether | None = None
        self._waiting: list[Step] = []
        self._chunk: list[Changes] = []
        self._begin()

    def _begin(self) -> None:
        self.accounts: dict[str, Account] = {}
        self._started: float | None = None
        self._is_fresh = True
        self._ledgers: dict[str, RejectLedger] = {}

    @contextmanager
    def open(self) -> Iterator[WindowWriter]:
        """Holds a session of the target for as long as the context lasts, where it writes several tables by one transaction."""
        with ExitStack() as stack:
            if self._target.windows is not None:
                attempts = [Attempt(table.write_plan) for table in self._tables]
                self._loads = stack.enter_context(self._target.windows(attempts))
            yield self

    @property
    def is_pending(self) -> bool:
        """Whether something has come since the last window."""
        return self._started is not None

    def changes(self, changes: Changes) -> None:
        """Takes changes; those of one chunk come table by table."""
        self._started = self._started or time.monotonic()
        held = sum(other.values.nbytes for other in self._chunk)
        if held > _CHUNK_BYTES or any(other.table == changes.table for other in self._chunk):
            self.flush()
        self._chunk.append(changes)

    def emptied(self, emptied: Emptied) -> None:
        """All rows of a table are gone."""
        self._started = self._started or time.monotonic()
        self.flush()
        table = self._by_name[emptied.table]
        self._account(table).changes += 1
        for step in table.emptied() if table.is_mirror else table.emptied_row(emptied.position, emptied.moment):
            self._add(step)

    def _account(self, table: StreamTable) -> Account:
        return self.accounts.setdefault(table.object, Account())

    def flush(self) -> None:
        """Has the changes so far be made, in the transaction of the window."""
        chunk, self._chunk = self._chunk, []
        chosen = [(self._by_name[changes.table], changes) for changes in chunk]
        chosen.sort(key=lambda pair: self._tables.index(pair[0]))
        for table, changes in chosen:
            self._account(table).changes += int((changes.kinds != Kind.FORMER).sum())
        for table, changes in chosen:
            if not table.is_mirror:
                for step in table.history(changes):
                    self._add(step)
        mirrors = [(table, changes) for table, changes in chosen if table.is_mirror]
        for step in self._ordered(mirrors):
            self._add(step)

    def _ordered(self, chosen: Sequence[tuple[StreamTable, Changes]]) -> Iterator[Step]:
        if self._order >= Order.IN_RUNS:
            numbered = [item for table, changes in chosen for item in table.one_by_one(changes)]
            numbered.sort(key=lambda item: item[0])
            self._is_fresh = False
            yield from _runs(numbered) if self._order == Order.IN_RUNS else (step for _, _, step in numbered)
            return
        both = [table.removals_and_rows(changes, fresh=self._is_fresh) for table, changes in chosen]
        self._is_fresh = False
        removals = [step for removed, _ in reversed(both) for step in removed]
        rows = [step for _, written in both for step in written]
        yield from [*removals, *rows] if self._order == Order.REMOVED_FIRST else [*rows, *removals]

    def _add(self, step: Step) -> None:
        """Executes the step before this one: the last one of a window carries its mark."""
        ledger = self._ledgers.setdefault(
            step.table.object, RejectLedger(step.table.job.into.rejects, lambda rejects: None)
        )
        if step.rejects:
            ledger.add(step.rejects)
            self._keep(step.table.object, step.rejects)
            account = self._account(step.table)
            account.rejected += len(step.rejects)
            ledger.enforce(account.changes, final=False)
        removes = step.plan.removes
        if not step.batch.num_rows and (removes is None or not removes.every):
            return
        if self._loads is not None and self._waiting:
            self._execute(self._waiting.pop(), ())
        self._waiting.append(step)

    def _execute(self, step: Step, marks: Sequence[MarkChange]) -> None:
        attempt = Attempt(step.plan, isolates=self._tolerates(step))
        with open_write(self._loads or self._target, attempt) as write:
            write.write(step.batch)
            rejects = self._ledgers[step.table.object]
            counts = write.finish(rejects.tolerated(self._account(step.table).changes) if attempt.isolates else 0)
            if attempt.isolates:
                self._reject(step, list(write.refused))
            elif counts.refused:
                raise UltravectError(
                    "row-unknown",
                    f"{counts.refused:,} updated rows of {step.table.object} are not in {step.plan.table}, and the log does not have all of "
                    "their values",
                    hint=f"have it copied anew: ultravect mark {step.table.job.job} --reset --object {step.table.object}",
                )
            write.publish(None, marks)
        self._account(step.table).add(step, counts)

    def _tolerates(self, step: Step) -> bool:
        """Whether a row that the target refuses is a reject: once it is known that no order of the changes helps."""
        merge = step.plan.merges
        return (
            self._order == Order.ONE_BY_ONE
            and step.plan.removes is None
            and (merge is None or not merge.only_matched)
            and step.table.job.into.rejects != 0
            and self._target.can_isolate
        )

    def _reject(self, step: Step, refused: Sequence[RefusedRow]) -> None:
        if not refused:
            return
        table = step.table
        rejects = [
            Reject(
                table.reader.label,
                row.row + 1,
                None,
                "",
                None,
                f"refused by the target: {row.reason}",
                row.record,
                table.key_text(step.batch, row.row),
            )
            for row in refused
        ]
        self._keep(table.object, rejects)
        self._ledgers[table.object].add(rejects)
        self._account(table).rejected += len(rejects)
        self._ledgers[table.object].enforce(self._account(table).changes, final=False)

    def commit(self, mark: LogMark, text: str, moment: int) -> WindowAccount:
        """Publishes the window, with its mark."""
        self.flush()
        for table, ledger in self._ledgers.items():
            ledger.enforce(self.accounts[table].changes, final=True)
        entry = mark.as_text()
        change = MarkChange(self._key, "", entry, self.held)
        with self._shield():
            if not self._waiting:
                plan = self._tables[0].write_plan
                self._target.ledger(plan.table).set_mark(self._key, entry)
            elif self._loads is not None:
                self._execute(self._waiting.pop(), (change,))
                self._loads.commit()
            else:
                self._commit_apart(mark, change)
        self.held = entry
        lag = time.time() - moment / 1_000_000 if moment else 0.0
        done = WindowAccount(
            text, max(0.0, lag), time.monotonic() - (self._started or time.monotonic()), self.accounts
        )
        self._begin()
        return done

    def _commit_apart(self, mark: LogMark, change: MarkChange) -> None:
        """One table after the other, each with a mark of its own; the window's own mark comes with the last one."""
        waiting, self._waiting = self._waiting, []
        last = {id(step.table): number for number, step in enumerate(waiting)}
        for number, step in enumerate(waiting):
            table, marks = step.table, []
            if last[id(table)] == number:
                marks.append(MarkChange(table.key, "", mark.as_text(), table.held))
            if number == len(waiting) - 1:
                marks.append(change)
            self._execute(step, marks)
            if marks:
                table.held, table.mark = mark.as_text(), mark


def _runs(numbered: Sequence[tuple[int, int, Step]]) -> Iterator[Step]:
    """Steps of one plan that come one after the other, of different rows, as one; ``numbered``: see ``StreamTable.one_by_one``."""
    run: list[Step] = []
    keys: set[int] = set()
    for _, key, step in numbered:
        if run and (step.table is not run[0].table or step.plan != run[0].plan or key in keys):
            yield _as_one(run)
            run, keys = [], set()
        run.append(step)
        keys.add(key)
    if run:
        yield _as_one(run)


def _as_one(run: Sequence[Step]) -> Step:
    batches = [step.batch for step in run if step.batch.num_rows] or [run[0].batch]
    batch = pa.Table.from_batches(batches).combine_chunks().to_batches()[0] if len(batches) > 1 else batches[0]
    rejects = [reject for step in run for reject in step.rejects]
    return replace(run[0], batch=batch, rows=sum(step.rows for step in run), rejects=rejects)
