"""Loads into lake tables: rows become files, and one commit adds those and removes the ones that they replace.

Rows that are only added go into files as they come. Where rows are matched or replaced, the files that may be concerned are read into a
database of DuckDB on this machine's disk, changed there by the same steps as every other table, and those that changed are written anew.
"""

from __future__ import annotations

import datetime as dt
import tempfile
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass, replace
from typing import Any

import duckdb
import pyarrow as pa
import pyarrow.parquet as pq

from ultravect.core.contracts.changes import Comparison, RowChange
from ultravect.core.contracts.load import STAGED, Counts, LoadOrder, RefusedRow
from ultravect.core.contracts.mark import MarkChange
from ultravect.core.contracts.receipt import Receipt
from ultravect.core.contracts.target import Load, Verified
from ultravect.core.dialects.base import NewColumn
from ultravect.core.dialects.duckdb import DuckdbDialect
from ultravect.core.dialects.merge import ROW, Merge
from ultravect.core.errors import UltravectError
from ultravect.core.kinds.lake.accounts import LakeMarks, is_barred, receipt_name, receipt_notes
from ultravect.core.kinds.lake.data_files import DataFiles
from ultravect.core.kinds.lake.place import LakePlace
from ultravect.core.kinds.lake.session import connected, errors_explained
from ultravect.core.kinds.lake.tables import (
    DataFile,
    NewFile,
    Notes,
    create_table,
    explained,
    open_version,
)
from ultravect.core.loading.duckdb_load import DuckdbLoad
from ultravect.core.loading.marks import mark_moved
from ultravect.core.loading.refusals import attempt_replaced, column_gone, key_not_unique, require_empty
from ultravect.core.types.arrow import as_text
from ultravect.core.types.written import uuid_text
from ultravect.core.words import counted

_FILE = "ultravect_file"
_SCANNED = "ultravect_scanned"
_PAIRS = "ultravect_pairs"
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
    "TIMESTAMP": pa.timestamp("us"),
    "TIMESTAMP WITH TIME ZONE": pa.timestamp("us", "UTC"),
}


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


@dataclass(frozen=True)
class Upkeep:
    """What is done after a load: small files are joined where there are more than ``compact_after`` (0: never), and files that only
    versions older than ``keep_hours`` have are removed (None: never)."""

    compact_after: int
    keep_hours: int | None


