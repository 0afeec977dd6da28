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

from ultravect.core.contracts.load import STAGED, Counts, LoadOrder
from ultravect.core.contracts.mark import MarkChange
from ultravect.core.contracts.receipt import Receipt
from ultravect.core.contracts.target import Verified
from ultravect.core.dialects.base import Dialect, TableName
from ultravect.core.dialects.merge import ROW, Merge
from ultravect.core.errors import UltravectError
from ultravect.core.kinds.warehouse import catalogue
from ultravect.core.kinds.warehouse.forms import Form
from ultravect.core.kinds.warehouse.session import Session
from ultravect.core.kinds.warehouse.staged_files import StagedFiles
from ultravect.core.loading.local.local_load import LocalLoad
from ultravect.core.loading.refusals import attempt_replaced, column_gone, outcome_unknown
from ultravect.core.loading.steps.isolating_load import Matches
from ultravect.core.loading.steps.marks import MarkTable, entries, mark_moved
from ultravect.core.loading.steps.receipts import ReceiptTable
from ultravect.core.types.canonical import CanonicalType
from ultravect.core.types.written import plain_text

_FILE_BYTES = 96 << 20
_GROUP_BYTES = 32 << 20
_FILES_TEXT = frozenset(["uuid", "json", "time"])
"""Types that files have as texts: the warehouse converts them."""


