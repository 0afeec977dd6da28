"""Executes a write plan over the session of a target: one order of steps, for all kinds and all ways of writing.

A kind says how a step is done in its database (``WriteSession``), the plan what is to be done; the order is here alone: begin, prepare (statements
of the job, locks, definition, old rows), stage, settle, bring staged rows into the table, publish by the ledger, verify.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager

import pyarrow as pa

from ultravect.core.contracts.changes import Comparison, RowChange
from ultravect.core.contracts.ledger import Entry
from ultravect.core.contracts.mark import MarkChange
from ultravect.core.contracts.receipt import Receipt
from ultravect.core.contracts.target import LoadsTogether, Target
from ultravect.core.contracts.write_plan import Attempt
from ultravect.core.contracts.write_session import Counts, RefusedRow, StagedRowsSession, Verified, WriteSession
from ultravect.core.engine.write.staged_rows import StagedRows
from ultravect.core.loading.row_numbers import AscendingKeys, RowNumbers


class Write:
    """One execution of a write plan. Rows are written and brought into the table by one thread at a time.

    ``rows_before``: those that were there, None where they were not counted. ``changes``, ``comparison`` and ``refused``: see
    ``StagedRows``. ``previous``: the table in which what was replaced is kept, "" where there is none.
    """

    def __init__(self, session: WriteSession, attempt: Attempt) -> None:
        self._session, self._attempt, self._plan = session, attempt, attempt.plan
        self.rows_before: int | None = 0
        self.previous = ""
        self.changes: Sequence[RowChange] = ()
        self.comparison: Comparison | None = None
        self.refused: Iterator[RefusedRow] = iter(())
        self._removed: int | None = 0
        self._counts = Counts(0)
        self._numbers = RowNumbers()
        self._ascending = AscendingKeys(attempt.plan.keys)

    @property
    def strategy(self) -> str:
        """See ``WriteSession``."""
        return self._session.strategy

    @property
    def written(self) -> Sequence[str]:
        """See ``WriteSession``."""
        return self._session.written

    def open(self) -> None:
        """Everything that comes before rows."""
        session, plan = self._session, self._plan
        session.begin()
        if not session.prepares_late:
            self._prepare()
        elif plan.only_if_empty and not plan.is_new:
            session.require_empty(session.rows(exact=False))
        session.stage()

    def _prepare(self) -> None:
        session, plan = self._session, self._plan
        session.run(plan.before)
        session.lock()
        self.rows_before = 0 if plan.is_new else session.rows(exact=plan.counts_all)
        if plan.only_if_empty:
            session.require_empty(self.rows_before)
        if plan.rebuild:
            session.hold()
            self._keep_previous()
            self._removed = self.rows_before
        session.define()
        if plan.clears is not None and session.staged is None:
            session.hold()
            self._remove_old()

    def _keep_previous(self) -> None:
        if self._plan.replaces is not None and self._plan.replaces.keep_previous:
            self.previous = self._session.keep_previous()

    def _remove_old(self) -> None:
        self._keep_previous()
        self._removed = self._session.remove_old()
        if self.rows_before is None and self._plan.replaces is not None and not self._plan.replaces.where:
            # of an overwrite that takes all rows, those that there were
            self.rows_before = self._removed

    def write(self, batch: pa.RecordBatch) -> None:
        """Takes rows that have the plan's columns."""
        if not batch.num_rows:
            return
        if self._attempt.staged:
            self._ascending.see(batch)
            batch = self._numbers.added(batch)
        self._session.write(batch)

    def finish(self, tolerated: int = 0, *, complete: bool = True, rejected_keys: pa.Table | None = None) -> Counts:
        """Ends the stream of rows, and does with them what the plan says; what the database says it did with the rows.

        ``tolerated``: how many rows may be refused, where the attempt isolates them: they are in ``refused`` until ``publish``.
        ``complete``: whether every row of the source was written, so that rows of the target that none matches are gone.
        ``rejected_keys``: those of rows that were not, as far as they are known: one column a key, in the plan's types.
        """
        session = self._session
        taken = session.end_rows()
        session.settle()
        if session.prepares_late:
            self._prepare()
        counts = Counts(taken, removed=self._removed)
        if session.staged is not None:
            counts = self._bring_in(session.staged, taken, tolerated, rejected_keys, complete=complete)
        session.seal(self.rows_before, counts)
        self._counts = counts
        return counts

    def _bring_in(
        self,
        session: StagedRowsSession,
        staged: int,
        tolerated: int,
        rejected_keys: pa.Table | None,
        *,
        complete: bool,
    ) -> Counts:
        plan = self._plan
        # rows that slices have staged were not seen here
        rising = self._attempt.stage is None and self._ascending.so_far
        rows = StagedRows(session, self._attempt, staged, rising=rising)
        rows.drop_repeats()
        if plan.merges is not None or plan.clears is not None or plan.removes is not None:
            session.hold()
        if plan.clears is not None:
            if session.counts_late:
                self.rows_before = session.rows(exact=plan.counts_all)
            rows.compare()
            self._remove_old()
        if rejected_keys is not None:
            rows.unflag_rejected(rejected_keys)
        counts = rows.bring_in(self._removed, tolerated, rows_before=self.rows_before, complete=complete)
        self.changes, self.comparison, self.refused = rows.changes, rows.comparison, rows.refused
        return counts

    def publish(self, receipt: Receipt | None = None, marks: Sequence[MarkChange] = ()) -> None:
        """Makes the rows visible, together with their receipt and what is noted of what was copied; see ``WriteSession.commit``."""
        session = self._session
        session.swap()
        session.run_after(self._plan.after)
        key = self._attempt.key
        session.commit(Entry(key, receipt if key is not None else None, marks))

    def verify(self) -> Verified:
        """Counts in the target what was to be."""
        return self._session.verify(self._counts)


@contextmanager
def open_write(target: Target | LoadsTogether, attempt: Attempt) -> Iterator[Write]:
    """Begins the execution of a plan; leaving the context without ``publish`` undoes everything. UltravectError where it cannot begin."""
    with target.write(attempt) as session:
        write = Write(session, attempt)
        write.open()
        yield write
