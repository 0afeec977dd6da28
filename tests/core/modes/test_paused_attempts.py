"""An attempt that is paused, or cut off, keeps its session in the target: the one that takes over ends it."""

from __future__ import annotations

import threading
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import pytest
from devtools.legs import run_leg
from devtools.pairs import Copied, Place
from tests.core.modes.writing import Writer

from ultravect.core.errors import UltravectError


class _Paused:
    """A load that stops before its commit, in a thread, until it is let go."""

    def __init__(self, writer: Writer, into: dict[str, Any], receipt: str) -> None:
        self._let_go, self.there = threading.Event(), threading.Event()
        self.error = ""
        job = writer.job([(2, "new")], ("k", "v"), dict(into))
        self._arguments = (job, writer.source, writer.place.spec, Copied())
        self._receipt = receipt
        self._thread = threading.Thread(target=self._run)
        self._thread.start()

    @contextmanager
    def _shield(self) -> Any:
        self.there.set()
        self._let_go.wait(60)
        yield

    def _run(self) -> None:
        try:
            run_leg(*self._arguments, shield=self._shield, receipt=self._receipt)
        except UltravectError as error:
            self.error = error.code
        self.there.set()

    def let_go(self) -> str:
        self._let_go.set()
        self._thread.join(60)
        return self.error


@pytest.mark.parametrize(
    "into",
    [
        {"mode": "append"},
        {"mode": "overwrite"},
        {"mode": "upsert", "keys": ["k"]},
        {"mode": "overwrite", "if_different": "rebuild"},
    ],
    ids=["append", "overwrite", "upsert", "rebuild"],
)
@pytest.mark.parametrize("kind", ["postgresql", "mariadb", "sqlserver"])
def test_the_next_attempt_ends_its_session(
    places: dict[str, Place], tmp_path: Path, kind: str, into: dict[str, Any]
) -> None:
    """As it was found: the next one waited for a minute, and failed."""
    place = places[kind]
    place.drop("modes")
    place.sql("CREATE TABLE modes (k integer, v varchar(20))")
    place.sql("INSERT INTO modes VALUES (1, 'old')")
    writer = Writer(place, tmp_path)
    name = f"paused-{kind}-{into['mode']}-{'if_different' in into}"
    paused = _Paused(writer, into, name)
    assert paused.there.wait(30)
    job = writer.job([(2, "new")], ("k", "v"), {**into, "lock_wait": "20 s"})
    result = run_leg(job, writer.source, place.spec, Copied(), receipt=f"{name}.2", earlier=[name])
    assert result.tally.inserted == 1
    assert paused.let_go() in ("attempt-replaced", "connection-lost", "outcome-unknown")
    kept = [] if into["mode"] == "overwrite" else [(1, "old")]
    assert [(int(k), v) for k, v in place.sql("SELECT k, v FROM modes ORDER BY k")] == [*kept, (2, "new")]
