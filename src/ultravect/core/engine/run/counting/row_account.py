"""How many rows were read so far, and what became of them before they are written."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping

from ultravect.core.engine.run.rejected.rejects import Reject, RejectLedger
from ultravect.core.engine.run.shaped import Shaped


class RowAccount:
    """``read`` = ``filtered`` + ``staged`` + those in ``rejects``, of a leg or of one of its slices; ``files``: rows read of each file."""

    def __init__(self, rejects: RejectLedger) -> None:
        self.rejects = rejects
        self.read = self.filtered = self.staged = 0
        self.files: Counter[str] = Counter()

    def see(self, shaped: Shaped) -> None:
        """Counts a block; UltravectError as soon as more rows are rejected than the job allows."""
        self.read += shaped.rows
        self.filtered += shaped.filtered
        self.staged += shaped.batch.num_rows
        self.files.update(shaped.rows_of_files)
        self.rejects.add(shaped.rejects)
        # a share is only known of the whole leg
        self.rejects.enforce(self.read, final=False)

    def add(
        self, read: int, filtered: int, staged: int, rejected: int, first: Reject | None, files: Mapping[str, int]
    ) -> None:
        """Counts a slice that another process has copied, and whose rejects it has handed on."""
        self.read += read
        self.filtered += filtered
        self.staged += staged
        self.files.update(files)
        self.rejects.count_in(rejected, first)
        self.rejects.enforce(self.read, final=False)

    def end(self) -> None:
        """To be called after the last row; UltravectError where too many were rejected."""
        self.rejects.enforce(self.read, final=True)
