"""What every ledger has to keep, whatever commits it: random loads, bars, marks and writers against a plain model.

Loads are planned (with the mark as it is then), opened, and published or given up, in any order; each may be barred meanwhile, or its mark be
set by hand, or its answer be lost. A kind of another package runs the same: ``check_ledger(subject)``.
"""

from __future__ import annotations

import contextlib
import secrets
from collections.abc import Sequence
from contextlib import ExitStack
from dataclasses import dataclass
from typing import Any, Protocol

import pyarrow as pa
from hypothesis import HealthCheck, settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, invariant, precondition, rule, run_state_machine_as_test

from ultravect.core.contracts.mark import MarkChange, MarkKey
from ultravect.core.contracts.receipt import Receipt, ReceiptKey
from ultravect.core.contracts.target import Target
from ultravect.core.contracts.write_plan import Attempt, Insert, Replace, WritePlan
from ultravect.core.dialects.base import Change, NewColumn, NewTable, TableName
from ultravect.core.engine.write.driver import Write, open_write
from ultravect.core.errors import UltravectError
from ultravect.core.types.canonical import CanonicalType

COLUMN = NewColumn("k", CanonicalType("bigint"))


class Subject(Protocol):
    """A target, and a reader of its rows that is not ours."""

    target: Target
    table: TableName

    concurrent: bool
    """Whether other sessions can write while a load is open."""

    def fresh(self, name: str) -> None:
        """From now on loads go into a table of this name, which is not there; those before may be removed."""

    alters: bool
    """Whether a load may add columns to the table."""

    def rows(self) -> Sequence[int]:
        """The values of ``k`` that anyone sees now."""

    def insert(self, value: int) -> bool:
        """Another program adds a row, with this value of ``k``; False where none can."""


@dataclass
class _Planned:
    key: ReceiptKey
    change: MarkChange
    values: list[int]
    replaces: bool = False
    adds: str = ""
    """The column that it adds to the table."""

    opened: tuple[ExitStack, Write] | None = None

    @property
    def holds(self) -> bool:
        """Whether it keeps others away from the table while it is open."""
        return self.replaces or bool(self.adds)


