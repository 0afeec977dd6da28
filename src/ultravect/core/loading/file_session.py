"""What sessions share that write files and run no statements: of the steps of a load, most have nothing to do."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Sequence

import pyarrow as pa

from ultravect.core.contracts.ledger import Entry
from ultravect.core.contracts.write_plan import Attempt
from ultravect.core.contracts.write_session import Counts, StagedRowsSession, Verified


class FileSession(ABC):
    """See ``WriteSession``. Rows are not staged: they are in no version, or under no name, before the commit."""

    staged: StagedRowsSession | None = None
    prepares_late = counts_late = False
    strategy = ""
    written: Sequence[str] = ()

    def __init__(self, attempt: Attempt) -> None:
        self.attempt, self.plan = attempt, attempt.plan

    def begin(self) -> None:
        """Nothing is locked."""

    def run(self, statements: Sequence[str]) -> None:
        """There are no statements of the job's own: planning refuses them."""
        assert not statements, "planning refuses statements here"

    run_after = run

    def lock(self) -> None:
        """Nothing is locked."""

    def hold(self) -> None:
        """Nothing is locked: the commit finds what others have changed."""

    @abstractmethod
    def rows(self, *, exact: bool) -> int | None:
        """See ``WriteSession``."""

    @abstractmethod
    def require_empty(self, rows: int | None) -> None:
        """See ``WriteSession``."""

    def keep_previous(self) -> str:
        return ""

    def define(self) -> None:
        """The commit does it."""

    @abstractmethod
    def remove_old(self) -> int | None:
        """See ``WriteSession``."""

    def stage(self) -> None:
        """Files are opened as rows come."""

    @abstractmethod
    def write(self, batch: pa.RecordBatch) -> None:
        """See ``WriteSession``."""

    @abstractmethod
    def end_rows(self) -> int:
        """See ``WriteSession``."""

    def settle(self) -> None:
        """Nothing is due."""

    def seal(self, rows_before: int | None, counts: Counts) -> None:
        """Rows are counted in the files."""

    def swap(self) -> None:
        """The commit does it."""

    @abstractmethod
    def commit(self, entry: Entry) -> None:
        """See ``WriteSession``."""

    @abstractmethod
    def verify(self, counts: Counts) -> Verified:
        """See ``WriteSession``."""
