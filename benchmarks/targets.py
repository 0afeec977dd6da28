"""The cost of a load is that of its rows: 1,000 of them into a large table, and into a small one."""

from __future__ import annotations

import itertools
import statistics
import tempfile
import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from devtools.legs import run_leg
from devtools.mariadb import MariadbServer
from devtools.pairs import Copied, Place, make_places
from devtools.stack import Stack

from ultravect.core.contracts.statements import noting
from ultravect.core.engine.objects.connections import ConnectionSpec
from ultravect.core.model.document import job_from_data

_COMING = 1_000
_SMALL = 10_000
_A_DAY = 1_000
_runs = itertools.count(1)
_FILLS = {
    "postgresql": "INSERT INTO {t} SELECT n, n / 1000, 'row ' || n FROM generate_series(1, {rows}) n",
    "mariadb": "INSERT INTO {t} SELECT seq, seq DIV 1000, concat('row ', seq) FROM seq_1_to_{rows}",
    "sqlite": "INSERT INTO {t} WITH RECURSIVE c(n) AS (SELECT 1 UNION ALL SELECT n + 1 FROM c WHERE n < {rows}) "
    "SELECT n, n / 1000, 'row ' || n FROM c",
    "duckdb": "INSERT INTO {t} SELECT n, n // 1000, 'row ' || n FROM range(1, {rows} + 1) c(n)",
}


@dataclass
class _Target:
    """Tables of one kind: ``fill`` makes one of so many rows, with keys and days that rise."""

    spec: ConnectionSpec
    fill: Callable[[str, int], None]


def _database(place: Place) -> _Target:
    def fill(table: str, rows: int) -> None:
        place.drop(table)
        place.sql(f"CREATE TABLE {table} (k bigint PRIMARY KEY, day bigint, v varchar(40))")
        place.sql(_FILLS[place.kind].format(t=table, rows=rows))
        if place.kind != "duckdb":
            place.sql(f"CREATE INDEX {table}_day ON {table} (day)")
        if place.kind in ("postgresql", "sqlite"):
            place.sql("ANALYZE")
        if place.kind == "mariadb":
            place.sql(f"ANALYZE TABLE {table}")

    return _Target(place.spec, fill)


def _lake(folder: Path, files: ConnectionSpec) -> _Target:
    spec = ConnectionSpec("lake", "lake", {"path": str(folder), "format": "delta"}, [str(folder)])

    def fill(table: str, rows: int) -> None:
        for first in range(1, rows + 1, 1_000_000):
            _write(Path(files.settings["path"]) / "fill.csv", first, min(1_000_000, rows + 1 - first))
            _load(files, spec, "fill.csv", table, {"mode": "append"})

    return _Target(spec, fill)


def _write(path: Path, first: int, rows: int) -> None:
    with path.open("w") as file:
        file.write("k,day,v\n")
        file.writelines(f"{n},{n // 1000},row {n}\n" for n in range(first, first + rows))


def _load(
    files: ConnectionSpec, target: ConnectionSpec, name: str, table: str, into: dict[str, object]
) -> tuple[float, int]:
    """Seconds, and how many statements the target ran."""
    job = job_from_data(
        {
            "ultravect": 1,
            "job": "few",
            "from": {"connection": files.name, "files": name, "layout": {"format": "delimited", "header": True}},
            "columns": ["k bigint", "day bigint", "v text(40)"],
            "into": {"connection": target.name, "table": table, **into},
        }
    )
    with noting() as log:
        started = time.perf_counter()
        run_leg(job, files, target, Copied(), receipt=f"few-{next(_runs)}")
        return time.perf_counter() - started, sum(ran["count"] for ran in log.longest())


def run(stack: Stack, rows: int, times: int) -> None:
    """Prints the figures; the large tables have ``rows`` rows."""
    folder = Path(tempfile.mkdtemp(prefix="ultravect-targets-", dir=stack.files))
    files = ConnectionSpec("incoming", "folder", {"path": str(folder)}, [str(folder)])
    maria = MariadbServer.create()
    try:
        maria.start()
        stack.postgres.execute("CREATE DATABASE few", "postgres")
        places = make_places(stack.postgres, "few", maria, folder)
        targets = {kind: _database(place) for kind, place in places.items() if kind in _FILLS}
        targets["lake"] = _lake(folder / "lake", files)
        (folder / "lake").mkdir()
        print(f"{_COMING:,} rows into {rows:,}, of the same into {_SMALL:,} (at most 1.2); statements in the target")
        for kind, target in targets.items():
            for table, size in (("small", _SMALL), ("large", rows)):
                target.fill(table, size)
            for label, into in (
                ("append", {"mode": "append"}),
                ("upsert", {"mode": "upsert", "keys": ["k"]}),
                ("replaces", {"mode": "overwrite", "replaces": "day = {day}"}),
            ):
                _compare(kind, label, into, target, files, rows, times)
    finally:
        maria.stop()
        maria.remove()
    print()


def _compare(
    kind: str, label: str, into: dict[str, str], target: _Target, files: ConnectionSpec, rows: int, times: int
) -> None:
    found: dict[str, list[float]] = {"small": [], "large": []}
    statements = 0
    for number in range(times):
        for table, size in (("small", _SMALL), ("large", rows)):
            # appended ones are new, the others are there: the last ones of the table
            first = size + 1 + number * _COMING if label == "append" else size - _COMING
            if label == "replaces":
                first = size - size % _A_DAY - _A_DAY
            _write(Path(files.settings["path"]) / "few.csv", first, _COMING)
            options = {**into, **({"replaces": f"day = {first // 1000}"} if label == "replaces" else {})}
            taken, statements = _load(files, target.spec, "few.csv", table, options)
            found[table].append(taken)
    small, large = (statistics.median(found[table]) for table in ("small", "large"))
    print(
        f"  {kind:<10} {label:<9} {large / small:5.2f}  ({small * 1000:6.0f} and {large * 1000:6.0f} ms; {statements} statements)",
        flush=True,
    )
