"""One execution of a plan: read and shape in one thread, stage in another, then publish and verify."""

from __future__ import annotations

import itertools
import time
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import AbstractContextManager, contextmanager

from ultravect.core.contracts.kept_sessions import close_idle_sessions
from ultravect.core.contracts.load import Counts, ReceiptKey, RefusedRow
from ultravect.core.contracts.mark import MarkChange
from ultravect.core.contracts.receipt import Receipt
from ultravect.core.contracts.target import Load
from ultravect.core.engine.objects.connections import ConnectionSpec
from ultravect.core.engine.objects.tables import TableRows
from ultravect.core.engine.plan.open_leg import OpenLeg
from ultravect.core.engine.plan.source.drift import TypeDrift
from ultravect.core.engine.plan.target.writing import load_order
from ultravect.core.engine.run.copied_files import tidy_loaded
from ultravect.core.engine.run.counting.checksums import Checksums
from ultravect.core.engine.run.counting.guards import Decided, Guards
from ultravect.core.engine.run.counting.highest_value import HighestValue
from ultravect.core.engine.run.counting.progress import Progress
from ultravect.core.engine.run.counting.rows_around import RowsAround
from ultravect.core.engine.run.counting.tally import Tally
from ultravect.core.engine.run.counting.tie_rows import TieRows
from ultravect.core.engine.run.leg import COMMITTED, NOTHING, UNKNOWN, LegResult, Listener
from ultravect.core.engine.run.reading import Reading
from ultravect.core.engine.run.rejected.held_rejects import HeldRejects
from ultravect.core.engine.run.rejected.rejects import RejectLedger
from ultravect.core.engine.run.rejected.row_places import RowPlaces
from ultravect.core.engine.run.rejected.row_selection import RowSelection
from ultravect.core.engine.run.shape import Shaper
from ultravect.core.errors import UltravectError
from ultravect.core.words import counted

_NAMED_FILES = 10
_REJECTS_AT_ONCE = 500
# what a load raises while publishing, when no answer says whether it was committed
REFUSALS = ("constraint-refused", "value-refused")
"""Errors of single rows, which are found when each is written apart from the others."""

_NOT_ANSWERED = ("outcome-unknown", "connection-lost")


