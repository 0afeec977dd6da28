"""Parquet files, row group by row group; nested columns are flattened, lists become JSON text."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import closing
from dataclasses import dataclass, replace
from typing import Any

import pyarrow as pa
import pyarrow.parquet as pq

from ultravect.core.errors import UltravectError
from ultravect.core.layouts.base import SourceFile, require_columns, unique_names
from ultravect.core.layouts.documents.records import as_json
from ultravect.core.layouts.parts import Part, cuts
from ultravect.core.layouts.table import TableBlock, TableReader
from ultravect.core.model.layout import ParquetLayout
from ultravect.core.types.arrow import canonical_of, plain_array
from ultravect.core.types.canonical import CanonicalType

_BATCH_ROWS = 64 << 10


def _opened(file: SourceFile, stream: Any) -> pq.ParquetFile:
    try:
        return pq.ParquetFile(stream)
    except (pa.ArrowException, OSError, ValueError) as error:
        raise _broken(file, error) from None


def _broken(file: SourceFile, error: Exception) -> UltravectError:
    return UltravectError(
        "parquet-broken",
        f"{file.path} is not a whole Parquet file: {str(error).splitlines()[0][:200]}",
        hint="it is cut off or damaged (its table of contents stands at its end); fetch it again",
        object=file.path,
    )


def _flattened(schema: pa.Schema, layout: ParquetLayout) -> Iterator[tuple[str, tuple[str, ...], pa.DataType]]:
    for item in schema:
        yield from _flatten_field(item.name, (item.name,), item.type, layout, layout.flatten)


def _flatten_field(
    name: str, path: tuple[str, ...], kind: pa.DataType, layout: ParquetLayout, levels: int
) -> Iterator[tuple[str, tuple[str, ...], pa.DataType]]:
    if pa.types.is_struct(kind) and levels > 0 and kind.num_fields:
        for child in kind:
            inner = f"{name}{layout.separator}{child.name}"
            yield from _flatten_field(inner, (*path, child.name), child.type, layout, levels - 1)
    else:
        yield name, path, kind


def _column(batch: pa.RecordBatch, path: tuple[str, ...]) -> pa.Array:
    array = batch.column(path[0])
    for step in path[1:]:
        position = array.type.get_field_index(step)
        array = array.flatten()[position]
    if pa.types.is_nested(array.type):
        return pa.array([None if value is None else as_json(value) for value in _listed(array)], pa.string())
    plain = plain_array(array)
    # 16 bytes that are no UUID have another text
    is_bytes = pa.types.is_fixed_size_binary(array.type) and not isinstance(array.type, pa.BaseExtensionType)
    return plain.cast(pa.binary()) if is_bytes else plain


def _listed(array: pa.Array) -> list[Any]:
    """Python's values; maps as mappings, or as pairs where a key stands twice."""
    try:
        return list(array.to_pylist(maps_as_pydicts="strict"))
    except KeyError:
        return list(array.to_pylist())


def _blocks(
    file: SourceFile, columns: list[tuple[str, ...]], names: list[str], groups: Sequence[int] | None = None
) -> Iterator[TableBlock]:
    with closing(file.open_stored()) as stream:
        parquet = _opened(file, stream)
        rows = max(1, parquet.metadata.num_rows)
        try:
            for batch in parquet.iter_batches(
                _BATCH_ROWS, row_groups=groups, columns=sorted({path[0] for path in columns})
            ):
                values = pa.table([_column(batch, path) for path in columns], names=names)
                yield TableBlock(file.path, file.size * batch.num_rows // rows, values)
        except (pa.ArrowException, OSError) as error:
            raise _broken(file, error) from None


@dataclass
class ParquetReader(TableReader):
    """See ``Reader``; its parts are runs of row groups. ``paths`` are the columns within the file's own."""

    paths: Sequence[tuple[str, ...]] = ()

    @property
    def undivided(self) -> str:
        return ""

    def parts(self, count: int) -> Sequence[Part]:
        with closing(self.file.open_stored()) as stream:
            metadata = _opened(self.file, stream).metadata
        groups = [metadata.row_group(number) for number in range(metadata.num_row_groups)]
        rows = [group.num_rows for group in groups]
        return [
            Part(
                f"row groups {first + 1:,} to {last:,} of {self.file.path}",
                first=first,
                last=last,
                rows_before=sum(rows[:first]),
            )
            for first, last in cuts([group.total_byte_size for group in groups], count)
        ]

    def only_part(self, part: Part) -> ParquetReader:
        groups = range(part.first, part.last)
        file, paths, names = self.file, list(self.paths), self.names
        return replace(self, produce=lambda: _blocks(file, paths, names, groups), findings=[])


def open_parquet(file: SourceFile, layout: ParquetLayout) -> TableReader:
    """Opens a Parquet file, whose columns declare their types themselves."""
    with closing(file.open_stored()) as stream:
        schema = _opened(file, stream).schema_arrow
    flattened = list(_flattened(schema, layout))
    require_columns(file.path, len(flattened), "set layout.flatten: 0 to keep nested columns whole")
    names, findings = unique_names([name for name, _, _ in flattened])
    given = [canonical_of(kind) or CanonicalType("json") for _, _, kind in flattened]
    columns = [path for _, path, _ in flattened]
    return ParquetReader(
        file, layout, names, lambda: _blocks(file, columns, names), given, findings, paths=tuple(columns)
    )
