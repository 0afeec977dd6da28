"""Reads the rows of a statement by COPY into Arrow tables.

The server writes CSV, in which an empty text ("") is not NULL (nothing), and hands it over row by row, so that
blocks are cut where rows end without looking into them.
"""

from __future__ import annotations

import select
from collections.abc import Iterator, Sequence

import psycopg
import pyarrow as pa
import pyarrow.csv as pv
from psycopg.pq import ExecStatus

from ultravect.core.databases.postgresql.catalogue import Session
from ultravect.core.types.canonical import CanonicalType
from ultravect.core.types.stored import stored_values

_BLOCK_BYTES = 2 << 20
# what Arrow's CSV parser reads as PostgreSQL writes it; the others come as text first
_PARSED = frozenset(
    ["boolean", "smallint", "integer", "bigint", "real", "double", "date", "time", "timestamp", "timestamptz"]
)


def _parsed(kind: CanonicalType) -> pa.DataType:
    exact = kind.name == "decimal" and kind.precision is not None
    return kind.arrow if exact or kind.name in _PARSED else pa.string()


def _parse(data: bytes, types: Sequence[pa.DataType]) -> pa.Table:
    names = [str(position) for position in range(len(types))]
    return pv.read_csv(
        pa.py_buffer(data),
        read_options=pv.ReadOptions(column_names=names, block_size=len(data) + 1),
        parse_options=pv.ParseOptions(newlines_in_values=True, ignore_empty_lines=False),
        convert_options=pv.ConvertOptions(
            column_types=dict(zip(names, types, strict=True)),
            null_values=[""],
            strings_can_be_null=True,
            quoted_strings_can_be_null=False,
            true_values=["t"],
            false_values=["f"],
        ),
    )


def _from_hex(texts: pa.Array) -> pa.Array:
    return pa.array([None if text is None else bytes.fromhex(text) for text in texts.to_pylist()], pa.binary())


def _block(data: bytes, types: Sequence[CanonicalType]) -> pa.Table:
    try:
        table = _parse(data, [_parsed(kind) for kind in types])
    except pa.ArrowInvalid:
        # infinity, NaN, a year before Christ: such a value stays text, and its row will be told
        table = _parse(data, [pa.string()] * len(types))
    columns = []
    for column, kind in zip(table.columns, types, strict=True):
        array = column.combine_chunks()
        if pa.types.is_string(array.type):
            array = _from_hex(array) if kind.name == "binary" else stored_values(array, kind)
        columns.append(array)
    return pa.table(columns, names=table.column_names)


def _received(session: Session) -> Iterator[bytes]:
    """The rows of a COPY that has begun, by libpq's own call: what is wrapped around it takes as long as all the rest."""
    pgconn = session.pgconn
    ready = select.poll()
    ready.register(pgconn.socket, select.POLLIN)
    while True:
        length, row = pgconn.get_copy_data(1)
        if length > 0:
            yield bytes(row)
        elif length == 0:
            # nothing has come yet; waiting here lets other threads work
            ready.poll()
            pgconn.consume_input()
        else:
            break
    while (result := pgconn.get_result()) is not None:
        if result.status == ExecStatus.FATAL_ERROR:
            raise psycopg.errors.error_from_result(result)


def read_rows(session: Session, statement: str, types: Sequence[CanonicalType]) -> Iterator[pa.Table]:
    """The rows of ``statement``, whose columns are of ``types``; binary ones are selected as hexadecimal digits."""
    session.execute("SELECT 1")  # begins the transaction as the session was told to
    begun = session.pgconn.exec_(f"COPY ({statement}) TO STDOUT (FORMAT csv)".encode())
    if begun.status != ExecStatus.COPY_OUT:
        raise psycopg.errors.error_from_result(begun)
    parts: list[bytes] = []
    size = 0
    for row in _received(session):
        parts.append(row)
        size += len(row)
        if size >= _BLOCK_BYTES:
            yield _block(b"".join(parts), types)
            parts, size = [], 0
    if parts:
        yield _block(b"".join(parts), types)
