"""A JSON document with an array of rows in it, read as a stream."""

from __future__ import annotations

import itertools
import json
from collections.abc import Callable, Iterator, Sequence
from contextlib import closing, suppress
from typing import Any, BinaryIO

import ijson
import numpy as np
import pyarrow as pa

from ultravect.core.errors import UltravectError
from ultravect.core.layouts.base import MAX_RECORD, SourceFile, file_empty, unique_names
from ultravect.core.layouts.delimited.lines import whole_lines
from ultravect.core.layouts.documents.array_lines import ArrayLines
from ultravect.core.layouts.documents.json_lines import ObjectLines, open_lines, steps_of
from ultravect.core.layouts.documents.json_shapes import Found, Shape, rows_of_columns, shapes_of
from ultravect.core.layouts.documents.records import Record, flat
from ultravect.core.layouts.documents.shared import DocumentKind, is_unsure, open_document
from ultravect.core.layouts.encoding import detect_encoding, encoding_finding, utf8_chunks, utf8_stream
from ultravect.core.layouts.headers import judge_header
from ultravect.core.layouts.table import TableReader
from ultravect.core.model.finding import Finding, Replacement
from ultravect.core.model.layout import JsonLayout

_BLOCK_ROWS = 20_000
_MAX_EVENTS = 200_000
_MAX_BETWEEN = 2 * MAX_RECORD
# the parser's time for a long value grows with the square of its pieces
_PIECE = 4 << 20
_LOOKED_AT = 4 << 20
_WHOLE = 8 << 20
_ENCODING_BYTES = 256 << 10
_MAX_DEPTH = 1_000
_OPENING, _CLOSING = np.frombuffer(b"[{", np.uint8), np.frombuffer(b"]}", np.uint8)


def _broken(file: SourceFile, error: Exception, row: int) -> UltravectError:
    text = str(error).split("\n")[0][:200] or "it ends in the middle"
    early = isinstance(error, ijson.IncompleteJSONError) and ("premature" in text or "incomplete" in text.lower())
    what = "the document ends before it is complete" if early else text
    return UltravectError(
        "json-broken",
        f"{file.path} is not whole JSON{f', after row {row:,}' if row else ''}: {what}",
        hint="it is cut off or damaged; fetch it again. One object a line is layout.format: jsonl",
        object=file.path,
        row=row or None,
    )


def _prefix(pointer: str, *, digits: str = "item") -> str:
    """The parser's own notation for what is at a JSON Pointer; a number in it is a place in an array, or a key."""
    return ".".join("item" if step.isdigit() and digits == "item" else step for step in steps_of(pointer))


def _require_flat(file: SourceFile, head: bytes) -> None:
    """Raises for a document that is nested as no data is: the parser's memory grows with the square of its depth."""
    marks = np.frombuffer(head, np.uint8)
    steps = np.isin(marks, _OPENING).astype(np.int32) - np.isin(marks, _CLOSING).astype(np.int32)
    if len(steps) and int(np.cumsum(steps).max()) > _MAX_DEPTH:
        raise UltravectError(
            "json-too-deep",
            f"{file.path} is nested more than {_MAX_DEPTH:,} levels deep",
            hint="data is not nested like that: is it damaged, or made to harm?",
            object=file.path,
        )


def find_rows(file: SourceFile, encoding: str) -> tuple[Shape, Sequence[Found]]:
    """Where the rows are, and all places that may hold them, the likeliest first: of a small document all is looked at, of a large one the
    first array of objects is taken."""
    with closing(utf8_stream(file.open(), encoding, file.path)) as stream:
        head = stream.read(_WHOLE + 1)
    _require_flat(file, head[:_LOOKED_AT])
    places: Sequence[Found] = ()
    if len(head) <= _WHOLE:
        with suppress(ValueError, RecursionError):  # the parser below says what is wrong
            document = json.loads(head)
            if document in ([], {}):
                raise file_empty(
                    file.path, f"holds an empty {'array' if document == [] else 'object'}: it has no rows"
                )
            places = shapes_of(document)
    found = places[0].shape if places else _first_array(file, encoding)
    if found is None:
        raise UltravectError(
            "no-rows-found",
            f"{file.path} holds no array of objects near its start, so nothing in it is rows",
            hint="set layout.rows to the JSON Pointer of what holds the rows, such as /data/readings, and layout.form",
            object=file.path,
        )
    return found, places


