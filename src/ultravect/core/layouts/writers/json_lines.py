"""Writes JSON lines (RFC 8259, an object a line) by kernels: Arrow has no writer of its own."""

from __future__ import annotations

import json
from collections.abc import Sequence
from pathlib import Path

import pyarrow as pa
import pyarrow.compute as pc

from ultravect.core.dialects.base import Translation
from ultravect.core.layouts.writers.base import FileTypes, opened_for_text
from ultravect.core.model.written import WrittenJsonl
from ultravect.core.types.canonical import CanonicalType, Fit
from ultravect.core.types.written import plain_text

_BARE = frozenset(["boolean", "smallint", "integer", "bigint", "decimal", "real", "double", "json"])
_ESCAPED = r'[\x00-\x1f"\\]'
_ESCAPES = (("\\", "\\\\"), ('"', '\\"'), *((chr(code), json.dumps(chr(code))[1:-1]) for code in range(0x20)))


class JsonLinesTypes(FileTypes):
    """See ``FileTypes``: numbers, truth values and documents stand as such, all else is text."""

    name = "jsonl"
    refuses = frozenset({"not finite"})

    def from_canonical(self, wanted: CanonicalType) -> Translation:
        if wanted.name == "boolean":
            return Translation("boolean", Fit.EXACT)
        if wanted.name == "json":
            return Translation("value", Fit.WIDER, "as part of the line")
        if _is_long(wanted):
            return Translation("text", Fit.WIDER, "as its digits in quotes: readers keep 15 digits of a number")
        return Translation("number", Fit.WIDER) if wanted.name in _BARE else super().from_canonical(wanted)


def _is_long(kind: CanonicalType) -> bool:
    """Whether a decimal may have more digits than most readers of JSON keep."""
    return kind.name == "decimal" and (kind.precision is None or kind.precision > 15)


def _text(array: pa.Array) -> pa.Array:
    """Texts in quotes, with what JSON wants escaped."""
    if pc.any(pc.match_substring_regex(array, _ESCAPED)).as_py():
        for plain, escaped in _ESCAPES:
            array = pc.replace_substring(array, plain, escaped)
    return pc.binary_join_element_wise('"', array, '"', "")


def _value(array: pa.Array, kind: CanonicalType) -> pa.Array:
    text = plain_text(array)
    if kind.name == "json":
        # line ends stand between the values of a document only, where a blank does as well
        return pc.replace_substring_regex(text, r"[\r\n]+", " ")
    if kind.name not in _BARE or _is_long(kind):
        if kind.name == "timestamptz":
            text = pc.binary_join_element_wise(text, "Z", "")
        return _text(text)
    return text


class JsonLinesWriter:
    """See ``Writer``."""

    def __init__(
        self, path: Path, columns: Sequence[tuple[str, CanonicalType]], layout: WrittenJsonl, compression: str
    ) -> None:
        self._file = opened_for_text(path, compression)
        self._columns = columns

    def write(self, batch: pa.RecordBatch) -> None:
        parts: list[pa.Array | str] = []
        mark = "{"
        for (name, kind), array in zip(self._columns, batch.columns, strict=True):
            parts += [f"{mark}{json.dumps(name, ensure_ascii=False)}:", pc.fill_null(_value(array, kind), "null")]
            mark = ","
        lines = pc.binary_join_element_wise(*parts, "}\n", "")
        for chunk in pc.binary_join(pa.ListArray.from_arrays([0, len(lines)], lines), ""):
            self._file.write(chunk.as_buffer())

    def close(self) -> None:
        self._file.close()