class _Target:
    """The table of a load: what is there, what is added, what is removed, and the commit of it."""

    def __init__(self, place: LakePlace, order: LoadOrder, dialect: DuckdbDialect) -> None:
        self.place, self.order = place, order
        self.path = place.path(order.table)
        with explained(place.name, self.path):
            self.version = open_version(place, self.path)
            self._require_as_planned()
            create = order.create
            self.added: Sequence[pa.Field] = ()
            if create is not None:
                self.schema = pa.schema([field_of(column, dialect) for column in create.columns])
                self.partition_by: Sequence[str] = create.partition_by
            else:
                assert self.version is not None
                self.added = [field_of(change.column, dialect) for change in order.changes]
                self.schema = pa.schema([*self.version.schema, *(replace_nullable(field) for field in self.added)])
                self.partition_by = self.version.partition_by
        self.files = DataFiles(place, self.path, self.schema, self.partition_by)
        self.removed: Sequence[DataFile] = ()
        self.committed: int | None = None
        self._new: Sequence[NewFile] = ()
        self.growth = 0

    def _require_as_planned(self) -> None:
        order, there = self.order, self.version is not None
        if there != (order.create is None or order.rebuild):
            raise UltravectError(
                "table-changed",
                f"{order.table} was {'made' if there else 'removed'} since the run was planned; nothing was written",
                hint="run again: the plan is made anew",
                table=str(order.table),
            )
        if self.version is not None and order.create is None:
            if lacking := self.version.unsupported:
                raise UltravectError(
                    "table-feature",
                    f"{order.table}: {lacking}, which is not written here; nothing was written",
                    hint="write into another table",
                    table=str(order.table),
                )
            names = {*self.version.schema.names, *(change.column.name for change in order.changes)}
            for column in order.columns:
                if column.name not in names:
                    raise column_gone(order, column.name)

    @property
    def rows_before(self) -> int:
        return self.version.rows if self.version is not None else 0

    @property
    def previous(self) -> str:
        """The version that an overwrite replaces, as a table that can be read; "" where none is to be kept."""
        if not self.order.keep_previous or self.version is None:
            return ""
        return f"{self.order.table.name}@{self.version.version}"

    def shaped(self, batch: pa.RecordBatch) -> pa.RecordBatch:
        """Rows as the files have them: all columns of the table, in its types."""
        given = {column.name: values for column, values in zip(self.order.columns, batch.columns, strict=False)}
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
                    f"column {field.name!r} of {self.order.table} takes no NULL, and a row has one; nothing was written",
                    hint="fix the source, or tolerate such rows with into.rejects",
                    table=str(self.order.table),
                    column=field.name,
                )
            arrays.append(values if values.type == field.type else values.cast(field.type))
        missing = [field.name for field in self.schema if not field.nullable and field.name not in given]
        if missing and batch.num_rows:
            raise UltravectError(
                "constraint-refused",
                f"column {missing[0]!r} of {self.order.table} takes no NULL, and the job brings no values for it; nothing was written",
                hint="select a value for it in columns",
                table=str(self.order.table),
                column=missing[0],
            )
        return pa.RecordBatch.from_arrays(arrays, schema=self.schema)

    def close(self) -> None:
        """Ends the files; how many rows they have is asked of their footers."""
        self._new = list(self.files.close())
        self.growth = sum(file.rows for file in self._new) - sum(file.rows or 0 for file in self.removed)

    def publish(self, receipt: Receipt | None, marks: Sequence[MarkChange], *, alone: bool) -> None:
        order, place = self.order, self.place
        notes = Notes({}, {})
        if receipt is not None and order.receipt is not None:
            notes = receipt_notes(order.receipt, receipt)
            if is_barred(place, order.receipt) or (self.version and self.version.noted(receipt_name(order.receipt))):
                raise attempt_replaced(order)
        holder = LakeMarks(place, self.path)
        if marks:
            if self.version is not None:
                names = holder.changed(self.version, marks)
            else:
                names = {}
                for key in dict.fromkeys(change.key for change in marks):
                    names |= holder.written(None, key, {c.item: c.value for c in marks if c.key == key})
            notes = Notes({**notes.names, **names}, notes.texts)
        with explained(place.name, self.path):
            self._commit(notes, marks, alone=alone)

    def _commit(self, notes: Notes, marks: Sequence[MarkChange], *, alone: bool) -> None:
        order = self.order
        if order.create is not None:
            create_table(
                self.place, self.path, self.schema, self._new, self.partition_by, order.create.comment, notes,
                replace=order.rebuild,
            )  # fmt: skip
            self.committed = 0
            return
        assert self.version is not None
        if self.added:
            # a column without values changes nothing for anyone: it may come before the rows
            self.version.add_columns([replace_nullable(field) for field in self.added])
            fresh = open_version(self.place, self.path)
            assert fresh is not None, "columns were added to it a moment ago"
            self.version = fresh
        try:
            self.committed = self.version.commit(self._new, self.removed, notes, alone=alone)
        except UltravectError as error:
            if error.code == "commit-noted":
                raise mark_moved(marks[0].key) if marks else attempt_replaced(order) from None
            raise

    def verify(self, of_load: int) -> Verified:
        now = open_version(self.place, self.path)
        assert now is not None, "it was committed a moment ago"
        footers = 0
        for file in self._new:
            with self.place.files.open_input_file(f"{self.path}/{file.path}") as opened:
                footers += pq.read_metadata(opened).num_rows
        difference = footers - sum(file.rows for file in self._new)
        how = "in the files that the commit added, by their own footers"
        return Verified(now.rows, of_load + difference, how)


def replace_nullable(field: pa.Field) -> pa.Field:
    """A column that is added to rows without a value for it."""
    return field.with_nullable(True)


class AppendingLoad:
    """See ``Load``. Rows go into files as they come: none is matched, and what an overwrite removes is whole files."""

    written: Sequence[str] = ()
    refused: Iterable[RefusedRow] = ()
    changes: Sequence[RowChange] = ()
    comparison: Comparison | None = None
    strategy = ""

    def __init__(self, target: _Target) -> None:
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


