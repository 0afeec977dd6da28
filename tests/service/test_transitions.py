"""What can happen to a leg, on the records alone: whatever order it happens in, a plain model says what every claim and every write comes to."""

from __future__ import annotations

import ast
import datetime as dt
import os
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass
from itertools import count
from pathlib import Path
from typing import Any
from unittest import mock

import pytest
from devtools.stack import NEW_RECORDS, Stack
from hypothesis import HealthCheck, settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, invariant, precondition, rule, run_state_machine_as_test

ROOT = Path(__file__).parent.parent.parent
_LOST_AFTER = 30.0
_MOST = 3
_WORKERS = {"one": ["home"], "two": ["home"], "three": ["lab"], "four": ["home", "lab"]}
_SITES = {"reservations": "home", "laboratory": "lab", "busy": "home"}
_numbers = count(1)


@pytest.fixture(scope="module")
def records(stack: Stack, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Path]:
    """Records on which no service works, reached from this process; the file that sets their clock."""
    clock = tmp_path_factory.mktemp("clock") / "ahead"
    clock.write_text("0")
    stack.postgres.execute(f"CREATE DATABASE transitions TEMPLATE {NEW_RECORDS}")
    before = dict(os.environ)
    os.environ.update(
        stack.environment,
        ULTRAVECT_DATABASE_URL=stack.postgres.url("transitions"),
        DJANGO_SETTINGS_MODULE="ultravect.service.settings",
        ULTRAVECT_TEST_CLOCK=str(clock),
    )
    import django

    django.setup()
    os.environ.clear()
    os.environ.update(before, ULTRAVECT_TEST_CLOCK=str(clock))
    from django.db import connections

    from ultravect.service.records.models import Connection

    for name, site in _SITES.items():
        most = 1 if name == "busy" else None
        Connection.objects.create(name=name, kind="postgresql", settings={"host": name}, site=site, at_most=most)
    yield clock
    os.environ.pop("ULTRAVECT_TEST_CLOCK", None)
    for connection in connections.all():
        connection.close()
        connection.close_pool()


def _new_run(source: str = "reservations", table: str = "booking", user: str = "", priority: int = 0) -> Any:
    """A run of a job of its own, with one leg, which is queued."""
    from ultravect.service.records.models import Job, Revision, Run, User
    from ultravect.service.work.runs.transitions import start

    number = next(_numbers)
    structure = {
        "ultravect": 1,
        "job": f"job-{number}",
        "from": {"connection": source, "table": "booking"},
        "into": {"connection": "reservations", "table": table},
        "run": {"priority": priority},
    }
    job = Job.objects.create(name=f"job-{number}")
    revision = Revision.objects.create(job=job, number=1, text="", structure=structure)
    started_by = User.objects.get_or_create(username=user)[0] if user else None
    run = Run.objects.create(job=job, revision=revision, parameters={}, started_by=started_by)
    start(run, single=("booking", table))
    return run


@dataclass
class _Leg:
    run: int
    source: str
    table: str
    owner: str
    priority: int
    order: int
    state: str = "queued"
    outcome: str = "nothing"
    lease: int = 0
    attempts: int = 0
    seen: float = 0.0
    not_before: float = 0.0
    stop: bool = False
    logged: int = 0

    @property
    def sites(self) -> set[str]:
        return {"home", _SITES[self.source]}


