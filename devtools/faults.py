"""Kills loads at random instants, and looks whether the target holds exactly what it should: before and after take-over."""

from __future__ import annotations

import csv
import itertools
import json
import os
import random
import shutil
import signal
import tempfile
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import nullcontext
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from devtools.legs import run_leg
from devtools.mariadb import MariadbServer
from devtools.pairs import KINDS, Copied, Place, make_places
from devtools.postgres import PostgresServer
from ultravect.core.engine.objects.connections import ConnectionSpec
from ultravect.core.kinds.postgresql.table_swap import LARGE_ROWS
from ultravect.core.model.document import job_from_data

MODES = ("append", "overwrite", "upsert")
_HELD, _COMING = 6_000, 9_000
# a table of that many rows is overwritten in another way there
_LARGE = {"postgresql": LARGE_ROWS + 4_000}
_FIGURES = "count(*), sum(k), sum(v)"
_STAGING = {
    "postgresql": "SELECT count(*) FROM pg_class WHERE relname LIKE 'ultravect\\_sta%'",
    "mariadb": "SELECT count(*) FROM information_schema.tables WHERE table_name REGEXP '^ultravect_(stage|old)_'",
    "sqlite": "SELECT count(*) FROM sqlite_schema WHERE name LIKE 'ultravect_sta%'",
    "duckdb": "SELECT count(*) FROM duckdb_tables() WHERE table_name LIKE 'ultravect_sta%'",
    "sqlserver": "SELECT count(*) FROM sys.tables WHERE name LIKE 'ultravect_sta%'",
}
_SAFE = ["--innodb-flush-log-at-trx-commit=1"]  # as a server that is not for tests
_MODES = {"sqlserver": ("upsert",)}
"""Of a stand-in, which is slow, the mode that does most."""

_runs = itertools.count(1)


@dataclass
class Outcome:
    """What came of the rounds of one database and mode; ``wrong`` says what should not have been."""

    kind: str
    mode: str
    killed: str
    rounds: int = 0
    before: int = 0
    after: int = 0
    finished: int = 0
    wrong: list[str] = field(default_factory=list)


@dataclass
class Ground:
    """A table in one database, and a file with rows for it. Half of the keys are there already, half of those differ."""

    place: Place
    folder: Path
    rows: int = _HELD

    def __post_init__(self) -> None:
        with (self.folder / "rows.csv").open("w", newline="") as file:
            writer = csv.writer(file)
            writer.writerow(["k", "v"])
            writer.writerows(self.coming)
        self.source = ConnectionSpec("incoming", "folder", {"path": str(self.folder)}, [str(self.folder)])

    @property
    def held(self) -> list[tuple[int, int]]:
        return [(key, key * 2) for key in range(self.rows)]

    @property
    def coming(self) -> list[tuple[int, int]]:
        start = self.rows - _COMING // 2
        return [(key, key * 2 + key % 2) for key in range(start, start + _COMING)]

    def wanted(self, mode: str) -> tuple[int, int, int]:
        rows = {"append": self.held + self.coming, "overwrite": self.coming}.get(mode)
        if rows is None:
            rows = list((dict(self.held) | dict(self.coming)).items())
        return figures(rows)

    def reset(self) -> None:
        self.place.drop("faulty")
        self.place.sql("CREATE TABLE faulty (k integer, v integer)")
        for start in range(0, self.rows, 2000):
            self.place.sql("INSERT INTO faulty VALUES " + ", ".join(map(str, self.held[start : start + 2000])))

    def found(self) -> tuple[int, int, int]:
        count, keys, values = self.place.sql(f"SELECT {_FIGURES} FROM faulty")[0]
        return int(count), int(keys), int(values)

    def load(self, mode: str, run: str, *, taken_over: bool = False) -> int:
        """Begins a load in a process of its own; its number. It writes its tally, or its error, next to the rows."""
        pid = os.fork()
        if pid:
            return pid
        try:
            into: dict[str, Any] = {"connection": self.place.spec.name, "table": "faulty", "mode": mode}
            if mode == "upsert":
                into["keys"] = ["k"]
            files = {"connection": "incoming", "files": "rows.csv"}
            job = job_from_data({"ultravect": 1, "job": "faults", "from": files, "into": into})
            result = run_leg(
                job,
                self.source,
                self.place.spec,
                Copied(),
                nullcontext,
                receipt=f"{run}.2" if taken_over else run,
                earlier=[run] if taken_over else [],
            )
            self.result.write_text(json.dumps(result.as_dict()))
        except BaseException as error:
            self.result.write_text(json.dumps({"error": str(error)}))
        os._exit(0)

    @property
    def result(self) -> Path:
        return self.folder / "result.json"


def figures(rows: Sequence[tuple[int, int]]) -> tuple[int, int, int]:
    return len(rows), sum(key for key, _ in rows), sum(value for _, value in rows)


