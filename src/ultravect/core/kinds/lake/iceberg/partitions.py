"""How the files of an Iceberg table are split: by columns, or by what its partition transforms make of them."""

from __future__ import annotations

from collections.abc import Sequence

import pyarrow.parquet as pq
from pyiceberg.io.pyarrow import (
    compute_statistics_plan,
    data_file_statistics_from_parquet_metadata,
    parquet_path_to_id_mapping,
)
from pyiceberg.manifest import DataFile as Held
from pyiceberg.manifest import DataFileContent, FileFormat
from pyiceberg.partitioning import PartitionSpec
from pyiceberg.schema import Schema
from pyiceberg.table.metadata import TableMetadata
from pyiceberg.transforms import IdentityTransform, UnknownTransform
from pyiceberg.typedef import Record

from ultravect.core.kinds.lake.iceberg.catalogue import PlaceFiles
from ultravect.core.kinds.lake.iceberg.types import as_counted
from ultravect.core.kinds.lake.loads.commits import NewFile
from ultravect.core.kinds.lake.partitions import PartitionField


def partition_fields(spec: PartitionSpec, schema: Schema) -> Sequence[PartitionField]:
    """See ``TableVersion.partition_fields``."""
    fields = []
    for field in spec.fields:
        column = schema.find_field(field.source_id)
        plain = isinstance(field.transform, IdentityTransform)
        values = None if plain else field.transform.pyarrow_transform(column.field_type)
        fields.append(PartitionField(field.name, column.name, values))
    return fields


def unsupported_partition(spec: PartitionSpec, schema: Schema) -> str:
    """By what a table is split that is not known here; "" where there is nothing."""
    names = {field.field_id: field.name for field in schema.fields}
    for field in spec.fields:
        if isinstance(field.transform, UnknownTransform) or field.source_id not in names:
            return f"it is partitioned by {field.name} ({field.transform})"
    return ""


def data_file(files: PlaceFiles, metadata: TableMetadata, address: str, file: NewFile) -> Held:
    """A file that was written, as a manifest has it: with the bounds and counts of its own footer."""
    opened = files.new_input(address)
    with opened.open() as stream:
        footer = pq.read_metadata(stream)
    schema = metadata.schema()
    statistics = data_file_statistics_from_parquet_metadata(
        parquet_metadata=footer,
        stats_columns=compute_statistics_plan(schema, metadata.properties),
        parquet_column_mapping=parquet_path_to_id_mapping(schema),
    )
    return Held.from_args(
        content=DataFileContent.DATA,
        file_path=address,
        file_format=FileFormat.PARQUET,
        partition=Record(*(as_counted(file.partition[field.name]) for field in metadata.spec().fields)),
        file_size_in_bytes=len(opened),
        sort_order_id=None,
        spec_id=metadata.default_spec_id,
        equality_ids=None,
        key_metadata=None,
        **statistics.to_serialized_dict(),
    )
