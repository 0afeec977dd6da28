"""Reads the rows of a statement as the bytes that the server sent, into Arrow tables."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

import pyarrow as pa
from MySQLdb.constants import FIELD_TYPE, FLAG

from ultravect.core.kinds.mariadb import answer
from ultravect.core.types.arrow import array_from
from ultravect.core.types.canonical import MAX_PRECISION, CanonicalType
from ultravect.core.types.stored import stored_values

_BLOCK_ROWS = 20_000
NATIVES = {
    FIELD_TYPE.TINY: "tinyint",
    FIELD_TYPE.SHORT: "smallint",
    FIELD_TYPE.INT24: "mediumint",
    FIELD_TYPE.LONG: "int",
    FIELD_TYPE.LONGLONG: "bigint",
    FIELD_TYPE.FLOAT: "float",
    FIELD_TYPE.DOUBLE: "double",
    FIELD_TYPE.NEWDECIMAL: "decimal",
    FIELD_TYPE.DATE: "date",
    FIELD_TYPE.TIME: "time",
    FIELD_TYPE.DATETIME: "datetime",
    FIELD_TYPE.TIMESTAMP: "timestamp",
    FIELD_TYPE.YEAR: "year",
    FIELD_TYPE.VAR_STRING: "varchar",
    FIELD_TYPE.STRING: "char",
    FIELD_TYPE.BLOB: "text",
    FIELD_TYPE.JSON: "json",
    FIELD_TYPE.BIT: "bit",
}
_UNSIGNED = frozenset(["tinyint", "smallint", "mediumint", "int", "bigint"])
_FRACTIONAL = frozenset(["time", "datetime", "timestamp"])

# what is read from the bytes as they come; the rest is cast from them
_CODES = {
    "boolean": answer.BOOL,
    "smallint": answer.TWO,
    "integer": answer.FOUR,
    "bigint": answer.EIGHT,
    "decimal": answer.DECIMAL,
    "date": answer.DATE,
    "time": answer.TIME,
    "timestamp": answer.MOMENT,
    "timestamptz": answer.MOMENT,
}


def native_of(described: Sequence[Any], flags: int) -> str:
    """The native type of an answer's column, as the catalogue would write it.

    ``described`` as a cursor describes it: name, type, display size, internal size, precision, scale, nullable.
    """
    native = NATIVES.get(described[1], "")
    length, scale = int(described[3]), int(described[5])
    if native == "decimal":
        digits = length - (scale > 0) - (not flags & FLAG.UNSIGNED)
        return f"decimal({min(max(digits, 1), MAX_PRECISION)},{scale})"
    if native in _UNSIGNED and flags & FLAG.UNSIGNED:
        return f"{native}({length}) unsigned"
    if native in _FRACTIONAL and 0 < scale <= 6:
        return f"{native}({scale})"
    if native == "bit":
        return f"bit({length})"
    if native == "text" and flags & FLAG.BINARY:
        return "blob"
    # how long texts may be is given in bytes, which says little: they are taken to be of any length
    return {"varchar": "text", "char": "text", "tinyint": f"tinyint({length})"}.get(native, native)


def _column(rows: tuple[tuple[bytes | None, ...], ...], position: int, kind: CanonicalType) -> pa.Array:
    code = answer.BYTES if kind.arrow == pa.string() else _CODES.get(kind.name, answer.BYTES)
    buffers = answer.column_of(rows, position, code, kind.precision or 0, kind.scale or 0) if code else None
    arrow = kind.arrow
    if buffers is None:
        # texts, or values that are beyond the type: those are reported as what they are
        code, arrow = answer.BYTES, pa.binary()
        buffers = answer.column_of(rows, position, code, 0, 0)
        assert buffers is not None
    held = pa.uint8() if code == answer.BOOL else arrow
    array = array_from(held, len(rows), buffers)
    return stored_values(array, kind) if code == answer.BYTES else array.cast(arrow)


def read_rows(session: Any, statement: str, types: Sequence[CanonicalType]) -> Iterator[pa.Table]:
    """The rows of ``statement``, whose columns are of ``types``; the session gives bytes, and has begun a transaction."""
    session.query(statement.encode())
    result = session.use_result()
    names = [str(position) for position in range(len(types))]
    while rows := result.fetch_row(_BLOCK_ROWS, 0):
        yield pa.table([_column(rows, position, kind) for position, kind in enumerate(types)], names=names)
