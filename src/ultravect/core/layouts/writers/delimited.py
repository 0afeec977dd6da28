"""Writes delimited text: RFC 4180, in UTF-8, with line ends as on Unix; texts in quotes, so that "" is not NULL."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import pyarrow as pa
import pyarrow.csv as pv

from ultravect.core.layouts.writers.base import FileTypes, opened_for_text
from ultravect.core.layouts.writers.formulas import guarded, guarded_text
from ultravect.core.model.written import WrittenDelimited
from ultravect.core.types.canonical import CanonicalType
from ultravect.core.types.written import plain_text


class DelimitedTypes(FileTypes):
    """See ``FileTypes``: all is text."""

    name = "delimited"


class DelimitedWriter:
    """See ``Writer``."""

    def __init__(
        self, path: Path, columns: Sequence[tuple[str, CanonicalType]], layout: WrittenDelimited, compression: str
    ) -> None:
        self._file = opened_for_text(path, compression)
        self._names = [name for name, _ in columns]
        self._delimiter = layout.delimiter
        self._guards = layout.formulas == "text"
        self.guarded = 0
        if layout.header:
            names = [guarded_text(name) for name in self._names] if self._guards else self._names
            empty = pa.RecordBatch.from_arrays([pa.array([], pa.string())] * len(columns), names=names)
            self._put(empty, header=True)

    def _put(self, batch: pa.RecordBatch, *, header: bool = False) -> None:
        options = pv.WriteOptions(include_header=header, delimiter=self._delimiter, quoting_style="needed")
        pv.write_csv(batch, self._file, options)

    def write(self, batch: pa.RecordBatch) -> None:
        arrays = [plain_text(array) if _is_bytes(array.type) else array for array in batch.columns]
        if self._guards:
            arrays = [self._guarded(array) if pa.types.is_string(array.type) else array for array in arrays]
        self._put(pa.RecordBatch.from_arrays(arrays, names=self._names))

    def _guarded(self, array: pa.Array) -> pa.Array:
        found, count = guarded(array)
        self.guarded += count
        return found

    def close(self) -> None:
        self._file.close()


def _is_bytes(kind: pa.DataType) -> bool:
    return bool(pa.types.is_binary(kind) or pa.types.is_fixed_size_binary(kind))