class Transitions(RuleBasedStateMachine):
    """Any number of runs and workers. A worker may hold a leg without knowing that it lost it, and may not hear that what it wrote is written;
    the machines' clocks differ by minutes, and only that of the records counts."""

    clock: Path

    def __init__(self) -> None:
        super().__init__()
        from ultravect.service.records.models import Leg

        Leg.objects.all().delete()
        self.legs: dict[int, _Leg] = {}
        self.holders: list[Any] = []
        self.now = float(self.clock.read_text())
        self.lists = count(1)

    def teardown(self) -> None:
        mock.patch.stopall()

    def _model(self, holder: Any) -> _Leg:
        return self.legs[holder.run.pk]

    def _holder(self, data: st.DataObject) -> tuple[Any, _Leg, bool]:
        """One who had a leg at some time; whether it still is theirs."""
        holder = data.draw(st.sampled_from(self.holders))
        leg = self._model(holder)
        return holder, leg, holder.leg.lease == leg.lease

    def _refused(self, write: Any) -> None:
        from ultravect.service.work.runs.transitions import LeaseLost

        with pytest.raises(LeaseLost):
            write()

    @rule(
        source=st.sampled_from(sorted(_SITES)), table=st.sampled_from("ab"), user=st.sampled_from(["ana", "ben", ""]),
        priority=st.sampled_from([0, 0, 0, 5]),
    )  # fmt: skip
    def start(self, source: str, table: str, user: str, priority: int) -> None:
        from ultravect.service.records.models import Leg

        run = _new_run(source, table, user, priority)
        owner = Leg.objects.values_list("owner", flat=True).get(run=run)
        assert (owner == "connection:busy") == (source == "busy")
        self.legs[run.pk] = _Leg(run.pk, source, table, owner, priority, run.pk)

    def _next(self, worker: str) -> _Leg | None:
        """Whose turn it is, of those that a worker may have."""
        running = [leg for leg in self.legs.values() if leg.state == "running"]
        places, busy = {leg.table for leg in running}, Counter(leg.owner for leg in running)
        full = any(leg.source == "busy" for leg in running)
        free = [
            leg
            for leg in self.legs.values()
            if leg.state == "queued" and leg.sites <= set(_WORKERS[worker]) and leg.not_before <= self.now
            and leg.table not in places and not (full and leg.source == "busy")
        ]  # fmt: skip
        first = {leg.owner: leg for leg in sorted(free, key=lambda leg: (leg.priority, -leg.order))}
        return min(first.values(), key=lambda leg: (-leg.priority, busy[leg.owner], leg.order), default=None)

    @rule(worker=st.sampled_from(sorted(_WORKERS)), minutes=st.sampled_from([-7, 0, 7]))
    def claim(self, worker: str, minutes: int) -> None:
        from django.utils import timezone

        from ultravect.service.work.runs.transitions import Claimant, claim_leg

        wanted, shown = self._next(worker), timezone.now() + dt.timedelta(minutes=minutes)
        with mock.patch("django.utils.timezone.now", return_value=shown):
            record = claim_leg(Claimant(worker, frozenset(_WORKERS[worker])))
        assert (record.run.pk if record else None) == (wanted.run if wanted else None)
        if record is not None and wanted is not None:
            wanted.state, wanted.seen, wanted.not_before = "running", self.now, 0.0
            wanted.lease += 1
            wanted.attempts += 1
            assert (record.leg.lease, record.leg.attempts) == (wanted.lease, wanted.attempts)
            self.holders.append(record)

    @precondition(lambda self: self.holders)
    @rule(data=st.data(), text=st.text(max_size=20), again=st.booleans())
    def say(self, data: st.DataObject, text: str, again: bool) -> None:
        holder, leg, mine = self._holder(data)
        line = {"kind": "log", "level": "info", "text": text}
        number = next(self.lists)
        if not mine:
            self._refused(lambda: holder.record(line, number=number))
            return
        for _ in range(1 + again):  # the answer was lost
            holder.record(line, number=number)
        leg.logged += 1

    @precondition(lambda self: self.holders)
    @rule(data=st.data())
    def publish(self, data: st.DataObject) -> None:
        holder, leg, mine = self._holder(data)
        line = {"kind": "phase", "name": "publish", "state": "running"}
        if not mine:
            self._refused(lambda: holder.record(line))
        elif leg.state == "running":
            holder.record(line)
            assert holder.may_publish == (not leg.stop)
            if not leg.stop:
                leg.outcome = "unknown"

    @precondition(lambda self: self.holders)
    @rule(data=st.data(), state=st.sampled_from(["succeeded", "failed", "stopped"]), again=st.booleans())
    def end(self, data: st.DataObject, state: str, again: bool) -> None:
        from ultravect.service.records.models import Outcome, State

        holder, leg, mine = self._holder(data)
        if not mine:
            self._refused(lambda: holder.end(State(state)))
            return
        for _ in range(1 + again):
            holder.end(State(state), outcome=Outcome(leg.outcome))
        if leg.state == "running":
            leg.state = state

    @precondition(lambda self: self.holders)
    @rule(data=st.data())
    def hand_over(self, data: st.DataObject) -> None:
        holder, leg, mine = self._holder(data)
        if not mine:
            self._refused(lambda: holder.hand_over("the worker is stopped"))
        elif leg.state == "running":
            self._gone(leg, holder.hand_over("the worker is stopped"))
            holder.leg.lease = min(holder.leg.lease, leg.lease - 1) if leg.state == "queued" else holder.leg.lease

    def _gone(self, leg: _Leg, back: bool) -> None:
        """The worker of a leg is gone: it is queued again, or ended where no attempt is left, or it was to stop."""
        assert back == (leg.attempts < _MOST and not leg.stop)
        if back:
            leg.state = "queued"
            leg.lease += 1
            leg.logged += 1
        else:
            leg.state = "stopped" if leg.stop else "failed"

    @precondition(lambda self: self.holders)
    @rule(data=st.data(), pause=st.sampled_from([5.0, 50.0]))
    def try_again(self, data: st.DataObject, pause: float) -> None:
        holder, leg, mine = self._holder(data)
        error = {"code": "connection-lost", "detail": "lost", "hint": "", "where": {}}
        if not mine:
            self._refused(lambda: holder.try_again(error, pause))
        elif leg.state == "running":
            holder.try_again(error, pause)
            leg.state, leg.outcome, leg.not_before = "queued", "nothing", self.now + pause
            leg.lease += 1
            leg.logged += 1
            holder.leg.lease -= 1  # as a worker sees it that does not know of it

    @precondition(lambda self: self.legs)
    @rule(data=st.data())
    def stop(self, data: st.DataObject) -> None:
        from ultravect.service.work.runs.transitions import stop_run

        leg = self.legs[data.draw(st.sampled_from(sorted(self.legs)))]
        stop_run(leg.run)
        leg.stop = True
        if leg.state == "queued":
            leg.state = "stopped"

    @rule(seconds=st.sampled_from([3.0, 20.0, 40.0]))
    def time_passes(self, seconds: float) -> None:
        self.now += seconds
        self.clock.write_text(str(self.now))

    @precondition(lambda self: self.holders)
    @rule(renew=st.booleans())
    def beat(self, renew: bool) -> None:
        """Each leg by who had it last; they hear what has become of it."""
        from ultravect.service.work.runs.transitions import beat

        held = {holder.leg.pk: holder for holder in self.holders}
        found = beat({number: holder.leg.lease for number, holder in held.items()}, renew=renew)
        for number, holder in held.items():
            leg = self._model(holder)
            mine = holder.leg.lease == leg.lease and leg.state == "running"
            assert (found[number].lost, found[number].stop) == (not mine, mine and leg.stop)
            if renew and mine:
                leg.seen = self.now

    @rule()
    def lose(self) -> None:
        from ultravect.service.work.runs.transitions import lose, lost_legs

        late = [leg for leg in self.legs.values() if leg.state == "running" and self.now - leg.seen > _LOST_AFTER - 1]
        found = lost_legs()
        assert len(found) == len(late)
        for number, lease in found:
            state = lose(number, lease)
            assert state
            assert lose(number, lease) == ""
        for leg in late:
            self._gone(leg, leg.attempts < _MOST and not leg.stop)

    @precondition(lambda self: self.legs)
    @rule(committed=st.booleans())
    def settle(self, committed: bool) -> None:
        from ultravect.service.records.models import Outcome
        from ultravect.service.work.runs.transitions import LegRecord, unsettled

        found = unsettled(lambda leg: True)
        if found is not None:
            leg = self.legs[found.run_id]
            assert leg.outcome == "unknown"
            assert leg.state not in ("queued", "running")
            leg.outcome = "committed" if committed else "nothing"
            LegRecord(found).settle(Outcome(leg.outcome), None)

    @rule()
    def the_records_are_started_again(self) -> None:
        from django.db import connections

        connections.close_all()

    @invariant()
    def the_records_say_so(self) -> None:
        from ultravect.service.records.models import Event, Leg

        found = {leg.run_id: leg for leg in Leg.objects.select_related("run").filter(run_id__in=list(self.legs))}
        lines = Counter(
            Event.objects.filter(run_id__in=list(self.legs), kind="log")
            .exclude(data__text__contains=" waits: connection")
            .values_list("run_id", flat=True)
        )
        for number, wanted in self.legs.items():
            leg = found[number]
            assert (leg.state, leg.lease, leg.attempts) == (wanted.state, wanted.lease, wanted.attempts)
            assert leg.outcome == wanted.outcome
            assert lines[number] == wanted.logged
            if wanted.state not in ("queued", "running"):
                assert (leg.run.state, leg.run.outcome) == (wanted.state, wanted.outcome)


