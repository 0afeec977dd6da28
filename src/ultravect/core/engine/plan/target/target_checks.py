"""The checks of a table that are decided before rows are sent to it, so that what breaks them is reported as any bad value is.

Only those are decided here that every database decides alike; the rest is for the database, which looks at all of them
anyway.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

import pyarrow as pa
import pyarrow.compute as pc

from ultravect.core.contracts.catalogue import LiveTable
from ultravect.core.dialects.base import Dialect
from ultravect.core.engine.plan.leg_plan import ColumnPlan
from ultravect.core.errors import UltravectError
from ultravect.core.expressions.bind import Bound, BoundCall, Scope, bind_condition, columns_in, parts_of
from ultravect.core.expressions.evaluate import Rows, evaluate
from ultravect.core.expressions.parse import parse_condition
from ultravect.core.expressions.pushdown import ColumnValue, render
from ultravect.core.types.arrow import as_text
from ultravect.core.types.canonical import CanonicalType
from ultravect.core.types.casting import Mask, as_mask

_EQUALITIES = frozenset(["=", "<>", "is null"])


@dataclass(frozen=True)
class TargetCheck:
    """``column`` is the source's name of the one that the check is about, "" where there are several; ``places`` of all among
    those sent."""

    name: str
    condition: str
    bound: Bound
    places: Sequence[int]
    column: str
    strict: bool = False
    """Whether a row that leaves it open by a NULL breaks it: what belongs to a part of a table is decided so."""

    why: str = ""
    """The reason, where it is another than that of a target's check or of a part."""

    @property
    def summary(self) -> str:
        if self.why:
            return f"require: {self.condition}"
        if self.strict:
            return f"into.replaces: {self.condition} is not true"
        return f"the check {self.name} of the target: {self.condition}"

    @property
    def reason(self) -> str:
        """Why a row is rejected that does not meet it."""
        outside = f"outside the part that is replaced: {self.condition} is not true"
        return self.why or outside if self.strict else f"breaks {self.summary}"

    def broken(self, arrays: Sequence[pa.Array]) -> Mask:
        """The rows that do not meet the check; a NULL leaves it open, and is let pass."""
        rows = Rows({place: arrays[place] for place in self.places}, len(arrays[0]))
        met = evaluate(self.bound, rows).array
        return as_mask(pc.invert(pc.fill_null(met, False) if self.strict else met))

    def value(self, arrays: Sequence[pa.Array], row: int) -> str | None:
        """What the one column has in a row."""
        if not self.column:
            return None
        found: str | None = as_text(arrays[self.places[0]].slice(row, 1)).to_pylist()[0]
        return found


_COLUMN = ColumnValue("c", "c")


def checks_for(live: LiveTable, columns: Sequence[ColumnPlan], dialect: Dialect) -> list[TargetCheck]:
    """``checks_of`` for the columns of a plan."""
    names, types = [column.name for column in columns], [column.type for column in columns]
    return checks_of(live, names, types, [column.source for column in columns], dialect)


def checks_of(
    live: LiveTable, names: Sequence[str], types: Sequence[CanonicalType], sources: Sequence[str], dialect: Dialect
) -> list[TargetCheck]:
    """The checks that are about columns that are sent, and decided alike here and there; ``names`` are those of the target."""
    found = []
    for check in live.checks:
        condition = dialect.standard(check.condition)
        try:
            bound = bind_condition(parse_condition(condition, ""), Scope(names, types), "")
        except UltravectError:
            continue
        places = sorted(columns_in(bound))
        alike = render(bound, dialect, lambda place: None if types[place].name == "uuid" else _COLUMN) is not None
        if not alike or not (dialect.equal_by_bytes or not _has_texts(bound)) or _orders_texts(bound):
            continue
        item = sources[places[0]] if len(places) == 1 else ""
        found.append(TargetCheck(check.name, _bare(condition), bound, places, item))
    return found


def _bare(condition: str) -> str:
    """Without the parentheses around all of it."""
    inner = condition[1:-1]
    whole = condition.startswith("(") and condition.endswith(")") and "(" not in inner and ")" not in inner
    return inner if whole else condition


def _texts(bound: Bound) -> Iterable[BoundCall]:
    """The parts that do something with texts."""
    for part in parts_of(bound):
        if isinstance(part, BoundCall) and any(argument.type.name == "text" for argument in part.arguments):
            yield part


def _has_texts(bound: Bound) -> bool:
    return any(True for _ in _texts(bound))


def _orders_texts(bound: Bound) -> bool:
    """Whether texts are compared for more than equality: in which order they are is a matter of collations."""
    return any(part.function not in _EQUALITIES for part in _texts(bound))
