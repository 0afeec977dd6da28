"""Kills and pauses workers at random while runs are under way, and cuts them off from the records and from their targets; looks whether any run is
lost, stuck or reported twice."""

from __future__ import annotations

import os
import random
import signal
import subprocess
import threading
import time
from contextlib import suppress
from dataclasses import dataclass, field

from devtools.stack import Stack, temporary_stack
from ultravect.client import ApiError, Client, Run, ServiceUnreachable

LOST_AFTER = 3
_ROWS = 20_000
_JOBS = 6
_SECONDS_A_RUN = 12.0


@dataclass
class WorkerOutcome:
    """What came of the runs; ``wrong`` says what should not have been."""

    runs: int = 0
    killed: int = 0
    paused: int = 0
    cut: int = 0
    taken_over: int = 0
    succeeded: int = 0
    failed: int = 0
    wrong: list[str] = field(default_factory=list)


class Trouble(threading.Thread):
    """Kills a worker and starts another, pauses one for longer than it takes to be lost, or ends sessions, until it is stopped."""

    def __init__(
        self,
        stack: Stack,
        workers: list[subprocess.Popen[bytes]],
        outcome: WorkerOutcome,
        seed: int,
        *,
        cuts: bool = False,
    ) -> None:
        """``cuts``: whether it ends sessions, too, with the records and with the targets."""
        super().__init__(daemon=True)
        self._cuts = cuts
        self._stack, self._workers, self._outcome = stack, workers, outcome
        self._chance = random.Random(seed)
        self.ending = threading.Event()

    def run(self) -> None:
        while not self.ending.wait(self._chance.uniform(0.3, 1.5)):
            number = self._chance.randrange(len(self._workers))
            worker = self._workers[number]
            if self._cuts and self._chance.random() < 0.4:
                self._cut(self._chance.choice(["ultravect", "ultravect", "warehouse"]))
            elif self._chance.random() < 0.5:
                worker.kill()
                worker.wait()
                self._workers[number] = self._stack.start_worker()
                self._outcome.killed += 1
            else:
                os.kill(worker.pid, signal.SIGSTOP)
                self.ending.wait(self._chance.uniform(0.2, LOST_AFTER * 2.5))
                os.kill(worker.pid, signal.SIGCONT)
                self._outcome.paused += 1

    def _cut(self, database: str) -> None:
        """Ends all sessions with the records, or with the target, and lets none begin for a moment."""
        run, moment = self._stack.postgres.execute, self._chance.uniform(0, LOST_AFTER / 3)
        run(f"ALTER DATABASE {database} ALLOW_CONNECTIONS false")
        try:
            run(f"SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = '{database}'")
            self.ending.wait(moment)
        finally:
            run(f"ALTER DATABASE {database} ALLOW_CONNECTIONS true")
        self._outcome.cut += 1

    def end_workers(self) -> None:
        """Ends all of them, those that are paused too."""
        self.ending.set()
        for worker in self._workers:
            with suppress(ProcessLookupError):
                os.kill(worker.pid, signal.SIGCONT)
            worker.kill()
            worker.wait()


def worker_faults(count: int, seed: int = 1) -> WorkerOutcome:
    """``count`` runs of several jobs, by three workers that are killed and paused; the service itself has none."""
    settings = {"ULTRAVECT_LOST_AFTER": str(LOST_AFTER)}
    outcome = WorkerOutcome(count)
    with temporary_stack("workers", settings=settings, slots=0) as stack:
        workers = [stack.start_worker() for _ in range(3)]
        trouble = Trouble(stack, workers, outcome, seed, cuts=True)
        try:
            with Client(stack.url, token=stack.token) as client:
                _jobs(client, stack)
                trouble.start()
                ids = [_started(client, f"faulty-{number % _JOBS}", number) for number in range(count)]
                ended = _ended(client, ids, outcome)
                trouble.ending.set()
                trouble.join()
                _settled(client, [run.id for run in ended if run.outcome == "unknown"])
                _look(client, stack, ids, outcome)
        finally:
            trouble.end_workers()
    return outcome


