"""Writes the Parquet files of lake tables, with the statistics by which readers leave files out."""

from __future__ import annotations

import datetime as dt
import decimal
import hashlib
import json
import math
import re
import secrets
import tempfile
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq

from ultravect.core.errors import UltravectError
from ultravect.core.kinds.lake.loads.commits import NewFile, partition_text
from ultravect.core.kinds.lake.partitions import PartitionField, keys_of
from ultravect.core.kinds.lake.place import LakePlace
from ultravect.core.kinds.lake.session import connected

_FILE_BYTES = 128 << 20
_GROUP_ROWS = 512 * 1024
_OPEN_FILES = 32
_WAITING_ROWS = 1 << 20
_SORTED_ROWS = 100_000
_NUMBER = "ultravect_partition"
_MOST_PARTITIONS = 10_000
_MEASURED = 32
_TEXT = 32
_PLAIN = re.compile(r"[A-Za-z0-9._-]{1,60}")


_Key = tuple[Any, ...]


class DataFiles:
    """Files of one load into the table at ``folder``; they are part of no version before they are committed.

    Of a partitioned table, each partition gets one file, or as many as its size asks for. The first partitions are written as their rows
    come; rows of all others wait on this machine's disk until the end, and are written partition by partition.
    """

    def __init__(self, place: LakePlace, folder: str, schema: pa.Schema, fields: Sequence[PartitionField]) -> None:
        self._place, self._path, self._schema, self._fields = place, folder, schema, list(fields)
        self._held = schema if place.format.holds_partitions else _without(schema, [field.column for field in fields])
        self._open: dict[_Key, _File] = {}
        self._seen: dict[_Key, int] = {}
        self._later: _Waiting | None = None
        self.files: list[NewFile] = []

    def write(self, batch: pa.RecordBatch) -> None:
        """Writes rows that have the columns of the table."""
        if not batch.num_rows:
            return
        if not self._fields:
            self._file(()).write(batch)
            return
        held = batch.select(self._held.names)
        for key, places in _groups(keys_of(batch, self._fields)):
            self._note(key)
            rows = held if len(places) == batch.num_rows else held.take(places)
            if key in self._open or len(self._open) < _OPEN_FILES:
                self._file(key).write(rows)
            else:
                self._later = self._later or _Waiting(self._held)
                self._later.add(rows, self._seen[key])
        if sum(file.waiting for file in self._open.values()) > _WAITING_ROWS:
            for file in self._open.values():
                file.flush()

    def close(self) -> Sequence[NewFile]:
        """Ends all files, and gives them."""
        while self._open:
            self._end(next(iter(self._open)))
        if self._later is not None:
            keys = list(self._seen)
            for number, rows in self._later.partitions():
                for key in list(self._open):
                    if key != keys[number]:
                        self._end(key)
                self._file(keys[number]).write(rows)
            while self._open:
                self._end(next(iter(self._open)))
            self._drop_later()
        return self.files

    def _drop_later(self) -> None:
        if self._later is not None:
            self._later.close()
            self._later = None

    def discard(self) -> None:
        """Removes what was written: nothing refers to it."""
        self._drop_later()
        for file in self._open.values():
            file.abort()
        self._open.clear()
        for written in self.files:
            self._remove(written.path)
        self.files.clear()

    def _remove(self, path: str) -> None:
        try:
            self._place.files.delete_file(f"{self._path}/{path}")
        except OSError:
            return  # readers never see it, and the next removal of old files takes it away

    def _file(self, key: _Key) -> _File:
        found = self._open.get(key)
        if found is not None and found.size > _FILE_BYTES:
            self._end(key)
            found = None
        if found is None:
            found = self._open[key] = _File(self._place, self._path, self._named(key), self._held)
        return found

    def _note(self, key: _Key) -> None:
        self._seen.setdefault(key, len(self._seen))
        if len(self._seen) > _MOST_PARTITIONS:
            raise UltravectError(
                "too-many-partitions",
                f"{', '.join(field.name for field in self._fields)} have more than {_MOST_PARTITIONS:,} different values, and each makes a file "
                "of its own; nothing was written",
                hint="partition by a column with fewer values",
            )

    def _named(self, key: _Key) -> str:
        folders = [
            f"{_folder(field.name)}={_folder(partition_text(value))}/"
            for field, value in zip(self._fields, key, strict=True)
        ]
        return self._place.format.data + "".join(folders) + f"part-{secrets.token_hex(12)}.parquet"

    def _end(self, key: _Key) -> None:
        file = self._open.pop(key)
        size, rows, statistics = file.close()
        partition = {field.name: value for field, value in zip(self._fields, key, strict=True)}
        self.files.append(NewFile(file.path, size, rows, partition, statistics))


def _groups(keys: pa.Table) -> Iterator[tuple[_Key, pa.Array]]:
    """The different keys of rows, each with the places of its rows, in their order."""
    names = keys.column_names
    numbered = keys.append_column("row", pa.array(np.arange(keys.num_rows)))
    groups = numbered.group_by(names).aggregate([("row", "list")]).combine_chunks()
    places = groups.column("row_list").combine_chunks()
    values = zip(*(groups.column(name).to_pylist() for name in names), strict=True)
    for number, key in enumerate(values):
        yield key, places[number].values


