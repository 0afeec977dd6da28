"""Versions of Iceberg tables: snapshots, which are read and committed."""

from __future__ import annotations

import datetime as dt
import random
import time
from collections.abc import Mapping, Sequence
from functools import cached_property
from itertools import takewhile

import pyarrow as pa
import pyarrow.dataset as ds
from pyiceberg.exceptions import CommitFailedException, ValidationException
from pyiceberg.manifest import DataFile as Held
from pyiceberg.schema import Schema
from pyiceberg.table import Table, Transaction
from pyiceberg.table.snapshots import Snapshot, ancestors_of
from pyiceberg.transforms import IdentityTransform

from ultravect.core.contracts.write_session import CHANGED
from ultravect.core.errors import UltravectError
from ultravect.core.kinds.lake.iceberg.catalogue import PlaceFiles, with_our_rules
from ultravect.core.kinds.lake.iceberg.partitions import data_file, partition_fields, unsupported_partition
from ultravect.core.kinds.lake.iceberg.reading import SnapshotRows
from ultravect.core.kinds.lake.iceberg.types import arrow_schema, table_schema
from ultravect.core.kinds.lake.loads.commits import CommitNotedError, NewFile, Notes
from ultravect.core.kinds.lake.loads.data_files import DataFiles
from ultravect.core.kinds.lake.partitions import PartitionField
from ultravect.core.kinds.lake.place import LakePlace
from ultravect.core.kinds.lake.table_version import Commit, DataFile, Since, files_since, no_version, rows_of

_APP = "ultravect."
_LOAD = f"{_APP}load:"
_ATTEMPTS = 8
_PAUSE_SECONDS = 0.1
_SMALL = 32 << 20
# longer than the service asks for receipts
_KEPT = dt.timedelta(days=70)
_JOINED = "joined"
CLEARED = "cleared"
"""Names, in a commit's texts, what is no load of its own: the first half of making a table anew."""
_PROVIDER = "write.py-location-provider.impl"


