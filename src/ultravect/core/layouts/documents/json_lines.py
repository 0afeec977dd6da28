"""Lines of JSON, an object each, parsed in blocks by Arrow; a block with a bad line is parsed line by line. The array of a document
becomes such lines, too."""

from __future__ import annotations

import decimal
import itertools
import json
import re
from collections.abc import Callable, Iterator
from contextlib import closing
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.json as pj

from ultravect.core.errors import UltravectError
from ultravect.core.layouts.base import BadRow, SourceFile, file_empty, require_columns, unique_names
from ultravect.core.layouts.delimited.lines import whole_lines
from ultravect.core.layouts.documents.records import columns_of, flat, lists_as_json, names_of
from ultravect.core.layouts.documents.shared import late_reason
from ultravect.core.layouts.encoding import detect_encoding, encoding_finding, utf8_chunks
from ultravect.core.layouts.table import TableBlock, TableReader
from ultravect.core.model.finding import Finding
from ultravect.core.model.layout import JsonLayout, JsonLinesLayout
from ultravect.core.types.arrow import plain_array

HEAD_BYTES = 2 << 20
_SIZES = (256 << 10, 1 << 20)
_LATER_SIZE = 4 << 20
_PARSE_BLOCK = 512 << 10
_MAX_LEARNT = 8
_LEARN_ROWS = 1000
_DOUBLE_DIGITS = 17  # a double is written with at most so many
_EXPONENT = re.compile(rb"[0-9.][eE][+-]?[0-9]")
_SCALE = 12  # decimals that a column of numbers holds before a block is parsed line by line


class NotJson(Exception):
    """Text that is no JSON, with the reason."""


def parse_line(line: bytes) -> Any:
    """One JSON value, its numbers exact; NotJson says what is wrong."""
    try:
        return json.loads(line, parse_float=decimal.Decimal, object_pairs_hook=_once)
    except json.JSONDecodeError as error:
        where = f"at character {error.colno:,}" if error.pos < len(line) else "it ends too early"
        raise NotJson(f"not JSON: {error.msg[0].lower()}{error.msg[1:]}, {where}") from None
    except UnicodeDecodeError as error:
        raise NotJson(f"not valid UTF-8 (byte 0x{line[error.start]:02X}); set layout.encoding") from None
    except RecursionError:
        raise NotJson("nested too deeply to read") from None