class _Waiting:
    """Rows of partitions that are written last, in a database on this machine's disk."""

    def __init__(self, schema: pa.Schema) -> None:
        self._folder = tempfile.TemporaryDirectory(prefix="ultravect-lake-")
        self._session = connected(spill=self._folder.name)
        self._schema = schema
        self._session.register("ultravect_shape", schema.append(pa.field(_NUMBER, pa.int32())).empty_table())
        self._session.execute("CREATE TABLE waiting AS SELECT * FROM ultravect_shape")
        self._session.unregister("ultravect_shape")

    def add(self, rows: pa.RecordBatch, number: int) -> None:
        numbers = pa.array(np.full(rows.num_rows, number, np.int32))
        self._session.register("ultravect_rows", pa.table([*rows.columns, numbers], [*rows.schema.names, _NUMBER]))
        self._session.execute("INSERT INTO waiting SELECT * FROM ultravect_rows")
        self._session.unregister("ultravect_rows")

    def partitions(self) -> Iterator[tuple[int, pa.RecordBatch]]:
        """The rows of each partition after those of the one before, with its number."""
        for batch in self._session.sql(f"SELECT * FROM waiting ORDER BY {_NUMBER}").to_arrow_reader(_SORTED_ROWS):
            numbers = batch.column(_NUMBER).to_numpy()
            rows = batch.drop_columns([_NUMBER]).cast(self._schema)
            starts = np.flatnonzero(np.diff(numbers, prepend=-1))
            for start, end in zip(starts, [*starts[1:], len(numbers)], strict=True):
                yield int(numbers[start]), rows.slice(start, end - start)

    def close(self) -> None:
        self._session.close()
        self._folder.cleanup()


def _without(schema: pa.Schema, names: Sequence[str]) -> pa.Schema:
    return pa.schema([field for field in schema if field.name not in names])


def _folder(value: str | None) -> str:
    """The name of a folder for a value; which value it is says the table's log."""
    text = "__HIVE_DEFAULT_PARTITION__" if value is None else value
    return text if _PLAIN.fullmatch(text) else hashlib.sha256(text.encode()).hexdigest()[:16]


class _File:
    def __init__(self, place: LakePlace, table: str, path: str, schema: pa.Schema) -> None:
        self.path = path
        folder = f"{table}/{path}".rpartition("/")[0]
        place.make_folder(folder)
        self._place, self._whole = place, f"{table}/{path}"
        self._sink = place.files.open_output_stream(self._whole)
        self._collected: list[Any] = []
        self._writer = pq.ParquetWriter(
            self._sink,
            schema,
            compression="snappy",
            # texts repeat themselves, and numbers and moments seldom do: trying costs more than it saves
            use_dictionary=[field.name for field in schema if pa.types.is_string(field.type)],
            metadata_collector=self._collected,
            store_schema=False,
        )
        self._schema = schema
        self._waiting: list[pa.RecordBatch] = []
        self._rows = 0

    @property
    def size(self) -> int:
        return int(self._sink.tell())

    def write(self, batch: pa.RecordBatch) -> None:
        self._waiting.append(batch)
        self._rows += batch.num_rows
        if self.waiting >= _GROUP_ROWS:
            self.flush()

    @property
    def waiting(self) -> int:
        """How many rows are in memory."""
        return sum(batch.num_rows for batch in self._waiting)

    def flush(self) -> None:
        if self._waiting:
            self._writer.write_table(pa.Table.from_batches(self._waiting, self._schema), row_group_size=_GROUP_ROWS)
            self._waiting = []

    def close(self) -> tuple[int, int, str]:
        """Size in bytes, rows, and statistics."""
        self.flush()
        self._writer.close()
        size = self.size
        self._sink.close()
        return size, self._rows, json.dumps(_statistics(self._collected[0], self._schema))

    def abort(self) -> None:
        try:
            self._writer.close()
            self._sink.close()
            self._place.files.delete_file(self._whole)
        except (OSError, pa.ArrowException):
            return


def _statistics(metadata: Any, schema: pa.Schema) -> Mapping[str, Any]:
    """Rows, bounds and NULLs of the first columns, from the file's own footer."""
    least: dict[str, Any] = {}
    most: dict[str, Any] = {}
    nulls: dict[str, int] = {}
    for position, field in enumerate(schema):
        # columns of nested types are several in the footer
        if position >= _MEASURED or pa.types.is_nested(field.type):
            break
        groups = [metadata.row_group(group).column(position).statistics for group in range(metadata.num_row_groups)]
        if any(group is None for group in groups):
            continue
        nulls[field.name] = sum(group.null_count for group in groups)
        bounds = [group for group in groups if group.has_min_max]
        if len(bounds) < sum(group.num_values > 0 for group in groups) or not bounds:
            continue
        low, high = (
            _written(min(group.min for group in bounds)),
            _written(max(group.max for group in bounds), up=True),
        )
        if low is not None and high is not None:
            least[field.name], most[field.name] = low, high
    return {"numRecords": metadata.num_rows, "minValues": least, "maxValues": most, "nullCount": nulls}


_MILLISECOND = dt.timedelta(milliseconds=1)
_LAST_MOMENT = dt.datetime.max - _MILLISECOND


def _written(value: Any, *, up: bool = False) -> Any:
    """A bound as JSON has it, None where it can be none; ``up``: what is shortened must not become less."""
    if isinstance(value, bool | bytes):
        return None
    if isinstance(value, int):
        return value
    if isinstance(value, float):
        return value if math.isfinite(value) else None
    if isinstance(value, decimal.Decimal):
        return float(value) if value == decimal.Decimal(repr(float(value))) else None
    if isinstance(value, dt.datetime):
        # milliseconds are what readers keep
        rest = value.microsecond % 1000
        value -= dt.timedelta(microseconds=rest)
        if up and rest:
            if value.replace(tzinfo=None) > _LAST_MOMENT:
                return None
            value += _MILLISECOND
        written = value.replace(tzinfo=None).isoformat(timespec="milliseconds")
        return f"{written}Z" if value.tzinfo else written
    if isinstance(value, dt.date):
        return value.isoformat()
    if isinstance(value, str):
        return value[:_TEXT] if not up or len(value) <= _TEXT else None
    return None
