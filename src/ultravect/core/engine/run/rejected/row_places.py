"""Where staged rows came from, kept on disk: however many there are, memory stays flat."""

from __future__ import annotations

import bisect
import tempfile
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from ultravect.core.contracts.write_session import RefusedRow
from ultravect.core.engine.run.rejected.rejects import Reject, key_text
from ultravect.core.engine.run.shaped import Shaped


@dataclass(frozen=True)
class _Place:
    """A batch: the object that it is of, the rows of that before it, and where its index and keys stand in the file."""

    path: str
    before: int
    rows: int
    index: tuple[int, int]
    keys: tuple[int, int] | None


class RowPlaces:
    """The rows of a load in the order in which they are staged, from 0."""

    def __init__(self) -> None:
        self._file = tempfile.TemporaryFile(prefix="ultravect-")  # noqa: SIM115 - closed with the leg
        self._places: list[_Place] = []
        self._starts: list[int] = []
        self._rows = 0
        self._read: tuple[_Place, npt.NDArray[np.int64], pa.Table | None] | None = None

    def see(self, shaped: Shaped) -> None:
        """Notes where the rows of the next batch came from."""
        rows = shaped.batch.num_rows
        if not rows:
            return
        index = self._written(np.ascontiguousarray(shaped.index, np.int64).tobytes())
        keys = None
        if shaped.keys is not None:
            sink = pa.BufferOutputStream()
            with pa.ipc.new_stream(sink, shaped.keys.schema) as writer:
                writer.write_table(shaped.keys)
            keys = self._written(sink.getvalue().to_pybytes())
        self._places.append(_Place(shaped.path, shaped.before, rows, index, keys))
        self._starts.append(self._rows)
        self._rows += rows

    def _written(self, data: bytes) -> tuple[int, int]:
        start = self._file.seek(0, 2)
        self._file.write(data)
        return start, len(data)

    def _bytes(self, part: tuple[int, int]) -> bytes:
        self._file.seek(part[0])
        return self._file.read(part[1])

    def reject(self, refused: RefusedRow) -> Reject:
        """The reject of a row that the target refused."""
        number = bisect.bisect_right(self._starts, refused.row) - 1
        place = self._places[number]
        if self._read is None or self._read[0] is not place:
            keys = pa.ipc.open_stream(self._bytes(place.keys)).read_all() if place.keys else None
            self._read = place, np.frombuffer(self._bytes(place.index), np.int64), keys
        _, index, keys = self._read
        at = refused.row - self._starts[number]
        key = "" if keys is None else key_text(keys.slice(at, 1).to_pylist()[0])
        row = place.before + int(index[at]) + 1
        return Reject(
            place.path, row, None, "", None, f"refused by the target: {refused.reason}", refused.record, key
        )

    def close(self) -> None:
        self._file.close()
