"""Iceberg tables of a place: listed, opened and made."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import cached_property

import pyarrow as pa
from pyiceberg.catalog import Catalog
from pyiceberg.exceptions import (
    CommitFailedException,
    NoSuchNamespaceError,
    NoSuchTableError,
    TableAlreadyExistsError,
)
from pyiceberg.partitioning import PARTITION_FIELD_ID_START, PartitionField, PartitionSpec
from pyiceberg.schema import Schema
from pyiceberg.table import Table
from pyiceberg.table.update import (
    AddPartitionSpecUpdate,
    AddSchemaUpdate,
    SetCurrentSchemaUpdate,
    SetDefaultSpecUpdate,
)
from pyiceberg.transforms import IdentityTransform

from ultravect.core.errors import UltravectError
from ultravect.core.kinds.lake.iceberg.catalogue import PlaceFiles, open_catalogue, with_our_rules
from ultravect.core.kinds.lake.iceberg.table import CLEARED, IcebergVersion, add_files
from ultravect.core.kinds.lake.iceberg.types import arrow_schema, table_schema
from ultravect.core.kinds.lake.kind import LakeSettings
from ultravect.core.kinds.lake.loads.commits import NewFile, Notes
from ultravect.core.kinds.lake.place import LakePlace
from ultravect.core.kinds.lake.refusals import explained
from ultravect.core.kinds.lake.table_version import moment_of, no_version, table_changed

# a table is always in a namespace: one that is named without is in this one
_MAIN = "main"
_DEPTH = 4


class IcebergFormat:
    """See ``LakeFormat``."""

    holds_partitions = True
    data = "data/"

    def __init__(self, place: LakePlace, settings: LakeSettings) -> None:
        self._place, self._settings = place, settings
        self._known: Catalog | None = None

    def _catalogue(self) -> Catalog | None:
        if self._known is None:
            self._known = open_catalogue(self._place, self._settings)
        return self._known

    def _made(self) -> Catalog:
        self._known = open_catalogue(self._place, self._settings, create=True)
        assert self._known is not None, "it is made where there is none"
        return self._known

    @cached_property
    def _files(self) -> PlaceFiles:
        return PlaceFiles(self._place)

    def _named(self, path: str) -> tuple[str, ...]:
        *namespace, name = path.split("/")
        if any("." in part for part in namespace):
            raise UltravectError(
                "table-name",
                f"connection {self._place.name}: {path!r} is no name of a table: a namespace has no dots",
                hint="name it as `ultravect look` lists it",
                table=path,
            )
        return (*(namespace or [_MAIN]), name)

    def _table(self, path: str) -> Table | None:
        catalogue = self._catalogue()
        if catalogue is None:
            return None
        try:
            return catalogue.load_table(self._named(path))
        except (NoSuchTableError, NoSuchNamespaceError):
            return None

    def tables(self) -> Sequence[str]:
        catalogue = self._catalogue()
        if catalogue is None:
            return []
        return sorted(self._below(catalogue, ()))

    def _below(self, catalogue: Catalog, namespace: tuple[str, ...]) -> Iterator[str]:
        if namespace:
            for found in catalogue.list_tables(namespace):
                yield "/".join(found[1:] if found[:-1] == (_MAIN,) else found)
        if len(namespace) < _DEPTH:
            for below in catalogue.list_namespaces(namespace):
                if len(below) > len(namespace):
                    yield from self._below(catalogue, below)

    def open(self, path: str, at: str) -> IcebergVersion | None:
        place = self._place
        with explained(place.name, path):
            table = self._table(path)
            if table is None:
                return None
            snapshot = table.current_snapshot()
            if at.isdecimal():
                snapshot = table.snapshot_by_id(int(at))
                if snapshot is None:
                    raise no_version(place, path, at, f"the newest is {table.metadata.current_snapshot_id}")
            elif at:
                snapshot = table.snapshot_as_of_timestamp(int(moment_of(place, path, at).timestamp() * 1000))
                if snapshot is None:
                    raise no_version(place, path, at, "its first version is newer")
            return IcebergVersion(place, table, path, snapshot)

    def new_schema(self, path: str, fields: Sequence[pa.Field]) -> pa.Schema:
        there = self._table(path)
        first = 1 + (there.metadata.last_column_id if there is not None else 0)
        return arrow_schema(table_schema(fields, first), numbered=True)

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
        catalogue, name = self._made(), self._named(path)
        there = self._table(path) if replace else None
        first = 1 + (there.metadata.last_column_id if there is not None else 0)
        wanted = table_schema(list(schema), first)
        try:
            if there is not None:
                self._replace(with_our_rules(there), wanted, files, partition_by, comment, notes)
                return
            catalogue.create_namespace_if_not_exists(name[:-1])
            location = self._place.uri(path)
            location = f"file://{location}" if self._place.is_folder else location
            properties = {"comment": comment} if comment else {}
            spec = _spec(wanted, partition_by)
            transaction = catalogue.create_table_transaction(name, wanted, location, spec, properties=properties)
            add_files(transaction, self._files, files, [], [], notes)
            transaction.commit_transaction()
        except (TableAlreadyExistsError, CommitFailedException):
            raise table_changed(path) from None

    def _replace(
        self,
        table: Table,
        wanted: Schema,
        files: Sequence[NewFile],
        partition_by: Sequence[str],
        comment: str,
        notes: Notes,
    ) -> None:
        """Other columns and other rows in one commit; versions before are still there."""
        current = table.current_snapshot()
        gone = [task.file for task in table.scan().plan_files()] if current is not None else []
        transaction = table.transaction()
        if gone:
            # its files have the old columns: they are removed before there are others, in the same commit
            add_files(transaction, self._files, [], [], gone, Notes({}, {CLEARED: "1"}))
        numbered = Schema(*wanted.fields, schema_id=1 + max(schema.schema_id for schema in table.metadata.schemas))
        updates = (
            AddSchemaUpdate(schema=numbered),
            SetCurrentSchemaUpdate.model_validate({"schema-id": -1}),
            AddPartitionSpecUpdate(spec=_spec(wanted, partition_by, table)),
            SetDefaultSpecUpdate.model_validate({"spec-id": -1}),
        )
        transaction._apply(updates)
        if comment:
            transaction.set_properties({"comment": comment})
        add_files(transaction, self._files, files, [], [], notes)
        transaction.commit_transaction()


def _spec(schema: Schema, partition_by: Sequence[str], table: Table | None = None) -> PartitionSpec:
    first = PARTITION_FIELD_ID_START
    number = 0
    if table is not None:
        first = (table.metadata.last_partition_id or first - 1) + 1
        number = 1 + max(table.specs())
    fields = [
        PartitionField(schema.find_field(name).field_id, first + place, IdentityTransform(), name)
        for place, name in enumerate(partition_by)
    ]
    return PartitionSpec(*fields, spec_id=number)
