"""Many small runs, many records and many followers: what a service holds out, on a stack of its own."""

from __future__ import annotations

import shutil
import statistics
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import httpx
import psutil
from devtools.stack import Stack

from ultravect.client import Client

_JOB = """ultravect: 1
job: {name}
from: {{connection: incoming, files: tiny.csv, layout: {{format: delimited, delimiter: ','}}}}
columns: ["hut_code", "beds integer"]
into: {{connection: warehouse, table: '{name}'}}
run: {{schedule: {{cron: "0 3 1 1 *"}}}}
"""
_FOLLOWERS = 200
_TIMES = 60
_EVENTS = 20_000
_SOON = 2.0
_DUE = "UPDATE records_schedule SET next_at = now() + interval '{seconds} seconds'"
_FIGURES = """
SELECT count(*), count(started_at), extract(epoch FROM max(queued_at) - min(scheduled_for)),
  extract(epoch FROM min(queued_at) - min(scheduled_for)), count(*) FILTER (WHERE ended_at IS NOT NULL),
  extract(epoch FROM max(ended_at) - min(started_at)), count(*) FILTER (WHERE state = 'succeeded')
FROM records_run WHERE trigger = 'schedule'
"""
# runs as they are recorded, with a leg each, over the last year
_RECORDS = """
WITH source AS (SELECT * FROM records_run WHERE state = 'succeeded' ORDER BY id LIMIT 1),
picked AS MATERIALIZED (
  SELECT row_number() OVER (ORDER BY j.id) - 1 AS place, j.id, max(v.id) AS revision_id
  FROM records_job j JOIN records_revision v ON v.job_id = j.id GROUP BY j.id),
made AS (
  INSERT INTO records_run ({run_columns})
  SELECT {run_values} FROM generate_series(1, {count}) n JOIN picked ON picked.place = (n::bigint * 7919) % {jobs} CROSS JOIN source r ORDER BY n
  RETURNING id)
INSERT INTO records_leg ({leg_columns})
SELECT {leg_values} FROM made, LATERAL (SELECT * FROM records_leg ORDER BY id LIMIT 1) l
"""


