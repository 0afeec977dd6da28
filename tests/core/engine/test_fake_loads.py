"""How a plan is executed, against a target in memory: which steps are taken in which order, what is counted, and what is left of what fails."""

from __future__ import annotations

import csv
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import pytest
from devtools.legs import run_leg
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from tests.core.engine.fakes import MemoryTarget, Row
from tests.core.engine.test_run import Heard

from ultravect.core.contracts.receipt import ReceiptKey
from ultravect.core.contracts.write_session import CHANGED
from ultravect.core.dialects.base import TableName
from ultravect.core.engine.objects.connections import ConnectionSpec
from ultravect.core.engine.plan import make, open_leg
from ultravect.core.engine.run import execute
from ultravect.core.engine.run.leg import LegResult
from ultravect.core.errors import UltravectError
from ultravect.core.model.document import job_from_data

OLD: Sequence[Row] = [("ALP", 40, None), ("FAL", 22, None)]


class Runs:
    """Runs a job from a file of huts into a target in memory."""

    def __init__(self, folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
        self._folder, self._patch = folder, monkeypatch
        self.heard = Heard()

    def __call__(
        self, target: MemoryTarget, rows: Sequence[Sequence[Any]], receipt: str = "", **others: Any
    ) -> LegResult:
        with (self._folder / "huts.csv").open("w", newline="") as file:
            csv.writer(file).writerows([("hut", "beds", "opened"), *rows])
        for module in (make, execute, open_leg):
            self._patch.setattr(module, "open_target", lambda *_: (target, TableName(None, "hut")))
        into = {key: value for key, value in others.items() if key != "earlier"}
        data = {
            "ultravect": 1,
            "job": "x",
            "from": {"connection": "in", "files": "huts.csv"},
            "into": {"connection": "out", "table": "hut", **into},
        }
        source = ConnectionSpec("in", "folder", {"path": str(self._folder)}, [str(self._folder)])
        self.heard = Heard()
        return run_leg(
            job_from_data(data),
            source,
            ConnectionSpec("out", "postgresql", {}),
            self.heard,
            receipt=receipt,
            earlier=others.get("earlier", ()),
        )

    def failed(self, *arguments: Any, **others: Any) -> UltravectError:
        with pytest.raises(UltravectError) as raised:
            self(*arguments, **others)
        return raised.value


@pytest.fixture
def run(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Runs:
    return Runs(tmp_path, monkeypatch)


MODES: dict[str, dict[str, Any]] = {
    "append": {},
    "overwrite": {"mode": "overwrite"},
    "overwrite with keys": {"mode": "overwrite", "keys": ["hut"]},
    "upsert": {"mode": "upsert", "keys": ["hut"]},
}


@pytest.mark.parametrize("into", MODES.values(), ids=MODES)
def test_the_steps_of_a_load_are_the_same_in_every_mode(run: Runs, into: dict[str, Any]) -> None:
    target = MemoryTarget(OLD)
    done = run(target, [("BER", 8, ""), ("ALP", 41, "")], **into)
    assert target.steps == ["open", "write", "finish", "publish", "verify", "close"]
    assert [phase for phase, state in run.heard.phases if state == "done"] == [
        "read",
        "shape",
        "stage",
        "publish",
        "verify",
    ]
    assert done.tally.read == 2
    assert done.rows_after == len(target.rows)
    (attempt,) = target.attempts
    assert attempt.plan.action.mode == into.get("mode", "append")
    assert list(attempt.plan.keys) == into.get("keys", [])


rows = st.lists(st.tuples(st.sampled_from("ABCDEF"), st.integers(0, 9)), max_size=12)


@settings(suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(old=rows, new=rows, mode=st.sampled_from(["append", "overwrite", "upsert"]))
def test_every_row_is_accounted_for(run: Runs, old: list[Row], new: list[Row], mode: str) -> None:
    before = list({row[0]: (*row, None) for row in old}.values())
    target = MemoryTarget(before)
    keys = {"keys": ["hut"]} if mode == "upsert" else {}
    tally = run(target, [(*row, "") for row in new], mode=mode, **keys).tally
    assert tally.read == len(new) == tally.inserted + tally.updated + tally.unchanged + tally.repeated
    if mode == "upsert":
        known, last = {row[0]: row[1] for row in old}, {row[0]: row[1] for row in new}
        assert tally.repeated == len(new) - len(last)
        assert tally.updated == sum(known[key] != beds for key, beds in last.items() if key in known)
        assert {row[0]: row[1] for row in target.rows} == {**known, **last}
    else:
        assert target.rows == ([] if mode == "overwrite" else before) + [(*row, None) for row in new]


STEPS = ("write", "finish", "publish", "verify")


@pytest.mark.parametrize("step", STEPS[:-1])
@pytest.mark.parametrize("code", ["connection-lost", "lock-timeout", "target-full"])
def test_what_is_left_of_a_load_depends_on_the_step_that_failed(run: Runs, step: str, code: str) -> None:
    target = MemoryTarget(OLD)
    target.faults = {step: UltravectError(code, "of the test")}
    error = run.failed(target, [("BER", 8, "")])
    assert error.code == code
    assert target.rows == OLD
    assert STEPS.index(target.steps[-1]) == STEPS.index(step)
    assert error.outcome in (("nothing", "unknown") if step == "publish" else ("", "nothing"))
    assert error.phase == {"write": "stage", "finish": "stage"}.get(step, step)


@pytest.mark.parametrize("fault", [UltravectError("connection-lost", "of the test"), OSError("of the test")])
def test_a_target_that_goes_away_after_the_commit_leaves_a_good_run(run: Runs, fault: Exception) -> None:
    """As it was found: it failed, though all rows were committed."""
    target = MemoryTarget(OLD)
    target.faults = {"verify": fault}
    done = run(target, [("BER", 8, "")], checksums=True)
    assert (done.tally.inserted, done.rows_after, len(target.rows), done.unverified) == (1, 3, 3, True)
    assert [line for line in run.heard.lines if line.startswith("not verified") and "of the test" in line]


@pytest.mark.parametrize("miscounted", [1, -1])
def test_books_that_do_not_balance_stop_the_load_before_it_is_published(run: Runs, miscounted: int) -> None:
    target = MemoryTarget(OLD)
    target.miscounted = miscounted
    error = run.failed(target, [("BER", 8, ""), ("CHA", 6, "")])
    assert error.code == "tally-unbalanced"
    assert target.rows == OLD
    assert "publish" not in target.steps


def test_rows_that_cannot_be_found_afterwards_fail_the_run_and_say_that_they_are_committed(run: Runs) -> None:
    target = MemoryTarget(OLD)
    target.unseen = 1
    error = run.failed(target, [("BER", 8, "")])
    assert (error.code, error.outcome) == ("verify-failed", "committed")


def test_rows_that_the_target_refuses_are_read_again_one_by_one(run: Runs) -> None:
    target = MemoryTarget(OLD)
    target.refuse(("BER", 8, None), ("DUF", 4, None))
    huts = [("BER", 8, ""), ("CHA", 6, ""), ("DUF", 4, "")]
    done = run(target, huts, rejects=2)
    assert (done.tally.read, done.tally.inserted, done.tally.rejected) == (3, 1, 2)
    assert [attempt.isolates for attempt in target.attempts] == [False, True]
    assert [(reject.row, reject.reason) for reject in run.heard.rejected] == [
        (1, "refused by the target: not taken"),
        (3, "refused by the target: not taken"),
    ]
    assert target.steps.count("publish") == 1
    assert run.failed(target, huts, rejects=1).code == "too-many-rejects"
    # where none is tolerated, no second reading could help
    before = len(target.attempts)
    assert run.failed(target, huts).code == "constraint-refused"
    assert len(target.attempts) == before + 1


def test_a_target_that_others_changed_meanwhile_is_loaded_anew(run: Runs) -> None:
    target = MemoryTarget(OLD)
    target.faults = {"publish": UltravectError(CHANGED, "another load was faster")}
    assert run.failed(target, [("BER", 8, "")]).code == CHANGED
    assert target.steps.count("open") > 1
    assert target.rows == OLD


def test_an_attempt_whose_rows_are_there_is_not_repeated(run: Runs) -> None:
    target = MemoryTarget(OLD)
    run(target, [("BER", 8, "")], receipt="7-1")
    assert list(target.receipts) == [ReceiptKey("7-1")]
    target.steps.clear()
    done = run(target, [("BER", 8, "")], receipt="7-2", earlier=["7-1"])
    assert target.steps == ["committed?"]
    assert (done.tally.inserted, done.rows_before, done.rows_after) == (1, 2, 3)
    # one that left nothing is
    target.receipts.clear()
    run(target, [("CHA", 6, "")], receipt="8-2", earlier=["8-1"])
    assert len(target.rows) == 4


def test_the_table_is_not_opened_for_rows_that_do_not_fit(run: Runs) -> None:
    target = MemoryTarget(OLD)
    error = run.failed(target, [("BER", "many", "")])
    assert error.code == "too-many-rejects"
    assert "publish" not in target.steps
    assert target.rows == OLD
    done = run(target, [("BER", "many", ""), ("CHA", 6, "")], rejects=1)
    assert (done.tally.inserted, done.tally.rejected) == (1, 1)
    (reject,) = run.heard.rejected
    assert (reject.row, reject.column, reject.value) == (1, "beds", "many")
