"""Loads into lake tables: rows become files, and one commit adds those and removes the ones that they replace.

Rows that are only added go into files as they come. Where rows are matched or replaced, the files that may be concerned are read into a
scratch database on this machine, and those that changed are written anew: see ``matching``.
"""

from __future__ import annotations

import tempfile
from collections.abc import Iterable, Iterator, Sequence
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass

import pyarrow as pa

from ultravect.core.contracts.changes import Comparison, RowChange
from ultravect.core.contracts.load import Counts, LoadOrder, RefusedRow
from ultravect.core.contracts.mark import MarkChange
from ultravect.core.contracts.receipt import Receipt
from ultravect.core.contracts.target import Load, Verified
from ultravect.core.dialects.duckdb import DuckdbDialect
from ultravect.core.errors import UltravectError
from ultravect.core.kinds.lake.loads.load_target import LoadTarget
from ultravect.core.kinds.lake.loads.matching import MatchingLoad
from ultravect.core.kinds.lake.place import LakePlace, open_version
from ultravect.core.kinds.lake.refusals import explained
from ultravect.core.kinds.lake.session import connected, errors_explained
from ultravect.core.loading.refusals import require_empty
from ultravect.core.words import counted


@dataclass(frozen=True)
class Upkeep:
    """What is done after a load: small files are joined where there are more than ``compact_after`` (0: never), and files that only
    versions older than ``keep_hours`` have are removed (None: never)."""

    compact_after: int
    keep_hours: int | None


class AppendingLoad:
    """See ``Load``. Rows go into files as they come: none is matched, and what an overwrite removes is whole files."""

    written: Sequence[str] = ()
    refused: Iterable[RefusedRow] = ()
    changes: Sequence[RowChange] = ()
    comparison: Comparison | None = None
    strategy = ""

    def __init__(self, target: LoadTarget) -> None:
        self._target, self._rows = target, 0
        self.previous = target.previous
        self.rows_before = target.rows_before
        require_empty(target.order, self.rows_before)
        if target.order.removes_old and target.version is not None:
            target.removed = target.version.files if target.order.create is None else ()

    def write(self, batch: pa.RecordBatch) -> None:
        with explained(self._target.place.name, self._target.path):
            self._target.files.write(self._target.shaped(batch))
        self._rows += batch.num_rows

    def finish(self, tolerated: int = 0, *, complete: bool = True) -> Counts:
        with explained(self._target.place.name, self._target.path):
            self._target.close()
        order = self._target.order
        return Counts(self._rows, removed=self.rows_before if order.removes_old or order.rebuild else 0)

    def publish(self, receipt: Receipt | None = None, marks: Sequence[MarkChange] = ()) -> None:
        # files that others add meanwhile do not matter to rows that are only added
        self._target.publish(receipt, marks, alone=bool(self._target.removed))

    def verify(self) -> Verified:
        return self._target.verify(self._rows)


def _tidy(place: LakePlace, path: str, order: LoadOrder, upkeep: Upkeep) -> None:
    """Joins small files and removes old ones, where the connection says so; the load is done, whatever becomes of that."""
    try:
        with explained(place.name, path):
            version = open_version(place, path)
            if version is not None and upkeep.compact_after and len(version.files) > upkeep.compact_after:
                order.notify(f"{counted(version.compact(), 'file')} fewer: small files of {order.table} were joined")
            if version is not None and upkeep.keep_hours is not None:
                version.remove_old(upkeep.keep_hours)
    except UltravectError as error:
        order.notify(f"old and small files of {order.table} stay for now: {error.detail}")


@contextmanager
def opened_load(place: LakePlace, dialect: DuckdbDialect, order: LoadOrder, upkeep: Upkeep) -> Iterator[Load]:
    """See ``Target.load``: files that were written for a load that does not commit are removed again."""
    target = LoadTarget(place, order, dialect)
    with ExitStack() as opened:
        opened.callback(lambda: target.files.discard() if target.may_discard else None)
        checks = target.version is not None and target.version.checks
        if order.staged or order.replaces or checks:
            folder = opened.enter_context(tempfile.TemporaryDirectory(prefix="ultravect-lake-"))
            session = connected(spill=folder)
            opened.callback(session.close)
            with errors_explained(place.name, f"loading {order.source} into {order.table}"):
                yield MatchingLoad(session, dialect, target)
        else:
            yield AppendingLoad(target)
    if target.committed is not None:
        _tidy(place, target.path, order, upkeep)
