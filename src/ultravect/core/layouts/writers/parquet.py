"""Writes Parquet, each type as Parquet's own: https://github.com/apache/parquet-format/blob/master/LogicalTypes.md"""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import pyarrow as pa
import pyarrow.parquet as pq

from ultravect.core.dialects.base import Translation
from ultravect.core.layouts.writers.base import FileTypes
from ultravect.core.model.written import WrittenParquet
from ultravect.core.types.canonical import CanonicalType, Fit
from ultravect.core.types.written import plain_text

_NATIVES = {
    "boolean": "BOOLEAN",
    "smallint": "INT(16)",
    "integer": "INT(32)",
    "bigint": "INT(64)",
    "real": "FLOAT",
    "double": "DOUBLE",
    "text": "STRING",
    "binary": "BYTE_ARRAY",
    "date": "DATE",
    "time": "TIME(MICROS)",
    "timestamp": "TIMESTAMP(MICROS)",
    "timestamptz": "TIMESTAMP(MICROS, UTC)",
}


class ParquetTypes(FileTypes):
    """See ``FileTypes``."""

    name = "parquet"

    def from_canonical(self, wanted: CanonicalType) -> Translation:
        if wanted.name == "decimal":
            if wanted.precision is None:
                return Translation("STRING", Fit.WIDER, "as its digits")
            return Translation(f"DECIMAL({wanted.precision},{wanted.scale or 0})", Fit.EXACT)
        if wanted.name in ("uuid", "json"):
            return Translation("STRING", Fit.WIDER, "as its text")
        limited = wanted.length is not None or wanted.precision is not None
        return Translation(_NATIVES[wanted.name], Fit.WIDER if limited else Fit.EXACT)


class ParquetWriter:
    """See ``Writer``. Rows are gathered until a row group is full: memory holds one."""

    def __init__(
        self, path: Path, columns: Sequence[tuple[str, CanonicalType]], layout: WrittenParquet, compression: str
    ) -> None:
        self._schema = pa.schema([(name, _stored_type(kind)) for name, kind in columns])
        self._writer = pq.ParquetWriter(path, self._schema, compression=layout.compression)
        self._group_rows = layout.row_group_rows
        self._held: list[pa.RecordBatch] = []
        self._rows = 0

    def write(self, batch: pa.RecordBatch) -> None:
        arrays = [
            plain_text(array) if pa.types.is_fixed_size_binary(array.type) else array for array in batch.columns
        ]
        self._held.append(pa.RecordBatch.from_arrays(arrays, schema=self._schema))
        self._rows += batch.num_rows
        if self._rows >= self._group_rows:
            self._flush()

    def _flush(self) -> None:
        if self._held:
            self._writer.write_table(pa.Table.from_batches(self._held), self._group_rows)
        self._held, self._rows = [], 0

    def close(self) -> None:
        self._flush()
        self._writer.close()


def _stored_type(kind: CanonicalType) -> pa.DataType:
    return pa.string() if kind.name == "uuid" else kind.arrow
