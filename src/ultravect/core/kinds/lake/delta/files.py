"""Data files of Delta Lake tables that cannot be read as they are: rows marked as deleted, and columns under other names.

Protocol, sections "Deletion Vectors" and "Column Mapping": https://github.com/delta-io/delta/blob/master/PROTOCOL.md
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from functools import cached_property
from typing import TYPE_CHECKING, Any
from urllib.parse import unquote

import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.parquet as pq

from ultravect.core.errors import UltravectError
from ultravect.core.kinds.lake.delta.log import require_marks_inside
from ultravect.core.kinds.lake.table_version import DataFile

if TYPE_CHECKING:
    from deltalake import DeltaTable

    from ultravect.core.kinds.lake.place import LakePlace

_MODE = "delta.columnMapping.mode"
_PHYSICAL = b"delta.columnMapping.physicalName"
_ID = b"delta.columnMapping.id"
_FILE_ID = b"PARQUET:field_id"
_DELETIONS = "deletionVectors"
# these say how the log is kept, or need nothing but a cast of what was read
_OF_THE_LOG = frozenset(["v2Checkpoint", "vacuumProtocolCheck", "typeWidening", "typeWidening-preview"])
_PLAIN = frozenset(["timestampNtz"])
_READ = _PLAIN | _OF_THE_LOG | {_DELETIONS, "columnMapping"}
_BATCH_ROWS = 64 * 1024


class DeltaFiles:
    """What the protocol of a table asks of those who read its files. ``mapping``: ``name``, ``id`` or, where columns are not mapped, ""."""

    def __init__(self, place: LakePlace, table: DeltaTable, path: str, schema: pa.Schema) -> None:
        self._place, self._table, self._path, self._schema = place, table, path, schema
        protocol = table.protocol()
        self._features = frozenset(protocol.reader_features or ())
        if lacking := sorted(self._features - _READ):
            raise UltravectError(
                "table-feature",
                f"connection {place.name}: {path} asks its readers for {', '.join(lacking)}, which is not supported here",
                hint="use a table without it",
                connection=place.name,
                table=path,
            )
        mode = (table.metadata().configuration or {}).get(_MODE) or "none"
        self.mapping = "" if mode == "none" else mode

    @property
    def is_plain(self) -> bool:
        """Whether files have the columns and rows of the table as they are."""
        return not self.mapping and self._features <= _PLAIN

    def logical(self, values: Mapping[str, Any]) -> Mapping[str, Any]:
        """What the log says of columns by their names in files, by their names in the table."""
        if not self.mapping:
            return values
        names = {_text(field, _PHYSICAL): field.name for field in self._schema}
        return {names[name]: value for name, value in values.items() if name in names}

    @cached_property
    def kept(self) -> Mapping[str, pa.Array]:
        """Of each file with rows that are marked as deleted, by its path in the log: which rows are still there."""
        if _DELETIONS not in self._features:
            return {}
        require_marks_inside(self._place, self._path)
        found: dict[str, pa.Array] = {}
        root = unquote(self._table.table_uri).rstrip("/") + "/"
        for batch in pa.RecordBatchReader.from_stream(self._table.deletion_vectors()):
            for address, kept in zip(batch.column(0).to_pylist(), batch.column(1), strict=True):
                found[unquote(address).removeprefix("file://").removeprefix(root.removeprefix("file://"))] = (
                    kept.values
                )
        return found

    def rows(self, path: str, recorded: int | None) -> int | None:
        kept = self.kept.get(unquote(path))
        return recorded if kept is None else int(pc.sum(kept).as_py() or 0)

    def deleted(self, path: str) -> str:
        """See ``DataFile.deleted``: rows are never there again that were marked, so their number says which."""
        kept = self.kept.get(unquote(path))
        return "" if kept is None else str(pc.sum(kept).as_py() or 0)

    def read(self, file: DataFile) -> Iterator[pa.RecordBatch]:
        """The rows of a file as the table has them."""
        self._place.require_inside(f"{self._path}/{unquote(file.path)}")
        kept, done = self.kept.get(unquote(file.path)), 0
        with self._place.files.open_input_file(f"{self._path}/{unquote(file.path)}") as opened:
            source = pq.ParquetFile(opened)
            there = {self._key(field): position for position, field in enumerate(source.schema_arrow)}
            for batch in source.iter_batches(_BATCH_ROWS):
                rows = batch.num_rows
                columns = []
                for field in self._schema:
                    position = there.get(self._wanted(field))
                    if position is not None:
                        columns.append(self._column(batch.column(position), field))
                    else:
                        columns.append(_repeated(file.partition.get(field.name), field.type, rows))
                found = pa.RecordBatch.from_arrays(columns, schema=self._schema)
                yield found if kept is None else found.filter(kept.slice(done, rows))
                done += rows

    def _wanted(self, field: pa.Field) -> str:
        return _text(field, _ID if self.mapping == "id" else _PHYSICAL) if self.mapping else field.name

    def _key(self, field: pa.Field) -> str:
        return _text(field, _FILE_ID) if self.mapping == "id" else str(field.name)

    def _column(self, held: pa.Array, field: pa.Field) -> pa.Array:
        """A column of a file with the type of the table: below it, too, names may be others."""
        kind = field.type
        if pa.types.is_struct(kind) and pa.types.is_struct(held.type):
            there = {self._key(inner): position for position, inner in enumerate(held.type)}
            parts = []
            for inner in kind:
                position = there.get(self._wanted(inner))
                parts.append(
                    pa.nulls(len(held), inner.type) if position is None else self._column(held.field(position), inner)
                )
            return pa.StructArray.from_arrays(parts, fields=list(kind), mask=held.is_null())
        if pa.types.is_list(kind) and pa.types.is_list(held.type):
            values = self._column(pc.list_flatten(held), kind.value_field)
            return pa.ListArray.from_arrays(_offsets(held), values, type=kind, mask=held.is_null())
        if pa.types.is_map(kind) and pa.types.is_map(held.type):
            pairs = held.cast(pa.list_(pa.struct([held.type.key_field, held.type.item_field])))
            inner = pc.list_flatten(pairs)
            keys, items = (
                self._column(inner.field(n), part) for n, part in enumerate((kind.key_field, kind.item_field))
            )
            return pa.MapArray.from_arrays(_offsets(pairs), keys, items, type=kind, mask=held.is_null())
        return held.cast(kind)


def _offsets(lists: pa.Array) -> pa.Array:
    """Where each list begins among the values of all of them, and the end: a part of an array has others."""
    lengths = pc.fill_null(pc.list_value_length(lists), 0)
    return pa.concat_arrays([pa.array([0], pa.int32()), pc.cast(pc.cumulative_sum(lengths), pa.int32())])


def _text(field: pa.Field, name: bytes) -> str:
    return str((field.metadata or {}).get(name, field.name.encode()), "utf-8")


def _repeated(value: Any, kind: pa.DataType, rows: int) -> pa.Array:
    return pa.nulls(rows, kind) if value is None else pa.repeat(pa.scalar(value, kind), rows)


def removable(files: Sequence[DataFile], kept: Mapping[str, pa.Array], path: str) -> None:
    """UltravectError ``table-feature`` where a file that is to be replaced has rows marked as deleted: its library cannot say so."""
    if any(unquote(file.path) in kept for file in files):
        raise UltravectError(
            "table-feature",
            f"{path}: rows of files that are to be replaced are marked as deleted, which cannot be replaced here; nothing was written",
            hint="rewrite the table without such marks (its writers do that when they purge or reorganise it), or write by append",
            table=path,
        )