class WarehouseLoad(LocalLoad):
    """See ``LocalLoad``. Rows are read, and stored in the bucket, before the transaction begins, so that nothing is locked meanwhile."""

    def __init__(
        self,
        session: Session,
        connection: str,
        form: Form,
        order: LoadOrder,
        files: StagedFiles,
        natives: dict[str, str],
        folder: Path,
    ) -> None:
        """``natives``: the types of the columns of the table that is there; ``folder``: where files are written before they are uploaded."""
        self._session, self._statements = session, session
        self._connection, self._form = connection, form
        self._files, self._folder = files, folder
        self._natives = natives if order.create is None else {}
        self._local: pq.ParquetWriter | None = None
        self._path = folder / "rows.parquet"
        self._number = 0
        self._pending: list[pa.RecordBatch] = []
        self._copied = STAGED
        self._locked = order.create is not None
        # a table that is made by this load is filled at once: its rows are just those of the files
        self._direct = order.create is not None and not order.staged
        super().__init__(form.dialect, order)
        if self._direct:
            self._copied = self._table
            self._columns = {
                column.name: (form.dialect.from_canonical(column.type).native, column.type)
                for column in order.columns
            }
        else:
            self._make_stage()
        self._schema = pa.schema([(column.name, self._held(column.type)) for column in order.sent])

    @staticmethod
    def _held(kind: CanonicalType) -> pa.DataType:
        """The type of a column in the files."""
        if kind.name == "decimal" and kind.precision is None:
            return pa.decimal128(38, 18)
        return pa.string() if kind.name in _FILES_TEXT else kind.arrow

    def _open(self) -> None:
        """Later, once all rows are in the bucket: see ``finish``."""

    def _begin(self) -> None:
        order = self._order
        accounts = [self._receipts.name] if order.receipt is not None else []
        accounts += [MarkTable(self._dialect, order.table).name] if order.marks else []
        there = [self._dialect.table(name) for name in accounts if self._has(name)]
        self._execute("BEGIN TRANSACTION")
        for table in there:
            # before anything is read: what bars an attempt must not come after the moment that this transaction sees
            self._execute(f"LOCK TABLE {table}")
        if order.create is not None and not order.rebuild:
            return
        if order.removes_old or order.matches_rows or order.lock_table or order.rebuild:
            self._execute(f"LOCK TABLE {self._table}")
            self._locked = True

    def _execute(self, statement: str) -> Sequence[Any] | None:
        rows = self._session.rows(statement)
        return rows[0] if rows else None

    def _stage(self) -> None:
        """It is made, and filled, before the transaction."""

    def _make_stage(self) -> None:
        columns: dict[str, tuple[str, CanonicalType]] = {}
        for column in self._order.columns:
            if self._natives and column.name not in self._natives:
                raise column_gone(self._order, column.name)
            native = self._natives.get(column.name) or self._dialect.from_canonical(column.type).native
            columns[column.name] = (native, column.type)
        declared = [f"{self._dialect.quote(name)} {native}" for name, (native, _) in columns.items()]
        if self._order.staged:
            columns[ROW] = ("bigint", CanonicalType("bigint"))
            declared.append(f"{ROW} bigint")
        self._columns = columns
        self._execute(f"CREATE TEMPORARY TABLE {STAGED} ({', '.join(declared)})")

    def _insert(self, batch: pa.RecordBatch) -> int:
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

    def finish(self, tolerated: int = 0, *, complete: bool = True) -> Counts:
        self._write_group()
        self._upload()
        if self._number and not self._direct:
            self._copy()
        super()._open()
        if self._number and self._direct:
            self._copy()
        if not self._order.staged and not self._direct:
            names = ", ".join(self._dialect.quote(column.name) for column in self._order.columns)
            self._written = self._changed(f"INSERT INTO {self._table} ({names}) SELECT {names} FROM {STAGED}")
        return super().finish(tolerated, complete=complete)

    def _copy(self) -> None:
        for statement in self._form.copy(self._copied, self._columns, self._files):
            self._execute(statement)
        row = self._execute(f"SELECT count(*) FROM {self._copied}")
        copied = int(row[0]) if row else 0
        if copied != self._written:
            raise UltravectError(
                "staged-rows-missing",
                f"connection {self._connection}: of {self._written:,} rows that were staged for {self._order.table}, COPY brought {copied:,}; "
                "nothing was written",
                hint="see the warehouse's own table of load errors, and whether others remove files from the staging place",
                connection=self._connection,
                table=str(self._order.table),
            )

    def _find_matches(self, merge: Merge) -> Matches:
        found = f"SELECT s.{ROW} AS staged FROM {merge.staged} s JOIN {merge.table} t ON {merge.matched}"
        self._execute(self._dialect.copied_table(self._matched, found, temporary=True))
        self._sample_updates(merge)
        return Matches(f"SELECT 1 FROM {self._matched} m WHERE m.staged = s.{ROW}")

    def _has(self, table: TableName) -> bool:
        return bool(self._session.rows(catalogue.find(self._dialect, table, self._form.usual_schema)))

    def _write_account(
        self,
        dialect: Dialect,
        receipts: ReceiptTable,
        receipt: Receipt | None,
        marks: Sequence[MarkChange],
        pending: str = "",
    ) -> None:
        # no key keeps two attempts apart here, so each looks before it writes, under a lock
        if marks:
            table = MarkTable(dialect, receipts.name)
            self._execute(f"LOCK TABLE {dialect.table(table.name)}")
            for change in marks:
                known = entries(self._session.rows(table.find(change.key)))
                if change.before is None and change.item in known:
                    raise mark_moved(change.key)
        if receipt is not None and self._order.receipt is not None:
            self._execute(f"LOCK TABLE {dialect.table(receipts.name)}")
            if self._session.rows(receipts.find(self._order.receipt)):
                raise attempt_replaced(self._order)
        super()._write_account(dialect, receipts, receipt, marks, pending)

    def _is_taken(self, error: Exception) -> bool:
        return isinstance(error, psycopg.errors.UniqueViolation)

    def publish(self, receipt: Receipt | None = None, marks: Sequence[MarkChange] = ()) -> None:
        if not self._order.staged and not self._direct:
            self._execute(f"DROP TABLE {STAGED}")
        super().publish(receipt, marks)

    def _commit(self) -> None:
        try:
            self._execute("COMMIT")
        except psycopg.OperationalError as error:
            raise outcome_unknown(self._connection, self._order, "warehouse") from error

    def verify(self) -> Verified:
        return self._verified(alone=self._locked)


def work_folder() -> tempfile.TemporaryDirectory[str]:
    """Where a load writes its files before they are uploaded."""
    return tempfile.TemporaryDirectory(prefix="ultravect-staged-")
