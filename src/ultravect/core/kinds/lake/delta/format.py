"""Delta Lake: tables whose log is in their own folder. Protocol: https://github.com/delta-io/delta/blob/master/PROTOCOL.md"""

from __future__ import annotations

import datetime as dt
import tempfile
from collections.abc import Mapping, Sequence
from functools import cached_property
from typing import TYPE_CHECKING, Any
from urllib.parse import unquote

import pyarrow as pa
import pyarrow.dataset as ds
import pyarrow.fs as pafs

from ultravect.core.contracts.write_session import CHANGED
from ultravect.core.errors import UltravectError
from ultravect.core.inside import leads_out
from ultravect.core.kinds.lake.delta.actions import APP, added, properties, texts
from ultravect.core.kinds.lake.delta.change_feed import changes_since
from ultravect.core.kinds.lake.delta.files import DeltaFiles, removable
from ultravect.core.kinds.lake.delta.log import LOG, require_commits_inside
from ultravect.core.kinds.lake.delta.rewritten import RewrittenFiles
from ultravect.core.kinds.lake.loads.commits import CommitNotedError, NewFile, Notes
from ultravect.core.kinds.lake.partitions import PartitionField, by_columns
from ultravect.core.kinds.lake.refusals import explained
from ultravect.core.kinds.lake.table_version import (
    Commit,
    DataFile,
    Since,
    files_since,
    moment_of,
    no_version,
    rows_of,
    table_changed,
)

if TYPE_CHECKING:
    from deltalake import DeltaTable

    from ultravect.core.kinds.lake.place import LakePlace

_DEPTH = 4
_MS = 1000
# what a table may ask of its writers, and is done here by no one
_UNSUPPORTED = ("delta.generationExpression", "delta.identity.start", "delta.invariants")
_CHECK = "delta.constraints."
_CHANGES_NOTHING = frozenset(["ADD COLUMN", "OPTIMIZE", "VACUUM START", "VACUUM END"])


