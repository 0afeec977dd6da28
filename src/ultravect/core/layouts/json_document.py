"""A JSON document with an array of rows in it, read as a stream."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import closing
from typing import Any, BinaryIO

import ijson
import numpy as np
import pyarrow as pa

from ultravect.core.errors import UltravectError
from ultravect.core.layouts.base import MAX_RECORD, SourceFile, file_empty
from ultravect.core.layouts.documents import DocumentKind, open_document
from ultravect.core.layouts.records import Record, flat
from ultravect.core.layouts.table import TableReader
from ultravect.core.model.finding import Finding
from ultravect.core.model.layout import JsonLayout

_BLOCK_ROWS = 20_000
_MAX_EVENTS = 200_000
_MAX_BETWEEN = 2 * MAX_RECORD
# the parser's time for a long value grows with the square of its pieces
_PIECE = 4 << 20
_LOOKED_AT = 4 << 20
_MAX_DEPTH = 1_000
_OPENING, _CLOSING = np.frombuffer(b"[{", np.uint8), np.frombuffer(b"]}", np.uint8)


def _broken(file: SourceFile, error: Exception, row: int) -> UltravectError:
    text = str(error).split("\n")[0][:200] or "it ends in the middle"
    early = isinstance(error, ijson.IncompleteJSONError) and ("premature" in text or "incomplete" in text.lower())
    what = "the document ends before it is complete" if early else text
    return UltravectError(
        "json-broken",
        f"{file.path} is not whole JSON{f', behind row {row:,}' if row else ''}: {what}",
        hint="it is cut off or damaged; fetch it again. One object a line is layout.format: jsonl",
        object=file.path,
        row=row or None,
    )


def _prefix(pointer: str) -> str:
    """The parser's own notation for the elements of the array at a JSON Pointer."""
    steps = [step.replace("~1", "/").replace("~0", "~") for step in pointer.split("/")[1:]]
    return ".".join([*("item" if step.isdigit() else step for step in steps), "item"])


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


def find_rows(file: SourceFile) -> str:
    """JSON Pointer to the first array of objects in a document."""
    with closing(file.open()) as stream:
        _require_flat(file, stream.read(_LOOKED_AT))
    with closing(file.open()) as stream:
        path: list[str] = []
        before = ""
        try:
            for count, (_, event, value) in enumerate(ijson.parse(stream, use_float=False)):
                if event == "map_key":
                    path[-1] = str(value).replace("~", "~0").replace("/", "~1")
                elif event == "start_map":
                    if before == "start_array":
                        return "".join(f"/{step}" for step in path[:-1])
                    path.append("")
                elif event == "start_array":
                    path.append("0")
                elif event in ("end_map", "end_array"):
                    path.pop()
                before = event
                if count > _MAX_EVENTS:
                    break
        except (ijson.JSONError, UnicodeDecodeError) as error:
            raise _broken(file, error, 0) from None
    raise UltravectError(
        "no-rows-found",
        f"{file.path} holds no array of objects near its start, so nothing in it is rows",
        hint="set layout.rows to the JSON Pointer of the array, such as /data/readings",
        object=file.path,
    )


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


def _rows(file: SourceFile, pointer: str) -> Iterator[dict[str, Any]]:
    number = 0
    with closing(file.open()) as stream:
        bounded = _Bounded(stream, file.path)
        try:
            for value in ijson.items(bounded, _prefix(pointer), use_float=False, buf_size=_PIECE):
                number += 1
                bounded.since = 0
                if not isinstance(value, dict):
                    raise UltravectError(
                        "no-rows-found",
                        f"{file.path}: element {number:,} of {pointer or 'the array'} is no JSON object",
                        hint="set layout.rows to the JSON Pointer of an array of objects",
                        object=file.path,
                        row=number,
                    )
                yield value
        except (ijson.JSONError, UnicodeDecodeError) as error:
            raise _broken(file, error, number) from None


def _size_of(batch: Sequence[Record], values: pa.Table) -> int:
    """From some of the rows."""
    some = batch[:: max(1, len(batch) // 50)]
    return sum(len(str(one)) for one in some) * len(batch) // len(some)


_KIND = DocumentKind("key", "objects", _BLOCK_ROWS, _size_of, typed_values=True, has_nul=True)


def open_json(file: SourceFile, layout: JsonLayout) -> TableReader:
    """Opens a JSON document; the first rows tell the columns."""
    findings: list[Finding] = []
    if file.size == 0:
        raise file_empty(file.path, "is empty: it has no rows")
    if layout.rows is None:
        layout = layout.model_copy(update={"rows": find_rows(file)})
        where = f"the array at {layout.rows}" if layout.rows else "the elements of the document's array"
        findings.append(Finding("note", "rows-found", f"the rows are {where}", "from.layout"))
    pointer = layout.rows or ""
    levels, separator = layout.flatten, layout.separator

    def records() -> Iterator[tuple[None, dict[str, Any]]]:
        return ((None, flat(row, levels, separator)) for row in _rows(file, pointer))

    nothing = UltravectError(
        "no-rows-found",
        f"{file.path} has no rows at {pointer or 'its root'}",
        hint="set layout.rows to the JSON Pointer of the array of rows; left out, it is found",
        object=file.path,
    )
    return open_document(file, layout, _KIND, records, nothing, findings)
