"""Reads fixed-width records as blocks of columns of text."""

from __future__ import annotations

import itertools
from collections.abc import Iterator, Sequence
from contextlib import closing
from dataclasses import dataclass, field, replace

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from ultravect.core.errors import UltravectError
from ultravect.core.layouts.base import (
    BadRow,
    Block,
    Rows,
    SourceFile,
    TextValues,
    WantedColumn,
    file_empty,
    require_columns,
    unique_names,
)
from ultravect.core.layouts.delimited.lines import drop_footer, skip_lines, whole_lines
from ultravect.core.layouts.encoding import detect_encoding, encoding_finding, utf8_chunks
from ultravect.core.layouts.fixed.records import (
    Characters,
    FixedBlock,
    Span,
    cut_lines,
    cut_stream,
    spans_of,
    text_of,
)
from ultravect.core.layouts.fixed.sniff import (
    Records,
    across,
    barred_head,
    fields_found,
    fields_of,
    first_records,
    header_found,
    lines_above,
    places_used,
)
from ultravect.core.layouts.headers import judge_header
from ultravect.core.layouts.number_formats import find_numbers
from ultravect.core.model.finding import Finding
from ultravect.core.model.layout import FixedField, FixedLayout
from ultravect.core.words import counted

HEAD_BYTES = 256 << 10
_SIZES = (128 << 10, 512 << 10, 2 << 20)
_LATER_SIZE = 4 << 20
_JUDGED = 100
_PROVEN_BYTES = 16 << 20


@dataclass
class FixedReader(TextValues):
    """See ``Reader``. ``exact``: the layout gives the record's length, so that every record must have it."""

    file: SourceFile
    layout: FixedLayout
    names: list[str]
    spans: list[Span]
    exact: bool
    findings: list[Finding] = field(default_factory=list)
    borders: Sequence[int] = ()
    """Where fields begin after the first, as they were found from the first records: no record may have text across one."""

    def blocks(self) -> Iterator[Block]:
        """Whole records after preamble and header."""
        for block in self._records():
            crossing = across(block.matrix, self.borders) if self.borders and len(block.index) else None
            yield self._without_crossing(block, crossing) if crossing is not None and crossing.any() else block

    def _without_crossing(self, block: FixedBlock, crossing: npt.NDArray[np.bool_]) -> FixedBlock:
        bad = [BadRow(int(place), self._crossed(block.matrix[at])) for at, place in _places(block, crossing)]
        texts = {int(place): text_of(block.matrix[at]) for at, place in _places(block, crossing)}
        return FixedBlock(
            block.path,
            block.size,
            block.matrix[~crossing],
            block.index[~crossing],
            block.first_line,
            sorted([*block.bad, *bad], key=lambda item: item.index),
            {**block.bad_texts, **texts},
        )

    def _crossed(self, record: Characters) -> str:
        border = next(border for border in self.borders if across(record[None, :], [border])[0])
        number = next(number for number, span in enumerate(self.spans) if span.begin == border)
        return (
            f"text stands across the border of the fields {self.names[number - 1]} and {self.names[number]}, which was found from the "
            f"first records to be at character {border + 1}; write layout.fields"
        )

    def _records(self) -> Iterator[FixedBlock]:
        layout = self.layout
        assert layout.record is not None
        skipped = layout.preamble + bool(layout.header)
        with closing(self.file.open()) as stream:
            sizes = itertools.chain(_SIZES, itertools.repeat(_LATER_SIZE))
            chunks = utf8_chunks(stream, layout.encoding or "utf-8", sizes, self.file.path)
            if layout.terminator == "newline":
                lines = whole_lines(skip_lines(chunks, skipped, 0x0A), 0x0A, self.file.path)
                if layout.footer:
                    lines = drop_footer(lines, layout.footer, 0x0A)
                yield from cut_lines(lines, self.file.path, layout.record, self.exact, skipped + 1)
            else:
                yield from _without(cut_stream(chunks, self.file.path, layout.record), skipped, layout.footer)

    def read(self, block: Block) -> Rows:
        assert isinstance(block, FixedBlock)
        values = pa.table([block.column(span) for span in self.spans], names=self.names)
        return Rows(values, block.index, block.bad)

    def read_typed(self, block: Block, wanted: Sequence[WantedColumn]) -> pa.RecordBatch | None:
        """The wanted columns as strings, when every record is whole."""
        assert isinstance(block, FixedBlock)
        if block.bad or not len(block.index):
            return None
        columns = [block.column(self.spans[column.position]) for column in wanted]
        if not all(pa.types.is_string(column.type) for column in columns):
            return None
        return pa.RecordBatch.from_arrays(columns, [str(column.position) for column in wanted])

    def parses(self, column: WantedColumn) -> bool:
        return False