def rounds(ground: Ground, mode: str, count: int, killed: str, kill: Callable[[int], None], seed: int = 1) -> Outcome:
    """Kills ``count`` loads, each at a random instant; ``kill`` is given the process that loads."""
    outcome = Outcome(ground.place.kind, mode if ground.rows == _HELD else f"{mode} (large)", killed)
    chance = random.Random(seed)
    ground.reset()
    for _ in range(2 if count > 1 else 1):  # the first is slower
        started = time.monotonic()
        os.waitpid(ground.load(mode, f"undisturbed-{next(_runs)}"), 0)
        lasts = time.monotonic() - started
    old, new = figures(ground.held), ground.wanted(mode)
    for number in range(count):
        # every other one late, where rows are published
        at = chance.random() if number % 2 else 0.6 + chance.random() * 0.5
        ground.reset()
        ground.result.unlink(missing_ok=True)
        run = f"faults-{next(_runs)}"
        pid = ground.load(mode, run)
        time.sleep(at * lasts)
        kill(pid)
        os.waitpid(pid, 0)
        outcome.rounds += 1
        outcome.finished += ground.result.exists() and "tally" in ground.result.read_text()
        time.sleep(0.05)  # the server has to notice
        found = ground.found()
        if found == new:
            outcome.after += 1
        elif found == old:
            outcome.before += 1
        else:
            outcome.wrong.append(f"{found} is neither {old} nor {new}")
        os.waitpid(ground.load(mode, run, taken_over=True), 0)
        _look(ground, mode, new, outcome)
    os.waitpid(ground.load(mode, f"last-{next(_runs)}"), 0)
    left = ground.place.sql(_STAGING[ground.place.kind])[0][0]
    if left:
        outcome.wrong.append(f"{left} staging tables are left")
    return outcome


def _look(ground: Ground, mode: str, new: tuple[int, int, int], outcome: Outcome) -> None:
    """After the take-over: the new content, once, and a tally that says so."""
    shown = json.loads(ground.result.read_text())
    if "error" in shown:
        outcome.wrong.append(f"the take-over failed: {shown['error']}")
        return
    if ground.found() != new:
        outcome.wrong.append(f"after the take-over {ground.found()}, not {new}")
    tally = {key: value for key, value in shown["tally"].items() if value}
    half = _COMING // 2
    wanted = {"read": _COMING, "inserted": _COMING}
    if mode == "upsert":
        wanted = {"read": _COMING, "inserted": half, "updated": half // 2, "unchanged": half - half // 2}
    if tally != wanted:
        outcome.wrong.append(f"the tally is {tally}")


def _kill_process(pid: int) -> None:
    os.kill(pid, signal.SIGKILL)


def _grounds(place: Place, folder: Path) -> Iterator[tuple[Ground, str]]:
    """What is tried in a database: each with its mode."""
    for mode in _MODES.get(place.kind, MODES):
        yield Ground(place, folder), mode
    if place.kind in _LARGE:
        yield Ground(place, folder, _LARGE[place.kind]), "overwrite"


def faults(count: int, server_count: int) -> list[Outcome]:
    """All databases and modes, on servers that are started for it; ``server_count`` loads end with their server."""
    folder = Path(tempfile.mkdtemp(prefix="ultravect-faults-", dir="/var/tmp"))
    os.chmod(folder, 0o755)
    postgres = PostgresServer.create(folder / "pg")
    mariadb = MariadbServer.create(options=_SAFE)
    found = []
    try:
        postgres.execute("CREATE DATABASE faults")
        places = make_places(postgres, "faults", mariadb, folder)
        (folder / "rows").mkdir()
        for kind in KINDS:
            found += [
                rounds(ground, mode, count, "the process", _kill_process)
                for ground, mode in _grounds(places[kind], folder / "rows")
            ]
        ends: dict[str, tuple[Callable[[], None], Callable[[], None]]] = {
            "postgresql": (lambda: postgres.stop("immediate"), postgres.start),
            "mariadb": (mariadb.kill, lambda: mariadb.start(_SAFE)),
        }
        for kind, (end, begin) in ends.items() if server_count else ():

            def kill(pid: int, end: Callable[[], None] = end, begin: Callable[[], None] = begin) -> None:
                end()
                os.waitid(os.P_PID, pid, os.WEXITED | os.WNOWAIT)
                begin()

            found += [
                rounds(ground, mode, server_count, "the server", kill)
                for ground, mode in _grounds(places[kind], folder / "rows")
            ]
        return found
    finally:
        mariadb.remove()
        postgres.remove()
        shutil.rmtree(folder, ignore_errors=True)


def table(outcomes: Sequence[Outcome]) -> str:
    lines = [
        "| database | mode | killed | loads | old rows found | new rows found | ended by themselves | wrong |",
        "|---|---|---|---|---|---|---|---|",
    ]
    lines += [
        f"| {outcome.kind} | {outcome.mode} | {outcome.killed} | {outcome.rounds} | {outcome.before} | {outcome.after} | {outcome.finished} | "
        f"{len(outcome.wrong) or 'nothing'}{''.join(f'; {what}' for what in outcome.wrong[:3])} |"
        for outcome in outcomes
    ]
    return "\n".join(lines)
