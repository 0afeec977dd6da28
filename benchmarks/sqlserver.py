"""What rows of SQL Server's protocol take here and in its driver: bytes made and read in memory, since no server of its speed runs here."""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import Any

import pyarrow as pa
from pytds import tds_base, tds_types
from pytds.collate import raw_collation
from pytds.tds_reader import _TdsReader
from pytds.tds_writer import _TdsWriter

from benchmarks.lake import _COLUMNS, _batches
from ultravect.core.dialects.base import NewColumn
from ultravect.core.kinds.sqlserver import answer
from ultravect.core.kinds.sqlserver.bulk import BulkLoad
from ultravect.core.kinds.sqlserver.dialect import SqlserverDialect
from ultravect.core.kinds.sqlserver.read import _column, _described
from ultravect.core.types.canonical import CanonicalType

_PACKET = 32767


class _Nowhere:
    """A session whose bytes go nowhere, or come from memory."""

    class protocol:
        class conn:
            collation = None

    class _tds:
        class _login:
            bytes_to_unicode = True

    use_tz = None
    tzinfo_factory = None

    def __init__(self, data: bytes = b"") -> None:
        self._data, self._at = memoryview(data), 0

    def sendall(self, data: bytes) -> None:
        pass

    def recv_into(self, into: memoryview, size: int) -> int:
        part = self._data[self._at : self._at + size]
        into[: len(part)] = part
        self._at += len(part)
        return len(part)


def _best(times: int, work: Callable[[], object]) -> float:
    taken = []
    for _ in range(times):
        started = time.perf_counter()
        work()
        taken.append(time.perf_counter() - started)
    return min(taken)


def _packets(data: bytes) -> bytes:
    parts = []
    room = _PACKET - 8
    for start in range(0, len(data), room):
        part = data[start : start + room]
        last = start + room >= len(data)
        parts.append(bytes([4, last]) + (len(part) + 8).to_bytes(2, "big") + bytes(4) + part)
    return b"".join(parts)


def run(rows: int, times: int) -> None:
    """``rows`` of eight columns: into the bytes of a bulk load, and from the bytes of an answer."""
    table = pa.Table.from_batches(_batches(0, rows, 1))
    batch = table.combine_chunks().to_batches()[0]
    kinds = [CanonicalType(kind, length=40 if kind == "text" else None) for kind in _COLUMNS.values()]
    load = BulkLoad(
        _Nowhere(),
        SqlserverDialect(),
        "[t]",
        [NewColumn(name, kind) for name, kind in zip(_COLUMNS, kinds, strict=True)],
        lock=False,
    )  # type: ignore[arg-type]
    ours = _best(times, lambda: load.encoded(batch))
    serializers = [_serializer(kind) for kind in kinds]

    def theirs() -> None:
        writer = _TdsWriter(_Nowhere(), _PACKET, _Nowhere())  # type: ignore[arg-type]
        writer.begin_packet(tds_base.PacketType.BULK)
        # the driver takes Python's values, which something has to make
        for row in zip(*(column.to_pylist() for column in batch.columns), strict=True):
            writer.put_byte(tds_base.TDS_ROW_TOKEN)
            for serializer, value in zip(serializers, row, strict=True):
                serializer.write(writer, value)

    driver = _best(1, theirs)
    print(f"sqlserver, {rows:,} rows of {len(kinds)} columns, in memory:")
    print(
        f"  into a bulk load{'':<34} {ours / driver:.3f} of the driver's ({rows / ours:,.0f} rows/s, against {rows / driver:,.0f})"
    )

    data = load.encoded(batch)
    columns = [_Column(serializer) for serializer in serializers]
    described, held = zip(*(_described(column) for column in columns), strict=True)

    def read() -> None:
        reader, place = answer.Rows(list(described)), 0
        while place < len(data):
            place, _ = reader.take(data, place, 20_000)
            count = reader.rows
            [
                _column(buffers, count, form, kind)
                for buffers, form, kind in zip(reader.finished(), held, kinds, strict=True)
            ]

    packets = _packets(data)

    def fetch() -> None:
        reader = _TdsReader(_Nowhere(), _Nowhere(packets), _PACKET)  # type: ignore[arg-type]
        reader.begin_response()
        for _ in range(rows):
            reader.get_byte()
            [serializer.read(reader) for serializer in serializers]

    ours, driver = _best(times, read), _best(1, fetch)
    print(
        f"  from an answer{'':<36} {ours / driver:.3f} of the driver's ({rows / ours:,.0f} rows/s, against {rows / driver:,.0f})",
        flush=True,
    )


class _Column:
    column_name = "column"

    def __init__(self, serializer: Any) -> None:
        self.serializer = serializer


def _serializer(kind: CanonicalType) -> Any:
    factory = tds_types.SerializerFactory(tds_base.TDS74)
    sql = {
        "bigint": tds_types.BigIntType(), "integer": tds_types.IntType(), "double": tds_types.FloatType(), "date": tds_types.DateType(),
        "timestamp": tds_types.DateTime2Type(6), "boolean": tds_types.BitType(), "text": tds_types.NVarCharType(80),
    }  # fmt: skip
    return factory.serializer_by_type(sql_type=sql[kind.name], collation=raw_collation)
