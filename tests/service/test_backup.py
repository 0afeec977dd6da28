"""Backups: all records in one file, as they were at one moment, and what keeps them from being restored."""

from __future__ import annotations

import os
import subprocess
import sys
import tarfile
from collections.abc import Sequence
from pathlib import Path

import pytest
from devtools.stack import Stack
from tests.conftest import Place


def _service(stack: Stack, database: str, *arguments: str, key: str = "") -> tuple[int, str]:
    environment = os.environ | {
        "ULTRAVECT_DATABASE_URL": stack.postgres.url(database),
        "ULTRAVECT_KEY": key or stack.key,
    }
    done = subprocess.run(
        [sys.executable, "-m", "ultravect.service", *arguments], env=environment, capture_output=True, text=True
    )
    assert "Traceback" not in done.stderr
    return done.returncode, done.stdout + done.stderr


@pytest.fixture(scope="module")
def backup(stack: Stack, tmp_path_factory: pytest.TempPathFactory) -> Path:
    path = tmp_path_factory.mktemp("backup") / "records.backup"
    code, said = _service(stack, "ultravect", "backup", str(path))
    assert code == 0, said
    assert "keep ULTRAVECT_KEY apart" in said
    assert path.stat().st_mode & 0o777 == 0o600
    return path


def test_what_is_restored_is_what_was_backed_up(stack: Stack, place: Place, tmp_path: Path) -> None:
    place.file("a\n1\n").job(run='schedule: {cron: "0 0 1 1 *"}')
    run = place.run()
    path = tmp_path / "records.backup"
    assert _service(stack, "ultravect", "backup", str(path))[0] == 0
    # what happens later is not in it
    place.run()
    stack.postgres.execute("CREATE DATABASE restored")
    code, said = _service(stack, "restored", "restore", str(path))
    assert code == 0, said
    of_job = f"job_id = (SELECT id FROM records_job WHERE name = '{place.name}')"
    found = stack.postgres.execute(f"SELECT id FROM records_run WHERE {of_job}", "restored")
    assert found == [(run.id,)]
    sealed = "SELECT name, settings, sealed FROM records_connection ORDER BY name"
    assert stack.postgres.execute(sealed, "restored") == stack.postgres.execute(sealed, "ultravect")
    assert stack.postgres.execute(f"SELECT count(*) FROM records_schedule WHERE {of_job}", "restored") == [(1,)]
    # and once more is refused: there is something already
    code, said = _service(stack, "restored", "restore", str(path))
    assert code == 1
    assert "is not empty" in said


@pytest.mark.parametrize(
    ("command", "file", "key", "said"),
    [
        (["backup"], "", "", "is there already"),
        (["backup"], "no/such/folder/file", "", "No such file"),
        (["restore"], "", "another key of sixteen characters", "sealed with another key"),
        (["restore"], "missing", "", "cannot be read"),
        (["restore"], "rubbish", "", "cannot be read"),
        (["restore"], "empty.tar", "", "cannot be read"),
        (["restore"], "", "short", "at least 16"),
    ],
)
def test_what_is_refused(
    stack: Stack, backup: Path, tmp_path: Path, command: Sequence[str], file: str, key: str, said: str
) -> None:
    (tmp_path / "rubbish").write_bytes(b"no backup" * 100)
    with tarfile.open(tmp_path / "empty.tar", "w"):
        pass
    code, output = _service(stack, "ultravect", *command, str(tmp_path / file) if file else str(backup), key=key)
    assert code == 1
    assert said in output
