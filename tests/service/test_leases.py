"""Leases of legs, on the records alone: only who holds the newest one can write, whatever happens in which order."""

from __future__ import annotations

import os
from collections.abc import Iterator
from itertools import count
from typing import Any

import pytest
from devtools.stack import NEW_RECORDS, Stack
from hypothesis import HealthCheck, settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, invariant, precondition, rule, run_state_machine_as_test

_STRUCTURE = {
    "ultravect": 1,
    "job": "bookings",
    "from": {"connection": "reservations", "table": "booking"},
    "into": {"connection": "warehouse", "table": "booking"},
}
_numbers = count(1)
_WORKER = "a worker of the tests"


@pytest.fixture(scope="module")
def records(stack: Stack) -> Iterator[None]:
    """Records on which no service works, reached from this process."""
    stack.postgres.execute(f"CREATE DATABASE leases TEMPLATE {NEW_RECORDS}")
    before = dict(os.environ)
    os.environ.update(
        stack.environment,
        ULTRAVECT_DATABASE_URL=stack.postgres.url("leases"),
        DJANGO_SETTINGS_MODULE="ultravect.service.settings",
    )
    import django

    django.setup()
    os.environ.clear()
    os.environ.update(before)
    from django.db import connections

    yield
    for connection in connections.all():
        connection.close()
        connection.close_pool()


def _queued_leg() -> Any:
    """A leg of a run of its own, which is not given to the queue."""
    from ultravect.service.records.models import Job, Leg, Revision, Run

    number = next(_numbers)
    job = Job.objects.create(name=f"leases-{number}")
    revision = Revision.objects.create(job=job, number=1, text="", structure=_STRUCTURE)
    run = Run.objects.create(job=job, revision=revision, parameters={})
    return Leg.objects.create(run=run, number=1, source="booking", target="booking", begun=True)


class Leases(RuleBasedStateMachine):
    """Several workers that hold a leg one after the other, all but the last without knowing that they lost it."""

    def __init__(self) -> None:
        super().__init__()
        from ultravect.service.work.runs.recorder import Recorder

        leg = _queued_leg()
        self.run, self.number = leg.run_id, leg.number
        self.open = lambda: Recorder.of(self.run, self.number)
        self.holders: list[Any] = []
        self.lease = 0
        self.state = "queued"
        self.logged = 0
        self.attempts = 0

    def _writes(self, holder: Any, write: Any) -> bool:
        """Whether ``holder`` may write; what it writes is refused if not."""
        from ultravect.service.work.runs.leg_events import LeaseLost

        if holder.leg.lease == self.lease:
            write()
            return True
        with pytest.raises(LeaseLost):
            write()
        return False

    @rule()
    def take(self) -> None:
        recorder = self.open()
        taken = recorder.begin(_WORKER)
        assert taken == (self.state == "queued")
        if taken:
            self.lease += 1
            self.attempts += 1
            self.state = "running"
            assert recorder.leg.lease == self.lease
            self.holders.append(recorder)

    @precondition(lambda self: self.holders)
    @rule(data=st.data(), text=st.text(max_size=20))
    def says_something(self, data: st.DataObject, text: str) -> None:
        holder = data.draw(st.sampled_from(self.holders))
        line = {"kind": "log", "level": "info", "text": text}
        self.logged += self._writes(holder, lambda: holder.record(line))

    @precondition(lambda self: self.holders)
    @rule(data=st.data())
    def is_handed_over(self, data: st.DataObject) -> None:
        holder = data.draw(st.sampled_from(self.holders))
        if self._writes(holder, lambda: holder.release("the worker is stopped")):
            self.lease += 1
            self.state = "queued"
            self.logged += 1
            holder.leg.lease -= 1  # as a worker sees it that does not know of it

    @precondition(lambda self: self.holders)
    @rule(data=st.data(), state=st.sampled_from(["succeeded", "failed", "stopped"]))
    def ends(self, data: st.DataObject, state: str) -> None:
        from ultravect.service.records.models import State

        holder = data.draw(st.sampled_from(self.holders))
        if self.state == "running" and self._writes(holder, lambda: holder.end(State(state))):
            self.state = state

    @invariant()
    def the_records_say_so(self) -> None:
        from ultravect.service.records.models import Event, Leg

        leg = Leg.objects.select_related("run").get(run_id=self.run)
        assert (leg.state, leg.lease, leg.attempts) == (self.state, self.lease, self.attempts)
        if self.state not in ("queued", "running"):
            assert leg.run.state == self.state
        assert Event.objects.filter(run_id=self.run, kind="log").count() == self.logged


@pytest.mark.usefixtures("records")
def test_only_the_newest_lease_writes() -> None:
    run_state_machine_as_test(
        Leases,
        settings=settings(
            max_examples=15, stateful_step_count=12, deadline=None, suppress_health_check=[HealthCheck.too_slow]
        ),
    )


@pytest.mark.usefixtures("records")
def test_what_a_leg_says_is_stored_in_one_transaction() -> None:
    """Of several events of which the last cannot be stored, none is."""
    from ultravect.service.records.models import Event, Leg
    from ultravect.service.work.runs.recorder import Recorder

    leg = _queued_leg()
    recorder = Recorder.of(leg.run_id, 1)
    assert recorder.begin(_WORKER)
    events = Event.objects.filter(run_id=leg.run_id).count()
    with pytest.raises(KeyError):
        recorder.record({"kind": "progress", "rows_read": 5}, {"kind": "planned"})
    assert Event.objects.filter(run_id=leg.run_id).count() == events
    assert Leg.objects.get(pk=leg.pk).progress == {}


@pytest.mark.usefixtures("records")
@pytest.mark.parametrize("text", ["a\0b", "\N{SYMBOL FOR NULL}", "Zürich\U0001f3d4", "a" * 100_000])
def test_whatever_a_leg_says_can_be_stored(text: str) -> None:
    from ultravect.service.records.models import Event, Reject
    from ultravect.service.work.runs.recorder import Recorder

    leg = _queued_leg()
    recorder = Recorder.of(leg.run_id, 1)
    recorder.begin(_WORKER)
    reject = {
        "object": text[:100], "row": 1, "line": None, "column": "name", "value": text, "reason": text, "record": {"name": text},
    }  # fmt: skip
    recorder.record({"kind": "log", "level": "warning", "text": text}, {"kind": "rejects", "rejects": [reject]})
    stored = text.replace("\0", "\N{SYMBOL FOR NULL}")
    assert Event.objects.get(run_id=leg.run_id, kind="log").data["text"] == stored
    assert Reject.objects.get(leg__run_id=leg.run_id).value == stored