class _Machine(RuleBasedStateMachine):
    """``_committed``: the values of each load, in the order of their commits; ``_fences``: keys that no load can commit by any more."""

    def __init__(self, subject: Subject) -> None:
        super().__init__()
        self._subject = subject
        tag = secrets.token_hex(4)
        subject.fresh(f"ledgered_{tag}")
        self._tag, self._key = tag, MarkKey("nightly", f"night {tag}")
        self._next = 0
        self._rows: list[int] = []
        self._done: dict[str, int] = {}
        self._fences: set[str] = set()
        self._mark: str | None = None
        self._planned: list[_Planned] = []
        self._publish(self._plan(replaces=False), create=True)

    @property
    def _ledger(self) -> Any:
        return self._subject.target.ledger(self._subject.table)

    def _plan(self, *, replaces: bool, again: str = "", adds: bool = False) -> _Planned:
        self._next += 1
        values = [self._next * 10, self._next * 10 + 1]
        change = MarkChange(self._key, "", f"at {self._next}", self._mark)
        column = f"c{self._next}" if adds and self._subject.alters else ""
        planned = _Planned(ReceiptKey(again or f"{self._next}-{self._tag}"), change, values, replaces, column)
        self._planned.append(planned)
        return planned

    def _open(self, planned: _Planned, *, create: bool = False) -> Write:
        added = [NewColumn(planned.adds, CanonicalType("bigint"))] if planned.adds else []
        plan = WritePlan(
            self._subject.table,
            (COLUMN, *added),
            Replace() if planned.replaces else Insert(),
            create=NewTable([COLUMN]) if create and self._subject.target.database is not None else None,
            changes=tuple(Change(column, added=True) for column in added),
            lock_seconds=5,
            marks=True,
        )
        stack = ExitStack()
        with contextlib.ExitStack() as failing:
            failing.push(stack)
            write = stack.enter_context(open_write(self._subject.target, Attempt(plan, planned.key)))
            values = pa.array(planned.values, pa.int64())
            names = ["k", *(column.name for column in added)]
            write.write(pa.record_batch([values] * len(names), names=names))
            planned.opened = stack, write
            failing.pop_all()
        return write

    def _publish(self, planned: _Planned, *, create: bool = False) -> None:
        self._planned.remove(planned)
        run = planned.key.run
        may = run not in self._fences and run not in self._done and planned.change.before == self._mark
        refused: UltravectError | None = None
        try:
            write = planned.opened[1] if planned.opened else self._open(planned, create=create)
            assert planned.opened is not None
            with planned.opened[0]:
                write.finish()
                write.publish(Receipt(str(self._subject.table), "append", {"read": 2}), [planned.change])
                assert may, "it was barred, or its mark is another by now"
                write.verify()
        except UltravectError as error:
            refused = error
        if refused is not None:
            assert not may, f"nothing was in the way of {run}: {refused.code} {refused}"
            assert refused.outcome != "committed"
            return
        self._rows = planned.values if planned.replaces else self._rows + planned.values
        self._done[run] = planned.values[0]
        self._mark = planned.change.value

    @property
    def _known(self) -> list[str]:
        """The names of all loads that were committed or barred, oldest first."""
        return sorted({*self._done, *self._fences}, key=lambda run: int(run.partition("-")[0]))

    @property
    def _any_open(self) -> bool:
        return any(planned.opened for planned in self._planned)

    @rule(replaces=st.booleans(), adds=st.booleans())
    def plan(self, replaces: bool, adds: bool) -> None:
        self._plan(replaces=replaces, adds=adds)

    # while a load is open, what another program writes may have to wait for it
    @precondition(lambda self: not self._any_open)
    @rule()
    def another_program_adds_a_row(self) -> None:
        self._next += 1
        if self._subject.insert(self._next * 10):
            self._rows = [*self._rows, self._next * 10]

    @precondition(lambda self: self._done or self._fences)
    @rule(data=st.data())
    def plan_again_by_the_same_name(self, data: st.DataObject) -> None:
        self._plan(replaces=False, again=data.draw(st.sampled_from(self._known)))

    @precondition(lambda self: self._subject.concurrent and any(not p.opened and not p.holds for p in self._planned))
    @rule(data=st.data())
    def open(self, data: st.DataObject) -> None:
        self._open(data.draw(st.sampled_from([p for p in self._planned if not p.opened and not p.holds])))

    @precondition(lambda self: self._planned)
    @rule(data=st.data())
    def publish(self, data: st.DataObject) -> None:
        # what is replaced is locked, so nothing else is open then
        ready = [planned for planned in self._planned if not (planned.holds and self._any_open)]
        if ready:
            self._publish(data.draw(st.sampled_from(ready)))

    @precondition(lambda self: any(planned.opened for planned in self._planned))
    @rule(data=st.data())
    def give_up(self, data: st.DataObject) -> None:
        planned = data.draw(st.sampled_from([planned for planned in self._planned if planned.opened]))
        self._planned.remove(planned)
        assert planned.opened is not None
        with contextlib.suppress(UltravectError):  # its session may have been ended
            planned.opened[0].close()

    @precondition(lambda self: self._planned or self._done)
    @rule(data=st.data())
    def ask_which_attempt_was_committed(self, data: st.DataObject) -> None:
        """As one does whose answer was lost, and a worker that takes over: afterwards none of the others can commit."""
        known = list(dict.fromkeys([*self._known, *(planned.key.run for planned in self._planned)]))
        runs = data.draw(st.lists(st.sampled_from(known), min_size=1, max_size=3, unique=True))
        found = self._ledger.committed([ReceiptKey(run) for run in runs])
        wanted = next((run for run in runs if run in self._done), None)
        self._fences.update(runs[: runs.index(wanted)] if wanted else runs)
        assert (found is not None) == (wanted is not None)
        if found is not None:
            assert found.tally == {"read": 2}

    @rule(value=st.one_of(st.none(), st.sampled_from(["one", "two"])))
    def set_the_mark_by_hand(self, value: str | None) -> None:
        self._ledger.set_mark(self._key, value)
        self._mark = value

    @invariant()
    def rows_receipts_and_mark_are_those_of_the_loads_that_were_committed(self) -> None:
        assert sorted(self._subject.rows()) == sorted(self._rows)
        assert self._ledger.mark(self._key).get("") == self._mark

    @precondition(lambda self: self._done or self._fences)
    @rule(data=st.data())
    def look_for_a_receipt(self, data: st.DataObject) -> None:
        run = data.draw(st.sampled_from(self._known))
        assert (self._ledger.receipt(ReceiptKey(run)) is not None) == (run in self._done)

    def teardown(self) -> None:
        for planned in self._planned:
            if planned.opened:
                with contextlib.suppress(UltravectError):
                    planned.opened[0].close()


def check_ledger(subject: Subject, examples: int = 12, steps: int = 14) -> None:
    """Fails where a ledger commits what it must not, or loses what it has to keep."""
    run_state_machine_as_test(  # type: ignore[no-untyped-call]
        lambda: _Machine(subject),
        settings=settings(
            max_examples=examples,
            stateful_step_count=steps,
            deadline=None,
            suppress_health_check=list(HealthCheck),
        ),
    )
