"""The rows of a snapshot of an Iceberg table: its files, read by the names of columns where that is what the format means, and by its library
where it is not."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from functools import cached_property
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.dataset as ds
from pyiceberg.expressions import AlwaysTrue
from pyiceberg.io.pyarrow import ArrowScan
from pyiceberg.manifest import DataFile as Held
from pyiceberg.schema import Schema
from pyiceberg.table import FileScanTask, Table
from pyiceberg.table.snapshots import Snapshot
from pyiceberg.transforms import IdentityTransform

from ultravect.core.kinds.lake.delta.rewritten import RewrittenFiles
from ultravect.core.kinds.lake.iceberg.catalogue import PlaceFiles
from ultravect.core.kinds.lake.iceberg.types import arrow_schema, as_value, bounds
from ultravect.core.kinds.lake.place import LakePlace
from ultravect.core.kinds.lake.table_version import DataFile


class SnapshotRows:
    """``snapshot`` is None for a table without rows; ``schema`` is what its rows are read as."""

    def __init__(self, place: LakePlace, table: Table, schema: Schema, snapshot: Snapshot | None) -> None:
        self._place, self._table, self._schema, self._snapshot = place, table, schema, snapshot
        self._files = PlaceFiles(place)
        self.schema = arrow_schema(schema)
        self._rewritten = RewrittenFiles(self.schema, self._read)

    @cached_property
    def tasks(self) -> Mapping[str, FileScanTask]:
        """What is read, by the addresses of its files."""
        if self._snapshot is None:
            return {}
        found: dict[str, FileScanTask] = {}
        for task in self._table.scan(snapshot_id=self._snapshot.snapshot_id).plan_files():
            assert isinstance(task, FileScanTask)
            found[task.file.file_path] = task
        return found

    @cached_property
    def files(self) -> Sequence[DataFile]:
        found = []
        for address, task in sorted(self.tasks.items()):
            held = task.file
            rows = held.record_count if not task.delete_files else None
            low, high = bounds(self._schema, held.lower_bounds), bounds(self._schema, held.upper_bounds)
            deleted = ",".join(sorted(file.file_path for file in task.delete_files))
            found.append(DataFile(address, held.file_size_in_bytes, rows, self._partition(held), low, high, deleted))
        return found

    def _partition(self, held: Held) -> Mapping[str, Any]:
        fields = {field.field_id: field for field in self._schema.fields}
        spec = self._table.specs()[held.spec_id]
        return {
            fields[part.source_id].name: as_value(fields[part.source_id].field_type, held.partition[place])
            for place, part in enumerate(spec.fields)
            if isinstance(part.transform, IdentityTransform) and part.source_id in fields
        }

    @cached_property
    def _is_plain(self) -> bool:
        """Whether files can be read by the names of their columns: none was renamed, retyped or made anew, and no row is deleted apart."""
        names: dict[int, set[tuple[str, str]]] = {}
        numbers: dict[str, set[int]] = {}
        for schema in self._table.metadata.schemas:
            for field in schema.fields:
                if not field.field_type.is_primitive or field.initial_default is not None:
                    return False
                names.setdefault(field.field_id, set()).add((field.name, str(field.field_type)))
                numbers.setdefault(field.name, set()).add(field.field_id)
        return (
            all(len(found) == 1 for found in names.values())
            and all(len(found) == 1 for found in numbers.values())
            and self._table.name_mapping() is None
            and not any(task.delete_files for task in self.tasks.values())
        )

    def dataset_of(self, files: Sequence[DataFile]) -> ds.Dataset:
        if not self._is_plain:
            return self._rewritten.dataset(files)
        # each address was looked at when it became a path
        form, place = ds.ParquetFileFormat(), self._place.data_files
        fragments = [
            form.make_fragment(self._files.path(file.path), place, partition_expression=self._known(file))
            for file in files
        ]
        return ds.FileSystemDataset(fragments, self.schema, form, filesystem=place)

    def _known(self, file: DataFile) -> pc.Expression:
        """What is true of all rows of a file: by that, readers leave it out."""
        parts = []
        for name, value in file.partition.items():
            column = pc.field(name)
            parts.append(
                column.is_null() if value is None else column == pa.scalar(value, self.schema.field(name).type)
            )
        known = parts[0] if parts else pc.scalar(True)
        for part in parts[1:]:
            known = known & part
        return known

    def _read(self, file: DataFile) -> Iterator[pa.RecordBatch]:
        scan = ArrowScan(self._table.metadata, self._files, self._schema, AlwaysTrue())
        for batch in scan.to_record_batches([self.tasks[file.path]]):
            yield batch.cast(self.schema)

    def batches(self, file: DataFile) -> pa.RecordBatchReader:
        return self.dataset_of([file]).scanner().to_reader()
