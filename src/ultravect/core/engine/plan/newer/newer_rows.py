"""Plans which rows of a table or query are new: those above the mark, up to the highest value that is there now."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from ultravect.core.contracts.mark import ColumnMark, MarkKey
from ultravect.core.contracts.write_plan import Insert, Merge
from ultravect.core.engine.objects.row_hashes import is_value, row_hashes
from ultravect.core.engine.objects.tables import TableRows, comparable
from ultravect.core.engine.plan.newer.mark_plan import ByPlan, MarkEntry, MarkPlan, Ties
from ultravect.core.engine.plan.newer.mark_values import (
    ORDERED,
    as_mark,
    earlier,
    end_of,
    family,
    literal,
    parsed,
    scalar,
)
from ultravect.core.engine.plan.newer.newer_versions import plan_newer_versions
from ultravect.core.engine.plan.planning import Planning
from ultravect.core.engine.plan.target.names import quoted
from ultravect.core.engine.plan.target.writing import deciding_parameters
from ultravect.core.errors import UltravectError
from ultravect.core.expressions.bind import Scope, bind_condition, column_position
from ultravect.core.expressions.parse import parse_condition
from ultravect.core.expressions.pushdown import conjuncts, render
from ultravect.core.expressions.select_list import Selected
from ultravect.core.layouts.base import WantedColumn
from ultravect.core.layouts.table import TableBlock
from ultravect.core.model.jobs.job import Job
from ultravect.core.types.canonical import CanonicalType

_ASK_SECONDS = 5.0
_TEXT = CanonicalType("text")


@dataclass(frozen=True)
class Again:
    """A range that is copied anew, without moving the mark; both ends included, as texts."""

    start: str
    end: str


def plan_newer_rows(job: Job, plan: Planning, again: Again | None, selected: Sequence[Selected]) -> str:
    """The condition of the rows that the leg copies, as an expression; "" for all. Sets the plan's mark."""
    newer, reader = job.source.newer, plan.reader
    if newer is not None and newer.version and again is None:
        plan_newer_versions(job, plan, mark_key(job, plan.mark_parameters))
        return ""
    if newer is None or newer.by is None:
        if again is not None:
            plan.nothing = "no column says which rows are in the range"
        return ""
    assert isinstance(reader, TableRows) and plan.target is not None and plan.table is not None
    position = column_position(newer.by, reader.names, "from.newer.by")
    kind = reader.columns[position].type
    if kind is None or kind.name not in ORDERED:
        native = reader.columns[position].native
        raise UltravectError(
            "mark-column-unordered",
            f"{reader.names[position]} is of type {native or kind}, by which a mark cannot be kept",
            hint="name a column of whole numbers, dates or times; without one, from.newer: changed_rows compares all rows",
            place="from.newer.by",
        )
    column = _Column(reader, position, kind)
    if again is not None:
        return _range(job, plan, column, again)
    return _above_mark(job, plan, column, selected)


