"""Records of earlier versions are kept when the schema is brought up to date."""

from __future__ import annotations

import os
import subprocess
import sys
from contextlib import suppress
from pathlib import Path

import psycopg
from devtools.stack import Stack
from tests.service.test_schedules import _until

from ultravect.service.records.upgrade import UPGRADE_LOCK

_RUN = (
    "INSERT INTO records_run (id, job_id, revision_id, state, queued_at, stop_requested, worker, parameters, attempts, kind, error) "
    "VALUES ({id}, 1, 1, '{state}', now(), false, '', '{{}}', 1, 'load', {error})"
)


def _migrate(stack: Stack, database: str, to: str = "") -> None:
    environment = os.environ | {
        "ULTRAVECT_DATABASE_URL": stack.postgres.url(database),
        "ULTRAVECT_KEY": stack.key,
        "DJANGO_SETTINGS_MODULE": "ultravect.service.settings",
    }
    command = [sys.executable, "-m", "django", "migrate", "records", *([to] if to else []), "--verbosity", "0"]
    done = subprocess.run(command, env=environment, capture_output=True, text=True, cwd=Path(__file__).parent)
    assert done.returncode == 0, done.stderr


def test_runs_of_earlier_versions_get_their_outcome(stack: Stack) -> None:
    database = "upgraded"
    stack.postgres.execute(f"CREATE DATABASE {database}")
    _migrate(stack, database, "0006")
    for statement in (
        "INSERT INTO records_job (id, name, created_at) VALUES (1, 'bookings', now())",
        "INSERT INTO records_revision (id, job_id, number, text, structure, saved_at) VALUES (1, 1, 1, '', '{}', now())",
        _RUN.format(id=1, state="succeeded", error="NULL"),
        _RUN.format(
            id=2, state="failed", error="""'{"code": "verify-failed", "detail": "", "hint": "", "where": {}}'"""
        ),
        _RUN.format(
            id=3, state="failed", error="""'{"code": "outcome-unknown", "detail": "", "hint": "", "where": {}}'"""
        ),
        _RUN.format(
            id=4, state="failed", error="""'{"code": "file-missing", "detail": "", "hint": "", "where": {}}'"""
        ),
        "INSERT INTO records_leg (run_id, number, source, target, state, phases, progress, created_target, rejected) "
        "SELECT id, 1, '', '', state, '[]', '{}', false, 0 FROM records_run",
    ):
        stack.postgres.execute(statement, database)
    _migrate(stack, database)
    assert stack.postgres.execute("SELECT run_id, outcome, lease FROM records_leg ORDER BY run_id", database) == [
        (1, "committed", 0),
        (2, "committed", 0),
        (3, "unknown", 0),
        (4, "nothing", 0),
    ]
    stack.postgres.execute(f"DROP DATABASE {database}")


def test_processes_that_start_at_once_upgrade_the_records_once(stack: Stack, tmp_path: Path) -> None:
    database = "together"
    stack.postgres.execute(f"CREATE DATABASE {database}")
    _migrate(stack, database, "0018")
    stack.postgres.execute("INSERT INTO records_job (id, name, created_at) VALUES (1, 'bookings', now())", database)
    environment = stack.environment | {"ULTRAVECT_DATABASE_URL": stack.postgres.url(database)}
    command = [sys.executable, "-m", "ultravect.service", "worker", "--slots", "1"]
    log = tmp_path / "log"
    with psycopg.connect(stack.postgres.url(database), autocommit=True) as holder, log.open("wb") as output:
        # both come to the lock while someone has it, so that neither can be ready before the other begins
        holder.execute("SELECT pg_advisory_lock(%s)", [UPGRADE_LOCK])
        started = [subprocess.Popen(command, env=environment, stdout=output, stderr=output) for _ in range(2)]
        try:
            _until(lambda: log.read_text().count("waiting for it") == len(started))
            holder.execute("SELECT pg_advisory_unlock(%s)", [UPGRADE_LOCK])
            _until(lambda: _seen(stack, database) == len(started))
        finally:
            for process in started:
                process.kill()
                process.wait()
    said = log.read_text()
    assert "Traceback" not in said
    assert "already exists" not in said
    assert stack.postgres.execute("SELECT name FROM records_job", database) == [("bookings",)]
    # the program of before does not touch what is newer
    stack.postgres.execute(
        "INSERT INTO django_migrations (app, name, applied) VALUES ('records', '9999_later', now())", database
    )
    refused = subprocess.run(command, env=environment, capture_output=True, text=True, timeout=60)
    assert refused.returncode == 1
    assert "newer version than this program (they have 9999_later)" in refused.stderr
    stack.postgres.execute(f"DROP DATABASE {database} WITH (FORCE)")


def _seen(stack: Stack, database: str) -> int:
    with suppress(psycopg.Error):
        ((count,),) = stack.postgres.execute("SELECT count(*) FROM records_workerseen", database)
        return int(str(count))
    return 0


