"""Writes rows into files: written on the worker's own disk, read again to be counted, and then put in their place."""

from __future__ import annotations

import posixpath
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING
from urllib.parse import quote

import pyarrow as pa
import pyarrow.compute as pc

from ultravect.core.contracts.ledger import Entry
from ultravect.core.contracts.write_plan import Attempt
from ultravect.core.contracts.write_session import Counts, Verified
from ultravect.core.errors import UltravectError
from ultravect.core.layouts import open_layout
from ultravect.core.layouts.base import SourceFile, WantedColumn
from ultravect.core.layouts.chain import NULL_PARTITION
from ultravect.core.layouts.compression import decompress
from ultravect.core.layouts.writers import WRITTEN_FORMATS
from ultravect.core.layouts.writers.base import Writer
from ultravect.core.loading.file_session import FileSession
from ultravect.core.loading.refusals import require_empty
from ultravect.core.model.layout import AnyLayout, DelimitedLayout, JsonLinesLayout, ParquetLayout, XlsxLayout
from ultravect.core.model.written import (
    PART,
    AnyWritten,
    WrittenDelimited,
    WrittenParquet,
    WrittenXlsx,
    compression_ending,
)
from ultravect.core.types.canonical import CanonicalType
from ultravect.core.types.written import plain_text
from ultravect.core.words import counted

if TYPE_CHECKING:
    from ultravect.core.storage.files_target import FilesTarget

_MAX_OPEN = 500


@dataclass
class _WrittenFile:
    """One file as it is written; ``path`` is where it goes."""

    path: str
    local: Path
    writer: Writer
    rows: int = 0


