"""Loads into lake tables: rows become files, and one commit adds those and removes the ones that they replace.

Rows that are only added go into files as they come. Where rows are matched or replaced, the files that may be concerned are read into a
scratch database on this machine, and those that changed are written anew: see ``matching``.
"""

from __future__ import annotations

import tempfile
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass

import pyarrow as pa

from ultravect.core.contracts.ledger import Entry
from ultravect.core.contracts.write_plan import Attempt
from ultravect.core.contracts.write_session import Counts, Verified, WriteSession
from ultravect.core.dialects.duckdb import DuckdbDialect
from ultravect.core.errors import UltravectError
from ultravect.core.kinds.lake.loads.load_target import LoadTarget
from ultravect.core.kinds.lake.loads.matching import MatchingSession
from ultravect.core.kinds.lake.place import LakePlace, open_version
from ultravect.core.kinds.lake.refusals import explained
from ultravect.core.kinds.lake.session import connected, errors_explained
from ultravect.core.loading.file_session import FileSession
from ultravect.core.loading.refusals import doing_of, require_empty
from ultravect.core.words import counted


@dataclass(frozen=True)
class Upkeep:
    """What is done after a load: small files are joined where there are more than ``compact_after`` (0: never), and files that only
    versions older than ``keep_hours`` have are removed (None: never)."""

    compact_after: int
    keep_hours: int | None


class AppendingSession(FileSession):
    """See ``WriteSession``. Rows go into files as they come: none is matched, and what an overwrite removes is whole files."""

    def __init__(self, target: LoadTarget) -> None:
        super().__init__(target.attempt)
        self._target, self._rows = target, 0

    def rows(self, *, exact: bool) -> int | None:
        return self._target.rows_before

    def require_empty(self, rows: int | None) -> None:
        require_empty(self.plan, rows)

    def keep_previous(self) -> str:
        return self._target.previous

    def remove_old(self) -> int | None:
        if self._target.version is not None:
            self._target.removed = self._target.version.files
        return None

    def write(self, batch: pa.RecordBatch) -> None:
        with explained(self._target.place.name, self._target.path):
            self._target.files.write(self._target.shaped(batch))
        self._rows += batch.num_rows

    def end_rows(self) -> int:
        with explained(self._target.place.name, self._target.path):
            self._target.close()
        return self._rows

    def commit(self, entry: Entry) -> None:
        # files that others add meanwhile do not matter to rows that are only added
        self._target.commit(entry, alone=bool(self._target.removed))

    def verify(self, counts: Counts) -> Verified:
        return self._target.verify(self._rows)


def _tidy(place: LakePlace, path: str, attempt: Attempt, upkeep: Upkeep) -> None:
    """Joins small files and removes old ones, where the connection says so; the load is done, whatever becomes of that."""
    try:
        with explained(place.name, path):
            version = open_version(place, path)
            if version is not None and upkeep.compact_after and len(version.files) > upkeep.compact_after:
                attempt.notify(
                    f"{counted(version.compact(), 'file')} fewer: small files of {attempt.plan.table} were joined"
                )
            if version is not None and upkeep.keep_hours is not None:
                version.remove_old(upkeep.keep_hours)
    except UltravectError as error:
        attempt.notify(f"old and small files of {attempt.plan.table} stay for now: {error.detail}")


@contextmanager
def open_session(
    place: LakePlace, dialect: DuckdbDialect, attempt: Attempt, upkeep: Upkeep
) -> Iterator[WriteSession]:
    """See ``Target.write``: files that were written for a load that does not commit are removed again."""
    plan = attempt.plan
    target = LoadTarget(place, attempt, dialect)
    with ExitStack() as opened:
        opened.callback(lambda: target.files.discard() if target.may_discard else None)
        checks = target.version is not None and target.version.checks
        if attempt.staged or (plan.replaces is not None and plan.replaces.where) or checks:
            folder = opened.enter_context(tempfile.TemporaryDirectory(prefix="ultravect-lake-"))
            session = connected(spill=folder)
            opened.callback(session.close)
            with errors_explained(place.name, doing_of(attempt)):
                yield MatchingSession(session, dialect, target)
        else:
            yield AppendingSession(target)
    if target.committed is not None:
        _tidy(place, target.path, attempt, upkeep)
