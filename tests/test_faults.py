"""Loads that are killed at random instants, in each database and mode; `./dev faults` does more of them."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

import pytest


@pytest.mark.timeout(500)
def test_killed_loads_leave_old_rows_or_new_ones() -> None:
    # in a process of its own, which forks before there is any thread
    done = subprocess.run(
        [sys.executable, "-m", "devtools", "faults", "--count", "1", "--runs", "2"],
        cwd=Path(__file__).parent.parent,
        capture_output=True,
        text=True,
        timeout=400,
    )
    assert done.returncode == 0, done.stdout + done.stderr
    workers = next(line.split(" | ") for line in done.stdout.splitlines() if line.startswith("| 2 |"))
    assert workers[-1].strip(" |") == "nothing"
    many = next(line.split(" | ") for line in done.stdout.splitlines() if line.startswith("| 1 |"))
    assert many[-1].strip(" |") == "nothing"
    lines = [line.split(" | ") for line in done.stdout.splitlines() if " | the " in line]
    assert len(lines) == 14
    assert all(line[-1].strip(" |") == "nothing" for line in lines)
    assert all(int(line[3]) == int(line[4]) + int(line[5]) for line in lines)
