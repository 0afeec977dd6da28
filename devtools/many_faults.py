"""Runs of a job with many tables that copies what is new, while workers are killed and paused: every row comes exactly once."""

from __future__ import annotations

import time

from devtools.stack import Stack, temporary_stack
from devtools.worker_faults import LOST_AFTER, Trouble, WorkerOutcome
from ultravect.client import Client

_TABLES = 6
_NEW_ROWS = 500
_SECONDS_A_RUN = 60.0


def many_faults(count: int, seed: int = 1) -> WorkerOutcome:
    """``count`` runs, with new rows before each; by three workers, the service itself has none."""
    outcome = WorkerOutcome(count)
    with temporary_stack("many", settings={"ULTRAVECT_LOST_AFTER": str(LOST_AFTER)}, slots=0) as stack:
        workers = [stack.start_worker() for _ in range(3)]
        trouble = Trouble(stack, workers, outcome, seed)
        try:
            with Client(stack.url, token=stack.token) as client:
                _prepare(stack, client)
                trouble.start()
                for number in range(count):
                    _insert(stack)
                    _run(client, outcome, number)
                trouble.ending.set()
                trouble.join()
                _run(client, outcome, count)
            _look(stack, outcome)
        finally:
            trouble.end_workers()
    return outcome


def _prepare(stack: Stack, client: Client) -> None:
    """Tables with a number that grows, and rows of which several have the same; some have a key and some have none."""
    for schema in ("source", "copied"):
        stack.postgres.execute(f"CREATE SCHEMA {schema}", "warehouse")
    for number in range(_TABLES):
        key = "primary key" if number % 2 else ""
        stack.postgres.execute(
            f"CREATE TABLE source.t{number} (id bigserial {key}, changed bigint, v text)", "warehouse"
        )
    keyed = ", ".join(f"t{number}: {{into: {{mode: upsert, keys: primary}}}}" for number in range(1, _TABLES, 2))
    client.save_job(
        "many",
        "ultravect: 1\njob: many\n"
        "from: {connection: warehouse, tables: ['source.*'], newer: {by: changed}}\n"
        "into: {connection: warehouse, table: 'copied.{table}'}\n"
        f"objects: {{{keyed}}}\n",
    )


def _insert(stack: Stack) -> None:
    for number in range(_TABLES):
        stack.postgres.execute(
            f"INSERT INTO source.t{number} (changed, v) SELECT coalesce((SELECT max(changed) FROM source.t{number}), 0) + n / 7, "
            f"'row ' || n % 3 FROM generate_series(0, {_NEW_ROWS - 1}) n",
            "warehouse",
        )


def _run(client: Client, outcome: WorkerOutcome, number: int) -> None:
    run = client.run("many")
    until = time.monotonic() + _SECONDS_A_RUN
    while not (found := client.show(run.id)).ended and time.monotonic() < until:
        time.sleep(0.2)
    if not found.ended:
        outcome.wrong.append(f"run {number} did not end")
        client.stop(run.id)
    outcome.taken_over += sum(leg.attempts > 1 for leg in found.legs)
    outcome.succeeded += found.state == "succeeded"
    outcome.failed += found.state == "failed"


def _look(stack: Stack, outcome: WorkerOutcome) -> None:
    for number in range(_TABLES):
        for one, other in (("source", "copied"), ("copied", "source")):
            rows = stack.postgres.execute(
                f"SELECT count(*) FROM (SELECT id, changed, v FROM {one}.t{number} EXCEPT ALL "
                f"SELECT id, changed, v FROM {other}.t{number}) d",
                "warehouse",
            )
            if rows[0][0]:
                outcome.wrong.append(f"{rows[0][0]} rows of {one}.t{number} are not in {other}")
