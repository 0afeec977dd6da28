"""Reads the rows of a statement by binary COPY into Arrow tables; as text, where a server has no such form.

Columns of types that have no binary form here are asked for as text. Values that PostgreSQL has and Arrow has not
(infinity, NaN, a year before Christ) make their column one of texts, as the server would write them: the shape phase
says their rows.
"""

from __future__ import annotations

import io
import select
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any

import psycopg
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.csv as pv
from psycopg.pq import ExecStatus

from ultravect.core.contracts.statements import noted
from ultravect.core.kinds.postgresql.binary_rows import DATE, MOMENT, NUMERIC, TIME, RowDecoder
from ultravect.core.kinds.postgresql.catalogue import Session
from ultravect.core.kinds.postgresql.copy_in import TEXT, Wire, wire_of
from ultravect.core.kinds.postgresql.odd_values import day_text, moment_text, time_text
from ultravect.core.types.arrow import array_from, as_text
from ultravect.core.types.canonical import CanonicalType
from ultravect.core.types.from_text import convert
from ultravect.core.types.stored import STORED, stored_values

_BLOCK_BYTES = 2 << 20
_ODD = {DATE: day_text, MOMENT: moment_text, TIME: time_text}


@dataclass(frozen=True)
class _Incoming:
    """A column of the answer: how it travels, and what it is to be."""

    wire: Wire
    kind: CanonicalType

    @property
    def decoded(self) -> tuple[int, int, int]:
        decimal = self.wire.arrow if self.wire.code == NUMERIC else None
        return (self.wire.code, decimal.precision, decimal.scale) if decimal else (self.wire.code, 0, 0)

    def array(self, rows: int, buffers: Sequence[bytes | None], odd: Sequence[tuple[int, int | str]]) -> pa.Array:
        """``odd``: rows, and what was sent there."""
        arrow = self.wire.arrow
        plain = {pa.bool_(): pa.uint8(), pa.string(): pa.binary()}.get(arrow, arrow)
        array = array_from(plain, rows, buffers)
        if pa.types.is_boolean(arrow):
            return array.cast(arrow)
        if odd:
            zone = "+00" if pa.types.is_timestamp(arrow) and arrow.tz else ""
            texts = [sent if isinstance(sent, str) else _ODD[self.wire.code](sent, zone) for _, sent in odd]
            mask = pa.array([False] * rows).to_numpy(zero_copy_only=False)
            mask[[row for row, _ in odd]] = True
            return pc.replace_with_mask(as_text(array), pa.array(mask), pa.array(texts, pa.string()))
        return stored_values(array, self.kind) if pa.types.is_string(arrow) else array


def _received(session: Session, decoder: RowDecoder) -> Iterator[bool]:
    """The rows of a COPY that has begun, by libpq's own call: a true value for each full block, then a false one."""
    pgconn = session.pgconn
    ready = select.poll()
    ready.register(pgconn.socket, select.POLLIN)
    while (length := decoder.take(pgconn.get_copy_data, _BLOCK_BYTES)) >= 0:
        if length > 0:
            yield True
        else:
            # nothing has come yet; waiting here lets other threads work
            ready.poll()
            pgconn.consume_input()
    while (result := pgconn.get_result()) is not None:
        if result.status == ExecStatus.FATAL_ERROR:
            raise psycopg.errors.error_from_result(result)
    yield False


def _incoming(session: Session, statement: str, types: Sequence[CanonicalType]) -> tuple[str, list[_Incoming]]:
    """The statement, with what has no binary form cast to text, and its columns."""
    pgconn = session.pgconn
    prepared = pgconn.prepare(b"", statement.encode())
    if prepared.status != ExecStatus.COMMAND_OK:
        raise psycopg.errors.error_from_result(prepared)
    described = pgconn.describe_prepared(b"")
    columns, selected = [], []
    for position, kind in enumerate(types):
        known = psycopg.postgres.types.get(described.ftype(position))
        wire = wire_of(known.name, kind.arrow) if known else None
        columns.append(_Incoming(wire or TEXT, kind))
        selected.append(f"c{position}" if wire else f"c{position}::text")
    if not any("::" in item for item in selected):
        return statement, columns
    names = ", ".join(f"c{position}" for position in range(len(types)))
    return f"SELECT {', '.join(selected)} FROM ({statement}) AS q({names})", columns


def _table(decoder: RowDecoder, columns: Sequence[_Incoming]) -> pa.Table:
    rows, buffers, odd = decoder.finish()
    arrays = []
    for position, (column, own) in enumerate(zip(columns, buffers, strict=True)):
        arrays.append(column.array(rows, own, [(row, sent) for at, row, sent in odd if at == position]))
    return pa.table(arrays, names=[str(position) for position in range(len(columns))])


class _Lines(io.RawIOBase):
    """What a COPY sends, as a file."""

    def __init__(self, copying: psycopg.Copy) -> None:
        self._copying, self._left = copying, memoryview(b"")

    def readable(self) -> bool:
        return True

    def readinto(self, buffer: Any) -> int:
        while not self._left:
            part = self._copying.read()
            if not part:
                return 0
            self._left = memoryview(part)
        count = min(len(buffer), len(self._left))
        buffer[:count], self._left = self._left[:count], self._left[count:]
        return count


def read_texts(session: Session, statement: str, types: Sequence[CanonicalType]) -> Iterator[pa.Table]:
    """See ``read_rows``; by the CSV form of COPY, in which NULL and "" differ by their quotes."""
    names = [f"c{position}" for position in range(len(types))]
    binary = [kind.name == "binary" for kind in types]
    selected = (
        f"encode({name}, 'hex')" if held else f"{name}::text" for name, held in zip(names, binary, strict=True)
    )
    asked = f"SELECT {', '.join(selected)} FROM ({statement}) AS q({', '.join(names)})"
    with session.cursor().copy(f"COPY ({asked}) TO STDOUT (FORMAT csv)".encode()) as copying:
        reader = pv.open_csv(
            pa.PythonFile(io.BufferedReader(_Lines(copying), _BLOCK_BYTES), mode="r"),
            pv.ReadOptions(column_names=names, block_size=_BLOCK_BYTES, use_threads=False),
            pv.ParseOptions(newlines_in_values=True),
            pv.ConvertOptions(
                column_types=dict.fromkeys(names, pa.string()),
                null_values=[""],
                strings_can_be_null=True,
                quoted_strings_can_be_null=False,
            ),
        )
        for batch in reader:
            arrays = [
                convert(texts, kind, STORED).array if held else stored_values(texts, kind)
                for texts, held, kind in zip(batch.columns, binary, types, strict=True)
            ]
            yield pa.table(arrays, names=[str(position) for position in range(len(types))])


def read_rows(session: Session, statement: str, types: Sequence[CanonicalType]) -> Iterator[pa.Table]:
    """The rows of ``statement``, whose columns are of ``types``."""
    session.execute("SELECT 1")  # begins the transaction as the session was set to
    asked, columns = _incoming(session, statement, types)
    command = f"COPY ({asked}) TO STDOUT (FORMAT binary)".encode()
    with noted(command) as ran:
        begun = session.pgconn.exec_(command)
        if begun.status != ExecStatus.COPY_OUT:
            raise psycopg.errors.error_from_result(begun)
        decoder = RowDecoder([column.decoded for column in columns])
        for more in _received(session, decoder):
            table = _table(decoder, columns)
            ran.rows += table.num_rows
            if more or table.num_rows:
                yield table