def _started(client: Client, job: str, number: int) -> int:
    """A run of the job, whatever the records answer at this moment: the same key starts it once."""
    while True:
        with suppress(ApiError, ServiceUnreachable):
            return client.run(job, idempotency_key=f"faulty-{number}").id
        time.sleep(0.2)


def _shown(client: Client, number: int) -> Run:
    while True:
        with suppress(ApiError, ServiceUnreachable):
            return client.show(number)
        time.sleep(0.2)


def _jobs(client: Client, stack: Stack) -> None:
    (stack.files / "rows.csv").write_text("k,v\n" + "".join(f"{row},{row * 2}\n" for row in range(_ROWS)))
    for number in range(_JOBS):
        columns = '["run_id() as run", "*"]'
        client.save_job(
            f"faulty-{number}",
            f"ultravect: 1\njob: faulty-{number}\nfrom: {{connection: incoming, files: rows.csv}}\ncolumns: {columns}\n"
            f"into: {{connection: warehouse, table: faulty_{number}}}\n",
        )


def _ended(client: Client, ids: list[int], outcome: WorkerOutcome) -> list[Run]:
    until = time.monotonic() + 60 + _SECONDS_A_RUN * len(ids)
    found: dict[int, Run] = {}
    while time.monotonic() < until and len(found) < len(ids):
        for number in ids:
            if number not in found and (run := _shown(client, number)).ended:
                found[number] = run
        time.sleep(0.3)
    stuck = [number for number in ids if number not in found]
    if stuck:
        outcome.wrong.append(f"runs {stuck[:5]} did not end")
    return list(found.values())


def _settled(client: Client, ids: list[int]) -> None:
    """Waits until targets have been asked for the outcomes that were not known."""
    until = time.monotonic() + 90
    while ids and time.monotonic() < until:
        ids = [number for number in ids if _shown(client, number).outcome == "unknown"]
        time.sleep(0.5)


def _look(client: Client, stack: Stack, ids: list[int], outcome: WorkerOutcome) -> None:
    """Each run: one end, and its rows whole and once where it says so, or not at all."""
    rows: dict[str, int] = {}
    for number in range(_JOBS):
        if stack.postgres.execute(f"SELECT to_regclass('faulty_{number}') IS NOT NULL", "warehouse")[0][0]:
            found = stack.postgres.execute(
                f"SELECT run, count(*), sum(k) FROM faulty_{number} GROUP BY 1", "warehouse"
            )
            for run, count, total in found:
                rows[str(run)] = int(str(count))
                if (int(str(count)), int(str(total))) != (_ROWS, _ROWS * (_ROWS - 1) // 2):
                    outcome.wrong.append(f"run {run} has {count} rows in the target, not {_ROWS}")
    ends = dict(
        stack.postgres.execute(
            "SELECT run_id, count(*) FROM records_event WHERE kind = 'end' GROUP BY 1", "ultravect"
        )
    )
    for number in ids:
        run = _shown(client, number)
        outcome.taken_over += run.attempts > 1
        outcome.succeeded += run.state == "succeeded"
        outcome.failed += run.state == "failed"
        there = str(number) in rows
        if run.outcome != ("committed" if there else "nothing"):
            outcome.wrong.append(
                f"run {number} says {run.outcome}, and its rows are {'there' if there else 'not there'}"
            )
        if run.state == "succeeded" and not there:
            outcome.wrong.append(f"run {number} succeeded, and its rows are not there")
        if ends.get(number) != 1:
            outcome.wrong.append(f"run {number} ended {ends.get(number, 0)} times")


def table(outcome: WorkerOutcome) -> str:
    head = "| runs | workers killed | workers paused | sessions ended | taken over | succeeded | failed | wrong |\n|---|---|---|---|---|---|---|---|"
    wrong = f"{len(outcome.wrong) or 'nothing'}{''.join(f'; {what}' for what in outcome.wrong[:5])}"
    return (
        f"{head}\n| {outcome.runs} | {outcome.killed} | {outcome.paused} | {outcome.cut} | {outcome.taken_over} | {outcome.succeeded} | "
        f"{outcome.failed} | {wrong} |"
    )
