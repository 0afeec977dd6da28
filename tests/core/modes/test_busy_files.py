"""Databases that are a file, and that another program keeps to itself for a while: a load waits, in its planning too."""

from __future__ import annotations

import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest
from devtools.pairs import Place
from tests.core.modes.writing import Writer

from ultravect.core.errors import UltravectError

_HOLDS = {
    "duckdb": "import duckdb, sys, time; held = duckdb.connect(sys.argv[1]); print('held', flush=True); time.sleep(float(sys.argv[2]))",
    "sqlite": "import sqlite3, sys, time; held = sqlite3.connect(sys.argv[1], isolation_level=None); "
    "held.execute('BEGIN EXCLUSIVE'); print('held', flush=True); time.sleep(float(sys.argv[2]))",
}


@contextmanager
def _held(place: Place, seconds: float) -> Iterator[None]:
    """Another program has the file for ``seconds``."""
    program = [sys.executable, "-c", _HOLDS[place.kind], str(place.spec.settings["path"]), str(seconds)]
    with subprocess.Popen(program, stdout=subprocess.PIPE) as process:
        assert process.stdout is not None
        assert process.stdout.readline() == b"held\n"
        yield
        process.kill()


@pytest.mark.parametrize("kind", ["duckdb", "sqlite"])
def test_a_load_waits_for_the_file(places: dict[str, Place], tmp_path: Path, kind: str) -> None:
    """As it was found: while it was planned, a load failed after a moment."""
    place = places[kind]
    place.drop("modes")
    writer = Writer(place, tmp_path)
    writer.load([(1, "a")], mode="append")
    with _held(place, 3):
        assert writer.load([(2, "b")], mode="append", lock_wait="30 s").tally.inserted == 1
    assert [(int(k), v) for k, v in writer.rows()] == [(1, "a"), (2, "b")]


def test_a_load_waits_no_longer_than_it_may(places: dict[str, Place], tmp_path: Path) -> None:
    place = places["duckdb"]
    place.drop("modes")
    writer = Writer(place, tmp_path)
    writer.load([(1, "a")], mode="append")
    with _held(place, 60):
        started = time.monotonic()
        with pytest.raises(UltravectError) as refused:
            writer.load([(2, "b")], mode="append", lock_wait="1 s")
        assert time.monotonic() - started < 30
    assert refused.value.code == "database-busy"
