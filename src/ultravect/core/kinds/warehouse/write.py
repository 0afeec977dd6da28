"""Staged loads: rows go to the bucket as Parquet files, one COPY brings them into a temporary table, and a few statements into the
target, in one transaction."""

from __future__ import annotations

import tempfile
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import psycopg
import pyarrow as pa
import pyarrow.parquet as pq

from ultravect.core.contracts.ledger import Entry
from ultravect.core.contracts.write_plan import Attempt
from ultravect.core.contracts.write_session import STAGED
from ultravect.core.dialects.base import TableName
from ultravect.core.dialects.merge import ROW
from ultravect.core.errors import UltravectError
from ultravect.core.kinds.warehouse import catalogue
from ultravect.core.kinds.warehouse.forms import Form
from ultravect.core.kinds.warehouse.session import Session
from ultravect.core.kinds.warehouse.staged_files import StagedFiles
from ultravect.core.loading.refusals import attempt_replaced, column_gone, mark_moved, outcome_unknown
from ultravect.core.loading.sql_session import InsertingSession
from ultravect.core.types.canonical import CanonicalType
from ultravect.core.types.written import plain_text

_FILE_BYTES = 96 << 20
_GROUP_BYTES = 32 << 20
_FILES_TEXT = frozenset(["uuid", "json", "time"])
"""Types that files have as texts: the warehouse converts them."""


