"""One execution of a plan: read and shape in one thread, stage in another, then publish and verify."""

from __future__ import annotations

import itertools
import time
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager

from ultravect.core.contracts.kept_sessions import close_idle_sessions
from ultravect.core.contracts.mark import MarkChange
from ultravect.core.contracts.receipt import Receipt
from ultravect.core.contracts.write_plan import Attempt
from ultravect.core.contracts.write_session import Counts, RefusedRow, Verified
from ultravect.core.engine.objects.connections import ConnectionSpec
from ultravect.core.engine.objects.tables import TableRows
from ultravect.core.engine.plan.open_leg import OpenLeg
from ultravect.core.engine.plan.source.drift import TypeDrift
from ultravect.core.engine.run.copied_files import tidy_loaded
from ultravect.core.engine.run.counting.checksums import Checksums
from ultravect.core.engine.run.counting.guards import Decided, Guards
from ultravect.core.engine.run.counting.highest_value import HighestValue
from ultravect.core.engine.run.counting.progress import Progress
from ultravect.core.engine.run.counting.row_account import RowAccount
from ultravect.core.engine.run.counting.rows_around import RowsAround
from ultravect.core.engine.run.counting.tally import Tally
from ultravect.core.engine.run.counting.tie_rows import TieRows
from ultravect.core.engine.run.execution import Execution
from ultravect.core.engine.run.leg import COMMITTED, NOTHING, UNKNOWN, LegResult
from ultravect.core.engine.run.observer import Observer, RejectedKeys, write_rows
from ultravect.core.engine.run.reading import Reading
from ultravect.core.engine.run.rejected.held_rejects import HeldRejects
from ultravect.core.engine.run.rejected.rejects import RejectLedger
from ultravect.core.engine.run.rejected.row_places import RowPlaces
from ultravect.core.engine.run.shape import Shaper
from ultravect.core.engine.write.driver import Write, open_write
from ultravect.core.errors import UltravectError
from ultravect.core.words import counted

_NAMED_FILES = 10
_REJECTS_AT_ONCE = 500
# what a load raises while publishing, when no answer says whether it was committed
REFUSALS = ("constraint-refused", "value-refused")
"""Errors of single rows, which are found when each is written apart from the others."""

_NOT_ANSWERED = ("outcome-unknown", "connection-lost")