def test_any_order_of_transitions_is_what_the_model_says(records: Path) -> None:
    Transitions.clock = records
    run_state_machine_as_test(
        Transitions,
        settings=settings(
            max_examples=30, stateful_step_count=30, deadline=None, suppress_health_check=[HealthCheck.too_slow]
        ),
    )


_STATES = {"state", "outcome", "lease"}
_WRITES = {"update", "create", "get_or_create", "update_or_create", "bulk_create", "Leg", "Run", "Slice"}


def _writes_of(tree: ast.AST) -> Iterator[str]:
    """What sets a state, an outcome or a lease: an attribute, or an argument of what stores rows."""
    for node in ast.walk(tree):
        if isinstance(node, ast.Assign | ast.AugAssign):
            targets = node.targets if isinstance(node, ast.Assign) else [node.target]
            names = [target.attr for target in targets if isinstance(target, ast.Attribute)]
        elif isinstance(node, ast.Call):
            called = node.func.attr if isinstance(node.func, ast.Attribute) else getattr(node.func, "id", "")
            names = [keyword.arg or "" for keyword in node.keywords] if called in _WRITES else []
        else:
            continue
        # those of a feed's files are other states
        if _STATES.intersection(names) and "FileState" not in (text := ast.unparse(node)):
            yield text