def test_jobs_of_the_version_before_run_as_they_did(stack: Stack) -> None:
    database = "renamed"
    stack.postgres.execute(f"CREATE DATABASE {database}")
    _migrate(stack, database, "0007")
    texts = {
        1: "run:\\n  # not long\\n  retry: 2\\n  cutoff: 10 min  # enough\\n",
        2: "run: {cutoff: 10 min}\\n",
        3: 'run: {timeout: 1 h}\\nabout: "cutoff: no"\\n',
    }
    stack.postgres.execute("INSERT INTO records_job (id, name, created_at) VALUES (1, 'bookings', now())", database)
    for number, text in texts.items():
        run = '{"run": {"timeout": "1 h"}}' if number == 3 else '{"run": {"cutoff": "10 min"}}'
        stack.postgres.execute(
            "INSERT INTO records_revision (id, job_id, number, text, structure, saved_at) "
            f"VALUES ({number}, 1, {number}, E'{text}', '{run}', now())",
            database,
        )
    _migrate(stack, database)
    found = stack.postgres.execute("SELECT text, structure FROM records_revision ORDER BY id", database)
    assert found == [
        ("run:\n  # not long\n  retry: 2\n  timeout: 10 min  # enough\n", {"run": {"timeout": "10 min"}}),
        ("run: {timeout: 10 min}\n", {"run": {"timeout": "10 min"}}),
        ('run: {timeout: 1 h}\nabout: "cutoff: no"\n', {"run": {"timeout": "1 h"}}),
    ]
    stack.postgres.execute(f"DROP DATABASE {database}")


def test_what_an_earlier_version_left_in_its_queue_is_queued(stack: Stack) -> None:
    """The queue was a library's, whose tables go; legs under way, and runs whose legs were to be found, are claimed by their own rows."""
    database = "adopted"
    stack.postgres.execute(f"CREATE DATABASE {database}")
    _migrate(stack, database, "0028")
    structure = '{"ultravect": 1, "job": "bookings", "from": {"connection": "a", "table": "t"}, "into": {"connection": "b", "table": "t"}}'
    many = structure.replace('"table": "t"', '"tables": ["*"]', 1).replace('"table": "t"', '"table": "x_{table}"', 1)
    columns = "id, job_id, revision_id, state, queued_at, stop_requested, parameters, attempts, kind, outcome, trigger, noted"
    for statement in (
        "CREATE TYPE procrastinate_job_status AS ENUM ('todo')",
        "CREATE TABLE procrastinate_jobs (id int, status procrastinate_job_status)",
        "CREATE FUNCTION procrastinate_notify() RETURNS int LANGUAGE sql AS 'SELECT 1'",
        "INSERT INTO records_job (id, name, created_at) VALUES (1, 'bookings', now())",
        f"INSERT INTO records_revision (id, job_id, number, text, structure, saved_at) VALUES (1, 1, 1, '', '{structure}', now()), "
        f"(2, 1, 2, '', '{many}', now())",
        f"INSERT INTO records_run ({columns}) SELECT n, 1, CASE n WHEN 3 THEN 2 ELSE 1 END, 'queued', now(), false, '{{}}', 0, 'load', "
        "'nothing', 'hand', false FROM generate_series(1, 3) n",
    ):
        stack.postgres.execute(statement, database)
    names = stack.postgres.execute(
        "SELECT column_name, data_type FROM information_schema.columns WHERE table_name = 'records_leg' AND is_nullable = 'NO' "
        "AND column_name NOT IN ('id', 'run_id', 'number', 'state', 'begun')",
        database,
    )
    empty = {"jsonb": "'[]'", "boolean": "false", "character varying": "'nothing'"}
    values = ", ".join(empty.get(str(kind), "0") for _, kind in names)
    for run, state in ((1, "queued"), (2, "running")):
        stack.postgres.execute(
            f"INSERT INTO records_leg (run_id, number, state, begun, {', '.join(str(name) for name, _ in names)}) "
            f"VALUES ({run}, 1, '{state}', true, {values})",
            database,
        )
    code = "import django; django.setup()\nfrom ultravect.service.records.upgrade import upgrade\nupgrade()"
    environment = stack.environment | {
        "ULTRAVECT_DATABASE_URL": stack.postgres.url(database),
        "DJANGO_SETTINGS_MODULE": "ultravect.service.settings",
    }
    subprocess.run([sys.executable, "-c", code], env=environment, check=True)
    legs = "SELECT run_id, queued_at IS NOT NULL, place, uses FROM records_leg ORDER BY run_id"
    assert stack.postgres.execute(legs, database) == [
        (1, True, "job:bookings", ["a", "b"]),
        (2, True, "job:bookings", ["a", "b"]),
    ]
    assert stack.postgres.execute("SELECT run_id FROM records_legsearch", database) == [(3,)]
    left = "SELECT count(*) FROM pg_class WHERE relname LIKE 'procrastinate%'"
    assert stack.postgres.execute(left, database) == [(0,)]
    stack.postgres.execute(f"DROP DATABASE {database}")