def _first_array(file: SourceFile, encoding: str) -> Shape | None:
    path: list[str] = []
    before = ""
    with closing(utf8_stream(file.open(), encoding, file.path)) as stream:
        try:
            for count, (_, event, value) in enumerate(ijson.parse(stream, use_float=False)):
                if event == "map_key":
                    path[-1] = str(value).replace("~", "~0").replace("/", "~1")
                elif event in ("start_map", "start_array"):
                    if before == "start_array" and (event == "start_map" or len(path) < 2):
                        form = "objects" if event == "start_map" else "arrays"
                        return Shape("".join(f"/{step}" for step in path[:-1]), form)
                    path.append("" if event == "start_map" else "0")
                elif event in ("end_map", "end_array"):
                    path.pop()
                before = event
                if count > _MAX_EVENTS:
                    break
        except (ijson.JSONError, UnicodeDecodeError) as error:
            raise _broken(file, error, 0) from None
    return None


class _Bounded:
    """A stream that ends when nothing comes of what was read: a value without end must not fill the memory."""

    def __init__(self, stream: BinaryIO, path: str) -> None:
        self._stream, self._path = stream, path
        self.since = 0

    def read(self, size: int = -1) -> bytes:
        data = self._stream.read(size)
        self.since += len(data)
        if self.since > _MAX_BETWEEN:
            raise UltravectError(
                "record-too-long",
                f"{self._path}: no row ends within {_MAX_BETWEEN >> 20} MiB",
                hint="does layout.rows lead to the array of rows?",
                object=self._path,
            )
        return data


def _elements(file: SourceFile, encoding: str, pointer: str, form: str | None) -> Iterator[Any]:
    """The rows of an array, or the keys and objects of an object; anew from the start."""
    number = 0
    with closing(utf8_stream(file.open(), encoding, file.path)) as stream:
        bounded = _Bounded(stream, file.path)
        try:
            found: Iterator[Any] = iter(())
            for digits in ("key", "item") if any(step.isdigit() for step in pointer.split("/")) else ("item",):
                prefix = _prefix(pointer, digits=digits)
                if form == "keyed":
                    found = ijson.kvitems(bounded, prefix, use_float=False, buf_size=_PIECE)
                elif form == "columns":
                    found = ijson.items(bounded, prefix, use_float=False, buf_size=_PIECE)
                else:
                    found = ijson.items(
                        bounded, ".".join(filter(None, [prefix, "item"])), use_float=False, buf_size=_PIECE
                    )
                first = next(found, _NOTHING)
                if first is not _NOTHING:
                    found = itertools.chain([first], found)
                    break
                stream.close()
                stream = utf8_stream(file.open(), encoding, file.path)
                bounded = _Bounded(stream, file.path)
            for value in found:
                number += 1
                bounded.since = 0
                yield value
        except (ijson.JSONError, UnicodeDecodeError) as error:
            raise _broken(file, error, number) from None
        finally:
            stream.close()


_NOTHING = object()


def _lines_of(file: SourceFile, layout: JsonLayout) -> Callable[[Iterator[int]], Iterator[bytes]]:
    """The objects of the array that holds the rows as lines."""

    def pieces(array: ArrayLines, sizes: Iterator[int]) -> Iterator[bytes]:
        with closing(file.open()) as stream:
            for chunk in utf8_chunks(stream, layout.encoding or "utf-8", sizes, file.path):
                yield array.feed(chunk)
            array.finish()

    def lines(sizes: Iterator[int]) -> Iterator[bytes]:
        array = ArrayLines(steps_of(layout.rows or ""))
        try:
            yield from whole_lines(pieces(array, sizes), 0x0A, file.path)
        except ValueError as error:
            raise _broken(file, error, array.rows) from None
        if not array.found:
            raise UltravectError(
                "no-rows-found",
                f"{file.path} has no array at {layout.rows or 'its root'}",
                hint="set layout.rows to the JSON Pointer of what holds the rows; left out, it is found",
                object=file.path,
            )

    return lines


def _rows(file: SourceFile, layout: JsonLayout, names: Sequence[str]) -> Iterator[dict[str, Any]]:
    """The rows of other forms than an array of objects, as objects; ``names`` are those of the columns of arrays."""
    pointer, form = layout.rows or "", layout.form
    found = _elements(file, layout.encoding or "utf-8", pointer, form)
    if form == "columns":
        for columns in found:
            if not isinstance(columns, dict):
                raise _no_rows(file, 1, pointer, "an object with an array for each column")
            yield from rows_of_columns(columns)
        return
    for number, value in enumerate(found, 1):
        if form == "keyed":
            key, value = value
            if not isinstance(value, dict):
                raise _no_rows(file, number, pointer, "an object")
            yield {"key": key, **value} if "key" not in value else value
        else:
            if not isinstance(value, list):
                raise _no_rows(file, number, pointer, "an array")
            extra = {f"column_{at}": cell for at, cell in enumerate(value[len(names) :], len(names) + 1)}
            yield dict(zip(names, value, strict=False)) | extra