class MatchingLoad(DuckdbLoad):
    """See ``Load``. The table of the scratch database has the rows of the files that may change, each with the number of its file."""

    def __init__(self, session: duckdb.DuckDBPyConnection, dialect: DuckdbDialect, target: _Target) -> None:
        self._target, self._own, self._filled, self._paired = target, dialect, False, False
        self._digests: Mapping[int, Any] = {}
        order = self._order_of_load = target.order
        if order.table.schema:
            session.execute(f"CREATE SCHEMA IF NOT EXISTS {dialect.quote(order.table.schema)}")
        self._session = session
        self._make(order)
        # the scratch table is made already, and what the job does to the old rows is done by their files
        super().__init__(
            session, dialect, replace(order, create=None, rebuild=False, changes=(), keep_previous=False)
        )
        self._order = order
        self.rows_before = target.rows_before
        self.previous = target.previous

    def _make(self, order: LoadOrder) -> None:
        """The scratch table; filled at once where all of its rows count."""
        target, quote = self._target, self._own.quote
        self._name = self._own.table(order.table)
        self._session.register("ultravect_shape", target.schema.empty_table())
        # columns take what the files hold: types are those of the table's schema
        natives = self._session.execute("DESCRIBE SELECT * FROM ultravect_shape").fetchall()
        self._session.unregister("ultravect_shape")
        required = {field.name for field in target.schema if not field.nullable}
        self._conditions = bool(required)
        parts = [f"{quote(name)} {native}{' NOT NULL' if name in required else ''}" for name, native, *_ in natives]
        checks = target.version.checks if target.version is not None and order.create is None else {}
        self._conditions = self._conditions or bool(checks)
        for name, condition in checks.items():
            parts.append(f"CONSTRAINT {quote(name)} CHECK ({condition})")
        try:
            self._session.execute(f"CREATE TABLE {self._name} ({', '.join(parts)}, {_FILE} INTEGER)")
        except duckdb.Error as error:
            raise UltravectError(
                "table-feature",
                f"{order.table} has conditions that cannot be tried here: {str(error).splitlines()[0]}; nothing was written",
                hint="write into another table",
                table=str(order.table),
            ) from None
        compares = order.removes_old and order.keys and order.samples
        if order.create is None and (order.replaces or order.gone or compares):
            self._fill(target.version.files if target.version else ())

    def _fill(self, files: Sequence[DataFile]) -> None:
        """Reads files into the scratch table."""
        self._filled = True
        target, session = self._target, self._session
        assert target.version is not None
        numbers = {file.path: number for number, file in enumerate(target.version.files)}
        names = ", ".join(self._own.quote(name) for name in target.version.schema.names)
        for file in files:
            with explained(target.place.name, target.path):
                session.register(_SCANNED, target.version.batches(file))
            session.execute(
                f"INSERT INTO {self._name} ({names}, {_FILE}) SELECT {names}, {numbers[file.path]} FROM {_SCANNED}"
            )
            session.unregister(_SCANNED)
        if self._conditions or self._order_of_load.gone or self._order_of_load.replaces:
            self._digests = self._digested()

    def _digested(self) -> Mapping[int, Any]:
        """Of each file, what tells whether one of its rows is another, or gone."""
        columns = ", ".join(self._own.quote(name) for name in self._target.schema.names)
        found = self._session.execute(
            f"SELECT {_FILE}, count(*), bit_xor(hash({columns})), sum(hash({columns})::HUGEINT) "
            f"FROM {self._name} WHERE {_FILE} IS NOT NULL GROUP BY 1"
        ).fetchall()
        return {number: rest for number, *rest in found}

    def _begin(self) -> None:
        # a constraint that refuses a row must not undo what was read before
        return

    def _count(self) -> int:
        return self._target.rows_before

    def _candidates(self) -> Sequence[DataFile]:
        """The files whose keys may be among the staged ones, by the bounds in the table's log."""
        assert self._target.version is not None
        files = self._target.version.files
        keys = [key for key in self._order.keys if key in self._target.schema.names]
        bounds = {}
        for key in keys:
            quoted = self._own.quote(key)
            ((low, high),) = self._all_rows(f"SELECT min({quoted}), max({quoted}) FROM {STAGED}")
            bounds[key] = (low, high)
        return [file for file in files if all(_may_have(file, key, *bounds[key]) for key in keys)]

    def finish(self, tolerated: int = 0, *, complete: bool = True) -> Counts:
        order, target = self._order, self._target
        with errors_explained(target.place.name, f"bringing rows into {order.table}"):
            if order.matches_rows and not self._filled and order.create is None and target.version is not None:
                self._fill(self._candidates())
            counts = Counts(self._written, removed=self._removed)
            if order.staged:
                merge = order.merge(self._dialect, self._table, STAGED)
                counts = self._merge_staged(merge, self._written, tolerated, complete=complete)
            self._write_files()
        if order.rebuild:
            counts = replace(counts, removed=self.rows_before)
        self._counts = counts
        return counts

    def _upsert(self, merge: Merge, left: int, repeated: int) -> Counts:
        """Says by one join what becomes of each row; the rows are put together when files are written."""
        if self._conditions or self._order.gone or not self._filled:
            return super()._upsert(merge, left, repeated)
        differs = merge.differs if merge.others else "FALSE"
        self._execute(
            f"CREATE TEMPORARY TABLE {_PAIRS} AS SELECT s.{ROW} AS staged, t.rowid AS held, t.{_FILE} AS file, "
            f"({differs}) AS differs FROM {STAGED} s JOIN {self._name} t ON {merge.matched}"
        )
        ((pairs, staged, updated),) = self._all_rows(
            f"SELECT count(*), count(DISTINCT staged), count(*) FILTER (differs) FROM {_PAIRS}"
        )
        if pairs != staged:
            raise key_not_unique(self._order, next(iter(self._all_rows(merge.ambiguous())), ()))
        if updated:
            self._sample_updates(merge)
        self._paired = True
        return Counts(left - pairs, updated, pairs - updated, repeated)

    def _put_together(self, touched: Sequence[int]) -> str:
        """The rows of new files, from the pairs of ``_upsert``: new ones, changed ones, and others of files with changed ones."""
        quote, given = self._own.quote, {column.name for column in self._order.columns}
        names = self._target.schema.names
        held = ", ".join(f"t.{quote(name)}" for name in names)
        changed = ", ".join(f"{'s' if name in given else 't'}.{quote(name)}" for name in names)
        new = ", ".join(f"s.{quote(name)}" if name in given else "NULL" for name in names)
        query = f"SELECT {new} FROM {STAGED} s WHERE s.{ROW} NOT IN (SELECT staged FROM {_PAIRS})"
        if touched:
            query += (
                f" UNION ALL SELECT {changed} FROM {_PAIRS} p JOIN {STAGED} s ON s.{ROW} = p.staged JOIN {self._name} t "
                f"ON t.rowid = p.held WHERE p.differs UNION ALL SELECT {held} FROM {self._name} t WHERE t.{_FILE} IN "
                f"({', '.join(map(str, touched))}) AND t.rowid NOT IN (SELECT held FROM {_PAIRS} WHERE differs)"
            )
        return query

    def _take_old_rows(self, merge: Merge) -> None:
        whole = not self._order.replaces
        if self._filled:
            self._compare(merge)
            self._removed = self._delete_old(self._table)
        if whole:
            self._removed = self.rows_before

    def _delete_old(self, table: str) -> int:
        done = super()._delete_old(table)
        return done if self._order.replaces or self._order.create is not None else self.rows_before

    def _write_files(self) -> None:
        """Writes the rows that are new, and those that share a file with one that changed."""
        order, target = self._order, self._target
        files = target.version.files if target.version is not None else ()
        if order.create is not None:
            touched: list[int] = []
            target.removed = ()
        elif order.removes_old and not order.replaces:
            touched, target.removed = [], files
        elif self._paired:
            found = self._all_rows(f"SELECT DISTINCT file FROM {_PAIRS} WHERE differs ORDER BY 1")
            touched = [int(number) for (number,) in found]
            target.removed = [files[number] for number in touched]
        else:
            now = self._digested()
            touched = sorted(number for number, digest in self._digests.items() if now.get(number) != digest)
            target.removed = [files[number] for number in touched]
        names = ", ".join(self._own.quote(name) for name in target.schema.names)
        kept = f" OR {_FILE} IN ({', '.join(map(str, touched))})" if touched else ""
        query = f"SELECT {names} FROM {self._name} WHERE {_FILE} IS NULL{kept}"
        rows = self._session.sql(self._put_together(touched) if self._paired else query)
        with explained(target.place.name, target.path):
            for batch in rows.to_arrow_reader(100_000):
                target.files.write(batch.cast(target.schema) if batch.schema != target.schema else batch)
            target.close()

    def publish(self, receipt: Receipt | None = None, marks: Sequence[MarkChange] = ()) -> None:
        self._target.publish(receipt, marks, alone=True)

    def verify(self) -> Verified:
        return self._target.verify(self._target.growth + self._counts.removed + self._counts.updated)


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


def _may_have(file: DataFile, key: str, low: Any, high: Any) -> bool:
    least, most = file.partition.get(key, file.least.get(key)), file.partition.get(key, file.most.get(key))
    if low is None or least is None or most is None:
        return True
    if isinstance(most, dt.datetime):
        most += dt.timedelta(milliseconds=1)  # bounds are kept in milliseconds
    try:
        return bool(least <= high and low <= most)
    except TypeError:
        return True


@contextmanager
def opened_load(place: LakePlace, dialect: DuckdbDialect, order: LoadOrder, upkeep: Upkeep) -> Iterator[Load]:
    """See ``Target.load``: files that were written for a load that does not commit are removed again."""
    target = _Target(place, order, dialect)
    with ExitStack() as opened:
        opened.callback(lambda: target.files.discard() if target.committed is None else None)
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