class _Column:
    """The column that a mark is kept by."""

    def __init__(self, reader: TableRows, position: int, kind: CanonicalType) -> None:
        self.reader, self.position, self.kind = reader, position, kind
        self.name = reader.names[position]
        live = reader.columns[position]
        self.nullable = live.nullable
        unique = reader.live is not None and frozenset([live.name]) in reader.live.unique
        self.is_unique = unique and not reader.database.dialect.rounds(live.native)
        """Whether no two rows have a value that is read as the same one."""

    def compared(self, sign: str, value: Any) -> str:
        """A comparison as an expression."""
        return f"{quoted(self.name)} {sign} {literal(value, self.kind)}"

    def newest(self) -> Any:
        """The highest value that is there, None where there is none."""
        if not self._is_ordered:
            tops = (pc.max(values).as_py() for values in self._values(self.reader.origin))
            return max((top for top in tops if top is not None), default=None)
        reader = self.reader
        dialect, column = reader.database.dialect, reader.columns[self.position]
        name = dialect.quote(column.name)
        highest = dialect.newest(name, column.native)
        found = self._values(f"(SELECT {highest} AS {name} FROM {reader.origin}) {dialect.quote('newest')}")
        return next((values[0].as_py() for values in found if len(values)), None)

    @property
    def _is_ordered(self) -> bool:
        """Whether the source compares the column's values as they are meant, and not as texts."""
        dialect = self.reader.database.dialect
        if self.kind.name == "decimal":
            return dialect.computes_decimals
        return dialect.compares_moments or self.kind.name not in ("timestamp", "timestamptz")

    def _values(self, origin: str) -> Iterator[pa.Array]:
        """The column alone, in its own type; what cannot be read so is left to the run, which rejects it."""
        columns = [self.reader.columns[self.position]]
        one = replace(self.reader, origin=origin, columns=columns, findings=[], condition="", live=None)
        for block in one.blocks():
            rows = one.read_parsed(block, [WantedColumn(0, self.kind, one.formats)])
            if rows is not None:
                yield rows.columns[0]

    def count(self, condition: str) -> int | None:
        """How many rows meet an expression; None where the source cannot say, or takes too long to."""
        where = self._sql(condition)
        return self._asked(f"SELECT count(*) FROM {self.reader.origin} WHERE {where}") if where else None

    def _sql(self, condition: str) -> str:
        """An expression in the source's SQL; "" where it has none for it."""
        reader = self.reader
        dialect = reader.database.dialect
        types = [kind or _TEXT for kind in reader.given]
        bound = bind_condition(parse_condition(condition, ""), Scope(reader.names, types), "")
        sql = [render(part, dialect, comparable(dialect, reader.columns)) for part in conjuncts(bound)]
        return "" if any(part is None for part in sql) else " AND ".join(str(part) for part in sql)

    def has_others(self, mark: ColumnMark, value: Any) -> bool:
        """Whether a row has the value of the mark and is none of those that were copied."""
        if not mark.columns:
            return True
        names = list(dict.fromkeys([*mark.columns, self.name]))
        narrow = self.reader.narrowed([self.reader.names.index(name) for name in names])
        narrow = replace(narrow, condition=self._sql(self.compared("=", value)))
        wanted = [WantedColumn(narrow.names.index(self.name), self.kind, narrow.formats)]
        left = Counter(mark.ties)
        for block in narrow.blocks():
            assert isinstance(block, TableBlock)
            rows = narrow.read_parsed(block, wanted)
            if rows is None:
                return True
            places = np.flatnonzero(is_value(rows.columns[0], scalar(mark.value, self.kind)))
            left.subtract(row_hashes(block.values, places, mark.columns))
            if min(left.values(), default=0) < 0:
                return True
        return False

    def has_null(self) -> bool:
        """Whether a row has no value: such rows are never above a mark."""
        if not self.nullable:
            return False
        dialect = self.reader.database.dialect
        name = dialect.quote(self.reader.columns[self.position].name)
        nulls = dialect.first_rows(f"SELECT 1 AS a FROM {self.reader.origin} WHERE {name} IS NULL", 1)
        return bool(self._asked(f"SELECT count(*) FROM ({nulls}) n"))

    def _asked(self, sql: str) -> int | None:
        try:
            return int(self.reader.database.ask(sql, 1, _ASK_SECONDS).rows[0][0])
        except UltravectError:
            return None


def mark_key(job: Job, used: Sequence[str]) -> MarkKey:
    """Whose mark it is; ``used``: the parameters that decide what is copied, each value of which has a mark of its own."""
    source = job.source
    feed = source.part.feed if source.part else source.feed
    if feed is not None:
        # of all providers together: a file that is another one's tomorrow is not copied again
        return MarkKey(job.job, f"feed {feed if isinstance(feed, str) else feed.feed}")
    values = ", ".join(f"{name}={job.parameters[name]}" for name in sorted(used) if name in job.parameters)
    return MarkKey(job.job, job.source.object_name + (f" ({values})" if values else ""))


def key_of_mark(job: Job) -> MarkKey:
    """Whose mark a leg's job keeps, with the parameters that it has."""
    return mark_key(job, deciding_parameters(job))


def _range(job: Job, plan: Planning, column: _Column, again: Again) -> str:
    if isinstance(plan.action, Insert):
        raise UltravectError(
            "again-doubles",
            f"rows that were copied before would be in {plan.table} twice",
            hint="use mode: upsert, with into.keys",
            place="into.mode",
        )
    start = parsed(again.start, column.kind, "again")
    end = end_of(again.end, column.kind, "again")
    if end < start:
        raise UltravectError(
            "range-empty", f"{again.start} is after {again.end}: the range holds nothing", place="again"
        )
    return f"{column.compared('>=', start)} and {column.compared('<=', end)}"


