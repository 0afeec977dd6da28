"""The values of a delimited block as their types, in one pass: read whole, or only looked at for what they are."""

from __future__ import annotations

import datetime as dt
import decimal
from collections.abc import Sequence
from functools import lru_cache
from typing import Any

import numpy as np
import pyarrow as pa

from ultravect.core.layouts.base import ParsedColumns, WantedColumn
from ultravect.core.layouts.delimited.blocks import DelimitedBlock, Dialect
from ultravect.core.layouts.delimited.values import Columns
from ultravect.core.types.arrow import array_from
from ultravect.core.types.inference.proof import Proof
from ultravect.core.types.text_formats import TextFormats, cases

# as in ``types/text_cells.pxd``
_CODES = {
    "text": 0,
    "boolean": 1,
    "smallint": 2,
    "integer": 3,
    "bigint": 4,
    "decimal": 5,
    "real": 6,
    "double": 7,
    "date": 8,
    "timestamp": 9,
    "timestamptz": 10,
}
_NUMBERS = frozenset(["smallint", "integer", "bigint", "decimal", "real", "double"])
_DATED = frozenset(["date", "timestamp", "timestamptz"])
_MOST_WORDS = 32
_MANY = 4  # one in so many: all are read anew sooner than these are set apart
_NO_FORM = (0,) * 7
_EPOCH = dt.datetime(1970, 1, 1)
_EXACT = decimal.Context(prec=60)


def suits(dialect: Dialect) -> bool:
    """Whether values stand in the block as they are: nothing is escaped, and rows end in line feeds."""
    return dialect.escape is None and dialect.long_delimiter is None and dialect.newline == 0x0A


def _form(pattern: str) -> tuple[int, ...] | None:
    """Where year, month and day stand in ten characters; None where the pattern is another."""
    places = [pattern.find(part) for part in ("YYYY", "MM", "DD")]
    marks = [place for place in range(len(pattern)) if pattern[place] not in "YMD"]
    if len(pattern) != 10 or min(places) < 0 or len(marks) != 2 or not pattern.isascii():
        return None
    return (*places, *marks, *(ord(pattern[place]) for place in marks))


def _words(formats: TextFormats) -> tuple[list[bytes], list[bytes], list[bytes]]:
    nulls, true, false = formats.nulls, cases(formats.true_words), cases(formats.false_words)
    return [null.encode() for null in nulls], [item.encode() for item in true], [item.encode() for item in false]


@lru_cache(1024)
def proven_by(column: WantedColumn, *, keeps: bool = True) -> tuple[Any, ...] | None:
    """What ``values.Columns`` is given for the column; None where its type, or how it is written, is not looked at there."""
    kind, formats = column.type, column.formats
    code = _CODES.get(kind.name)
    form = _form(formats.date_pattern) if kind.name in _DATED else _NO_FORM
    words = _words(formats)
    if code is None or form is None or any(len(word) > _MOST_WORDS for word in words):
        return None
    if kind.name == "boolean" and "" in formats.false_words:
        return None  # nothing is false, and not NULL
    if kind.name in _NUMBERS and (formats.thousands is not None or formats.signs):
        return None
    if (kind.name == "decimal" and kind.precision is None) or (kind.name == "timestamptz" and formats.time_zone):
        return None
    mark = ord(formats.decimal_mark)
    precision, scale = kind.precision or 0, kind.scale or 0
    return (column.position, code, precision, scale, mark, form, column.plain, keeps, *words)


def _as_text(column: WantedColumn) -> tuple[Any, ...]:
    return (column.position, _CODES["text"], 0, 0, 0, _NO_FORM, False, True, *_words(column.formats))


def typed_columns(block: DelimitedBlock, width: int, wanted: Sequence[WantedColumn]) -> ParsedColumns | None:
    """The wanted columns in their types, as strings where ``proven_by`` knows no better; None where a row is not whole, a text
    not UTF-8, or where many values are not plainly of their type."""
    shown = [proven_by(column) for column in wanted]
    columns = Columns(width, [spec or _as_text(column) for spec, column in zip(shown, wanted, strict=True)])
    rows = columns.take(block.data, block.dialect.delimiter, block.dialect.quote_byte)
    counts = [columns.odd_count(number) for number in range(len(wanted))]
    if rows < 0 or _MANY * max(counts, default=0) > rows:
        return None
    arrays = []
    for number, (spec, column) in enumerate(zip(shown, wanted, strict=True)):
        arrow = column.type.arrow if spec else pa.string()
        held = {pa.string(): pa.binary(), pa.bool_(): pa.uint8()}.get(arrow, arrow)
        array = array_from(held, rows, columns.values(number))
        try:
            # this also makes sure that texts are UTF-8
            arrays.append(array.cast(arrow))
        except pa.ArrowInvalid:
            return None
    odd = {row for number, count in enumerate(counts) if count for row, _, _ in columns.odd(number)}
    return ParsedColumns(arrays, np.array(sorted(odd), np.int64))


def proofs(block: DelimitedBlock, width: int, wanted: Sequence[WantedColumn]) -> list[Proof | None] | None:
    """What the block says about the types of columns, None where it does not; None instead of all where a row is not whole."""
    shown = [proven_by(column, keeps=False) for column in wanted]
    columns = Columns(width, [spec for spec in shown if spec])
    rows = columns.take(block.data, block.dialect.delimiter, block.dialect.quote_byte)
    if rows < 0:
        return None
    found: list[Proof | None] = []
    number = 0
    for spec, column in zip(shown, wanted, strict=True):
        if spec is None:
            found.append(None)
            continue
        found.append(_proof(columns, number, column, block))
        number += 1
    return found


def _proof(columns: Columns, number: int, column: WantedColumn, block: DelimitedBlock) -> Proof | None:
    fit, nulls, low, high, longest = columns.summary(number)
    odd = columns.odd_count(number)
    if _MANY * odd > fit + nulls + odd:
        return None
    kind = column.type
    if fit == 0 or kind.name in ("text", "boolean"):
        low = high = None
    elif kind.name == "decimal":
        low, high = (decimal.Decimal(item).scaleb(-(kind.scale or 0), _EXACT) for item in (low, high))
    elif kind.name == "date":
        low, high = (_EPOCH.date() + dt.timedelta(item) for item in (low, high))
    elif kind.name in _DATED:
        zone = dt.UTC if kind.name == "timestamptz" else None
        low, high = ((_EPOCH + dt.timedelta(microseconds=item)).replace(tzinfo=zone) for item in (low, high))
    if kind.name in ("decimal", "double") and fit and max(abs(low), abs(high)) >= 2**63:
        return None  # digits beyond 64 bits may be a code
    texts, places = [], []
    for row, start, length in columns.odd(number):
        texts.append(block.data[start : start + length].replace(b'""', b'"').decode())
        places.append(row)
    return Proof(
        fit,
        nulls,
        pa.array(texts, pa.string()),
        np.array(places, np.int64),
        low,
        high,
        longest if kind.name == "text" else None,
    )
