"""The shape phase: blocks of text become typed batches and rejects.

A block is first parsed straight into its types, which is fast and all there is to do when every value fits. Only rows of
which something does not fit are parsed again as text, and converted by kernels that say what it is.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any

import numpy as np
import pyarrow as pa

from ultravect.core.engine.plan.leg_plan import ColumnPlan, InputPlan
from ultravect.core.engine.plan.open_leg import OpenLeg
from ultravect.core.engine.plan.source.drift import require_parsed, require_within
from ultravect.core.engine.plan.target.target_checks import TargetCheck
from ultravect.core.engine.run.rejected.breaches import breaches
from ultravect.core.engine.run.rejected.rejects import Reject, key_text
from ultravect.core.engine.run.shaped import Shaped
from ultravect.core.expressions.bind import Bound
from ultravect.core.expressions.evaluate import Rows as InputRows
from ultravect.core.expressions.evaluate import evaluate
from ultravect.core.expressions.kernels import Computed
from ultravect.core.layouts.base import (
    Block,
    FileSpan,
    KeyedReader,
    ParsedColumns,
    Reader,
    ReportsFailures,
    Rows,
    SpansFiles,
    WantedColumn,
)
from ultravect.core.layouts.table import TableBlock
from ultravect.core.types.arrow import convert_typed, plain_array, text_at
from ultravect.core.types.casting import Converted, Mask, as_mask, try_cast
from ultravect.core.types.from_text import convert
from ultravect.core.types.misfits import explain
from ultravect.core.types.overflow import has_overflowed

_MAX_VALUE = 1000
_MAX_RECORD = 10_000
_MANY = 2  # one bad row in so many: the whole block is sorted out
# where block after block has to be sorted out, only one in some is still parsed straight into its types first
_GIVEN_UP, _TRIED_EACH = 2, 8


class Shaper:
    """Shapes the blocks of one file, or of several, in their order."""

    def __init__(
        self,
        reader: Reader,
        columns: Sequence[ColumnPlan],
        refuses: frozenset[str] = frozenset(),
        inputs: Sequence[InputPlan] = (),
        condition: Bound | None = None,
        run_id: str = "",
        checks: Sequence[TargetCheck] = (),
        bound: Mapping[str, Bound] | None = None,
        first_row: int = 0,
        rejected_keys: Sequence[str] = (),
    ) -> None:
        """``bound``: the expressions of computed columns, by their names in the plan; ``first_row``: rows of the first file that come
        before the first block; ``rejected_keys``: the columns of which rejected rows are to be known."""
        self._rejected_keys = rejected_keys
        self._checks = checks
        self._bound = bound or {}
        self._reader = reader
        self._refuses = refuses
        self._inputs = inputs
        self._condition = condition
        self._run_id = run_id
        self._plain = [column for column in columns if column.expression is None]
        self._columns = columns
        self._wanted = [WantedColumn(column.position, column.type, column.formats) for column in self._plain]
        self._needed = [WantedColumn(item.position, item.type, item.formats, plain=item.sampled) for item in inputs]
        self._schema = pa.schema([(column.name, column.type.arrow) for column in columns])
        self._path = ""
        self._logged: Mapping[str, pa.Array] = {}
        self._spans: Sequence[FileSpan] = ()
        self._rows = 0
        self._first_row = first_row
        self._in_row = 0

    @classmethod
    def of(cls, leg: OpenLeg, run_id: str = "", first_row: int = 0) -> Shaper:
        """The shaper of a leg, or of a part of it."""
        plan, refuses = leg.plan, leg.target.dialect.refuses
        keys = plan.write.keys if plan.write.flag else ()
        return cls(
            leg.reader,
            plan.columns,
            refuses,
            plan.inputs,
            leg.condition,
            run_id,
            leg.checks,
            leg.bound,
            first_row,
            keys,
        )

    def shape(self, block: Block) -> Shaped:
        self._spans = block.spans if isinstance(block, SpansFiles) else ()
        self._logged = block.logged if isinstance(block, TableBlock) else {}
        if self._spans:
            self._path, self._rows = "", 0  # each of its files begins and ends in it
        elif block.path != self._path:
            self._path, self._rows, self._first_row = block.path, self._first_row, 0
        shaped = None
        if self._in_row < _GIVEN_UP or self._in_row % _TRIED_EACH == 0:
            typed = self._read_typed(block)
            shaped = None if typed is None else self._finish(typed, block)
        self._in_row = 0 if shaped else self._in_row + 1
        if shaped is None:
            shaped = self._sort_out(block, self._reader.read(block))
        rejects = self._with_keys(block, shaped.rejects)
        shaped = replace(shaped, path=self._path, before=self._rows, rejects=rejects, spans=self._spans)
        self._rows += shaped.rows
        return shaped

    def _with_keys(self, block: Block, rejects: Sequence[Reject]) -> Sequence[Reject]:
        if not rejects or not isinstance(self._reader, KeyedReader) or not self._reader.keys:
            return rejects
        places = np.array([reject.row - 1 - self._rows for reject in rejects])
        keys = self._reader.keys_of(block, places).to_pylist()
        return [replace(entry, key=key_text(key)) for entry, key in zip(rejects, keys, strict=True)]

    def _read_typed(self, block: Block) -> ParsedColumns | None:
        """The wanted and the needed columns in their types; a column of both is parsed twice only for two types."""
        every = [*self._wanted, *self._needed]
        unique = list({(item.position, str(item.type)): item for item in every}.values())
        parts = [unique]
        if len({item.position for item in unique}) < len(unique):
            parts = [part for part in (self._wanted, self._needed) if part]
        found: dict[tuple[int, str], pa.Array] = {}
        odd = np.empty(0, np.int64)
        for part in parts:
            mostly = self._read_mostly(block, part) if part else None
            if mostly is None or not len(mostly.columns[0]):
                return None
            found |= {
                (entry.position, str(entry.type)): array for entry, array in zip(part, mostly.columns, strict=True)
            }
            odd = np.union1d(odd, mostly.odd) if len(mostly.odd) else odd
        return ParsedColumns([found[item.position, str(item.type)] for item in every], odd)

    def _read_mostly(self, block: Block, part: Sequence[WantedColumn]) -> ParsedColumns | None:
        if isinstance(self._reader, ReportsFailures):
            return self._reader.read_parsed(block, part)
        batch = self._reader.read_typed(block, part)
        return None if batch is None else ParsedColumns(batch.columns, np.empty(0, np.int64))

    def _finish(self, typed: ParsedColumns, block: Block) -> Shaped | None:
        """Converts what the parser left as strings, filters and computes, and sorts out the rows of which a value does not fit;
        None where it is better to sort out the whole block."""
        count = len(typed.columns[0])
        apart = np.zeros(count, np.bool_)
        apart[typed.odd] = True
        read = []
        for wanted, array in zip([*self._wanted, *self._needed], typed.columns, strict=True):
            if not self._reader.parses(wanted):
                converted = convert(array, wanted.type, wanted.formats)
                apart |= converted.failed
                array = converted.array
            if has_overflowed(array):
                return None
            read.append(array)
        for entry, array in zip(self._inputs, read[len(self._plain) :], strict=True):
            require_parsed(entry, array)
        rows = self._rows_of(read[len(self._plain) :], block.path, np.arange(count), count)
        kept = None
        if self._condition is not None:
            condition = evaluate(self._condition, rows)
            for _, mask in condition.failures:
                apart |= mask
            kept = as_mask(condition.array)
        plain = iter(read)
        arrays = []
        for column in self._columns:
            if column.expression is None:
                array = next(plain)
            else:
                computed = evaluate(self._bound[column.source], rows)
                converted = convert_typed(computed.array, column.type, column.formats)
                apart |= converted.failed
                for _, mask in computed.failures:
                    apart |= mask
                array = converted.array
            for _, breached in breaches(array, column, block.has_nul, self._refuses):
                apart |= as_mask(breached)
            arrays.append(array)
        for check in self._checks:
            apart |= check.broken(arrays)
        made = pa.RecordBatch.from_arrays(arrays, schema=self._schema)
        index = np.arange(count)
        if not apart.any():
            if kept is not None:
                made, index = made.filter(pa.array(kept)), index[kept]
            return Shaped(count, block.size, made, (), count - made.num_rows, index)
        if not isinstance(self._reader, ReportsFailures) or _MANY * int(apart.sum()) > count:
            return None
        fine = ~apart if kept is None else ~apart & kept
        sorted_out = self._sort_out(block, self._reader.only(block, np.flatnonzero(apart)))
        made, index = made.filter(pa.array(fine)), index[fine]
        if sorted_out.batch.num_rows:
            # what turned out to fit goes back to its place
            index = np.concatenate([index, sorted_out.index])
            order = np.argsort(index)
            both = pa.Table.from_batches([made, sorted_out.batch]).take(pa.array(order)).combine_chunks()
            made, index = both.to_batches()[0], index[order]
        filtered = count - made.num_rows - len(sorted_out.rejects)
        keys = sorted_out.rejected_keys
        return Shaped(count, block.size, made, sorted_out.rejects, filtered, index, rejected_keys=keys)

    def _rows_of(self, inputs: Sequence[pa.Array], path: str, index: Any, count: int) -> InputRows:
        """What expressions see; ``index`` are the places of the rows in their block."""
        columns = {entry.slot: array for entry, array in zip(self._inputs, inputs, strict=True)}
        if not self._spans:
            logged = {name: values.take(pa.array(index)) for name, values in self._logged.items()}
            return InputRows(columns, count, path, pa.array(index + self._rows + 1, pa.int64()), self._run_id, logged)
        firsts = np.array([span.first_row for span in self._spans])
        at = np.searchsorted(firsts, index, side="right") - 1
        paths = pa.array([span.path for span in self._spans]).take(pa.array(at))
        return InputRows(columns, count, paths, pa.array(index - firsts[at] + 1, pa.int64()), self._run_id)

    def _sort_out(self, block: Block, rows: Rows) -> Shaped:
        """Converts rows of a block by kernels that say which of them do not fit, and why."""
        count = len(rows.index)
        reasons: dict[int, tuple[str, str | None, str]] = {}
        bad = np.zeros(count, np.bool_)
        inputs = []
        for item in self._inputs:
            raw = plain_array(rows.values.column(item.position))
            require_within(item, raw)
            wanted = ColumnPlan(item.position, item.source, item.source, item.type, "", item.formats)
            array, failed = self._convert(raw, wanted, False, frozenset(), reasons)
            bad |= failed
            inputs.append(array)
        seen = self._rows_of(inputs, block.path, rows.index, count)
        kept = np.ones(count, np.bool_)
        if self._condition is not None:
            condition = evaluate(self._condition, seen)
            bad |= self._note(condition, "from.where", reasons)
            kept = as_mask(condition.array) | bad
        arrays = []
        known = np.full(count, bool(self._rejected_keys))
        for column in self._columns:
            if column.expression is None:
                raw = plain_array(rows.values.column(column.position))
                array, failed = self._convert(raw, column, block.has_nul, self._refuses, reasons)
            else:
                computed = evaluate(self._bound[column.source], seen)
                unknown = self._note(computed, column.name, reasons)
                array, failed = self._convert(computed.array, column, block.has_nul, self._refuses, reasons)
                failed |= unknown
            bad |= failed
            if column.name in self._rejected_keys:
                known &= ~failed & as_mask(array.is_valid())
            arrays.append(array)
        for check in self._checks:
            broken = check.broken(arrays) & ~bad
            for at in np.flatnonzero(broken):
                reasons.setdefault(int(at), (check.column, check.value(arrays, int(at)), check.reason))
            bad |= broken
        bad &= kept  # what is filtered out has no need to fit
        rejects = [self._reject(block, item.index, "", None, item.reason) for item in rows.bad]
        for at in np.flatnonzero(bad):
            name, value, reason = reasons[int(at)]
            rejects.append(self._reject(block, int(rows.index[at]), name, value, reason))
        rejects.sort(key=lambda reject: reject.row)
        batch = pa.RecordBatch.from_arrays(arrays, schema=self._schema)
        keys = batch.select(list(self._rejected_keys)).filter(pa.array(bad & known)) if known.any() else None
        index = rows.index
        if (dropped := bad | ~kept).any():
            batch, index = batch.filter(pa.array(~dropped)), index[~dropped]
        return Shaped(rows.count, block.size, batch, rejects, int((~kept).sum()), index, rejected_keys=keys)

    @staticmethod
    def _note(computed: Computed, name: str, reasons: dict[int, tuple[str, str | None, str]]) -> Mask:
        """Notes why rows could not be computed, and gives which."""
        failed = np.zeros(len(computed.array), np.bool_)
        for reason, mask in computed.failures:
            for at in np.flatnonzero(mask):
                reasons.setdefault(int(at), (name, None, reason))
            failed |= mask
        return failed

    def _reject(self, block: Block, index: int, column: str, value: str | None, reason: str) -> Reject:
        """``index`` counts the rows of the block."""
        kept = None if value is None else value[:_MAX_VALUE]
        record = block.row_text(index)[:_MAX_RECORD]
        path, row = block.path, self._rows + 1 + index
        if self._spans:
            span = self._spans[bisect_right(self._spans, index, key=lambda span: span.first_row) - 1]
            path, row = span.path, index - span.first_row + 1
        return Reject(path, row, block.row_line(index), column, kept, reason, record)

    def _is_text(self, column: ColumnPlan) -> bool:
        """Whether bytes are text that is not decoded yet."""
        if column.expression is not None:
            return False
        given = self._reader.given[column.position]
        return given is None or given.name != "binary"

    def _convert(
        self,
        raw: pa.Array,
        column: ColumnPlan,
        has_nul: bool,
        refuses: frozenset[str],
        reasons: dict[int, tuple[str, str | None, str]],
    ) -> tuple[pa.Array, Mask]:
        """Converts one column; for rows that fail, notes the first reason of each."""
        decoded = Converted(raw, np.zeros(len(raw), np.bool_))
        if pa.types.is_binary(raw.type) and self._is_text(column):
            decoded = try_cast(raw, pa.string())
            for at in np.flatnonzero(decoded.failed):
                value = raw[int(at)].as_py()
                broken = next(byte for byte in value if byte >= 0x80)
                reason = (
                    f"not valid UTF-8 (byte 0x{broken:02X}); if the file is in another encoding, set layout.encoding"
                )
                reasons.setdefault(int(at), (column.source, value.decode("utf-8", "backslashreplace"), reason))
        converted = convert_typed(decoded.array, column.type, column.formats)
        failed = converted.failed | decoded.failed
        for at in np.flatnonzero(converted.failed):
            value = text_at(decoded.array, int(at))
            reasons.setdefault(int(at), (column.source, value, explain(value or "", column.type, column.formats)))
        for reason, mask in breaches(converted.array, column, has_nul, refuses):
            breached = as_mask(mask) & ~failed
            for at in np.flatnonzero(breached):
                reasons.setdefault(int(at), (column.source, text_at(decoded.array, int(at)), reason))
            failed |= breached
        return converted.array, failed