def test_nothing_else_writes_a_state() -> None:
    """The modules of the transitions are where a state, a lease or an outcome of runs, legs, slices and streams is set, and nowhere else."""
    found = {
        path.relative_to(ROOT / "src/ultravect/service").as_posix(): list(_writes_of(ast.parse(path.read_text())))
        for path in (ROOT / "src/ultravect/service").rglob("*.py")
        if "migrations" not in path.parts
    }
    written = {name: lines for name, lines in found.items() if lines}
    assert len(written.pop("work/runs/transitions.py")) > 20
    assert written.pop("work/streams/transitions.py")
    assert written == {}


def test_what_a_leg_says_is_stored_in_one_transaction(records: Path) -> None:
    """Of several events of which the last cannot be stored, none is."""
    from ultravect.service.records.models import Event, Leg
    from ultravect.service.work.runs.transitions import Claimant, claim_leg

    Leg.objects.all().delete()
    run = _new_run()
    record = claim_leg(Claimant("one", frozenset(["home"])))
    assert record is not None
    events = Event.objects.filter(run=run).count()
    with pytest.raises(KeyError):
        record.record({"kind": "progress", "rows_read": 5}, {"kind": "planned"})
    assert Event.objects.filter(run=run).count() == events
    assert Leg.objects.get(run=run).progress == {}


@pytest.mark.parametrize("text", ["a\0b", "\N{SYMBOL FOR NULL}", "Zürich\U0001f3d4", "a" * 100_000])
def test_whatever_a_leg_says_can_be_stored(records: Path, text: str) -> None:
    from ultravect.service.records.models import Event, Leg, Reject
    from ultravect.service.work.runs.transitions import Claimant, claim_leg

    Leg.objects.all().delete()
    run = _new_run()
    record = claim_leg(Claimant("one", frozenset(["home"])))
    assert record is not None
    reject = {
        "object": text[:100], "row": 1, "line": None, "column": "name", "value": text, "reason": text, "record": {"name": text},
    }  # fmt: skip
    record.record({"kind": "log", "level": "warning", "text": text}, {"kind": "rejects", "rejects": [reject]})
    stored = text.replace("\0", "\N{SYMBOL FOR NULL}")
    assert Event.objects.get(run=run, kind="log").data["text"] == stored
    assert Reject.objects.get(leg__run=run).value == stored


def test_progress_is_one_value_and_events_are_some(records: Path) -> None:
    """A leg of hours says thousands of times how far it is, and one that logs without end is cut off with a number."""
    from ultravect.service.records.models import Event, Leg, State
    from ultravect.service.work.runs.transitions import Claimant, claim_leg

    Leg.objects.all().delete()
    run = _new_run()
    record = claim_leg(Claimant("one", frozenset(["home"])))
    assert record is not None
    for rows in range(1000):
        record.record({"kind": "progress", "rows_read": rows})
    for _ in range(25):
        record.record(*({"kind": "log", "level": "info", "text": "row"} for _ in range(100)))
    record.end(State.SUCCEEDED)
    leg = Leg.objects.get(run=run)
    assert leg.progress["rows_read"] == 999
    assert 50 < len(leg.pace) <= 201
    assert leg.pace[-1][1] == 999
    events = Event.objects.filter(run=run)
    assert events.filter(kind="progress").count() == 0
    assert events.filter(kind="log").count() == 2001
    assert "and 500 more lines" in events.filter(kind="log").order_by("id").last().data["text"]  # type: ignore[union-attr]


def test_rows_that_could_not_be_counted_are_verified_by_their_receipt_later(records: Path) -> None:
    from ultravect.service.records.models import Event, Leg, Outcome, State
    from ultravect.service.work.runs.transitions import Claimant, LegRecord, claim_leg, unsettled

    Leg.objects.all().delete()
    tally = {"read": 2, "inserted": 2}
    for said, level in ((tally, "info"), ({"read": 2, "inserted": 1}, "warning"), (None, "warning")):
        run = _new_run()
        record = claim_leg(Claimant("one", frozenset(["home"])))
        assert record is not None
        record.end(State.SUCCEEDED, outcome=Outcome.COMMITTED, result={"tally": tally, "unverified": True})
        found = unsettled(lambda leg: True)
        assert found is not None
        assert found.run_id == run.pk
        LegRecord(found).verified_late(said)
        assert Event.objects.get(run=run, kind="log").data["level"] == level
        assert unsettled(lambda leg: True) is None
        assert Leg.objects.get(run=run).state == "succeeded"