class _Scale:
    def __init__(self, stack: Stack, client: Client) -> None:
        self.stack, self.client = stack, client

    def sql(self, statement: str) -> list[tuple[Any, ...]]:
        return self.stack.postgres.execute(statement, "ultravect")

    def due_at_once(self, jobs: int) -> None:
        self.client.add_connection("incoming", "folder", {"path": str(self.stack.files)})
        self.client.add_connection("warehouse", "postgresql", self.stack.warehouse)
        (self.stack.files / "tiny.csv").write_text("hut_code,beds\nALP,40\nFAL,22\n")
        for number in range(jobs):
            name = f"tiny{number:04}"
            self.client.save_job(name, _JOB.format(name=name))
        # the first run of each makes its table; what is measured are the others
        self.sql(_DUE.format(seconds=_SOON))
        found = self._all_ended(jobs)
        _say(f"{jobs:,} jobs due at once, two workers: recorded after", f"{float(found[2]):.1f} s", "at most 10")
        _say("  the first started after its time by", f"{float(found[3]):.2f} s", "at most 1")
        _say("  runs a second", f"{jobs / float(found[5]):.1f}", "at least 8")
        order = self.sql(
            "SELECT corr(rank, ended) FROM (SELECT row_number() OVER (ORDER BY id) AS rank, "
            "row_number() OVER (ORDER BY ended_at) AS ended FROM records_run WHERE trigger = 'schedule') places"
        )
        _say(
            "  correlation of the order of their times with that of their ends",
            f"{float(order[0][0]):.3f}",
            "about 1",
        )

    def _all_ended(self, jobs: int) -> tuple[Any, ...]:
        while True:
            (found,) = self.sql(_FIGURES)
            if found[4] >= jobs:
                assert found[6] == jobs, "all of them succeed"
                return found
            time.sleep(1)

    def many_records(self, runs: int, jobs: int) -> None:
        def columns(table: str) -> list[str]:
            asked = (
                f"SELECT column_name FROM information_schema.columns WHERE table_name = '{table}' "
                "AND is_generated = 'NEVER' AND column_name <> 'id'"
            )
            return [name for (name,) in self.sql(asked)]

        moment = f"now() - make_interval(mins => (({runs} - n)::bigint * 525 / 1000)::int)"
        changed = {
            "job_id": "picked.id", "revision_id": "picked.revision_id", "idempotency_key": "NULL", "scheduled_for": "NULL", "queued_at": moment,
            "started_at": moment, "ended_at": f"{moment} + interval '2 seconds'", "noted": "true", "trigger": "'hand'",
            "state": "CASE WHEN n % 97 = 0 THEN 'failed' ELSE 'succeeded' END",
        }  # fmt: skip
        run_columns, leg_columns = columns("records_run"), columns("records_leg")
        statement = _RECORDS.format(
            run_columns=", ".join(f'"{name}"' for name in run_columns),
            run_values=", ".join(changed.get(name, f'r."{name}"') for name in run_columns),
            leg_columns=", ".join(f'"{name}"' for name in leg_columns),
            leg_values=", ".join("made.id" if name == "run_id" else f'l."{name}"' for name in leg_columns),
            count=runs,
            jobs=jobs,
        )
        self.sql("SET synchronous_commit = off; " + statement)
        self.sql("VACUUM ANALYZE records_run; ")
        self.sql("VACUUM ANALYZE records_leg; ")
        print(f"{jobs:,} jobs and {runs:,} runs recorded; milliseconds until the answer, 95 of 100:")
        with httpx.Client(
            base_url=f"{self.stack.url}/api/v1", headers={"Authorization": f"Bearer {self.stack.token}"}
        ) as asking:
            for what, path in (
                ("jobs", "jobs"),
                ("runs", "runs"),
                ("runs of a job", "runs?job=tiny0007"),
                ("first page", "today"),
            ):

                def ask(path: str = path) -> None:
                    asking.get(path).raise_for_status()

                ask()
                _say(f"  {what}", f"{_p95(ask):.0f}", "under 100")

    def events(self) -> None:
        """Events are inserted as those of a leg are, several at a time and each time in a transaction."""
        code = (
            "import django; django.setup()\n"
            "import time\n"
            "from ultravect.service.records.models import Run\n"
            "from ultravect.service.work.runs.transitions import LegRecord\n"
            "from ultravect.service.records.models import Leg\n"
            "leg = Leg.objects.defer(None).select_related('run__job', 'run__revision', 'run__origin').order_by('id').first()\n"
            "record, started = LegRecord(leg), time.perf_counter()\n"
            f"for _ in range({_EVENTS // 20}):\n"
            "    record.record(*({'kind': 'log', 'level': 'info', 'text': f'line {n}'} for n in range(20)))\n"
            f"print({_EVENTS} / (time.perf_counter() - started))\n"
        )
        environment = self.stack.environment | {"DJANGO_SETTINGS_MODULE": "ultravect.service.settings"}
        done = subprocess.run(
            [sys.executable, "-c", code], env=environment, capture_output=True, text=True, check=True
        )
        _say("events inserted a second", f"{float(done.stdout.split()[-1]):,.0f}", "at least 2,000")

    def followers(self) -> None:
        """All follow one run that says something ten times a second."""
        (run,) = self.sql("SELECT max(id) FROM records_run WHERE trigger = 'schedule'")[0]
        self.sql(f"UPDATE records_run SET state = 'running', ended_at = NULL WHERE id = {run}")
        ended = threading.Event()
        opened: list[int] = []

        def follow() -> None:
            headers = {"Authorization": f"Bearer {self.stack.token}", "Accept": "text/event-stream"}
            with (
                httpx.Client(timeout=60) as asking,
                asking.stream("GET", f"{self.stack.url}/api/v1/runs/{run}/events", headers=headers) as answer,
            ):
                opened.append(answer.status_code)
                for _ in answer.iter_raw():
                    if ended.is_set():
                        return

        threads = [threading.Thread(target=follow, daemon=True) for _ in range(_FOLLOWERS)]
        for thread in threads:
            thread.start()
        while len(opened) < _FOLLOWERS:
            time.sleep(0.1)
        assert self.stack.process is not None
        service = psutil.Process(self.stack.process.pid)
        idle = _used(service, 5)
        event = f"INSERT INTO records_event (run_id, leg, kind, data, at) VALUES ({run}, 1, 'progress', '{{\"rows_read\": 1}}', now()); "
        speaking = threading.Thread(target=self._say_for, args=(event, run, 10.0), daemon=True)
        speaking.start()
        busy = _used(service, 8)
        ended.set()
        speaking.join()
        self.sql(f"UPDATE records_run SET state = 'succeeded', ended_at = now() WHERE id = {run}")
        _say(f"{_FOLLOWERS} followers of a run that is silent, part of a core", f"{idle:.0%}", "under 20 %")
        _say("  of one that says something each second", f"{busy:.0%}", "")

    def _say_for(self, event: str, run: int, seconds: float) -> None:
        until = time.monotonic() + seconds
        while time.monotonic() < until:
            self.sql(event + f"SELECT pg_notify('ultravect_run', '{run}')")
            time.sleep(1.0)


def _used(process: psutil.Process, seconds: float) -> float:
    """The part of a core that a process uses, itself alone."""
    before = sum(process.cpu_times()[:2])
    time.sleep(seconds)
    return (sum(process.cpu_times()[:2]) - before) / seconds


def _p95(action: Callable[[], None]) -> float:
    taken = []
    for _ in range(_TIMES):
        started = time.perf_counter()
        action()
        taken.append((time.perf_counter() - started) * 1000)
    return statistics.quantiles(taken, n=20)[-1]


def _say(what: str, figure: str, limit: str) -> None:
    print(f"  {what:<72} {figure:>8}  {f'({limit})' if limit else ''}", flush=True)


def run(*, jobs: int = 1000, runs: int = 1_000_000) -> None:
    """Prints figures, each with what it should be."""
    folder = Path(tempfile.mkdtemp(dir="/var/tmp", prefix="ultravect-scale-"))
    folder.chmod(0o755)
    stack = Stack.start(folder / "state")
    other = stack.start_worker("--slots", "2")
    try:
        with Client(stack.url, token=stack.token) as client:
            scale = _Scale(stack, client)
            scale.due_at_once(jobs)
            scale.events()
            scale.followers()
            scale.many_records(runs, jobs)
    finally:
        other.terminate()
        other.wait()
        stack.close()
        stack.postgres.remove()
        shutil.rmtree(folder, ignore_errors=True)
