"""What documents with rows in them share: the first rows tell the columns, and rows become blocks of columns."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import Any

import pyarrow as pa

from ultravect.core.errors import UltravectError
from ultravect.core.layouts.base import SourceFile, require_columns, unique_names
from ultravect.core.layouts.records import Record, columns_of, names_of
from ultravect.core.layouts.table import TableBlock, TableReader
from ultravect.core.model.finding import Finding
from ultravect.core.model.layout import JsonLayout, XmlLayout

_HEAD_ROWS = 2000
_FIRST_ROWS = 500

Numbered = tuple[int | None, dict[str, Any]]


@dataclass(frozen=True)
class DocumentKind:
    """What differs between kinds of documents.

    ``part`` is what a row has; ``nested`` what flattening takes apart; ``size`` gives about the bytes of some rows, for
    the progress; ``typed_values`` as a reader has it; ``has_nul`` whether values may hold a NUL character.
    """

    part: str
    nested: str
    block_rows: int
    size: Callable[[Sequence[Record], pa.Table], int]
    typed_values: bool
    has_nul: bool


def open_document(
    file: SourceFile,
    layout: JsonLayout | XmlLayout,
    kind: DocumentKind,
    records: Callable[[], Iterator[Numbered]],
    nothing: UltravectError,
    findings: list[Finding],
) -> TableReader:
    """A reader of ``records``, which gives the flat rows anew each time, each with its line where it has one.

    Raises ``nothing`` when there are no rows.
    """
    head = [record for _, record in itertools.islice(records(), _HEAD_ROWS)]
    if not head:
        raise nothing
    found = names_of([*head, dict.fromkeys(layout.keys)])
    require_columns(file.path, len(found), f"set layout.flatten: 0 to keep nested {kind.nested} whole")
    names, renamed = unique_names(found)
    return TableReader(
        file,
        layout,
        names,
        lambda: _blocks(file, kind, records(), found),
        findings=findings + renamed,
        typed_values=kind.typed_values,
    )


def _blocks(
    file: SourceFile, kind: DocumentKind, records: Iterator[Numbered], names: list[str]
) -> Iterator[TableBlock]:
    known = set(names)
    batch: list[dict[str, Any]] = []
    lines: list[int] = []
    wanted = _FIRST_ROWS
    for number, (line, record) in enumerate(records, 1):
        if extra := [name for name in record if name not in known]:
            place = f", line {line:,}" if line else ""
            raise UltravectError(
                "column-unknown",
                f"{file.path}{place}, row {number:,} has the {kind.part} {extra[0]!r}, which none of the first "
                f"{_HEAD_ROWS:,} rows has",
                hint="name it in layout.keys, so that it becomes a column",
                object=file.path,
                row=number,
                line=line,
                column=extra[0],
            )
        batch.append(record)
        if line is not None:
            lines.append(line)
        if len(batch) >= wanted:
            yield _block(file, kind, batch, lines, names)
            batch, lines, wanted = [], [], kind.block_rows
    if batch:
        yield _block(file, kind, batch, lines, names)


def _block(
    file: SourceFile, kind: DocumentKind, batch: list[dict[str, Any]], lines: list[int], names: list[str]
) -> TableBlock:
    values = columns_of(batch, names)
    return TableBlock(file.path, kind.size(batch, values), values, lines=lines or None, has_nul=kind.has_nul)
