"""The table of a load into a lake: what is there, what is added and removed, and the commit of it."""

from __future__ import annotations

from collections.abc import Sequence

import pyarrow as pa
import pyarrow.parquet as pq

from ultravect.core.contracts.ledger import Entry
from ultravect.core.contracts.write_plan import Attempt
from ultravect.core.contracts.write_session import CHANGED, Verified
from ultravect.core.dialects.base import NewColumn
from ultravect.core.dialects.duckdb import DuckdbDialect
from ultravect.core.errors import UltravectError
from ultravect.core.kinds.lake.loads.commits import CommitNotedError, NewFile, Notes
from ultravect.core.kinds.lake.loads.data_files import DataFiles
from ultravect.core.kinds.lake.loads.ledger import LakeMarks, is_barred, receipt_name, receipt_notes
from ultravect.core.kinds.lake.partitions import by_columns
from ultravect.core.kinds.lake.place import LakePlace, open_version
from ultravect.core.kinds.lake.refusals import explained
from ultravect.core.kinds.lake.table_version import DataFile, TableVersion
from ultravect.core.loading.refusals import attempt_replaced, column_gone, mark_moved, outcome_unknown
from ultravect.core.types.arrow import as_text
from ultravect.core.types.hexadecimal import uuid_text

_ARROW = {
    "BOOLEAN": pa.bool_(),
    "TINYINT": pa.int8(),
    "SMALLINT": pa.int16(),
    "INTEGER": pa.int32(),
    "BIGINT": pa.int64(),
    "FLOAT": pa.float32(),
    "DOUBLE": pa.float64(),
    "VARCHAR": pa.string(),
    "BLOB": pa.binary(),
    "DATE": pa.date32(),
    "TIME": pa.time64("us"),
    "TIMESTAMP": pa.timestamp("us"),
    "TIMESTAMP WITH TIME ZONE": pa.timestamp("us", "UTC"),
}


_NOTHING_WRITTEN = frozenset(
    [CHANGED, "table-changed", "mark-moved", "attempt-replaced", "table-feature", "table-append-only"]
)


def field_of(column: NewColumn, dialect: DuckdbDialect) -> pa.Field:
    """A column that is to be made, as the files have it."""
    native = dialect.from_canonical(column.type).native
    if native.startswith("DECIMAL"):
        precision, scale = map(int, native[8:-1].split(","))
        held: pa.DataType = pa.decimal128(precision, scale)
    else:
        held = _ARROW[native]
    comment = {"comment": column.comment} if column.comment else None
    return pa.field(column.name, held, column.nullable, comment)