def _above_mark(job: Job, plan: Planning, column: _Column, selected: Sequence[Selected]) -> str:
    assert job.source.newer is not None and plan.target is not None and plan.table is not None
    newer, key = job.source.newer, mark_key(job, plan.mark_parameters)
    held = plan.target.ledger(plan.table).mark(key).get("")
    mark = _known(plan, column, held)
    if newer.overlap and isinstance(plan.action, Insert):
        raise UltravectError(
            "overlap-doubles",
            f"from.newer.overlap reads rows again, and append would add them to {plan.table} once more",
            hint="use mode: upsert",
            place="into.mode",
        )
    upper = column.newest()
    since = None if newer.since is None else parsed(str(newer.since), column.kind, "from.newer.since")
    lower = parsed(mark.value, column.kind, "from.newer") if mark else since
    if column.has_null():
        plan.add(
            "warning",
            "mark-column-null",
            f"{column.name} of {column.reader.label} has no value in some rows: they are never newer than a mark, and not copied",
            "from.newer.by",
            "fill the column in, or copy those rows by a job of their own",
        )
    if not column.is_unique and column.reader.live is not None and column.name not in column.reader.live.indexed:
        plan.add(
            "note",
            "mark-not-indexed",
            f"no index of {column.reader.label} begins with {column.name}: each run reads the whole table in the source",
            "from.newer.by",
            f"create one: CREATE INDEX ON {column.reader.label} ({quoted(column.name)})",
        )
    since_text = "from the first row" if lower is None else f"since {as_mark(lower, column.kind)}"
    if upper is None or (lower is not None and upper < lower and (mark is None or not newer.overlap)):
        if mark and upper is not None:
            plan.add(
                "warning",
                "mark-ahead",
                f"the highest {column.name} is {as_mark(upper, column.kind)}, which is below the mark: {as_mark(lower, column.kind)}",
                "from.newer.by",
                f"if the values begin anew, set the mark: ultravect mark {job.job}",
            )
        plan.nothing = f"nothing is new {since_text}"
        return ""
    start = lower
    # an overlap of another kind is wrong already before there is a mark
    below = earlier(lower if lower is not None else upper, newer.overlap, column.kind) if newer.overlap else None
    if mark and below is not None and lower is not None:
        start = below
        upper = max(upper, lower)
    parts = []
    if start is not None:
        # rows with the value of the mark may have been committed since
        exact = mark is not None and not newer.overlap and column.is_unique
        parts.append(column.compared(">" if exact else ">=", start))
    parts.append(column.compared("<=", upper))
    condition = " and ".join(parts)
    if mark and upper == lower and not newer.overlap and (column.is_unique or not column.has_others(mark, upper)):
        plan.nothing = f"nothing is new {since_text}"
    plan.summary_of_mark = since_text
    plan.count_new = lambda: column.count(condition)
    ties = None if column.is_unique else _ties(job, plan, mark, selected, column.reader.names)
    value = ColumnMark(family(column.kind), as_mark(upper, column.kind)).as_text()
    by = ByPlan(
        column.name,
        column.kind,
        as_mark(lower, column.kind) if mark and lower is not None else None,
        as_mark(upper, column.kind),
        ties,
        column.position,
    )
    plan.mark = MarkPlan(key, since_text, (MarkEntry("", value, held),), by)
    return condition


def _ties(
    job: Job, plan: Planning, mark: ColumnMark | None, selected: Sequence[Selected], names: Sequence[str]
) -> Ties:
    """By what rows with the value of the mark are known: by all that is read of them, and where rows with keys are added, by those alone.

    A row that was added and has changed since would be added again otherwise, and its key be there twice.
    """
    keys = {item.name: item for item in selected if item.name in job.into.key_names}
    plain = [names[item.position] for item in keys.values() if item.position is not None and item.value is None]
    appends = isinstance(plan.action, Insert)
    noted_by = tuple(plain) if appends and plain and len(plain) == len(job.into.key_names) else ()
    copied_by = mark.columns if mark else ()
    return Ties(mark.ties if mark else {}, copied_by, noted_by, come_again=isinstance(plan.action, Merge))


def _known(plan: Planning, column: _Column, held: str | None) -> ColumnMark | None:
    """The mark, where it is one of the table that is there."""
    if held is None:
        return None
    mark = ColumnMark.from_text(held)
    if plan.live is None and plan.job.into.table is not None:
        plan.add(
            "warning",
            "mark-without-table",
            f"{plan.table} is gone since the mark {mark.value} was written: all rows are copied again",
            "into.table",
        )
        return None
    if mark.type != family(column.kind):
        raise UltravectError(
            "mark-type-changed",
            f"the mark is a {mark.type}, {mark.value}, and {column.name} is a {column.kind.name} now",
            hint="set the mark anew, or reset it: ultravect mark JOB --reset",
            place="from.newer.by",
        )
    if missing := [name for name in mark.columns if name not in column.reader.names]:
        raise UltravectError(
            "mark-columns-changed",
            f"{column.reader.label} has no column {missing[0]} any more, and by it the rows are known that were copied last, those "
            f"with {column.name} {mark.value}",
            hint="say where to go on, above those rows or below: ultravect mark JOB --set VALUE; rows with the value itself are copied "
            "again",
            place="from.newer.by",
        )
    return mark
