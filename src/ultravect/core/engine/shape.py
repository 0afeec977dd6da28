"""The shape phase: blocks of text become typed batches and rejects.

A block is first parsed straight into its types, which is fast and all there is to do when every value fits. Only a
block in which something does not fit is parsed again as text and converted by kernels that tell which rows it is.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ultravect.core.engine.plan import ColumnPlan
from ultravect.core.engine.rejects import Reject
from ultravect.core.layouts.base import Block, Reader, WantedColumn
from ultravect.core.types.arrow import as_text, convert_typed, plain_array
from ultravect.core.types.from_text import Converted, Mask, as_mask, convert, explain, has_overflowed, try_cast

_MAX_VALUE = 1000
_NATIVE_DIGITS = re.compile(r"\((\d+),\s*(\d+)\)$")
_MAX_RECORD = 10_000


@dataclass(frozen=True)
class Shaped:
    """``rows`` were read; the good ones are in ``batch``, the others in ``rejects``."""

    rows: int
    bytes: int
    batch: pa.RecordBatch
    rejects: Sequence[Reject]


def _any(mask: pa.Array) -> bool:
    return bool(pc.any(mask).as_py())


def _breaches(
    array: pa.Array, column: ColumnPlan, has_nul: bool, refuses: frozenset[str]
) -> list[tuple[str, pa.Array]]:
    """What the target's column would not take of converted values: reasons, each with a mask.

    ``refuses``: what the target takes in no column, as its dialect says.
    """
    found: list[tuple[str, pa.Array]] = []
    kind = column.type
    if not column.nullable and array.null_count:
        found.append(("no value, and the target's column takes no NULL", array.is_null()))
    if pa.types.is_string(array.type):
        if kind.length is not None:
            found.append((f"longer than {kind.length} characters", pc.greater(pc.utf8_length(array), kind.length)))
        if has_nul and "nul" in refuses:
            found.append(("has a NUL character, which the target cannot store", pc.match_substring(array, "\0")))
        if kind.name == "decimal" and (limit := _NATIVE_DIGITS.search(column.native)):
            before, behind = int(limit[1]) - int(limit[2]), int(limit[2])
            fits = pc.match_substring_regex(array, rf"^-?0*[0-9]{{0,{before}}}(?:\.[0-9]{{0,{behind}}}0*)?$")
            reason = f"more than {before} digits before the decimal mark, or {behind} behind it"
            found.append((reason, pc.invert(fits)))
    if "long numbers" in refuses and kind.name == "decimal" and "TEXT" not in column.native.upper():
        digits = pc.replace_substring_regex(pc.replace_substring(as_text(array), ".", ""), r"^-?0*", "")
        found.append(("more than 15 digits, which the target would round", pc.greater(pc.utf8_length(digits), 15)))
    if pa.types.is_binary(array.type) and kind.length is not None:
        found.append((f"longer than {kind.length} bytes", pc.greater(pc.binary_length(array), kind.length)))
    if pa.types.is_floating(array.type) and "not finite" in refuses:
        found.append(("no finite number, which the target cannot store", pc.invert(pc.is_finite(array))))
    if "far years" in refuses and (pa.types.is_date(array.type) or pa.types.is_timestamp(array.type)):
        year = pc.year(array)
        far = pc.or_(pc.less(year, 1), pc.greater(year, 9999))
        found.append(("a year that the target cannot store: it takes 1 to 9999", far))
    if kind.precision is not None and kind.name in ("time", "timestamp", "timestamptz"):
        step = 10 ** (6 - kind.precision)
        ticks = array.cast(pa.int64())
        rest = pc.subtract(ticks, pc.multiply(pc.divide(ticks, step), step))
        found.append((f"more than {kind.precision} fractional digits of seconds", pc.not_equal(rest, 0)))
    return found


class Shaper:
    """Shapes the blocks of one file, or of several, in their order."""

    def __init__(self, reader: Reader, columns: Sequence[ColumnPlan], refuses: frozenset[str] = frozenset()) -> None:
        self._reader = reader
        self._refuses = refuses
        self._columns = columns
        self._wanted = [WantedColumn(column.position, column.type, column.formats) for column in columns]
        self._schema = pa.schema([(column.name, column.type.arrow) for column in columns])
        self._path = ""
        self._rows = 0

    def shape(self, block: Block) -> Shaped:
        if block.path != self._path:
            self._path, self._rows = block.path, 0
        batch = self._reader.read_typed(block, self._wanted)
        if batch is not None:
            batch = self._finish(batch, block.has_nul)
        if batch is not None:
            shaped = Shaped(batch.num_rows, block.size, batch, ())
        else:
            shaped = self._sort_out(block)
        self._rows += shaped.rows
        return shaped

    def _finish(self, batch: pa.RecordBatch, has_nul: bool) -> pa.RecordBatch | None:
        """Converts what the parser left as strings; None where a value turns out not to fit."""
        arrays = []
        for column, wanted, array in zip(self._columns, self._wanted, batch.columns, strict=True):
            if not self._reader.parses(wanted):
                converted = convert(array, column.type, column.formats)
                if converted.failed.any():
                    return None
                array = converted.array
            if has_overflowed(array):
                return None
            if any(_any(mask) for _, mask in _breaches(array, column, has_nul, self._refuses)):
                return None
            arrays.append(array)
        return pa.RecordBatch.from_arrays(arrays, schema=self._schema)

    def _sort_out(self, block: Block) -> Shaped:
        rows = self._reader.read(block)
        bad = np.zeros(len(rows.index), np.bool_)
        reasons: dict[int, tuple[ColumnPlan, str | None, str]] = {}
        arrays = []
        for column in self._columns:
            raw = plain_array(rows.values.column(column.position))
            array, failed = self._convert(raw, column, block.has_nul, reasons)
            bad |= failed
            arrays.append(array)
        rejects = [self._reject(block, one.index, "", None, one.reason) for one in rows.bad]
        for at in np.flatnonzero(bad):
            column, value, reason = reasons[int(at)]
            rejects.append(self._reject(block, int(rows.index[at]), column.source, value, reason))
        rejects.sort(key=lambda reject: reject.row)
        batch = pa.RecordBatch.from_arrays(arrays, schema=self._schema)
        if bad.any():
            batch = batch.filter(pa.array(~bad))
        return Shaped(rows.count, block.size, batch, rejects)

    def _reject(self, block: Block, index: int, column: str, value: str | None, reason: str) -> Reject:
        """``index`` counts the rows of the block."""
        kept = None if value is None else value[:_MAX_VALUE]
        record = block.row_text(index)[:_MAX_RECORD]
        return Reject(block.path, self._rows + 1 + index, block.row_line(index), column, kept, reason, record)

    def _convert(
        self,
        raw: pa.Array,
        column: ColumnPlan,
        has_nul: bool,
        reasons: dict[int, tuple[ColumnPlan, str | None, str]],
    ) -> tuple[pa.Array, Mask]:
        """Converts one column; for rows that fail, notes the first reason of each."""
        decoded = Converted(raw, np.zeros(len(raw), np.bool_))
        if pa.types.is_binary(raw.type) and self._reader.given[column.position] is None:
            decoded = try_cast(raw, pa.string())
            for at in np.flatnonzero(decoded.failed):
                value = raw[int(at)].as_py()
                broken = next(byte for byte in value if byte >= 0x80)
                reason = (
                    f"not valid UTF-8 (byte 0x{broken:02X}); if the file is in another encoding, set layout.encoding"
                )
                reasons.setdefault(int(at), (column, value.decode("utf-8", "backslashreplace"), reason))
        converted = convert_typed(decoded.array, column.type, column.formats)
        failed = converted.failed | decoded.failed
        for at in np.flatnonzero(converted.failed):
            value = _shown(decoded.array, int(at))
            reasons.setdefault(int(at), (column, value, explain(value or "", column.type, column.formats)))
        for reason, mask in _breaches(converted.array, column, has_nul, self._refuses):
            breached = as_mask(mask) & ~failed
            for at in np.flatnonzero(breached):
                reasons.setdefault(int(at), (column, _shown(decoded.array, int(at)), reason))
            failed |= breached
        return converted.array, failed


def _shown(values: pa.Array, at: int) -> str | None:
    """A value as text, for a message."""
    text: str | None = as_text(values.slice(at, 1)).to_pylist()[0]
    return text