class LegRun:
    def __init__(
        self,
        opened: OpenLeg,
        listener: Listener,
        shield: Callable[[], AbstractContextManager[None]],
        started: float,
        run_id: str,
        receipt: ReceiptKey | None,
        selection: RowSelection | None,
        *,
        isolates: bool = False,
    ) -> None:
        """``isolates``: the target refused a load of such rows, which are now found one by one."""
        plan, job = opened.plan, opened.job
        self._reader, self._target, self._table = opened.reader, opened.target, plan.table
        self._plan = plan
        self._mode = job.into.mode
        self._isolates = isolates
        self.order = load_order(
            opened, receipt, isolate=self._isolates, notify=lambda text: listener.log("warning", text)
        )
        self._created = plan.create is not None and not plan.rebuilds and opened.target.database is not None
        self._listener = listener
        self._shield = shield
        self._started = started
        self._tally = Tally()
        self._held = HeldRejects(listener.rejects) if plan.sampled else None
        self._ledger = RejectLedger(job.into.rejects, self._held.add if self._held else listener.rejects)
        self._places = RowPlaces() if isolates else None
        self.published = False
        self._receipt_left = Receipt(str(self._table), self._mode)
        self.may_isolate = job.into.rejects != 0 and self._target.can_isolate and not self._isolates
        self._selection = selection
        self._rows_of: Counter[str] = Counter()
        by = plan.mark.by if plan.mark else None
        self._ties = TieRows(opened.reader, by) if by is not None and by.ties is not None else None
        self._highest = HighestValue(by) if by is not None and by.follows >= 0 else None
        self._guards = Guards(job.guard, plan.columns, plan.facts.usual) if job.guard else None
        self._decided: list[Decided] = []
        self._progress = Progress(listener, opened.reader.size)
        self._reading = Reading(
            opened.reader, Shaper.of(opened, run_id), self._progress, selection, self._ties, with_keys=isolates
        )
        self._sums: Checksums | None = None
        database = opened.target.database
        if job.into.checksums and not job.into.matches_rows and database is not None:
            self._sums = Checksums(database, self.order.columns)

    def run(self) -> LegResult:
        with self.running() as read, self._target.load(self.order) as load:
            # those of planning are not needed any more, and a place may have few
            close_idle_sessions()
            self.fill(load, read)
            with self._shield():
                self.publish(load)
                self.committed(load)
            return self.verified(load)

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

    def fill(self, load: Load, read: Callable[[], None] = lambda: None) -> None:
        """Stages the rows, and has the target do what the order says; ``read`` starts the reading."""
        if self._sums and not self.order.removes_old and not self._created:
            self._sums.before = self._sums.of_table(self._table)
        read()
        if self._created or self._plan.rebuilds:
            self._listener.log("info", f"created table {self._table}, visible once the load is published")
        for change in self._plan.changes:
            what = "adding" if change.added else "enlarging"
            self._listener.log("info", f"{what} column {change.column.name} of {self._table} with the load")
        self._stage(load)
        tolerated = self._ledger.tolerated(self._tally.read) if self._isolates else 0
        counts = load.finish(tolerated, complete=not self._ledger.count)
        self._refuse(load.refused)
        self._settle(counts)
        if load.changes:
            self._listener.changes(load.changes)
        if load.previous:
            self._listener.log("info", f"the rows that are replaced are kept in {load.previous}")
        self._listener.phase("stage", "done")

    def publish(self, load: Load) -> None:
        """Has the target publish the rows, with their receipt."""
        if self._guards:
            self._decided = self._guards.settle(self._tally, self._listener.log, str(self._table))
        self._phase = "publish"
        self._listener.phase("publish", "running")
        rows = RowsAround.of(load.rows_before, self._counts)
        receipt = Receipt(
            str(self._table),
            self._mode,
            self._tally.as_dict(),
            rows.before,
            rows.after,
            self._created,
            load.previous,
        )
        try:
            load.publish(receipt, self._marks())
        except UltravectError as error:
            error.outcome = error.outcome or (UNKNOWN if error.code in _NOT_ANSWERED else NOTHING)
            raise
        self._receipt_left = receipt

    def committed(self, load: Load) -> None:
        """To be called when the rows that were published are committed."""
        self.published = True
        self._listener.published(self._receipt_left)
        self._listener.phase("publish", "done")
        for path in load.written[:_NAMED_FILES]:
            self._listener.log("info", f"wrote {path}")
        if len(load.written) > _NAMED_FILES:
            self._listener.log("info", f"and {counted(len(load.written) - _NAMED_FILES, 'other file')}")

    def verified(self, load: Load) -> LegResult:
        """What is counted in the target, and what the leg has come to."""
        self._phase = "verify"
        try:
            return self._verify(load)
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

    def _stage(self, load: Load) -> None:
        """Takes shaped batches from the reading thread and writes them."""
        staged = 0
        for item in self._reading.shaped():
            self._phase = "shape"  # what can fail before the rows are written is what they are
            self._tally.read += item.rows
            self._tally.filtered += item.filtered
            self._ledger.add(item.rejects)
            self._ledger.enforce(self._tally.read, final=False)
            if self._places:
                self._places.add(item)
            self._phase = "stage"
            load.write(item.batch)
            if self._highest:
                self._highest.see(item.batch)
            if self._guards:
                self._guards.see(item.batch)
            if self._sums:
                self._sums.add(item.batch)
            staged += item.batch.num_rows
            self._rows_of.update(item.rows_of_files)
            self._progress.report(rows_staged=staged)
        self._listener.phase("read", "done")
        self._listener.phase("shape", "done")
        self._progress.report(now=True)
        if self._selection and (shown := self._selection.missed(self._tally.read)):
            self._listener.log("warning", shown)
        if self._held:
            # every row has been read: nothing can turn out otherwise any more
            self._held.release()
        self._phase = "shape"
        self._ledger.enforce(self._tally.read, final=True)
        self._phase = "stage"

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
            does = "deleted" if self.order.gone == "delete" else f"flagged in {self.order.gone}"
            self._listener.log("info", f"{gone} {does}: the source has no such keys any more")
        if not self._tally.adds_up:
            raise UltravectError(
                "tally-unbalanced",
                f"{self._tally.read:,} rows were read, but {self._tally.accounted:,} are accounted for; nothing was written",
                hint="a trigger or rule of the target may drop rows; otherwise please report this",
                tally=self._tally.as_dict(),
            )

    def _verify(self, load: Load) -> LegResult:
        self._listener.phase("verify", "running")
        verified = load.verify()
        written = self._tally.inserted + self._tally.updated
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
        known = RowsAround.of(load.rows_before, self._counts)
        if verified.rows_after is not None and known.after not in (None, verified.rows_after):
            who = "the statements of into.after, or others," if self.order.after else "others"
            self._listener.log(
                "warning",
                f"{self._table} holds {verified.rows_after:,} rows, not {known.after:,}: {who} wrote to it during the run",
            )
        rows = known.with_after(verified.rows_after)
        if rows.before is None and self._plan.live is not None and self._plan.live.rows is not None:
            rows = RowsAround.of(self._plan.live.rows, self._counts, about=True).with_after(verified.rows_after)
        checksums = self._checked(load)
        self._listener.phase("verify", "done")
        return LegResult(
            self._tally,
            rows.before,
            rows.after,
            self._created,
            time.monotonic() - self._started,
            comparison=load.comparison,
            checksums=checksums,
            strategy=load.strategy or self._plan.strategy.name,
            gone=self._counts.gone,
            files=dict(self._rows_of) if self._plan.mark and not self._plan.mark.by else {},
            mark=self._plan.mark.shown() if self._plan.mark else None,
            guards=[item.as_dict() for item in self._decided],
            rows_about=rows.about,
        )

    def _checked(self, load: Load) -> Mapping[str, str] | None:
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