def _places(block: FixedBlock, chosen: npt.NDArray[np.bool_]) -> list[tuple[int, int]]:
    """Of some of the records: where they stand in the matrix, and in the block."""
    return [(int(at), int(block.index[at])) for at in np.flatnonzero(chosen)]


def _without(blocks: Iterator[FixedBlock], first: int, last: int) -> Iterator[FixedBlock]:
    """The blocks without the ``first`` and the ``last`` records."""
    held: list[FixedBlock] = []
    for block in blocks:
        if first:
            taken = min(first, _count(block))
            first -= taken
            block = _cut(block, taken, _count(block))
        held.append(block)
        while held and sum(_count(item) for item in held[1:]) >= last:
            yield held.pop(0)
    count = sum(_count(item) for item in held)
    for block in held:
        kept = max(0, min(_count(block), count - last))
        count -= _count(block)
        if kept:
            yield _cut(block, 0, kept)


def _count(block: FixedBlock) -> int:
    return len(block.index) + len(block.bad)


def _cut(block: FixedBlock, begin: int, end: int) -> FixedBlock:
    """A part of a block's records."""
    if begin == 0 and end == _count(block):
        return block
    kept = (block.index >= begin) & (block.index < end)
    bad = [type(item)(item.index - begin, item.reason) for item in block.bad if begin <= item.index < end]
    texts = {place - begin: text for place, text in block.bad_texts.items()}
    return FixedBlock(block.path, block.size, block.matrix[kept], block.index[kept] - begin, None, bad, texts)


def _complete(file: SourceFile, layout: FixedLayout) -> tuple[FixedLayout, list[Finding]]:
    """Fills in what the layout leaves open, from the first records."""
    findings: list[Finding] = []
    updates: dict[str, object] = {}
    with closing(file.open()) as stream:
        head = stream.read(HEAD_BYTES)
    if not head:
        raise file_empty(file.path, "is empty: it has no records")
    encoding = layout.encoding
    if encoding is None:
        detected = detect_encoding(head)
        encoding = updates["encoding"] = detected.name
        findings.append(encoding_finding(detected))
    whole = len(head) < HEAD_BYTES
    text = head.decode(encoding, "replace").removeprefix("\ufeff").encode()
    if not layout.fields and "preamble" not in layout.model_fields_set and (barred := barred_head(text.decode())):
        names = ", ".join(field.name for field in barred.fields)
        findings.append(
            Finding("note", "fields-found", f"fields between the bars of the head: {names[:200]}", "from.layout")
        )
        nulls = list(dict.fromkeys([*layout.values.nulls, *barred.nulls]))
        known: dict[str, object] = {
            "preamble": barred.lines,
            "header": False,
            "terminator": "newline",
            "fields": barred.fields,
        }
        known["values"] = layout.values.model_copy(update={"nulls": nulls})
        updates |= known
        layout = layout.model_copy(update=known)
    found_here = "preamble" not in layout.model_fields_set and layout.terminator != "none" and not layout.fields
    if found_here and (above := lines_above(text, whole)):
        updates["preamble"] = above
        layout = layout.model_copy(update={"preamble": above})
        title = text.strip().splitlines()[0].decode()[:40]
        message = f"{counted(above, 'line')} before the records, first {title!r}"
        findings.append(Finding("note", "preamble-found", message, "from.layout"))
    skipped = layout.preamble if layout.terminator != "none" and b"\n" in text else 0
    for _ in range(skipped):
        text = text[text.find(b"\n") + 1 :]
    spans = spans_of(layout.fields)
    record = layout.record
    if record is None and spans and layout.terminator != "newline" and b"\n" not in text.rstrip():
        # the fields say the length, when that many characters go into the text without a rest
        end = max(span.end for span in spans)
        record = end if not whole or len(text.rstrip(b"\r\n")) % end == 0 else None
    records = first_records(text, whole, len(text), record, layout.terminator)
    if records is None and spans and layout.terminator != "newline":
        # the fields say the length where the text does not
        record = max(span.end for span in spans)
        records = first_records(text, whole, len(text), record, layout.terminator)
    if records is None:
        raise UltravectError(
            "record-unknown",
            f"{file.path}: nothing says how long a record is",
            hint="set layout.record to the number of characters in a record, and layout.fields to its fields",
            object=file.path,
            place="from.layout.record",
        )
    if layout.terminator is None:
        updates["terminator"] = records.terminator
    if layout.record is None:
        updates["record"] = max([records.width, *(span.end for span in spans)])
        if layout.terminator is None or records.terminator == "none":
            findings.append(Finding("note", "record-found", records.reason, "from.layout"))
    body = Records(records.matrix[layout.preamble - skipped :], records.terminator, records.reason)
    if layout.header is None:
        header, reason = header_found(body.matrix)
        if not header and len(body.matrix) > 1:
            cut = spans or spans_of(fields_found(body.matrix, False))
            texts = [text_of(row) for row in body.matrix[:_JUDGED]]
            guess = judge_header([[text[span.begin : span.end].strip() for span in cut] for text in texts])
            # of texts alone nothing is made here: records rarely name their fields
            if guess.present and guess.sure and len(cut) > 1:
                header, reason = True, guess.reason
        updates["header"] = header
        findings.append(Finding("note", "header-found", reason, "from.layout"))
    else:
        header = layout.header
    if not layout.fields:
        updates["fields"] = fields_found(body.matrix, header)
        widths = ", ".join(str(update.width) for update in updates["fields"])  # type: ignore[attr-defined]
        findings.append(
            Finding(
                "note", "fields-found", f"fields of {widths} characters, by the gaps between columns", "from.layout"
            )
        )
    elif not all(field.name for field in layout.fields):
        first = body.matrix[0] if header and len(body.matrix) else None
        updates["fields"] = [
            entry if entry.name else entry.model_copy(update={"name": _name(first, span, number)})
            for number, (entry, span) in enumerate(zip(layout.fields, spans, strict=True), 1)
        ]
    complete = layout.model_copy(update=updates)
    spans = spans_of(complete.fields)
    texts = [text_of(row) for row in body.matrix[int(header) :]]
    cells = [[text[span.begin : span.end] for span in spans] for text in texts]
    values, found = find_numbers([span.name for span in spans], cells, layout.values)
    return complete.model_copy(update={"values": values}), findings + found