class WarehouseSession(InsertingSession):
    """See ``InsertingSession``. Rows are read, and stored in the bucket, before the transaction begins, so that nothing is locked meanwhile."""

    prepares_late = True

    def __init__(
        self,
        session: Session,
        connection: str,
        form: Form,
        attempt: Attempt,
        files: StagedFiles,
        natives: dict[str, str],
        folder: Path,
    ) -> None:
        """``natives``: the types of the columns of the table that is there; ``folder``: where files are written before they are uploaded."""
        super().__init__(form.dialect, attempt, session)
        self._session, self._connection, self._form = session, connection, form
        self._files, self._folder = files, folder
        plan = attempt.plan
        self._natives = natives if plan.create is None else {}
        self._local: pq.ParquetWriter | None = None
        self._path = folder / "rows.parquet"
        self._number = 0
        self._pending: list[pa.RecordBatch] = []
        self._locked = plan.create is not None
        # a table that is made by this load is filled at once: its rows are just those of the files
        self._direct = plan.create is not None and not attempt.staged
        self.stages = not self._direct
        self._columns: dict[str, tuple[str, CanonicalType]] = {}
        self._schema = pa.schema([(column.name, self._held(column.type)) for column in attempt.sent])

    @staticmethod
    def _held(kind: CanonicalType) -> pa.DataType:
        """The type of a column in the files."""
        if kind.name == "decimal" and kind.precision is None:
            return pa.decimal128(38, 18)
        return pa.string() if kind.name in _FILES_TEXT else kind.arrow

    def begin(self) -> None:
        """Later, once all rows are in the bucket: see ``settle``."""

    def settle(self) -> None:
        plan = self.plan
        tables = self.ledger.needed(plan, self.attempt.key)
        there = [self.dialect.table(table.name) for table in tables if self.has(table.name)]
        self.execute("BEGIN TRANSACTION")
        for table in there:
            # before anything is read: what bars an attempt must not come after the moment that this transaction sees
            self.execute(f"LOCK TABLE {table}")
        if plan.is_new:
            return
        if (
            plan.replaces is not None
            or plan.merges is not None
            or plan.removes is not None
            or plan.lock_table
            or plan.rebuild
        ):
            self.execute(f"LOCK TABLE {self.table}")
            self._locked = True

    def execute(self, statement: str) -> Sequence[Any] | None:
        rows = self._session.rows(statement)
        return rows[0] if rows else None

    def define(self) -> None:
        super().define()
        if self._direct and self._number:
            self._copy(self.table)

    def stage(self) -> None:
        super().stage()
        if self._direct:
            self._columns = {
                column.name: (self.dialect.from_canonical(column.type).native, column.type)
                for column in self.plan.columns
            }

    def make_stage(self) -> None:
        columns: dict[str, tuple[str, CanonicalType]] = {}
        for column in self.plan.columns:
            if self._natives and column.name not in self._natives and not self._is_added(column.name):
                raise column_gone(self.plan, column.name)
            native = self._natives.get(column.name) or self.dialect.from_canonical(column.type).native
            columns[column.name] = (native, column.type)
        declared = [f"{self.dialect.quote(name)} {native}" for name, (native, _) in columns.items()]
        if self.attempt.staged:
            columns[ROW] = ("bigint", CanonicalType("bigint"))
            declared.append(f"{ROW} bigint")
        self._columns = columns
        self.execute(f"CREATE TEMPORARY TABLE {STAGED} ({', '.join(declared)})")

    def _is_added(self, name: str) -> bool:
        return any(change.column.name == name for change in self.plan.changes)

    def insert(self, batch: pa.RecordBatch) -> int:
        arrays = [
            plain_text(array) if pa.types.is_string(field.type) and not pa.types.is_string(array.type) else array
            for array, field in zip(batch.columns, self._schema, strict=True)
        ]
        rows = pa.RecordBatch.from_arrays(
            [array.cast(field.type) for array, field in zip(arrays, self._schema, strict=True)], schema=self._schema
        )
        self._pending.append(rows)
        if sum(part.nbytes for part in self._pending) >= _GROUP_BYTES:
            self._write_group()
        return int(batch.num_rows)

    def _write_group(self) -> None:
        """Writes the rows that were gathered, as one group of a file: readers take large ones better."""
        if not self._pending:
            return
        if self._local is None:
            self._local = pq.ParquetWriter(self._path, self._schema, compression="zstd", use_dictionary=False)
        group = pa.Table.from_batches(self._pending)
        self._local.write_table(group, row_group_size=max(group.num_rows, 1))
        self._pending = []
        if self._path.stat().st_size >= _FILE_BYTES:
            self._upload()

    def _upload(self) -> None:
        """Closes the file that is written, and stores it."""
        if self._local is None:
            return
        self._local.close()
        self._local = None
        self._number += 1
        self._files.store(f"{self._number:06}.parquet", self._path)
        self._path.unlink()

    def end_rows(self) -> int:
        self._write_group()
        self._upload()
        if self._number and not self._direct:
            self._copy(STAGED)
        return self._taken

    def _copy(self, into: str) -> None:
        for statement in self._form.copy(into, self._columns, self._files):
            self.execute(statement)
        row = self.execute(f"SELECT count(*) FROM {into}")
        copied = int(row[0]) if row else 0
        if copied != self._taken:
            raise UltravectError(
                "staged-rows-missing",
                f"connection {self._connection}: of {self._taken:,} rows that were staged for {self.plan.table}, COPY brought {copied:,}; "
                "nothing was written",
                hint="see the warehouse's own table of load errors, and whether others remove files from the staging place",
                connection=self._connection,
                table=str(self.plan.table),
            )

    def has(self, table: TableName) -> bool:
        return bool(self._session.rows(catalogue.find(self.dialect, table, self._form.usual_schema)))

    def record(self, entry: Entry) -> None:
        # no key keeps two attempts apart here, so each looks before it writes, under a lock
        ledger = self.ledger
        if entry.marks:
            self.execute(f"LOCK TABLE {self.dialect.table(ledger.marks.name)}")
            for change in entry.marks:
                if change.before is None and ledger.marks.holds(self.statements, change):
                    raise mark_moved(change.key)
        if entry.receipt is not None and entry.key is not None:
            self.execute(f"LOCK TABLE {self.dialect.table(ledger.receipts.name)}")
            if self._session.rows(ledger.receipts.find(entry.key)):
                raise attempt_replaced(self.plan)
        super().record(entry)

    def is_taken(self, error: Exception) -> bool:
        return isinstance(error, psycopg.errors.UniqueViolation)

    def end_transaction(self) -> None:
        try:
            self.execute("COMMIT")
        except psycopg.OperationalError as error:
            raise outcome_unknown(self._connection, self.plan, "warehouse") from error

    @property
    def alone(self) -> bool:
        return self._locked


def work_folder() -> tempfile.TemporaryDirectory[str]:
    """Where a load writes its files before they are uploaded."""
    return tempfile.TemporaryDirectory(prefix="ultravect-staged-")
