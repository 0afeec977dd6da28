"""Decides the guards of a job: what has to be true of a load before it is published."""

from __future__ import annotations

import datetime as dt
import statistics
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import asdict, dataclass
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from ultravect.core.engine.plan.leg_plan import ColumnPlan
from ultravect.core.engine.plan.newer.mark_values import as_mark, parsed
from ultravect.core.engine.run.counting.tally import Tally
from ultravect.core.engine.run.shaped import Shaped
from ultravect.core.errors import UltravectError
from ultravect.core.model.base import duration_seconds
from ultravect.core.model.finding import Finding, Severity
from ultravect.core.model.jobs.guard import ColumnGuard, CountGuard, Guard, share_of

_FEWEST = 3


@dataclass(frozen=True)
class Decided:
    """One guard: what it is about, the value that was found, what it may be, and whether it is so; None where nothing could be decided."""

    name: str
    value: str
    limit: str
    passed: bool | None
    lasts: bool = False
    """Whether no row that is read later can make it good."""

    @property
    def text(self) -> str:
        return f"{self.name} is {self.value}, and has to be {self.limit}"

    def as_dict(self) -> dict[str, Any]:
        return {key: value for key, value in asdict(self).items() if key != "lasts"}


class _Seen:
    """What is known of the values of a column."""

    def __init__(self, place: int, column: ColumnPlan, guard: ColumnGuard) -> None:
        self.place, self.column, self.guard = place, column, guard
        self.rows = self.nulls = 0
        self.least: Any = None
        self.most: Any = None

    def see(self, values: pa.Array) -> None:
        self.rows += len(values)
        self.nulls += values.null_count
        if self.guard.at_least is None and self.guard.at_most is None and self.guard.newest is None:
            return
        found = pc.min_max(values).as_py()
        if found["min"] is not None:
            self.least = found["min"] if self.least is None else min(self.least, found["min"])
            self.most = found["max"] if self.most is None else max(self.most, found["max"])


class Guards:
    """``usual``: by ``rows_read`` and ``rows_written``, what the last runs that succeeded had."""

    def __init__(self, guard: Guard, columns: Sequence[ColumnPlan], usual: Mapping[str, Sequence[int]]) -> None:
        self._guard, self._usual, self._now = guard, usual, dt.datetime.now(dt.UTC)
        places = {column.name.lower(): place for place, column in enumerate(columns)}
        self._seen = [
            _Seen(place := places[name.lower()], columns[place], wanted) for name, wanted in guard.columns.items()
        ]

    def see(self, shaped: Shaped) -> None:
        for seen in self._seen:
            seen.see(shaped.batch.column(seen.place))

    def settle(self, tally: Tally, log: Callable[[str, str], None], table: str) -> list[Decided]:
        """Decides all of them, and says so; UltravectError ``guard-not-met`` where the load must not be published."""
        decided = self.decide(tally)
        for item in decided:
            word = "not met" if item.passed is False else "met" if item.passed else "not decided"
            log("warning" if item.passed is False else "info", f"guard {word}: {item.text}")
        broken = [item for item in decided if item.passed is False]
        if broken and self._guard.otherwise == "fail":
            more = f"; {'; '.join(item.text for item in broken[1:4])}" if len(broken) > 1 else ""
            raise UltravectError(
                "guard-not-met",
                f"{broken[0].text}{more}; nothing was written",
                hint="see what the source gave; change guard if it is meant to be so",
                place="guard",
                table=table,
            )
        return decided

    def findings(self, tally: Tally, *, complete: bool) -> Iterator[Finding]:
        """What is known after rows that were only tried: ``complete`` where they were all."""
        so_far = "" if complete else "; of the rows that were tried"
        for item in self.decide(tally):
            if item.passed is None:
                yield Finding("note", "guard-undecided", item.text, "guard")
            elif item.passed:
                yield Finding("note", "guard-met", f"{item.text}: so it is{so_far}", "guard")
            elif complete or item.lasts:
                severity: Severity = "error" if self._guard.otherwise == "fail" else "warning"
                fix = "see what the source gives; change guard if it is meant to be so"
                yield Finding(severity, "guard-not-met", f"{item.text}{so_far}", "guard", fix)
            else:
                yield Finding("note", "guard-undecided", f"{item.text}{so_far}", "guard")

    def decide(self, tally: Tally) -> list[Decided]:
        found: list[Decided] = []
        for name, wanted, count in (
            ("rows_read", self._guard.rows_read, tally.read),
            ("rows_written", self._guard.rows_written, tally.inserted + tally.updated),
        ):
            if wanted is not None:
                found += _of_count(name, wanted, count, self._usual.get(name, ()))
        for seen in self._seen:
            found += self._of_column(seen)
        return found

    def _of_column(self, seen: _Seen) -> list[Decided]:
        guard, name, kind = seen.guard, seen.column.name, seen.column.type
        found = []
        if guard.nulls is not None:
            share = seen.nulls / seen.rows if seen.rows else 0.0
            what = f"the share of rows without {name}"
            found.append(Decided(what, f"{share:.2%}", f"at most {guard.nulls}", share <= share_of(guard.nulls)))
        for value, given, word, below in (
            (seen.least, guard.at_least, "least", True),
            (seen.most, guard.at_most, "greatest", False),
        ):
            if given is not None:
                limit = (
                    float(given) if isinstance(value, float) else parsed(str(given), kind, f"guard.columns.{name}")
                )
                passed = None if value is None else bool(value >= limit if below else value <= limit)
                shown = "none" if value is None else as_mark(value, kind)
                bound = f"at {'least' if below else 'most'} {given}"
                found.append(Decided(f"the {word} {name}", shown, bound, passed, lasts=True))
        if guard.newest is not None:
            found.append(self._newest(seen, guard.newest))
        return found

    def _newest(self, seen: _Seen, limit: str) -> Decided:
        oldest = self._now - dt.timedelta(seconds=duration_seconds(limit))
        value = seen.most
        if value is None:
            return Decided(f"the newest {seen.column.name}", "none", f"at most {limit} old", False)
        if isinstance(value, dt.datetime):
            good = (value if value.tzinfo else value.replace(tzinfo=dt.UTC)) >= oldest
        else:
            good = value >= oldest.date()
        return Decided(
            f"the newest {seen.column.name}", as_mark(value, seen.column.type), f"at most {limit} old", good
        )


def _of_count(name: str, wanted: CountGuard, count: int, usual: Sequence[int]) -> list[Decided]:
    shown = f"{count:,}"
    found = []
    if wanted.at_least is not None:
        found.append(Decided(name, shown, f"at least {wanted.at_least:,}", count >= wanted.at_least))
    if wanted.at_most is not None:
        found.append(Decided(name, shown, f"at most {wanted.at_most:,}", count <= wanted.at_most, lasts=True))
    if wanted.within is not None:
        if len(usual) < _FEWEST:
            found.append(
                Decided(name, shown, f"within {wanted.within} of the last runs, of which there are too few", None)
            )
        else:
            middle = statistics.median(usual)
            room = share_of(wanted.within) * middle
            limit = f"within {wanted.within} of {middle:,.0f}, the median of the last {len(usual)} runs"
            found.append(Decided(name, shown, limit, abs(count - middle) <= room))
    return found