def _name(header: Characters | None, span: Span, number: int) -> str:
    """What the header record says above a field."""
    text = "" if header is None else text_of(header[span.begin : span.end]).strip()
    return text or f"field_{number}"


def open_fixed(file: SourceFile, layout: FixedLayout) -> FixedReader:
    """Opens a fixed-width file and completes its layout."""
    whole, findings = _complete(file, layout)
    spans = spans_of(whole.fields)
    require_columns(file.path, len(spans), "are layout.fields right?")
    assert whole.record is not None
    if (end := max(span.end for span in spans)) > whole.record:
        raise UltravectError(
            "layout-misfit",
            f"{file.path}: the fields end at {end:,}, beyond the record's {whole.record:,} characters",
            hint="correct the widths in layout.fields, or layout.record",
            object=file.path,
            place="from.layout.fields",
        )
    names, renamed = unique_names([span.name for span in spans])
    fields = [
        FixedField(name=n, width=f.width, start=f.start, trim=f.trim)
        for n, f in zip(names, whole.fields, strict=True)
    ]
    exact = layout.record is not None
    reader = FixedReader(file, whole.model_copy(update={"fields": fields}), names, spans, exact, findings + renamed)
    return reader if layout.fields else _proven(reader)


def _proven(reader: FixedReader) -> FixedReader:
    """The reader with fields that fit more records than the first, which may have shorter values."""
    used: npt.NDArray[np.bool_] | None = None
    size = 0
    for block in reader._records():
        if len(block.index):
            used = places_used(block.matrix) if used is None else used | places_used(block.matrix)
        size += block.size
        if size >= _PROVEN_BYTES:
            break
    borders = [span.begin for span in reader.spans[1:]]
    if used is None or not any(used[border - 1] for border in borders):
        return replace(reader, borders=borders)
    fields = fields_of(used, _header(reader))
    names, _ = unique_names([entry.name for entry in fields])
    fields = [entry.model_copy(update={"name": name}) for entry, name in zip(fields, names, strict=True)]
    widths = ", ".join(str(entry.width) for entry in fields)
    said = f"fields of {widths} characters, by the gaps between columns in all of the first {size:,} bytes"
    findings = [replace(item, message=said) if item.code == "fields-found" else item for item in reader.findings]
    spans = spans_of(fields)
    layout = reader.layout.model_copy(update={"fields": fields})
    return replace(
        reader, layout=layout, names=names, spans=spans, findings=findings, borders=[span.begin for span in spans[1:]]
    )


def _header(reader: FixedReader) -> Characters | None:
    """The record that names the fields."""
    if not reader.layout.header:
        return None
    before = replace(reader, layout=reader.layout.model_copy(update={"header": False}))
    return next((block.matrix[0] for block in before._records() if len(block.index)), None)
