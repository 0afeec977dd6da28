"""One table of a stream: how its changes become rows of the target."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from ultravect.core.contracts.change_log import ChangeLog, Changes, Kind, LoggedTable, LogMark
from ultravect.core.contracts.mark import MarkKey
from ultravect.core.contracts.write_plan import Insert, Merge, Remove, WritePlan
from ultravect.core.dialects.base import NewColumn
from ultravect.core.engine.objects.tables import TableRows
from ultravect.core.engine.plan.leg_plan import ColumnPlan
from ultravect.core.engine.plan.newer.newer_log import key_places
from ultravect.core.engine.plan.open_leg import OpenLeg
from ultravect.core.engine.plan.planning import Planning
from ultravect.core.engine.run.rejected.rejects import Reject, key_text
from ultravect.core.engine.run.shape import Shaper
from ultravect.core.engine.stream.folding import Places, fold, in_place, key_numbers
from ultravect.core.expressions.bind import RunFact, columns_in, parts_of
from ultravect.core.types.arrow import convert_typed, plain_array
from ultravect.core.types.canonical import CanonicalType
from ultravect.core.types.stored import STORED
from ultravect.core.types.written import plain_text

SNAPSHOT, EMPTIED = "snapshot", "truncate"
"""What ``change()`` gives of a row of the beginning, and of a table that was emptied at once; of others, the word of their kind."""

_WORDS = np.array([EMPTIED, *(kind.name.lower() for kind in Kind)])
_LOOKED_UP_AT_ONCE = 200
_TEXT = CanonicalType("text")


@dataclass(frozen=True)
class Step:
    """Rows that are brought into a table of the target by one execution of ``plan``."""

    table: StreamTable
    plan: WritePlan
    batch: pa.RecordBatch
    rows: int
    rejects: Sequence[Reject] = ()


class StreamTable:
    """``object`` names it in the job; ``mark`` is how far it was copied, None where it was not; ``held`` that entry as it is in the target."""

    def __init__(
        self, object_name: str, planned: Planning, log: ChangeLog, key: MarkKey, mark: LogMark | None, run_id: str
    ) -> None:
        self._log = log
        self.object, self.key, self.mark, self.held = object_name, key, mark, mark.as_text() if mark else None
        opened = self._opened = OpenLeg.of(planned)
        assert isinstance(opened.reader, TableRows) and opened.reader.live is not None
        self.reader, self.live = opened.reader, opened.reader.live
        self.job, self.target = opened.job, opened.target
        self.columns = opened.plan.columns
        self.left_out = frozenset(planned.left_out)
        self.is_mirror = self.job.into.matches_rows
        self._run_id = run_id
        self._keys = key_places(planned)
        self._says_position = any(
            isinstance(part, RunFact) and part.what == "log_position"
            for bound in (*opened.bound.values(), *([opened.condition] if opened.condition is not None else []))
            for part in parts_of(bound)
        )
        self._shapers: dict[tuple[tuple[str, ...], bool], Shaper] = {}
        write = replace(
            opened.plan.write, create=None, rebuild=False, changes=(), before=(), after=(), samples=0, receipts=False, marks=True,
            counts_all=False, only_if_empty=False, source=f"changes of {self.reader.label}",
        )  # fmt: skip
        flag = write.flag
        self._gone = write.merges.gone if write.merges is not None else None
        self._write = (
            replace(write, action=Merge(unflags=flag), repeats="last")
            if self.is_mirror
            else replace(write, action=Insert())
        )
        kept = [column for column in self.columns if column.key]
        self._remove = replace(write, action=Remove(flag=flag), columns=_new(kept), repeats="last")

    @property
    def write_plan(self) -> WritePlan:
        """That of rows with all columns."""
        return self._write

    def logged(self, mark: LogMark, accepted: frozenset[str]) -> LoggedTable:
        """What the log is asked for."""
        keys = self._keys if self.is_mirror else ()
        return LoggedTable(self.live.name, self.reader.columns, mark, keys, self.left_out, accepted)

    def key_text(self, batch: pa.RecordBatch, row: int) -> str:
        """The key of a row for the target, see ``Reject.key``."""
        held = [column.name for column in self.columns if column.key and column.name in batch.schema.names]
        return (
            key_text({name: plain_text(batch.column(name).slice(row, 1))[0].as_py() for name in held}) if held else ""
        )

    # a history

    def history(self, changes: Changes) -> list[Step]:
        """Each change as a row; what a row was before is not one."""
        chosen = np.flatnonzero(changes.kinds != Kind.FORMER)
        batch, _, rejects = self._shape(changes, changes.values, chosen, self.columns, filters=True)
        return [Step(self, self._write, batch, len(chosen), rejects)]

    def emptied_row(self, position: int, moment: int) -> list[Step]:
        """The row that a history keeps of a table that was emptied at once."""
        nothing = pa.table(
            [pa.nulls(1, (kind.arrow if kind else pa.string())) for kind in self.reader.given],
            names=self.reader.names,
        )
        one = np.zeros(1, np.int64)
        changes = Changes(self.live.name, nothing, np.zeros(1, np.int8), one, one + position, one + moment)
        batch, _, rejects = self._shape(changes, nothing, one, self.columns, filters=False)
        return [Step(self, self._write, batch, 1, rejects)]

    def emptied(self) -> list[Step]:
        """All rows of the target go, or are flagged."""
        if self._gone is None:
            return []
        assert self._remove.removes is not None
        plan = replace(self._remove, action=replace(self._remove.removes, every=True))
        empty = pa.RecordBatch.from_pylist(
            [], pa.schema([(column.name, column.type.arrow) for column in plan.columns])
        )
        return [Step(self, plan, empty, 0)]

    # a mirror

    def removals_and_rows(self, changes: Changes, *, fresh: bool) -> tuple[list[Step], list[Step]]:
        """The steps of a mirror, folded to one change of a key: those that take rows away, and those that write rows.

        ``fresh``: whether these are the first changes of a window, so that the target is as the window found it.
        """
        folded = fold(changes, self._keys)
        partly = sorted(folded.unknown)
        moved = [row for row in partly if row in folded.moved and fresh and self._may_be_partial(folded.unknown[row])]
        looked_up = [
            row
            for row in partly
            if row not in moved and (row in folded.moved or not self._may_be_partial(folded.unknown[row]))
        ]
        values = self._looked_up(folded.values, looked_up, folded.unknown)
        whole = folded.written[~np.isin(folded.written, [row for row in partly if row not in looked_up])]
        written, removed = [], [folded.removed]
        batch, left_out, rejects = self._shape(changes, values, whole, self.columns, filters=True)
        removed.append(left_out)
        written.append(Step(self, self._write, batch, len(whole), rejects))
        groups: dict[tuple[frozenset[int], bool], list[int]] = {}
        for row in partly:
            if row not in looked_up:
                groups.setdefault((folded.unknown[row], row in moved), []).append(row)
        for (places, is_moved), rows in groups.items():
            columns, plan = self._without(places)
            if is_moved:
                # one by one: they are few
                for row in rows:
                    batch, left_out, rejects = self._shape(
                        changes, values, np.array([row], np.int64), columns, filters=True
                    )
                    removed.append(left_out)
                    if batch.num_rows:
                        batch = self._with_target(changes, values, row, folded.moved[row], places, batch)
                    written.append(Step(self, self._write, batch, 1, rejects))
                continue
            batch, left_out, rejects = self._shape(changes, values, np.array(rows, np.int64), columns, filters=True)
            removed.append(left_out)
            written.append(Step(self, plan, batch, len(rows), rejects))
        gone = np.sort(np.concatenate(removed))
        return self._removals(changes, values, gone), [step for step in written if step.rows]

    def _with_target(
        self, changes: Changes, values: pa.Table, row: int, former: int, places: frozenset[int], batch: pa.RecordBatch
    ) -> pa.RecordBatch:
        """A row whose key was another one, with those values that stay as the target has them under that key."""
        keys = [column for column in self.columns if column.key]
        old, _, _ = self._shape(changes, changes.values, np.array([former], np.int64), keys, filters=False)
        database = self.target.database
        live = database.table(self._write.table) if database is not None else None
        held = [column for column in self.columns if column.name not in batch.schema.names]
        if database is not None and live is not None and old.num_rows:
            wanted = [item for item in live.columns if item.name in {column.name for column in held}]
            natives = {item.name: item.native for item in live.columns if item.name in old.schema.names}
            types = {column.name: column.type for column in keys}
            texts = [plain_text(plain_array(old.column(name)))[0].as_py() for name in natives]
            constants = [
                database.dialect.constant(text, types[name]) for name, text in zip(natives, texts, strict=True)
            ]
            rows = TableRows(database, database.dialect.table(live.name), wanted, str(live.name), live=live)
            rows = replace(rows, condition=database.dialect.among(natives, [constants]), findings=[])
            for block in rows.blocks():
                found = rows.read(block).values
                if found.num_rows:
                    known = {name: plain_array(found.column(name)).slice(0, 1) for name in found.column_names}
                    known |= dict(zip(batch.schema.names, batch.columns, strict=True))
                    arrays = [convert_typed(known[column.name], column.type, STORED).array for column in self.columns]
                    return pa.RecordBatch.from_arrays(arrays, names=[column.name for column in self.columns])
        completed = self._looked_up(values, [row], {row: places})
        return self._shape(changes, completed, np.array([row], np.int64), self.columns, filters=True)[0]

    def one_by_one(self, changes: Changes) -> list[tuple[int, int, Step]]:
        """The steps of a mirror in the order of the changes, one for each: with the number of the change, and that of its key."""
        numbers = key_numbers(changes.values, self._keys)
        rows = np.flatnonzero(in_place(changes, numbers))
        partial = {place: set(map(int, found)) for place, found in changes.unknown.items()}
        found = []
        for row in map(int, rows):
            one = np.array([row], np.int64)
            if changes.kinds[row] in (Kind.DELETE, Kind.FORMER):
                steps = self._removals(changes, changes.values, one)
            else:
                places = frozenset(place for place, known in partial.items() if row in known)
                moved = changes.kinds[row - 1] == Kind.FORMER and numbers[row - 1] != numbers[row] if row else False
                values, plan = changes.values, self._write
                columns: Sequence[ColumnPlan] = self.columns
                if places and (moved or not self._may_be_partial(places)):
                    values = self._looked_up(values, [row], {row: places})
                elif places:
                    columns, plan = self._without(places)
                batch, left_out, rejects = self._shape(changes, values, one, columns, filters=True)
                steps = [*self._removals(changes, values, left_out), Step(self, plan, batch, 1, rejects)]
            found += [(int(changes.order[row]), int(numbers[row]), step) for step in steps]
        return found

    def _removals(self, changes: Changes, values: pa.Table, rows: Places) -> list[Step]:
        if not len(rows) or self._gone is None:
            return []
        keys = [column for column in self.columns if column.key]
        batch, _, rejects = self._shape(changes, values, rows, keys, filters=False)
        return [Step(self, self._remove, batch, len(rows), rejects)]

    def _inputs_of(self, column: ColumnPlan) -> set[int]:
        return {column.position} if column.expression is None else columns_in(self._opened.bound[column.source])

    def _may_be_partial(self, places: frozenset[int]) -> bool:
        """Whether the columns of the target that these make are made of nothing else, so that they stay as they are."""
        if self._opened.checks or any(column.key and self._inputs_of(column) & places for column in self.columns):
            return False
        condition = self._opened.condition
        if condition is not None and columns_in(condition) & places:
            return False
        return all(inputs <= places for column in self.columns if (inputs := self._inputs_of(column)) & places)

    def _without(self, places: frozenset[int]) -> tuple[Sequence[ColumnPlan], WritePlan]:
        """The columns that are not made of these, and how rows of them are written."""
        columns = [column for column in self.columns if not self._inputs_of(column) & places]
        merges = self._write.merges
        assert merges is not None
        return columns, replace(self._write, columns=_new(columns), action=replace(merges, only_matched=True))

    def _looked_up(self, values: pa.Table, rows: Sequence[int], unknown: Mapping[int, frozenset[int]]) -> pa.Table:
        """With the values of rows that the log does not say, as the source has them now: what comes later says if they have changed."""
        columns = [plain_array(column) for column in values.columns]
        dialect = self.reader.database.dialect
        texts = {place: plain_text(columns[place]) for place in self._keys} if rows else {}
        for first in range(0, len(rows), _LOOKED_UP_AT_ONCE):
            some = rows[first : first + _LOOKED_UP_AT_ONCE]
            places = sorted(set(self._keys).union(*(unknown[row] for row in some)))
            natives = {self.reader.columns[place].name: self.reader.columns[place].native for place in self._keys}
            constants = [
                [
                    dialect.constant(texts[place][row].as_py() or "", self.reader.given[place] or _TEXT)
                    for place in self._keys
                ]
                for row in some
            ]
            found = replace(self.reader.narrowed(places), is_asked=True, condition=dialect.among(natives, constants))
            there: dict[tuple[str, ...], tuple[pa.Table, int]] = {}
            at = [places.index(place) for place in self._keys]
            for block in found.blocks():
                held = found.read(block).values
                for row, key in enumerate(
                    zip(*(plain_array(held.column(place)).to_pylist() for place in at), strict=True)
                ):
                    there[tuple(map(str, key))] = (held, row)
            for row in some:
                key = tuple(str(columns[place][row].as_py()) for place in self._keys)
                if (known := there.get(key)) is None:
                    continue  # it is gone meanwhile, which the log will say
                for place in unknown[row]:
                    value = plain_array(known[0].column(places.index(place))).slice(known[1], 1)
                    columns[place] = pa.concat_arrays(
                        [columns[place].slice(0, row), value.cast(columns[place].type), columns[place].slice(row + 1)]
                    )
        return pa.table(columns, names=values.column_names) if rows else values

    # rows

    def _shape(
        self, changes: Changes, values: pa.Table, rows: Places, columns: Sequence[ColumnPlan], *, filters: bool
    ) -> tuple[pa.RecordBatch, npt.NDArray[np.int64], Sequence[Reject]]:
        """Rows as the target takes them; the places of those that are filtered out; and those that do not fit."""
        shaper = self._shaper(columns, filters=filters)
        if not len(rows):
            empty = pa.schema([(column.name, column.type.arrow) for column in columns])
            return pa.RecordBatch.from_pylist([], empty), rows, ()
        whole = len(rows) == values.num_rows
        taken = values if whole else values.take(pa.array(rows))
        block = self.reader.block(taken, self._facts(changes, rows))
        shaped = shaper.shape(block)
        bad = {reject.row - 1 - shaped.before for reject in shaped.rejects}
        left_out = np.setdiff1d(np.arange(len(rows)), np.concatenate([shaped.index, np.array(sorted(bad), np.int64)]))
        return shaped.batch, rows[left_out], shaped.rejects

    def _shaper(self, columns: Sequence[ColumnPlan], *, filters: bool) -> Shaper:
        named = (tuple(column.name for column in columns), filters)
        if named not in self._shapers:
            leg = self._opened
            condition = leg.condition if filters else None
            needed = {
                place for column in columns if column.expression is not None for place in self._inputs_of(column)
            }
            needed |= columns_in(condition) if condition is not None else set()
            self._shapers[named] = Shaper(
                leg.reader,
                columns,
                leg.target.dialect.refuses,
                [item for item in leg.plan.inputs if item.slot in needed],
                condition,
                self._run_id,
                leg.checks if len(columns) == len(self.columns) and filters else (),
                leg.bound,
            )
        return self._shapers[named]

    def _facts(self, changes: Changes, rows: Places) -> Mapping[str, pa.Array]:
        """What the log says of each row: see ``expressions.bind.LOG_FACTS``."""
        return {
            "change": pa.array(_WORDS[changes.kinds[rows]], pa.string()),
            "committed_at": pa.array(changes.moments[rows], pa.timestamp("us", tz="UTC")),
            "log_position": pa.array([self._log.text(int(number)) for number in changes.positions[rows]], pa.string())
            if self._says_position
            else pa.nulls(len(rows), pa.string()),
        }


def _new(columns: Sequence[ColumnPlan]) -> tuple[NewColumn, ...]:
    return tuple(NewColumn(column.name, column.type) for column in columns)