def _no_rows(file: SourceFile, number: int, pointer: str, wanted: str) -> UltravectError:
    return UltravectError(
        "no-rows-found",
        f"{file.path}: element {number:,} of {pointer or 'the document'} is not {wanted}",
        hint="set layout.rows to the JSON Pointer of what holds the rows, and layout.form to its form",
        object=file.path,
        row=number,
    )


def _names_of_arrays(file: SourceFile, layout: JsonLayout, findings: list[Finding]) -> tuple[list[str], bool]:
    """Names for the values of arrays, and whether they are those of the first row."""
    head = list(itertools.islice(_elements(file, layout.encoding or "utf-8", layout.rows or "", "arrays"), 200))
    rows = [["" if cell is None else str(cell) for cell in row] for row in head if isinstance(row, list)]
    if not rows:
        return [], False
    found = judge_header(rows)
    if found.present and all(isinstance(cell, str) for cell in head[0]):
        findings.append(Finding("note" if found.sure else "warning", "header-found", found.reason, "from.layout"))
        return unique_names(rows[0])[0], True
    return [f"column_{number}" for number in range(1, max(map(len, rows)) + 1)], False


def _size_of(batch: Sequence[Record], values: pa.Table) -> int:
    """From some of the rows."""
    some = batch[:: max(1, len(batch) // 50)]
    return sum(len(str(item)) for item in some) * len(batch) // len(some)


_KIND = DocumentKind("key", "objects", _BLOCK_ROWS, _size_of, typed_values=True, has_nul=True)


def open_json(file: SourceFile, layout: JsonLayout) -> TableReader:
    """Opens a JSON document; the first rows say the columns."""
    findings: list[Finding] = []
    if file.size == 0:
        raise file_empty(file.path, "is empty: it has no rows")
    if layout.encoding is None:
        with closing(file.open()) as stream:
            detected = detect_encoding(stream.read(_ENCODING_BYTES))
        layout = layout.model_copy(update={"encoding": detected.name})
        if not detected.sure or detected.name != "utf-8":
            findings.append(encoding_finding(detected))
    if layout.rows is None or layout.form is None:
        shape = Shape(layout.rows or "", "objects")
        places: Sequence[Found] = ()
        if layout.rows is None:
            shape, places = find_rows(file, layout.encoding or "utf-8")
        layout = layout.model_copy(update={"rows": shape.pointer, "form": layout.form or shape.form})
        if shape.names and layout.form == "arrays" and layout.names is None:
            layout = layout.model_copy(update={"names": list(shape.names)})
        findings.append(_rows_finding(_form_found(layout), places))
    if layout.form == "objects":
        return open_lines(ObjectLines(file, layout, _lines_of(file, layout), numbered=False), findings)
    pointer = layout.rows or ""
    levels, separator = layout.flatten, layout.separator
    names, skipped = list(layout.names or ()), False
    if layout.form == "arrays" and not names:
        names, skipped = _names_of_arrays(file, layout, findings)
    complete = layout

    def records() -> Iterator[tuple[None, dict[str, Any]]]:
        rows = itertools.islice(_rows(file, complete, names), int(skipped), None)
        return ((None, flat(row, levels, separator)) for row in rows)

    nothing = UltravectError(
        "no-rows-found",
        f"{file.path} has no rows at {pointer or 'its root'}",
        hint="set layout.rows to the JSON Pointer of what holds the rows; left out, it is found",
        object=file.path,
    )
    return open_document(file, layout, _KIND, records, nothing, findings)


def _rows_finding(found: str, places: Sequence[Found]) -> Finding:
    if len(places) < 2:
        return Finding("note", "rows-found", found, "from.layout")
    best, other = places[:2]
    said = f"{found}, {best.size}; next best {other}"
    if not is_unsure(best.score, other.score):
        return Finding("note", "rows-found", said, "from.layout")
    written = Replacement("from.layout.rows", other.shape.pointer)
    fix = f"if those are the rows, write layout.rows: {_written(other)}; if these, layout.rows: {_written(best)}"
    return Finding("warning", "rows-unsure", f"{said}: that is not sure", "from.layout", fix, written)


def _written(place: Found) -> str:
    return place.shape.pointer or '""'


def _form_found(layout: JsonLayout) -> str:
    where = f"at {layout.rows}" if layout.rows else "of the document"
    return {
        "objects": f"the rows are the objects of the array {where}",
        "arrays": f"the rows are the arrays in the array {where}",
        "keyed": f"the rows are the objects {where}, each with its key in the column key",
        "columns": f"the columns are the arrays {where}",
    }[layout.form or "objects"]