class DeltaVersion:
    """See ``TableVersion``."""

    def __init__(self, place: LakePlace, table: DeltaTable, path: str) -> None:
        self._place, self._table, self.path, self.folder = place, table, path, path
        self._held = DeltaFiles(place, table, path, self.schema)
        self._rewritten = RewrittenFiles(self.schema, self._held.read)

    @property
    def version(self) -> int:
        return self._table.version()

    @cached_property
    def schema(self) -> pa.Schema:
        return pa.schema(self._table.schema().to_arrow())

    @property
    def comment(self) -> str:
        return self._table.metadata().description or ""

    @property
    def partition_by(self) -> Sequence[str]:
        return self._table.metadata().partition_columns

    @property
    def partition_fields(self) -> Sequence[PartitionField]:
        return by_columns(self.partition_by)

    @property
    def checks(self) -> Mapping[str, str]:
        properties = self._table.metadata().configuration
        return {
            name.removeprefix(_CHECK): text for name, text in properties.items() if name.startswith(_CHECK) and text
        }

    @property
    def unsupported(self) -> str:
        if self._held.mapping:
            return "its columns have other names in its files (column mapping)"
        for field in self.schema:
            for name in _UNSUPPORTED:
                if name.encode() in (field.metadata or {}):
                    return f"column {field.name!r} has {name}"
        return ""

    @cached_property
    def files(self) -> Sequence[DataFile]:
        actions = pa.table(self._table.get_add_actions())
        found = actions.column("path").to_pylist()
        for path in found:
            if leads_out(path):
                raise self._place.outside(path)
        return [
            DataFile(
                row["path"],
                row["size_bytes"],
                self._held.rows(row["path"], row["num_records"]),
                row.get("partition") or row.get("partition_values") or {},
                self._held.logical(row.get("min") or {}),
                self._held.logical(row.get("max") or {}),
                self._held.deleted(row["path"]),
            )
            for row in actions.to_pylist()
        ]

    @cached_property
    def rows(self) -> int:
        return rows_of(self.files, lambda: int(self.dataset.count_rows()))

    @cached_property
    def dataset(self) -> ds.Dataset:
        if not self._held.is_plain:
            return self._rewritten.dataset(self.files)
        self._place.require_all_inside(f"{self.path}/{unquote(file.path)}" for file in self.files)
        if self._place.is_folder:
            files = pafs.SubTreeFileSystem(self.path, self._place.data_files)
            return self._table.to_pyarrow_dataset(filesystem=files)
        return self._table.to_pyarrow_dataset()

    def since(self, older: int) -> Since:
        then = self._place.format.open(self.path, str(older))
        assert isinstance(then, DeltaVersion), "the table was found a moment ago"
        feeds = self._table.metadata().configuration.get("delta.enableChangeDataFeed") == "true"
        # the library's reader of the feed knows neither marks of deleted rows nor other names of columns
        if feeds and older < self.version and self._held.is_plain and then._held.is_plain:
            require_commits_inside(self._place, self.path, older + 1, self.version)
            return changes_since(self._table, older, self.schema, self._scratch.name)
        return files_since(then, self)

    @cached_property
    def _scratch(self) -> tempfile.TemporaryDirectory[str]:
        return tempfile.TemporaryDirectory(prefix="ultravect-lake-")

    def dataset_of(self, files: Sequence[DataFile]) -> ds.Dataset:
        if not self._held.is_plain:
            return self._rewritten.dataset(files)
        # the log has paths as addresses do, with some characters written as %20
        fragments = [self._fragments[unquote(file.path)] for file in files]
        return ds.FileSystemDataset(
            fragments, self.dataset.schema, self.dataset.format, filesystem=self.dataset.filesystem
        )

    def batches(self, file: DataFile) -> pa.RecordBatchReader:
        if not self._held.is_plain:
            return pa.RecordBatchReader.from_batches(self.schema, self._held.read(file))
        return self._fragments[unquote(file.path)].scanner(schema=self.dataset.schema).to_reader()

    @cached_property
    def _fragments(self) -> Mapping[str, Any]:
        return {fragment.path.lstrip("/"): fragment for fragment in self.dataset.get_fragments()}

    def noted(self, name: str) -> int | None:
        return self._table.transaction_version(f"{APP}:{name}")

    @cached_property
    def history(self) -> Sequence[Commit]:
        return [
            Commit(
                int(commit["version"]),
                {name.removeprefix(f"{APP}."): text for name, text in commit.items() if name.startswith(f"{APP}.")},
                commit.get("operation") not in _CHANGES_NOTHING,
                int(commit.get("timestamp") or 0) * 1000,
            )
            for commit in self._table.history()
        ]

    def before(self, version: int) -> int | None:
        return version - 1 if version else None

    def add_columns(self, fields: Sequence[pa.Field]) -> None:
        from deltalake import Field

        self._table.alter.add_columns([Field.from_arrow(field) for field in fields])

    def written_schema(self, added: Sequence[pa.Field]) -> pa.Schema:
        return pa.schema([*self.schema, *added])

    def restore(self, version: int, notes: Notes) -> None:
        newest = self.version
        self._table.restore(version, commit_properties=properties(notes))
        self._table.update_incremental()
        if self.version != newest + 1:
            raise UltravectError(
                CHANGED, f"{self.path} was written to meanwhile", hint="look at its versions before anything else"
            )

    def compact(self) -> int:
        if not self._held.is_plain:
            return 0
        self._place.require_links_inside(self.path)
        figures = self._table.optimize.compact()
        return int(figures["numFilesRemoved"]) - int(figures["numFilesAdded"])

    def remove_old(self, hours: int) -> None:
        if not self._held.is_plain:
            return  # the library may not know which files of marks are still in use
        self._place.require_links_inside(self.path)
        self._table.vacuum(retention_hours=hours, dry_run=False, enforce_retention_duration=False)

    def commit(self, files: Sequence[NewFile], removed: Sequence[DataFile], notes: Notes, *, alone: bool) -> int:
        from deltalake import Schema
        from deltalake.exceptions import CommitFailedError
        from deltalake.transaction import RemoveAction

        removable(removed, self._held.kept, self.path)
        now = int(dt.datetime.now(dt.UTC).timestamp() * _MS)
        actions: list[Any] = [added(file, now) for file in files]
        partition = list(self.partition_by) or None
        # a file's path is what it is known by; its partition has to be said again
        actions += [RemoveAction(unquote(file.path), True, now, file.size, texts(file.partition)) for file in removed]
        try:
            self._table.create_write_transaction(
                actions,
                "append",
                Schema.from_arrow(self.schema),
                partition_by=partition,
                commit_properties=properties(notes, retries=0 if alone else None),
            )
        except CommitFailedError as error:
            if "oncurrent transaction" in str(error):
                raise CommitNotedError from None
            raise UltravectError(
                CHANGED,
                f"{self.path} was changed by another writer since version {self.version} was read; nothing was written",
                hint="run it again",
            ) from None
        return self._table.version()