class LegRun:
    """One reading of a leg's rows, and their way into the target."""

    def __init__(self, opened: OpenLeg, execution: Execution, *, isolates: bool = False) -> None:
        """``isolates``: the target refused a load of such rows, which are now found one by one."""
        plan, job, listener = opened.plan, opened.job, execution.listener
        self._reader, self._target, self._table = opened.reader, opened.target, plan.table
        self._plan, self._execution, self._listener = plan, execution, listener
        key = execution.key if plan.write.receipts else None
        self.attempt = Attempt(plan.write, key, isolates, notify=lambda text: listener.log("warning", text))
        self._tally = Tally()
        self._held = HeldRejects(listener.rejects) if plan.sampled else None
        self._ledger = RejectLedger(job.into.rejects, self._held.add if self._held else listener.rejects)
        self._account = RowAccount(self._ledger)
        self._places = RowPlaces() if isolates else None
        self.published = self._unverified = False
        self.may_isolate = job.into.rejects != 0 and self._target.can_isolate and not isolates
        by = plan.mark.by if plan.mark else None
        self._ties = TieRows(opened.reader, by) if by is not None and by.ties is not None else None
        self._highest = HighestValue(by) if by is not None and by.follows >= 0 else None
        self._guards = Guards(job.guard, plan.columns, plan.facts.usual) if job.guard else None
        self._decided: list[Decided] = []
        self._progress = Progress(listener, opened.reader.size)
        database = opened.target.database
        sums = job.into.checksums and plan.write.merges is None and database is not None
        self._sums = Checksums(database, plan.write.columns) if sums and database is not None else None
        self._reading = Reading(
            opened.reader,
            Shaper.of(opened, execution.run_id),
            self._progress,
            execution.selection,
            self._ties,
            with_keys=isolates,
        )
        self._rejected_keys = RejectedKeys() if plan.write.flag else None
        seen = (
            self._account,
            self._rejected_keys,
            self._places,
            self._highest,
            self._guards,
            self._sums,
            self._progress,
        )
        self._observers: Sequence[Observer] = [observer for observer in seen if observer is not None]

    def run(self) -> LegResult:
        with self.running() as read, open_write(self._target, self.attempt) as write:
            # those of planning are not needed any more, and a place may have few
            close_idle_sessions()
            self.fill(write, read)
            with self._execution.shield():
                self.publish(write)
                self.committed(write)
            return self.verified(write)

    @contextmanager
    def running(self) -> Iterator[Callable[[], None]]:
        """Reads for as long as the context lasts; what it gives starts the reading, where that has to wait for the target."""
        for phase in ("shape", "stage"):
            self._listener.phase(phase, "running")
        one_file = isinstance(self._reader, TableRows) and self._reader.shares_file_with(self._target)
        if not one_file:
            # reading starts while the target is still being opened
            self._reading.start()
        self._phase = "stage"
        try:
            yield self._reading.start if one_file else lambda: None
        except UltravectError as error:
            error.phase = error.phase or self._phase
            raise
        except TypeDrift:
            self._held = None  # the leg begins anew, and reports its own
            raise
        finally:
            self._reading.end()
            if self._held:
                self._held.release()
            if self._places:
                self._places.close()

    def fill(self, write: Write, read: Callable[[], None] = lambda: None) -> None:
        """Stages the rows, and has the target do what the order says; ``read`` starts the reading."""
        plan = self._plan.write
        if self._sums and plan.replaces is None and not plan.is_new:
            self._sums.before = self._sums.of_table(self._table)
        read()
        if plan.create is not None:
            self._listener.log("info", f"created table {self._table}, visible once the load is published")
        for change in plan.changes:
            what = "adding" if change.added else "enlarging"
            self._listener.log("info", f"{what} column {change.column.name} of {self._table} with the load")
        self._stage(write)
        tolerated = self._ledger.tolerated(self._tally.read) if self.attempt.isolates else 0
        keys = self._rejected_keys.table if self._rejected_keys is not None else None
        counts = write.finish(tolerated, complete=not self._ledger.count, rejected_keys=keys)
        self._refuse(write.refused)
        self._settle(counts)
        if write.changes:
            self._listener.changes(write.changes)
        if write.previous:
            self._listener.log("info", f"the rows that are replaced are kept in {write.previous}")
        self._listener.phase("stage", "done")

    def publish(self, write: Write) -> None:
        """Has the target publish the rows, with their receipt."""
        if self._guards:
            self._decided = self._guards.settle(self._tally, self._listener.log, str(self._table))
        self._phase = "publish"
        self._listener.phase("publish", "running")
        rows = RowsAround.of(write.rows_before, self._counts)
        receipt = self._receipt = Receipt(
            str(self._table),
            self._plan.write.action.mode,
            self._tally.as_dict(),
            rows.before,
            rows.after,
            self._plan.write.is_new,
            write.previous,
        )
        try:
            write.publish(receipt, self._marks())
        except UltravectError as error:
            error.outcome = error.outcome or (UNKNOWN if error.code in _NOT_ANSWERED else NOTHING)
            raise

    def committed(self, write: Write) -> None:
        """To be called when the rows that were published are committed."""
        self.published = True
        self._listener.published(self._receipt)
        self._listener.phase("publish", "done")
        for path in write.written[:_NAMED_FILES]:
            self._listener.log("info", f"wrote {path}")
        if len(write.written) > _NAMED_FILES:
            self._listener.log("info", f"and {counted(len(write.written) - _NAMED_FILES, 'other file')}")

    def verified(self, write: Write) -> LegResult:
        """What is counted in the target, and what the leg has come to."""
        self._phase = "verify"
        try:
            return self._verify(write)
        except UltravectError as error:
            error.outcome, error.phase = COMMITTED, self._phase
            raise

    def tidy(self, source: ConnectionSpec) -> None:
        """Does with files that were copied what the job says (`then`)."""
        tidy_loaded(self._plan.mark, source, self._listener)

    def _marks(self) -> list[MarkChange]:
        """What the load notes of what it has copied."""
        mark = self._plan.mark
        value = self._ties.mark.as_text() if self._ties else self._highest.mark if self._highest else ""
        entries = mark.entries if mark else ()
        if self._highest and not value:
            return []  # the answer had no rows, and there was no mark
        return [MarkChange(mark.key, entry.item, value or entry.value, entry.before) for entry in entries if mark]

    def _stage(self, write: Write) -> None:
        """Takes shaped rows from the thread that reads, and writes them."""
        write_rows(self._reading, self._observers, write.write)
        self._listener.phase("read", "done")
        self._listener.phase("shape", "done")
        self._progress.report(now=True)
        selection = self._execution.selection
        if selection and (shown := selection.missed(self._account.read)):
            self._listener.log("warning", shown)
        if self._held:
            # every row has been read: nothing can turn out otherwise any more
            self._held.release()
        self._end_account()

    def _end_account(self) -> None:
        """All rows are read."""
        self._tally.read, self._tally.filtered = self._account.read, self._account.filtered
        try:
            self._account.end()
        except UltravectError as error:
            error.phase = "shape"
            raise

    def _refuse(self, refused: Iterable[RefusedRow]) -> None:
        """Rejects what only the database could refuse."""
        if self._places:
            left = iter(refused)
            while some := [self._places.reject(item) for item in itertools.islice(left, _REJECTS_AT_ONCE)]:
                self._ledger.add(some)
            self._ledger.enforce(self._tally.read, final=True)

    def _settle(self, counts: Counts) -> None:
        """The books: what the database took and what was rejected must be what was read."""
        self._counts = counts
        self._tally.inserted = counts.inserted
        self._tally.updated = counts.updated
        self._tally.unchanged = counts.unchanged
        self._tally.repeated = counts.repeated
        self._tally.rejected = self._ledger.count
        if counts.gone:
            gone = counted(counts.gone, "row of the target is", "rows of the target are")
            flag = self._plan.write.flag
            does = f"flagged in {flag}" if flag else "deleted"
            self._listener.log("info", f"{gone} {does}: the source has no such keys any more")
        if not self._tally.adds_up:
            raise UltravectError(
                "tally-unbalanced",
                f"{self._tally.read:,} rows were read, but {self._tally.accounted:,} are accounted for; nothing was written",
                hint="a trigger or rule of the target may drop rows; otherwise please report this",
                tally=self._tally.as_dict(),
            )

    def _verify(self, write: Write) -> LegResult:
        self._listener.phase("verify", "running")
        written = self._tally.inserted + self._tally.updated
        verified = self._count_in_target(write, written)
        if verified.rows_of_load != written and not verified.sure:
            self._listener.log(
                "warning",
                f"not verified: {written:,} rows were committed to {self._table}, and {verified.rows_of_load:,} rows of "
                "this load are counted there; triggers or rules of the table may write to it as well",
            )
        elif verified.rows_of_load != written:
            raise UltravectError(
                "verify-failed",
                f"{written:,} rows were committed to {self._table}, but {verified.rows_of_load:,} of them "
                "can be counted there",
                hint="triggers, or others who changed the rows at once, can cause this; look at the table",
                table=str(self._table),
            )
        elif verified.how:
            self._listener.log("info", f"verified: {counted(written, 'row')} of this load counted {verified.how}")
        known = RowsAround.of(write.rows_before, self._counts)
        if verified.rows_after is not None and known.after not in (None, verified.rows_after):
            who = "the statements of into.after, or others," if self._plan.write.after else "others"
            self._listener.log(
                "warning",
                f"{self._table} holds {verified.rows_after:,} rows, not {known.after:,}: {who} wrote to it during the run",
            )
        rows = known.with_after(verified.rows_after)
        if rows.before is None and self._plan.live is not None and self._plan.live.rows is not None:
            rows = RowsAround.of(self._plan.live.rows, self._counts, about=True).with_after(verified.rows_after)
        checksums = self._checked(write)
        self._listener.phase("verify", "done")
        return LegResult(
            self._tally,
            rows.before,
            rows.after,
            self._plan.write.is_new,
            time.monotonic() - self._execution.started,
            comparison=write.comparison,
            checksums=checksums,
            strategy=write.strategy or self._plan.strategy.name,
            gone=self._counts.gone,
            files=dict(self._account.files) if self._plan.mark and not self._plan.mark.by else {},
            mark=self._plan.mark.shown() if self._plan.mark else None,
            guards=[item.as_dict() for item in self._decided],
            rows_about=rows.about,
            unverified=self._unverified,
        )

    def _count_in_target(self, write: Write, written: int) -> Verified:
        """Counts the rows of the load. Where that is not possible any more, the rows are committed nevertheless, as the database has said."""
        try:
            return write.verify()
        except Exception as error:  # a driver's own, mostly: the target went away
            if isinstance(error, UltravectError) and error.code == "verify-failed":
                raise
            reason = error.detail if isinstance(error, UltravectError) else str(error).partition("\n")[0]
            self._listener.log(
                "warning",
                f"not verified: {written:,} rows were committed to {self._table}, and they could not be counted there: {reason}",
            )
            self._sums = None
            self._unverified = True
            return Verified(None, written)

    def _checked(self, write: Write) -> Mapping[str, str] | None:
        """The checksums of the loaded rows, compared with those of the rows sent; None where they cannot be."""
        if self._sums is None:
            return None
        dropped = self._counts.refused + self._counts.repeated
        if dropped:
            what = counted(dropped, "row was", "rows were")
            self._listener.log("warning", f"checksums are not compared: {what} sent and not kept")
            return None
        found = self._sums.require_equal(self._table)
        shown = counted(len(found), "column")
        self._listener.log("info", f"the target gives back what was sent: the checksums of {shown} are equal")
        return found
