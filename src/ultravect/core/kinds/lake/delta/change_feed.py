"""The change data feed of Delta Lake: which rows each version has inserted or changed."""

from __future__ import annotations

from typing import TYPE_CHECKING

import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.dataset as ds
import pyarrow.parquet as pq

from ultravect.core.kinds.lake.table_version import Since

if TYPE_CHECKING:
    from deltalake import DeltaTable

_KIND = "_change_type"
_NEW = pa.array(["insert", "update_postimage"])


def changes_since(table: DeltaTable, older: int, schema: pa.Schema, folder: str) -> Since:
    """Rows that versions after ``older`` inserted or changed, oldest first: of one that changed twice, both are there.

    They are put into a file of ``folder``, since the feed gives versions in any order. A version whose writer did not say what it
    changed has all rows of the files that it wrote anew.
    """
    path, count, repeated = f"{folder}/changes-{older}.parquet", 0, False
    with pq.ParquetWriter(path, schema) as writer:
        for version in range(older + 1, table.version() + 1):
            kinds: set[str] = set()
            for batch in pa.RecordBatchReader.from_stream(table.load_cdf(version, version)):
                kind = pc.cast(batch.column(_KIND), pa.string())
                kinds |= set(pc.unique(kind).to_pylist())
                taken = [pc.cast(batch.column(field.name), field.type) for field in schema]
                rows = pa.RecordBatch.from_arrays(taken, schema=schema).filter(pc.is_in(kind, _NEW))
                count += rows.num_rows
                writer.write_batch(rows)
            repeated = repeated or {"insert", "delete"} <= kinds
    form = ds.ParquetFileFormat()
    fragment = form.make_fragment(path, pa.fs.LocalFileSystem())
    return Since(ds.FileSystemDataset([fragment], schema, form, filesystem=pa.fs.LocalFileSystem()), count, repeated)
