"""Files of a table that have to be changed before a reader understands them: copies on this machine, with the rows of the version."""

from __future__ import annotations

import tempfile
from collections.abc import Callable, Iterator, Sequence
from functools import cached_property

import pyarrow as pa
import pyarrow.dataset as ds
import pyarrow.fs as pafs
import pyarrow.parquet as pq

from ultravect.core.kinds.lake.table_version import DataFile


class RewrittenFiles:
    """``read`` gives the rows of a file with the columns of ``schema``; each file is rewritten once, when it is first asked for."""

    def __init__(self, schema: pa.Schema, read: Callable[[DataFile], Iterator[pa.RecordBatch]]) -> None:
        self._schema, self._read = schema, read
        self._written: dict[str, str] = {}

    @cached_property
    def _folder(self) -> tempfile.TemporaryDirectory[str]:
        return tempfile.TemporaryDirectory(prefix="ultravect-lake-")

    def dataset(self, files: Sequence[DataFile]) -> ds.Dataset:
        form, here = ds.ParquetFileFormat(), pafs.LocalFileSystem()
        fragments = [form.make_fragment(self._path(file), here) for file in files]
        return ds.FileSystemDataset(fragments, self._schema, form, filesystem=here)

    def _path(self, file: DataFile) -> str:
        path = self._written.get(file.path)
        if path is None:
            path = f"{self._folder.name}/{len(self._written)}.parquet"
            with pq.ParquetWriter(path, self._schema) as writer:
                for batch in self._read(file):
                    writer.write_batch(batch)
            self._written[file.path] = path
        return path
