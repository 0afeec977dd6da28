"""What documents with rows in them share: the first rows say the columns, and rows become blocks of columns."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import pyarrow as pa

from ultravect.core.errors import UltravectError
from ultravect.core.layouts.base import BadRow, SourceFile, require_columns, unique_names
from ultravect.core.layouts.documents.records import Record, as_json, columns_of, names_of
from ultravect.core.layouts.table import TableBlock, TableReader
from ultravect.core.model.finding import Finding
from ultravect.core.model.layout import JsonLayout, XmlLayout

_HEAD_ROWS = 20_000
_HEAD_SECONDS = 0.2  # that may pass until the columns are known
_LEAST_ROWS = 2000
_FIRST_ROWS = 500
_RIVAL = 0.3

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
    head = list(_first(records()))
    if not head:
        raise nothing
    found = names_of([*head, dict.fromkeys(layout.keys)])
    require_columns(file.path, len(found), f"set layout.flatten: 0 to keep nested {kind.nested} whole")
    names, renamed = unique_names(found)
    late: dict[str, None] = {}
    return TableReader(
        file,
        layout,
        names,
        lambda: _blocks(file, kind, records(), found, late),
        findings=findings + renamed,
        typed_values=kind.typed_values,
        late_keys=late,
    )


def is_unsure(best: float, other: float) -> bool:
    """Whether another place may hold the rows as well as the likeliest: by their rows, the values of each, and how alike they are."""
    return other > _RIVAL * best


def _first(records: Iterator[Numbered]) -> Iterator[dict[str, Any]]:
    """The first rows, fewer where they take their time."""
    until = time.monotonic() + _HEAD_SECONDS
    for number, (_, record) in enumerate(records):
        if number >= _HEAD_ROWS or (number >= _LEAST_ROWS and time.monotonic() > until):
            return
        yield record


def late_reason(part: str, extra: Sequence[str]) -> str:
    """Why a row with parts that are no columns is not whole."""
    listed = ", ".join(repr(item) for item in extra[:5]) + (f" and {len(extra) - 5} more" if len(extra) > 5 else "")
    many = len(extra) > 1
    return (
        f"has the {part}{'s' if many else ''} {listed}, which none of the first rows has; "
        f"name {'them' if many else 'it'} in layout.keys"
    )


@dataclass
class _Batch:
    """Rows that are to become a block."""

    rows: list[dict[str, Any]] = field(default_factory=list)
    index: list[int] = field(default_factory=list)
    lines: list[int] = field(default_factory=list)
    bad: list[BadRow] = field(default_factory=list)
    texts: dict[int, str] = field(default_factory=dict)

    @property
    def count(self) -> int:
        return len(self.rows) + len(self.bad)

    def block(self, file: SourceFile, kind: DocumentKind, names: list[str]) -> TableBlock:
        values = columns_of(self.rows, names)
        size = kind.size(self.rows, values) if self.rows else 0
        return TableBlock(
            file.path,
            size,
            values,
            np.array(self.index, np.int64),
            self.bad,
            self.texts,
            self.lines or None,
            kind.has_nul,
        )


def _blocks(
    file: SourceFile, kind: DocumentKind, records: Iterator[Numbered], names: list[str], late: dict[str, None]
) -> Iterator[TableBlock]:
    known = set(names)
    batch = _Batch()
    wanted = _FIRST_ROWS
    for line, record in records:
        if line is not None:
            batch.lines.append(line)
        if extra := [name for name in record if name not in known]:
            late.update(dict.fromkeys(extra))
            batch.texts[batch.count] = as_json(record)
            batch.bad.append(BadRow(batch.count, late_reason(kind.part, extra)))
        else:
            batch.index.append(batch.count)
            batch.rows.append(record)
        if batch.count >= wanted:
            yield batch.block(file, kind, names)
            batch, wanted = _Batch(), kind.block_rows
    if batch.count:
        yield batch.block(file, kind, names)