class LoadTarget:
    """The table of a load: what is there, what is added, what is removed, and the commit of it."""

    def __init__(self, place: LakePlace, attempt: Attempt, dialect: DuckdbDialect) -> None:
        self.place, self.attempt, self.plan = place, attempt, attempt.plan
        self.path = place.path(attempt.plan.table)
        with explained(place.name, self.path):
            self.version = open_version(place, self.path)
            self.folder = self.path if self.version is None else self.version.folder
            self._require_as_planned()
            create = self.plan.create
            self.added: Sequence[pa.Field] = ()
            if create is not None:
                self.schema = place.format.new_schema(
                    self.path, [field_of(column, dialect) for column in create.columns]
                )
                fields = by_columns(create.partition_by)
            else:
                assert self.version is not None
                there = set(self.version.schema.names)
                # an attempt before this one may have added them
                new = [change.column for change in self.plan.changes if change.column.name not in there]
                self.added = [field_of(column, dialect) for column in new]
                self.schema = self.version.written_schema([optional(field) for field in self.added])
                fields = self.version.partition_fields
        self.files = DataFiles(place, self.folder, self.schema, fields)
        self.removed: Sequence[DataFile] = ()
        self.committed: int | None = None
        # files that a commit names must stay, even where no answer says whether it took place
        self.may_discard = True
        self._new: Sequence[NewFile] = ()
        self.growth = 0

    def _require_as_planned(self) -> None:
        plan, there = self.plan, self.version is not None
        if there == plan.is_new:
            raise UltravectError(
                "table-changed",
                f"{plan.table} was {'made' if there else 'removed'} since the run was planned; nothing was written",
                hint="run again: the plan is made anew",
                table=str(plan.table),
            )
        if self.version is not None and plan.create is None:
            if lacking := self.version.unsupported:
                raise UltravectError(
                    "table-feature",
                    f"{plan.table}: {lacking}, which is not written here; nothing was written",
                    hint="write into another table",
                    table=str(plan.table),
                )
            names = {*self.version.schema.names, *(change.column.name for change in plan.changes)}
            for column in plan.columns:
                if column.name not in names:
                    raise column_gone(plan, column.name)

    @property
    def rows_before(self) -> int:
        return self.version.rows if self.version is not None else 0

    @property
    def previous(self) -> str:
        """The version that an overwrite replaces, as a table that can be read; "" where there is none."""
        if self.version is None:
            return ""
        return f"{self.plan.table.name}@{self.version.version}"

    def shaped(self, batch: pa.RecordBatch) -> pa.RecordBatch:
        """Rows as the files have them: all columns of the table, in its types."""
        given = {column.name: values for column, values in zip(self.plan.columns, batch.columns, strict=False)}
        arrays = []
        for field in self.schema:
            values = given.get(field.name)
            if values is None:
                arrays.append(pa.nulls(batch.num_rows, field.type))
                continue
            if values.type == pa.binary(16) and pa.types.is_string(field.type):
                values = uuid_text(values)
            if pa.types.is_string(field.type) and not pa.types.is_string(values.type):
                values = as_text(values)
            if not field.nullable and values.null_count:
                raise UltravectError(
                    "constraint-refused",
                    f"column {field.name!r} of {self.plan.table} takes no NULL, and a row has one; nothing was written",
                    hint="fix the source, or tolerate such rows with into.rejects",
                    table=str(self.plan.table),
                    column=field.name,
                )
            arrays.append(values if values.type == field.type else values.cast(field.type))
        missing = [field.name for field in self.schema if not field.nullable and field.name not in given]
        if missing and batch.num_rows:
            raise UltravectError(
                "constraint-refused",
                f"column {missing[0]!r} of {self.plan.table} takes no NULL, and the job brings no values for it; nothing was written",
                hint="select a value for it in columns",
                table=str(self.plan.table),
                column=missing[0],
            )
        return pa.RecordBatch.from_arrays(arrays, schema=self.schema)

    def close(self) -> None:
        """Ends the files; how many rows they have is asked of their footers."""
        self._new = list(self.files.close())
        self.growth = sum(file.rows for file in self._new) - sum(file.rows or 0 for file in self.removed)

    def commit(self, entry: Entry, *, alone: bool) -> None:
        """Publishes: rows, receipt and marks are one commit of the table, which nothing precedes but files that no version has."""
        plan, place, key, marks = self.plan, self.place, entry.key, entry.marks
        notes = Notes({}, {})
        if entry.receipt is not None and key is not None:
            notes = receipt_notes(key, entry.receipt)
            if is_barred(place, key) or (self.version and self.version.noted(receipt_name(key))):
                raise attempt_replaced(plan)
        names = LakeMarks(place, self.folder).changed(self.version, marks)
        self.may_discard = False
        try:
            with explained(place.name, self.path):
                self._commit(Notes({**notes.names, **names}, notes.texts), entry, alone=alone)
        except UltravectError as error:
            self.may_discard = error.code in _NOTHING_WRITTEN
            if error.code == "lake-unreachable":
                raise outcome_unknown(place.name, plan, "place of the lake") from None
            raise

    def _commit(self, notes: Notes, entry: Entry, *, alone: bool) -> None:
        plan, key, marks = self.plan, entry.key, entry.marks
        if plan.create is not None:
            if self.version is not None:
                self._require_unchanged(self._newest())
            self.place.format.create(
                self.path, self.schema, self._new, plan.create.partition_by, plan.create.comment, notes,
                replace=plan.rebuild,
            )  # fmt: skip
            self.committed = 0
            return
        assert self.version is not None
        if self.added:
            # a column without values changes nothing for anyone: it may come before the rows
            self.version.add_columns([optional(field) for field in self.added])
            fresh = self._newest()
            # the commit of the rows is one after this version: what others have committed until now is seen here, or never
            if key is not None and fresh.noted(receipt_name(key)):
                raise attempt_replaced(plan)
            if any(fresh.noted(name) != self.version.noted(name) for name in notes.names):
                raise mark_moved(marks[0].key)
            if alone and {file.path for file in fresh.files} != {file.path for file in self.version.files}:
                raise self._changed()
            self.version = fresh
        try:
            self.committed = self.version.commit(self._new, self.removed, notes, alone=alone)
        except CommitNotedError:
            own = key is not None and self._newest().noted(receipt_name(key))
            raise attempt_replaced(plan) if own or not marks else mark_moved(marks[0].key) from None

    def _newest(self) -> TableVersion:
        fresh = open_version(self.place, self.path)
        if fresh is None:
            raise self._changed()
        return fresh

    def _require_unchanged(self, fresh: TableVersion) -> None:
        """Before a table is made anew: what others have committed to it since it was opened would be lost."""
        assert self.version is not None
        key = self.attempt.key
        if key is not None and fresh.noted(receipt_name(key)):
            raise attempt_replaced(self.plan)
        if fresh.version != self.version.version:
            raise self._changed()

    def _changed(self) -> UltravectError:
        return UltravectError(
            CHANGED,
            f"{self.plan.table} was changed by another writer since it was opened; nothing was written",
            hint="run it again",
        )

    def verify(self, of_load: int) -> Verified:
        now = open_version(self.place, self.path)
        assert now is not None, "it was committed a moment ago"
        footers = 0
        for file in self._new:
            with self.place.files.open_input_file(f"{self.folder}/{file.path}") as opened:
                footers += pq.read_metadata(opened).num_rows
        difference = footers - sum(file.rows for file in self._new)
        how = "in the files that the commit added, by their own footers"
        return Verified(now.rows, of_load + difference, how)


def optional(field: pa.Field) -> pa.Field:
    """A column that is added to rows without a value for it."""
    return field.with_nullable(True)
