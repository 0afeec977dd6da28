"""What loads into a database in a file share: one transaction, in which a new table is created too."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Sequence

import pyarrow as pa

from ultravect.core.databases.base import Verified
from ultravect.core.dialects.base import Dialect, NewColumn, TableName


class LocalLoad(ABC):
    """See ``Load``. Only one transaction writes to such a file at a time, and nobody sees it before it commits."""

    _begin = "BEGIN TRANSACTION"

    def __init__(self, dialect: Dialect, name: TableName, create: Sequence[NewColumn] | None) -> None:
        self._table = dialect.table(name)
        self._execute(self._begin)
        if create is not None:
            self._execute(dialect.create_table(name, create))
        self.rows_before = self._count()
        self._written = 0

    @abstractmethod
    def _execute(self, statement: str) -> int | None:
        """Runs a statement; the first value of its first row, where it has one."""

    @abstractmethod
    def _insert(self, batch: pa.RecordBatch) -> int:
        """Inserts rows; how many the database says it took."""

    def _count(self) -> int:
        return int(self._execute(f"SELECT count(*) FROM {self._table}") or 0)

    def write(self, batch: pa.RecordBatch) -> None:
        if batch.num_rows:
            self._written += self._insert(batch)

    def finish(self) -> int:
        self._of_load = self._count() - self.rows_before
        return self._written

    def publish(self) -> None:
        self._execute("COMMIT")

    def verify(self) -> Verified:
        return Verified(self._count(), self._of_load)