class FileSetSession(FileSession):
    """See ``WriteSession``."""

    def __init__(self, target: FilesTarget, attempt: Attempt, folder: Path) -> None:
        super().__init__(attempt)
        self._target, self._folder = target, folder
        self._set = target.file_set()
        self._open: dict[tuple[str, ...], _WrittenFile] = {}
        self._numbers: dict[tuple[str, ...], int] = {}
        self.files: list[_WrittenFile] = []
        self._rows = 0
        self._template = target.path_of(attempt, self._set)
        keyed = target.layout.partition_by if isinstance(target.layout, WrittenParquet) else []
        self._keyed = list(keyed)
        self._columns = [(column.name, column.type) for column in self.plan.columns if column.name not in keyed]

    def rows(self, *, exact: bool) -> int | None:
        return None

    def require_empty(self, rows: int | None) -> None:
        require_empty(self.plan, len(self._set.files))

    def remove_old(self) -> int | None:
        return 0  # files make place when new ones are there

    @property
    def written(self) -> Sequence[str]:  # type: ignore[override]
        return [file.path for file in self.files]

    def write(self, batch: pa.RecordBatch) -> None:
        if not batch.num_rows:
            return
        if not self._keyed:
            self._write((), batch)
            return
        keys = [plain_text(batch.column(name)).fill_null(NULL_PARTITION) for name in self._keyed]
        joined = pc.binary_join_element_wise(*keys, "\0")
        rest = batch.select([name for name, _ in self._columns])
        for value in joined.unique().to_pylist():
            self._write(tuple(value.split("\0")), rest.filter(pc.equal(joined, value)))

    def _write(self, keys: tuple[str, ...], batch: pa.RecordBatch) -> None:
        """Into the open file of these keys, or into a new one where that is full."""
        limit = self._target.split_rows
        start = 0
        while start < batch.num_rows:
            file = self._open.get(keys) or self._begin(keys)
            room = batch.num_rows - start if limit is None else limit - file.rows
            piece = batch.slice(start, room)
            file.writer.write(piece)
            file.rows += piece.num_rows
            self._rows += piece.num_rows
            start += piece.num_rows
            size = self._target.split_bytes
            if (limit is not None and file.rows >= limit) or (size is not None and file.local.stat().st_size >= size):
                self._end(keys)

    def _begin(self, keys: tuple[str, ...]) -> _WrittenFile:
        if len(self._open) >= _MAX_OPEN:
            raise UltravectError(
                "too-many-partitions",
                f"the columns of partition_by ({', '.join(self._keyed)}) have more than {_MAX_OPEN} different values",
                hint="partition by a column with fewer values",
            )
        number = self._numbers[keys] = self._numbers.get(keys, 0) + 1
        path = self._template.replace(f"{{{PART}}}", f"{number:04}")
        folders = [f"{name}={quote(value, safe='')}" for name, value in zip(self._keyed, keys, strict=True)]
        path = posixpath.join(posixpath.dirname(path), *folders, posixpath.basename(path))
        local = self._folder / f"{len(self.files)}{posixpath.basename(path)[-40:]}"
        form = WRITTEN_FORMATS[self._target.layout.format]
        writer = form.writer(local, self._columns, self._target.layout, compression_ending(path))
        file = _WrittenFile(path, local, writer)
        self._open[keys] = file
        self.files.append(file)
        return file

    def _end(self, keys: tuple[str, ...]) -> None:
        self._open.pop(keys).writer.close()

    def end_rows(self) -> int:
        if not self.files and not self._keyed:
            self._begin(())
        for keys in list(self._open):
            self._end(keys)
        guarded = sum(getattr(file.writer, "guarded", 0) for file in self.files)
        if guarded:
            self.attempt.notify(
                f"{counted(guarded, 'text')} that a spreadsheet would compute got a ' in front; write formulas: live into "
                "into.layout to have them as they are"
            )
        self._counted = sum(self._count(file) for file in self.files)
        return self._rows

    def _count(self, file: _WrittenFile) -> int:
        """Rows of a file, read as anyone would."""
        if not file.rows:
            return 0
        size = file.local.stat().st_size
        source = SourceFile(
            file.local.name,
            size,
            lambda: decompress(file.local.open("rb"), file.local.name, size),
            lambda: file.local.open("rb"),
            compressed=bool(compression_ending(file.path)),
        )
        reader = open_layout(source, _read_layout(self._target.layout))
        wanted = [WantedColumn(0, CanonicalType("text"), reader.formats)]
        total = 0
        for block in reader.blocks():
            typed = reader.read_typed(block, wanted)
            total += typed.num_rows if typed is not None else reader.read(block).count
        return total

    def commit(self, entry: Entry) -> None:
        self._target.ledger(self.plan.table).publish(
            self.plan,
            entry,
            [file.path for file in self.files],
            self._template,
            self._put,
        )

    def _put(self, path: str) -> None:
        """Puts a file in its place."""
        file = next(file for file in self.files if file.path == path)
        if self._target.is_filled:
            file.local = self._target.filled(file.local)
        self._target.storage.put(path, file.local)

    def verify(self, counts: Counts) -> Verified:
        sizes = {file.path: file.local.stat().st_size for file in self.files}
        for path, size in sizes.items():
            opened = self._target.storage.open(path)
            opened.stream.close()
            if opened.info.size not in (size, -1):
                raise UltravectError(
                    "verify-failed",
                    f"{path} has {opened.info.size:,} bytes, not the {size:,} that were written",
                    hint="others may have written it at once; look at the file",
                    object=path,
                )
        how = "in the files before they were put in their place; there, their sizes are the same"
        return Verified(self._counted, self._counted, how)


def _read_layout(written: AnyWritten) -> AnyLayout:
    """The layout by which files of a written one are read."""
    if isinstance(written, WrittenDelimited):
        names = written.header
        return DelimitedLayout(encoding="utf-8", delimiter=written.delimiter, preamble=0, header=names)
    if isinstance(written, WrittenParquet):
        return ParquetLayout(format="parquet")
    if isinstance(written, WrittenXlsx):
        return XlsxLayout(format="xlsx", sheet=written.sheet, header=written.header)
    return JsonLinesLayout(format="jsonl")