class DeltaFormat:
    """See ``LakeFormat``."""

    holds_partitions = False
    data = ""

    def __init__(self, place: LakePlace) -> None:
        self._place = place

    def _has(self, path: str) -> bool:
        return bool(self._place.files.get_file_info(f"{path}/{LOG}").type == pafs.FileType.Directory)

    def tables(self) -> Sequence[str]:
        found: list[str] = []
        waiting = [("", 0)]
        while waiting:
            folder, depth = waiting.pop()
            below = [
                info.path.strip("/")
                for info in self._place.files.get_file_info(pafs.FileSelector(folder, allow_not_found=True))
                if info.type == pafs.FileType.Directory
            ]
            if any(path.rpartition("/")[2] == LOG for path in below):
                found.append(folder)
            elif depth < _DEPTH:
                waiting += [(path, depth + 1) for path in below if not path.rpartition("/")[2].startswith(("_", "."))]
        return sorted(found)

    def open(self, path: str, at: str) -> DeltaVersion | None:
        from deltalake import DeltaTable

        place = self._place
        if not self._has(path):
            return None
        # the log is read by the library, which follows links
        place.require_links_inside(f"{path}/{LOG}")
        with explained(place.name, path):
            table = DeltaTable(place.uri(path), storage_options=dict(place.options) or None)
            if at.isdecimal():
                if int(at) > table.version():
                    raise no_version(place, path, at, f"the newest is {table.version()}")
                table.load_as_version(int(at))
            elif at:
                table.load_as_version(moment_of(place, path, at))
        return DeltaVersion(place, table, path)

    def new_schema(self, path: str, fields: Sequence[pa.Field]) -> pa.Schema:
        return pa.schema(fields)

    def create(
        self,
        path: str,
        schema: pa.Schema,
        files: Sequence[NewFile],
        partition_by: Sequence[str],
        comment: str,
        notes: Notes,
        *,
        replace: bool = False,
    ) -> None:
        from deltalake import Schema
        from deltalake.exceptions import CommitFailedError, DeltaError
        from deltalake.transaction import create_table_with_add_actions

        place = self._place
        now = int(dt.datetime.now(dt.UTC).timestamp() * _MS)
        try:
            create_table_with_add_actions(
                place.uri(path),
                Schema.from_arrow(schema),
                [added(file, now) for file in files],
                mode="overwrite" if replace else "error",
                partition_by=list(partition_by),
                description=comment or None,
                storage_options=dict(place.options) or None,
                commit_properties=properties(notes, retries=0),
            )
        except (CommitFailedError, DeltaError) as error:
            if (self._has(path) and not replace) or isinstance(error, CommitFailedError):
                raise table_changed(path) from None
            raise