def _once(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
    found = dict(pairs)
    if len(found) < len(pairs):
        names = [name for name, _ in pairs]
        raise NotJson(f"the key {next(name for name in names if names.count(name) > 1)!r} stands in it twice")
    return found


def steps_of(pointer: str) -> list[str]:
    """The keys, and numbers of elements, on the way of a JSON Pointer."""
    return [step.replace("~1", "/").replace("~0", "~") for step in pointer.split("/")[1:]]


def pick(value: Any, pointer: str) -> Any:
    """What a JSON Pointer leads to; NotJson where it leads nowhere."""
    for key in steps_of(pointer):
        try:
            value = value[int(key)] if isinstance(value, list) else value[key]
        except (KeyError, IndexError, ValueError, TypeError):
            raise NotJson(f"there is nothing at {pointer}") from None
    return value


@dataclass
class ObjectLines:
    """Reads lines that are an object each. ``chunks`` gives them anew, whole lines of about the sizes that it is given; ``pointer`` leads
    to the row in each; ``numbered``: whether they are the lines of the file. ``schema``: the types that the values had so far.
    """

    file: SourceFile
    layout: JsonLinesLayout | JsonLayout
    chunks: Callable[[Iterator[int]], Iterator[bytes]]
    pointer: str = ""
    numbered: bool = True
    names: list[str] = field(default_factory=list)
    sample: list[dict[str, Any]] = field(default_factory=list)
    schema: pa.Schema | None = None
    learnt: int = 0
    late: dict[str, None] = field(default_factory=dict)

    def blocks(self) -> Iterator[TableBlock]:
        line = 1
        for chunk in self.chunks(itertools.chain(_SIZES, itertools.repeat(_LATER_SIZE))):
            ends = chunk.count(b"\n")
            if chunk and not chunk.isspace():
                yield self._fast(chunk, line, ends) or self._slow(chunk, line)
            line += ends

    def _fast(self, chunk: bytes, line: int, ends: int) -> TableBlock | None:
        """A block whose lines are all of the kinds seen so far."""
        if _EXPONENT.search(chunk) and any(_is_decimal(item.type) for item in self.schema or ()):
            return None  # see without_exponents
        if self.schema is None or self.pointer or b"\n\n" in chunk or b"\n\r" in chunk:
            return None
        try:
            table = pj.read_json(
                pa.BufferReader(chunk),
                read_options=pj.ReadOptions(block_size=_PARSE_BLOCK if len(chunk) > _PARSE_BLOCK else len(chunk) + 1),
                parse_options=pj.ParseOptions(
                    explicit_schema=self.schema, newlines_in_values=False, unexpected_field_behavior="error"
                ),
            )
        except (pa.ArrowInvalid, pa.ArrowNotImplementedError):
            return None
        columns = dict(_leaves(table, self.layout.separator))
        if set(columns) != set(self.names) or table.num_rows != ends + (not chunk.endswith(b"\n")):
            return None
        values = pa.table([columns[name] for name in self.names], names=self.names)
        lines = range(line, line + table.num_rows) if self.numbered else None
        return TableBlock(self.file.path, len(chunk), values, lines=lines, has_nul=b"\\u0000" in chunk)

    def _slow(self, chunk: bytes, first: int) -> TableBlock:
        records: list[dict[str, Any]] = []
        numbers: list[int] = []
        index: list[int] = []
        bad: list[BadRow] = []
        texts: dict[int, str] = {}
        known = set(self.names)
        nested: list[dict[str, Any]] = []
        for line, text in enumerate(chunk.split(b"\n"), first):
            if not text.strip():
                continue
            try:
                found = pick(parse_line(text), self.pointer)
                rows = found if isinstance(found, list) and self.pointer else [found]
                for row in rows:
                    if not isinstance(row, dict):
                        raise NotJson(f"a JSON object is expected, not {type(row).__name__}")
                    record = flat(row, self.layout.flatten, self.layout.separator)
                    if extra := [name for name in record if name not in known]:
                        self.late.update(dict.fromkeys(extra))
                        raise NotJson(late_reason("key", extra))
                    index.append(len(numbers))
                    numbers.append(line)
                    records.append(record)
                    nested.append(row)
            except NotJson as error:
                texts[len(numbers)] = text.decode("utf-8", "replace").rstrip("\r")
                bad.append(BadRow(len(numbers), str(error)))
                numbers.append(line)
        if not bad:
            self._learn(nested)
        return TableBlock(
            self.file.path,
            len(chunk),
            columns_of(records, self.names),
            np.array(index, np.int64),
            bad,
            texts,
            numbers if self.numbered else None,
        )

    def learn_from(self, rows: list[dict[str, Any]]) -> None:
        """Takes the kinds of the values of these rows for those of the file."""
        self.sample = rows
        # what a pointer leads to is found line by line
        self.schema = None if self.pointer or self.layout.keys else _schema_of(rows, self.layout.flatten)

    def _learn(self, rows: list[dict[str, Any]]) -> None:
        """The parser failed, and no line is to blame: there are other kinds of values than before."""
        if self.schema is not None and self.learnt < _MAX_LEARNT:
            self.learnt += 1
            self.learn_from([*self.sample, *rows[:_LEARN_ROWS], *rows[-_LEARN_ROWS:]])


def _leaves(table: pa.Table, separator: str) -> Iterator[tuple[str, pa.Array]]:
    """The columns of a table, nested ones by the names of their levels."""
    for name, column in zip(table.column_names, table.columns, strict=True):
        yield from _leaf(name, column.combine_chunks(), separator)


def _leaf(name: str, array: pa.Array, separator: str) -> Iterator[tuple[str, pa.Array]]:
    if pa.types.is_list(array.type):
        yield name, lists_as_json(array)
        return
    if not pa.types.is_struct(array.type):
        yield name, plain_array(array)
        return
    for position, child in enumerate(array.flatten()):
        yield from _leaf(f"{name}{separator}{array.type.field(position).name}", child, separator)


def _schema_of(rows: list[dict[str, Any]], levels: int) -> pa.Schema | None:
    """Types of the values, nested as they are; None where kinds are mixed, which only line by line is exact."""
    fields = _fields_of(rows, levels)
    return None if fields is None else pa.schema(fields)


def _fields_of(rows: list[dict[str, Any]], levels: int) -> list[pa.Field] | None:
    fields = []
    for name in names_of(rows):
        values = [row[name] for row in rows if row.get(name) is not None]
        kind = _kind_of(values, levels)
        if kind is None:
            return None
        try:
            fields.append(pa.field(name, kind))
        except UnicodeEncodeError:
            return None  # a name that is no text: said where the lines are read one by one
    return fields


def _kind_of(values: list[Any], levels: int) -> pa.DataType | None:
    kinds = {type(value) for value in values}
    if kinds == {dict} and levels > 0 and all(values):
        fields = _fields_of(values, levels - 1)
        return None if fields is None else pa.struct(fields)
    if kinds == {bool}:
        return pa.bool_()
    if kinds == {int} and all(-(2**63) <= value < 2**63 for value in values):
        return pa.int64()
    if decimal.Decimal in kinds and kinds <= {int, decimal.Decimal}:
        return _number_kind([value for value in values if isinstance(value, decimal.Decimal)])
    if kinds == {list}:
        inner = _kind_of([item for value in values for item in value if item is not None], 0)
        return None if inner is None else pa.list_(inner)
    return pa.string() if kinds <= {str} else None


def _is_decimal(kind: pa.DataType) -> bool:
    """Whether numbers of this type are decimals, or in it somewhere."""
    if pa.types.is_decimal(kind):
        return True
    return any(_is_decimal(kind.field(number).type) for number in range(kind.num_fields))


def _number_kind(values: list[decimal.Decimal]) -> pa.DataType | None:
    """Decimals that are exact, or the floating numbers that they were; None where they have too many digits for these."""
    shapes = [value.as_tuple() for value in values]
    if all(isinstance(shape.exponent, int) and -_SCALE <= shape.exponent <= 0 for shape in shapes):
        return pa.decimal128(38, _SCALE)
    return pa.float64() if all(len(shape.digits) <= _DOUBLE_DIGITS for shape in shapes) else None


def open_json_lines(file: SourceFile, layout: JsonLinesLayout) -> TableReader:
    """Opens a file of JSON lines; the first part says the names and kinds of its columns."""
    findings: list[Finding] = []
    with closing(file.open()) as stream:
        head = stream.read(HEAD_BYTES)
    if not head.strip():
        raise file_empty(file.path, "is empty: it has no rows")
    if layout.encoding is None:
        detected = detect_encoding(head)
        layout = layout.model_copy(update={"encoding": detected.name})
        findings.append(encoding_finding(detected))
    complete = layout

    def chunks(sizes: Iterator[int]) -> Iterator[bytes]:
        with closing(file.open()) as stream:
            yield from whole_lines(
                utf8_chunks(stream, complete.encoding or "utf-8", sizes, file.path), 0x0A, file.path
            )

    return open_lines(ObjectLines(file, layout, chunks, layout.rows), findings)


def open_lines(lines: ObjectLines, findings: list[Finding]) -> TableReader:
    """A reader of them; the first part says the names and kinds of the columns. UltravectError where nothing in it is a row."""
    file, layout = lines.file, lines.layout
    first = next(lines.chunks(itertools.repeat(HEAD_BYTES)), b"")
    rows: list[dict[str, Any]] = []
    reason = ""
    for text in first.split(b"\n"):
        if not text.strip():
            continue
        try:
            found = pick(parse_line(text), lines.pointer)
            rows += [row for row in (found if isinstance(found, list) else [found]) if isinstance(row, dict)]
        except NotJson as error:
            reason = reason or str(error)
    if not rows:
        part = "line" if lines.numbered else "element"
        raise UltravectError(
            "no-rows-found",
            f"{file.path}: no row is found in the first {part}s: {reason or f'no {part} holds a JSON object'}",
            hint="is it one JSON document over several lines? then set layout.format: json; or set layout.rows"
            if lines.numbered
            else "set layout.rows to the JSON Pointer of what holds the rows, and layout.form to its form",
            object=file.path,
        )
    found_names = names_of(
        [*(flat(row, layout.flatten, layout.separator) for row in rows), dict.fromkeys(layout.keys)]
    )
    require_columns(file.path, len(found_names), "set layout.flatten: 0 to keep nested objects whole")
    names, renamed = unique_names(found_names)
    lines.names = found_names
    lines.learn_from(rows)
    return TableReader(file, layout, names, lines.blocks, findings=findings + renamed, late_keys=lines.late)