class IcebergVersion:
    """See ``TableVersion``."""

    def __init__(self, place: LakePlace, table: Table, path: str, snapshot: Snapshot | None) -> None:
        self._places_files = _PROVIDER in table.properties
        self._place, self._table, self.path, self._snapshot = place, with_our_rules(table), path, snapshot
        self._files = PlaceFiles(place)
        self.folder = self._files.path(table.location())

    @property
    def version(self) -> int:
        return self._snapshot.snapshot_id if self._snapshot else 0

    @cached_property
    def _schema(self) -> Schema:
        metadata, snapshot = self._table.metadata, self._snapshot
        if snapshot is not None and snapshot is not metadata.current_snapshot() and snapshot.schema_id is not None:
            return self._table.schemas()[snapshot.schema_id]
        return metadata.schema()

    @cached_property
    def _rows(self) -> SnapshotRows:
        return SnapshotRows(self._place, self._table, self._schema, self._snapshot)

    @property
    def schema(self) -> pa.Schema:
        return self._rows.schema

    @property
    def files(self) -> Sequence[DataFile]:
        return self._rows.files

    def dataset_of(self, files: Sequence[DataFile]) -> ds.Dataset:
        return self._rows.dataset_of(files)

    def batches(self, file: DataFile) -> pa.RecordBatchReader:
        return self._rows.batches(file)

    @property
    def comment(self) -> str:
        return self._table.properties.get("comment", "")

    @property
    def partition_by(self) -> Sequence[str]:
        names = {field.field_id: field.name for field in self._schema.fields}
        fields = self._table.spec().fields
        return [names[field.source_id] for field in fields if isinstance(field.transform, IdentityTransform)]

    @property
    def partition_fields(self) -> Sequence[PartitionField]:
        return partition_fields(self._table.spec(), self._schema)

    @property
    def checks(self) -> Mapping[str, str]:
        return {}

    @property
    def unsupported(self) -> str:
        if self._places_files:
            return f"its setting {_PROVIDER} names a program by which files get their places"
        if part := unsupported_partition(self._table.spec(), self._schema):
            return part
        for column in self._schema.fields:
            if not column.field_type.is_primitive and column.required:
                return f"column {column.name!r} is nested, and required"
        return ""

    @cached_property
    def rows(self) -> int:
        return rows_of(self.files, lambda: int(self.dataset.count_rows()))

    @cached_property
    def dataset(self) -> ds.Dataset:
        return self.dataset_of(self.files)

    def since(self, older: int) -> Since:
        snapshot = self._table.snapshot_by_id(older)
        if older and snapshot is None:
            raise no_version(self._place, self.path, str(older), f"the newest is {self.version}")
        then = IcebergVersion(self._place, self._table, self.path, snapshot)
        return files_since(then, self)

    def noted(self, name: str) -> int | None:
        found = self._table.properties.get(f"{_APP}{name}")
        return int(found.partition(" ")[0]) if found else None

    @cached_property
    def history(self) -> Sequence[Commit]:
        found = []
        for snapshot in ancestors_of(self._table.current_snapshot(), self._table.metadata):
            given = snapshot.summary.additional_properties if snapshot.summary else {}
            texts = {name.removeprefix(_APP): text for name, text in given.items() if name.startswith(_APP)}
            found.append(Commit(snapshot.snapshot_id, texts, _JOINED not in texts, snapshot.timestamp_ms * 1000))
        return found

    def before(self, version: int) -> int | None:
        older = takewhile(lambda commit: commit.version != version, reversed(self.history))
        found = [commit.version for commit in older if CLEARED not in commit.texts]
        return found[-1] if found else None

    def add_columns(self, fields: Sequence[pa.Field]) -> None:
        added = table_schema(fields, self._table.metadata.last_column_id + 1)
        try:
            with self._table.update_schema() as update:
                for field in added.fields:
                    update.add_column(field.name, field.field_type, field.doc)
        except CommitFailedException:
            raise self._moved() from None
        by_name = {field.name: field.field_id for field in self._table.schema().fields}
        if any(by_name[field.name] != field.field_id for field in added.fields):
            raise self._moved()

    def written_schema(self, added: Sequence[pa.Field]) -> pa.Schema:
        there = arrow_schema(self._schema, numbered=True)
        if not added:
            return there
        new = arrow_schema(table_schema(added, self._table.metadata.last_column_id + 1), numbered=True)
        return pa.schema([*there, *new])

    def _moved(self) -> UltravectError:
        return UltravectError(
            CHANGED,
            f"{self.path} was changed by another writer since version {self.version} was read; nothing was written",
            hint="run it again",
        )

    def commit(self, files: Sequence[NewFile], removed: Sequence[DataFile], notes: Notes, *, alone: bool) -> int:
        gone = [self._rows.tasks[file.path].file for file in removed]
        return self._commit(files, [], gone, notes, alone=alone)

    def _commit(
        self, new: Sequence[NewFile], back: Sequence[Held], gone: Sequence[Held], notes: Notes, *, alone: bool
    ) -> int:
        """``new``: files that were written; ``back``: files of older versions that count again."""
        before = {name: self.noted(name) for name in notes.names}
        split = self._table.spec()
        for attempt in range(1 if alone else _ATTEMPTS):
            if attempt:
                time.sleep(_PAUSE_SECONDS * attempt * random.uniform(0.5, 1.5))
                self._table = with_our_rules(self._table.refresh())
                if any(self.noted(name) != number for name, number in before.items()):
                    raise CommitNotedError
                if new and self._table.spec() != split:
                    break  # its files would be in parts that the table no longer has
            try:
                return self._try(new, back, gone, notes)
            except (CommitFailedException, ValidationException):
                self._table = with_our_rules(self._table.refresh())
                if any(self.noted(name) != number for name, number in before.items()):
                    raise CommitNotedError from None
        raise self._moved()

    def _try(self, new: Sequence[NewFile], back: Sequence[Held], gone: Sequence[Held], notes: Notes) -> int:
        transaction = self._table.transaction()
        add_files(transaction, self._files, new, back, gone, notes)
        if old := [name for name, text in self._table.properties.items() if _is_old(name, text)]:
            transaction.remove_properties(*old)
        self._table = with_our_rules(transaction.commit_transaction())
        now = self._table.current_snapshot()
        assert now is not None, "it was made a moment ago"
        self._snapshot = now
        return now.snapshot_id

    def restore(self, version: int, notes: Notes) -> None:
        snapshot = self._table.snapshot_by_id(version)
        then = IcebergVersion(self._place, self._table, self.path, snapshot)
        if not then._schema.field_ids <= self._schema.field_ids:
            raise UltravectError(
                "table-feature",
                f"{self.path} had other columns in version {version}, which cannot be restored here",
                hint="copy that version into another table: from.at names it",
            )
        was, now = then._rows.tasks, self._rows.tasks
        if any(task.delete_files for task in (*was.values(), *now.values())):
            raise UltravectError(
                "table-feature",
                f"{self.path} has rows that are deleted apart from its files: an older version cannot be restored here",
                hint="restore it with the program that wrote it",
            )
        back = [task.file for address, task in was.items() if address not in now]
        gone = [task.file for address, task in now.items() if address not in was]
        self._commit([], back, gone, notes, alone=True)

    def compact(self) -> int:
        small = [file for file in self.files if file.size < _SMALL]
        if len(small) < 2 or self.unsupported:
            return 0
        schema = self.written_schema([])
        written = DataFiles(self._place, self.folder, schema, self.partition_fields)
        try:
            for file in small:
                for batch in self.batches(file):
                    written.write(batch.cast(schema))
            files = list(written.close())
            self.commit(files, small, Notes({}, {_JOINED: "1"}), alone=True)
        except BaseException:
            written.discard()
            raise
        return len(small) - len(files)

    def remove_old(self, hours: int) -> None:
        metadata = self._table.metadata
        oldest = dt.datetime.now(dt.UTC) - dt.timedelta(hours=hours)
        kept = {ref.snapshot_id for ref in metadata.refs.values()}
        old = [
            snapshot
            for snapshot in metadata.snapshots
            if snapshot.snapshot_id not in kept and snapshot.timestamp_ms < oldest.timestamp() * 1000
        ]
        if not old:
            return
        named = self._named(old)
        gone = {snapshot.snapshot_id for snapshot in old}
        self._table.maintenance.expire_snapshots().by_ids(list(gone)).commit()
        left = self._named([snapshot for snapshot in metadata.snapshots if snapshot.snapshot_id not in gone])
        for address in sorted(named - left):
            self._files.delete(address)

    def _named(self, snapshots: Sequence[Snapshot]) -> set[str]:
        """The addresses of all files that some snapshots need."""
        found: set[str] = set()
        for snapshot in snapshots:
            found.add(snapshot.manifest_list)
            for manifest in snapshot.manifests(self._files):
                if manifest.manifest_path in found:
                    continue
                found.add(manifest.manifest_path)
                found |= {entry.data_file.file_path for entry in manifest.fetch_manifest_entry(self._files)}
        return found


