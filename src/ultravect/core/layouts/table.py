"""A reader for formats whose library gives values, not bytes: JSON, XML, workbooks, Parquet."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np
import pyarrow as pa

from ultravect.core.layouts.base import BadRow, Block, OneFile, Rows, SourceFile, WantedColumn
from ultravect.core.model.finding import Finding
from ultravect.core.model.layout import AnyLayout
from ultravect.core.types.arrow import as_text
from ultravect.core.types.canonical import CanonicalType
from ultravect.core.types.text_formats import TextFormats


@dataclass(frozen=True)
class TableBlock:
    """Rows that are columns already.

    ``values`` of the whole rows, ``index`` their places in the block (None: there are no bad ones); ``line`` is the
    line of the first row, where each row is a line of its own; ``bad`` rows come with their text.
    """

    path: str
    size: int
    values: pa.Table
    index: np.ndarray[tuple[int], np.dtype[np.int64]] | None = None
    bad: Sequence[BadRow] = ()
    bad_texts: Mapping[int, str] = field(default_factory=dict)
    lines: Sequence[int] | range | None = None
    has_nul: bool = True
    logged: Mapping[str, pa.Array] = field(default_factory=dict)
    """What the log of a source has of each row: see ``expressions.bind.LOG_FACTS``."""

    @property
    def index_or_all(self) -> np.ndarray[tuple[int], np.dtype[np.int64]]:
        return np.arange(self.values.num_rows) if self.index is None else self.index

    def row_line(self, index: int) -> int | None:
        return None if self.lines is None else int(self.lines[index])

    def row_text(self, index: int) -> str:
        if index in self.bad_texts:
            return self.bad_texts[index]
        at = index if self.index is None else int(np.searchsorted(self.index, index))
        row = self.values.slice(at, 1)
        values = [as_text(column).to_pylist()[0] for column in row.columns]
        return json.dumps(dict(zip(row.column_names, values, strict=True)), ensure_ascii=False)


@dataclass
class TableReader(OneFile):
    """See ``Reader``; ``produce`` gives the blocks anew each time, their columns in the order of ``names``."""

    file: SourceFile
    layout: AnyLayout
    names: list[str]
    produce: Callable[[], Iterator[TableBlock]]
    given: Sequence[CanonicalType | None] = ()
    findings: list[Finding] = field(default_factory=list)
    typed_values: bool = True
    late_keys: dict[str, None] = field(default_factory=dict)
    """Keys that rows were found to have since, and that are no columns because the first rows have none of them."""

    def __post_init__(self) -> None:
        self.given = self.given or [None] * len(self.names)

    @property
    def formats(self) -> TextFormats:
        return TextFormats.of(self.layout.values)

    def blocks(self) -> Iterator[Block]:
        yield from self.produce()

    def read(self, block: Block) -> Rows:
        assert isinstance(block, TableBlock)
        return Rows(block.values, block.index_or_all, block.bad)

    def read_typed(self, block: Block, wanted: Sequence[WantedColumn]) -> pa.RecordBatch | None:
        return None

    def parses(self, column: WantedColumn) -> bool:
        return False
