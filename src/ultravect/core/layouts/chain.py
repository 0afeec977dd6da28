"""Many files of one kind, read as if they were one; with columns from the names of their folders."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field, replace
from urllib.parse import unquote

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from ultravect.core.errors import UltravectError
from ultravect.core.layouts.base import (
    Block,
    FileReader,
    FileSpan,
    JoinsFiles,
    ParsedColumns,
    ReadsAlike,
    ReportsFailures,
    Rows,
    SourceFile,
    SpansFiles,
    VerifiesTypes,
    WantedColumn,
)
from ultravect.core.layouts.parts import Part, cuts
from ultravect.core.model.finding import Finding
from ultravect.core.model.layout import AnyLayout
from ultravect.core.types.canonical import CanonicalType
from ultravect.core.types.inference.proof import Proof
from ultravect.core.types.text_formats import TextFormats
from ultravect.core.words import counted

# files below the one are put together, until a block has as much as the other
_SMALL_BYTES, _JOINED_BYTES = 256 << 10, 2 << 20

NULL_PARTITION = "__HIVE_DEFAULT_PARTITION__"


@dataclass(frozen=True)
class ChainBlock:
    """A block of one of the files."""

    block: Block
    reader: FileReader

    @property
    def path(self) -> str:
        return self.block.path

    @property
    def size(self) -> int:
        return self.block.size

    @property
    def has_nul(self) -> bool:
        return self.block.has_nul

    @property
    def spans(self) -> Sequence[FileSpan]:
        return self.block.spans if isinstance(self.block, SpansFiles) else ()

    def row_line(self, index: int) -> int | None:
        return self.block.row_line(index)

    def row_text(self, index: int) -> str:
        return self.block.row_text(index)


@dataclass
class ChainReader:
    """See ``Reader``. ``first`` is the first file, opened; the others are read with its layout."""

    first: FileReader
    files: Sequence[SourceFile]
    opener: Callable[[SourceFile, AnyLayout], FileReader]
    findings: list[Finding] = field(default_factory=list)
    late_keys: dict[str, None] = field(default_factory=dict)
    """See ``TableReader``."""

    joins: bool = True
    """Whether small files may be put together in one block."""

    def __post_init__(self) -> None:
        self.findings = [*self.first.findings]
        if len(self.files) > 1:
            size = sum(file.size for file in self.files)
            shown = f"{counted(len(self.files), 'file')}, {size:,} bytes, all read with the layout of {self.first.file.path}"
            self.findings.append(Finding("note", "files-matched", shown, "from.files"))

    @property
    def _keys(self) -> list[str]:
        own = set(self.first.names)
        if not getattr(self.first.layout, "partitions", False):
            return []
        return [key for key, _ in self.first.file.partitions if key not in own]

    @property
    def file(self) -> SourceFile:
        entry = self.first.file
        return SourceFile(entry.path, self.size, entry.open, entry.open_stored, entry.modified, entry.compressed)

    @property
    def label(self) -> str:
        return self.first.label

    @property
    def size(self) -> int:
        return sum(file.size for file in self.files)

    @property
    def date_pattern(self) -> str | None:
        return self.first.date_pattern

    @property
    def layout(self) -> AnyLayout:
        return self.first.layout

    @property
    def names(self) -> list[str]:
        return [*self.first.names, *self._keys]

    @property
    def given(self) -> Sequence[CanonicalType | None]:
        return [*self.first.given, *[None] * len(self._keys)]

    @property
    def typed_values(self) -> bool:
        return self.first.typed_values

    @property
    def formats(self) -> TextFormats:
        return self.first.formats

    def blocks(self) -> Iterator[Block]:
        first = self.first if self.joins and isinstance(self.first, JoinsFiles) and not self._keys else None
        small: list[Block] = []
        size = 0
        for file in self.files:
            at_once = first.small(file) if first is not None and file is not self.files[0] else None
            if at_once is not None:
                reader, blocks = self.first, iter([at_once])
            else:
                reader = self.first if file.path == self.first.file.path else self._opened(file)
                blocks = iter(reader.blocks())
            begun = list(itertools.islice(blocks, 2))
            if first is not None and len(begun) == 1 and begun[0].size < _SMALL_BYTES:
                small += begun
                size += begun[0].size
                if size >= _JOINED_BYTES:
                    yield self._joined(small)
                    small, size = [], 0
                continue
            if small:
                yield self._joined(small)
                small, size = [], 0
            for block in itertools.chain(begun, blocks):
                self.late_keys.update(getattr(reader, "late_keys", {}))
                yield ChainBlock(block, reader)
        if small:
            yield self._joined(small)

    def _joined(self, blocks: Sequence[Block]) -> ChainBlock:
        assert isinstance(self.first, JoinsFiles)
        return ChainBlock(self.first.join(blocks), self.first)

    @property
    def undivided(self) -> str:
        return "" if len(self.files) > 1 else "there is one file"

    def parts(self, count: int) -> Sequence[Part]:
        return [
            Part(_label(self.files[first:last]), files=tuple(file.path for file in self.files[first:last]))
            for first, last in cuts([max(file.size, 1) for file in self.files], count)
        ]

    def only_part(self, part: Part) -> ChainReader:
        wanted = set(part.files)
        return replace(self, files=[file for file in self.files if file.path in wanted], findings=[])

    def _opened(self, file: SourceFile) -> FileReader:
        like = self.first.like(file) if isinstance(self.first, ReadsAlike) else None
        reader = like or self.opener(file, self.first.layout)
        if reader.names != self.first.names or [k for k, _ in file.partitions] != [
            k for k, _ in self.first.file.partitions
        ]:
            odd = [name for name in reader.names if name not in self.first.names]
            lacking = [name for name in self.first.names if name not in reader.names]
            what = "; ".join(
                part
                for part in (
                    f"it has {', '.join(odd[:3])}" if odd else "",
                    f"it lacks {', '.join(lacking[:3])}" if lacking else "",
                )
                if part
            )
            raise UltravectError(
                "files-differ",
                f"{file.path} has other columns than {self.first.file.path}: {what or 'they stand in another order'}",
                hint="narrow from.files to files of one kind, and copy the others with a job of their own",
                object=file.path,
            )
        return reader

    def read(self, block: Block) -> Rows:
        assert isinstance(block, ChainBlock)
        return self._with_keys(block, block.reader.read(block.block))

    def _with_keys(self, block: ChainBlock, rows: Rows) -> Rows:
        values = rows.values
        shown = dict(block.reader.file.partitions)
        for key in self._keys:
            text = shown[key]
            word = None if text == NULL_PARTITION else text.encode()
            constant = pa.repeat(pa.scalar(word, pa.binary()), values.num_rows)
            values = values.append_column(key, constant)
        return Rows(values, rows.index, rows.bad)

    def read_typed(self, block: Block, wanted: Sequence[WantedColumn]) -> pa.RecordBatch | None:
        assert isinstance(block, ChainBlock)
        if any(column.position >= len(self.first.names) for column in wanted):
            return None
        return block.reader.read_typed(block.block, wanted)

    def read_parsed(self, block: Block, wanted: Sequence[WantedColumn]) -> ParsedColumns | None:
        assert isinstance(block, ChainBlock)
        if not isinstance(block.reader, ReportsFailures) or any(
            item.position >= len(self.first.names) for item in wanted
        ):
            return None
        return block.reader.read_parsed(block.block, wanted)

    def only(self, block: Block, places: npt.NDArray[np.int64]) -> Rows:
        assert isinstance(block, ChainBlock) and isinstance(block.reader, ReportsFailures)
        return self._with_keys(block, block.reader.only(block.block, places))

    def prove(self, block: Block, wanted: Sequence[WantedColumn]) -> list[Proof | None] | None:
        assert isinstance(block, ChainBlock)
        own = all(column.position < len(self.first.names) for column in wanted)
        return block.reader.prove(block.block, wanted) if own and isinstance(block.reader, VerifiesTypes) else None

    def parses(self, column: WantedColumn) -> bool:
        return self.first.parses(column)


def _label(files: Sequence[SourceFile]) -> str:
    return files[0].path if len(files) == 1 else f"{counted(len(files), 'file')}, {files[0].path} to {files[-1].path}"


def partitions_of(path: str) -> list[tuple[str, str]]:
    """Keys and values from folders that are called ``key=value``, as those who write such folders escape them."""
    pairs = [part.partition("=") for part in path.split("/")[:-1]]
    return [(unquote(key), unquote(value)) for key, mark, value in pairs if mark and key]