def add_files(
    transaction: Transaction,
    files: PlaceFiles,
    new: Sequence[NewFile],
    back: Sequence[Held],
    gone: Sequence[Held],
    notes: Notes,
) -> None:
    """Has a transaction make one snapshot, with what is said of it; see ``IcebergVersion.commit``."""
    texts = {f"{_APP}{name}": text for name, text in notes.texts.items()}
    now = dt.datetime.now(dt.UTC).isoformat(timespec="seconds")
    if notes.names:
        transaction.set_properties({f"{_APP}{name}": f"{number} {now}" for name, number in notes.names.items()})
    update = transaction.update_snapshot(snapshot_properties=texts)
    with update.overwrite() if gone or back else update.fast_append() as snapshot:
        metadata = transaction.table_metadata
        for file in new:
            snapshot.append_data_file(data_file(files, metadata, f"{metadata.location}/{file.path}", file))
        for held in back:
            snapshot.append_data_file(held)
        for held in gone:
            snapshot.delete_data_file(held)


def _is_old(name: str, text: str) -> bool:
    if not name.startswith(_LOAD):
        return False
    try:
        return dt.datetime.now(dt.UTC) - dt.datetime.fromisoformat(text.partition(" ")[2]) > _KEPT
    except (ValueError, TypeError):
        return False
