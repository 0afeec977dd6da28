"""Brings staged rows into their table: repeats are dropped, rows that match found, and the staged ones inserted, or updated where they differ.

Where refused rows are to be found, the last step goes chunk by chunk, and what fails is halved until single rows are left.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace

import pyarrow as pa

from ultravect.core.contracts.changes import Comparison, RowChange
from ultravect.core.contracts.write_plan import Attempt, Gone, Remove
from ultravect.core.contracts.write_session import Counts, Isolated, RefusedRow, RowsRefused, StagedRowsSession
from ultravect.core.dialects.merge import MergeStatements
from ultravect.core.errors import UltravectError
from ultravect.core.loading.refusals import key_not_unique, key_repeated
from ultravect.core.loading.row_changes import compared, gone_rows, repeats
from ultravect.core.model.base import allowed_rejects
from ultravect.core.types.arrow import plain_array
from ultravect.core.types.written import plain_text
from ultravect.core.words import counted

CHUNK = 1024
_RECORDS_AT_ONCE = 500


class StagedRows:
    """The rows of an attempt, ``staged`` of them. ``rising``: each key was higher than the one before, so that none comes twice.

    ``changes``: some of the rows that the load changes, as many of a kind as the plan says. ``comparison``: how the keys of an overwritten
    table compare with those that it had. ``refused``: rows that the database did not take, in their order.
    """

    def __init__(self, session: StagedRowsSession, attempt: Attempt, staged: int, *, rising: bool) -> None:
        self._session, self._attempt, self._plan, self._rising = session, attempt, attempt.plan, rising
        self._rows, self._changed = session.statements.rows, session.statements.changed
        self._merge = MergeStatements.of(
            session.dialect, session.final, session.staged_table, self._plan.columns, self._plan.keys,
            session.incomparable,
        )  # fmt: skip
        self._staged, self._repeated = staged, 0
        self.changes: list[RowChange] = []
        self.comparison: Comparison | None = None
        self.refused: Iterator[RefusedRow] = iter(())

    def drop_repeats(self) -> None:
        """Leaves one staged row a key, as the plan says which. UltravectError where none may come twice."""
        plan, merge = self._plan, self._merge
        if self._rising or not plan.keys or not (found := self._rows(merge.repeated())):
            return
        if plan.repeats == "fail":
            raise key_repeated(plan, found[0])
        first = plan.repeats == "first"
        if plan.samples:
            self.changes += repeats(merge, self._rows, plan.samples, first=first)
        self._repeated = self._changed(merge.drop_repeats(first=first))

    def compare(self) -> None:
        """Notes how the rows that come differ from those of the table that they replace, where keys match them."""
        plan = self._plan
        if plan.samples and plan.keys and plan.replaces is not None and not plan.replaces.where:
            there = replace(self._merge, table=self._session.table)
            self.comparison, changed = compared(there, self._rows, plan.samples)
            self.changes += changed

    def unflag_rejected(self, keys: pa.Table) -> None:
        """Takes the flag back from rows whose source is there again, though it was rejected. ``keys``: one column a key."""
        if not self._plan.flag or self._plan.is_new:
            return
        dialect, types = self._session.dialect, self._merge.columns
        for batch in keys.combine_chunks().to_batches(max_chunksize=_RECORDS_AT_ONCE):
            texts = [plain_text(plain_array(column)).to_pylist() for column in batch.columns]
            constants = [
                [dialect.constant(text, types[name]) for text in column]
                for name, column in zip(batch.schema.names, texts, strict=True)
            ]
            rows = list(zip(*constants, strict=True))
            self._session.apart(self._merge.unflag_keys(self._plan.flag, batch.schema.names, rows))

    def bring_in(self, removed: int | None, tolerated: int, *, rows_before: int | None, complete: bool) -> Counts:
        """Brings the rows that are left into the table, of which ``removed`` were taken away; ``tolerated`` and ``complete``: see
        ``Write.finish``."""
        gone = self._plan.merges.gone if self._plan.merges is not None else None
        if self._plan.flag:
            # before rows are updated, which are then the load's own, and whatever becomes of them: they came
            self._session.apart(self._merge.unflag(self._plan.flag))
        if (removes := self._plan.removes) is not None:
            return self._remove(removes)
        if self._plan.merges is not None and self._plan.merges.unflags:
            self._session.apart(self._merge.flag_matched(self._plan.merges.unflags, gone=False))
        if self._attempt.isolates:
            counts = self._isolate(removed, tolerated)
        elif self._plan.merges is not None:
            counts = self._upsert()
        else:
            counts = Counts(self._changed(self._merge.insert_all()), repeated=self._repeated, removed=removed)
        if gone is None:
            return counts
        if not complete:
            self._attempt.notify(
                "rows that are gone are kept: some rows of the source were rejected, and may be them"
            )
            return counts
        assert rows_before is not None, "a plan counts all rows where some may be gone"
        count = self._settle_gone(gone, rows_before)
        return replace(counts, gone=count, removed=counts.removed if gone.flag else count)

    def _remove(self, removes: Remove) -> Counts:
        """Takes the rows away that staged ones match, or all of them."""
        session, merge = self._session, self._merge
        if not removes.every:
            statement = merge.flag_matched(removes.flag, gone=True) if removes.flag else merge.delete_matched()
        elif removes.flag:
            statement = merge.flag_all(removes.flag)
        else:
            statement = session.dialect.delete_where(session.final, "1 = 1")
        return Counts(0, repeated=self._repeated, removed=None, gone=session.apart(statement))

    def _settle_gone(self, gone: Gone, rows_before: int) -> int:
        """Deletes or flags the rows that no row matches; how many. UltravectError where they are more than the plan allows."""
        merge = self._merge
        count = int(self._rows(merge.count_gone(gone.flag))[0][0])
        limit = allowed_rejects(gone.limit, rows_before)
        if count > limit:
            raise UltravectError(
                "gone-limit",
                f"{counted(count, 'row')} of {self._plan.table} would be gone, of {rows_before:,}: more than the {limit:,} that "
                "into.gone_limit allows; nothing was written",
                hint="look whether the source is whole; raise into.gone_limit if it is",
                table=str(self._plan.table),
            )
        if not count:
            return 0
        if self._plan.samples:
            self.changes += gone_rows(merge, self._rows, self._plan.samples)
        return self._session.apart(merge.flag_gone(gone.flag) if gone.flag else merge.delete_gone())

    def _upsert(self) -> Counts:
        """Updates rows that differ, and inserts those whose key is new."""
        session, merge, left = self._session, self._merge, self._staged - self._repeated
        only_matched = self._plan.merges is not None and self._plan.merges.only_matched
        if not only_matched and (done := session.upsert(merge, left, self._repeated, self.changes)) is not None:
            return done
        matches = session.find_matches(merge)
        self.changes += session.sample_updates(merge)
        update = session.update(merge)
        updated = self._changed(update) if update else 0
        if only_matched:
            pairs = matches.pairs if matches.pairs is not None else int(self._rows(merge.pairs())[0][0])
            return Counts(0, updated, pairs - updated, self._repeated, refused=left - pairs)
        inserted = self._changed(merge.insert(matches.query))
        if matches.pairs is None:
            pairs = int(self._rows(merge.pairs())[0][0])
        else:
            pairs = matches.pairs + inserted
        if pairs != left:
            raise key_not_unique(self._plan, next(iter(self._rows(merge.ambiguous())), ()))
        return Counts(inserted, updated, left - inserted - updated, self._repeated)

    def _isolate(self, removed: int | None, tolerated: int) -> Counts:
        """Brings the rows in, and keeps those that are refused."""
        session, merge, merges = self._session, self._merge, self._plan.merges is not None
        known = ""
        if merges:
            known = session.find_matches(merge).query
            self.changes += session.sample_updates(merge)
            if twice := self._rows(merge.ambiguous()):
                raise key_not_unique(self._plan, twice[0])
        done = session.isolate(merge, self._staged, tolerated, known)
        if done is None:
            done = isolate(self._staged, lambda first, last: self._chunk(first, last, known), tolerated)
        if done.refused:
            self.refused = self._records(done.refused)
        left = self._staged - self._repeated
        unchanged = left - len(done.refused) - done.updated - done.inserted
        return Counts(
            done.inserted,
            done.updated,
            unchanged if merges else 0,
            self._repeated,
            removed,
            len(done.refused),
        )

    def _chunk(self, first: int, last: int, known: str) -> tuple[int, int]:
        """Writes the rows with these numbers, all or none; how many were updated, and how many inserted."""
        merge, within = self._merge, self._merge.within(first, last)
        merges = self._plan.merges is not None
        update = merge.update(within) if merges else None
        insert = merge.insert(known, within) if merges else merge.insert_all(within)
        with self._session.chunk():
            updated = self._changed(update) if update else 0
            return updated, self._changed(insert)

    def _records(self, refused: Sequence[tuple[int, str]]) -> Iterator[RefusedRow]:
        """The rows with their values, some at a time."""
        names = [column.name for column in self._plan.columns]
        refused = sorted(refused)
        for start in range(0, len(refused), _RECORDS_AT_ONCE):
            reasons = dict(refused[start : start + _RECORDS_AT_ONCE])
            for row, *values in sorted(self._rows(self._merge.rows(list(reasons))), key=lambda found: int(found[0])):
                record = json.dumps(dict(zip(names, values, strict=True)), default=str)
                yield RefusedRow(int(row), reasons[row], record)


def isolate(rows: int, attempt: Callable[[int, int], tuple[int, int]], tolerated: int) -> Isolated:
    """Writes the rows from 0 to ``rows`` in chunks.

    ``attempt`` writes the rows from its first number to before its last, all or none, and gives how many it updated and
    inserted; RowsRefused when the database refuses. Ends as soon as more than ``tolerated`` rows are refused.
    """
    done = Isolated()
    spans = [(start, min(start + CHUNK, rows)) for start in range(0, rows, CHUNK)][::-1]
    while spans:
        first, last = spans.pop()
        try:
            updated, inserted = attempt(first, last)
        except RowsRefused as error:
            if last - first > 1:
                middle = (first + last) // 2
                spans += [(middle, last), (first, middle)]
                continue
            done.refused.append((first, str(error)))
            if len(done.refused) > tolerated:
                return done
        else:
            done.updated += updated
            done.inserted += inserted
    return done
