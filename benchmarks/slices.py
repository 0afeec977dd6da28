"""What slices, many files and many tables take: against one worker, one file, and the database's own client."""

from __future__ import annotations

import os
import subprocess
import time
from collections.abc import Callable
from pathlib import Path

from devtools.stack import Stack

from ultravect.client import Client

_JOB = """ultravect: 1
job: sliced
from: {{connection: {source}, {object}}}
into: {{connection: warehouse, table: '{table}'}}
run: {{{run}}}
"""
_PIPE = 'psql -q "$URL" -c "\\copy booking to stdout" | psql -q "$URL" -c "\\copy native from stdin"'
_FILES = 10_000
_TABLES = 50


class _Slices:
    def __init__(self, client: Client, stack: Stack, rows: int, times: int) -> None:
        self.client, self.stack, self.rows, self.times = client, stack, rows, times
        self.url = stack.postgres.url("warehouse")

    def sql(self, *statements: str) -> None:
        for statement in statements:
            self.stack.postgres.execute(statement, "warehouse")

    def run(self, source: str, object_: str, run: str, table: str = "sliced") -> float:
        self.sql("DROP TABLE IF EXISTS sliced", "CHECKPOINT")
        self.client.save_job("sliced", _JOB.format(source=source, object=object_, table=table, run=run))
        started = time.perf_counter()
        ended = self.client.wait(self.client.run("sliced").id)
        taken = time.perf_counter() - started
        assert ended.state == "succeeded", ended.error
        return taken

    def native(self) -> float:
        self.sql("DROP TABLE IF EXISTS native", "CREATE TABLE native (LIKE booking)", "CHECKPOINT")
        started = time.perf_counter()
        command = ["bash", "-o", "pipefail", "-c", _PIPE]
        subprocess.run(command, check=True, env={**os.environ, "URL": self.url})
        return time.perf_counter() - started

    def compare(self, label: str, limit: str, ours: Callable[[], float], theirs: Callable[[], float]) -> None:
        pairs = [(ours(), theirs()) for _ in range(self.times)]
        ratios = sorted(one / other for one, other in pairs)
        seconds = min(one for one, _ in pairs)
        print(
            f"  {label:<50} {ratios[len(ratios) // 2]:.2f} ({ratios[0]:.2f} to {ratios[-1]:.2f}; {limit}; {seconds:.2f} s)",
            flush=True,
        )

    def files(self) -> None:
        """The rows of one file, and the same as many small files."""
        folder = Path(self.stack.files) / "small"
        folder.mkdir(exist_ok=True)
        each = max(1, min(self.rows, 1_000_000) // _FILES)
        with (Path(self.stack.files) / "bench.csv").open() as source:
            header = next(source)
            whole = (Path(self.stack.files) / "whole.csv").open("w")
            whole.write(header)
            for number in range(_FILES):
                lines = [line for line, _ in zip(source, range(each), strict=False)]
                (folder / f"{number:05}.csv").write_text(header + "".join(lines))
                whole.writelines(lines)
            whole.close()

    def tables(self) -> None:
        self.sql("DROP SCHEMA IF EXISTS many CASCADE", "CREATE SCHEMA many", "DROP SCHEMA IF EXISTS copied CASCADE")
        for number in range(_TABLES):
            self.sql(
                f"CREATE TABLE many.t{number} AS SELECT n AS k, 'row ' || n AS v FROM generate_series(1, 1000) n"
            )


def run(client: Client, stack: Stack, rows: int, times: int) -> None:
    """Prints the figures; ``bench.csv`` with ``rows`` rows is there."""
    slices = _Slices(client, stack, rows, times)
    print(f"Slices, {rows:,} rows, seconds of a whole run (median of ratios, lowest to highest; limit; our quickest)")
    csv = ("incoming", "files: bench.csv")
    slices.compare(
        "CSV into a new table, two slices, of one", "at most 0.75",
        lambda: slices.run(*csv, "slices: 2"), lambda: slices.run(*csv, "slices: 1"),
    )  # fmt: skip
    slices.run(*csv, "slices: 2")
    slices.sql("DROP TABLE IF EXISTS booking", "ALTER TABLE sliced RENAME TO booking", "ANALYZE booking")
    table = ("warehouse", "table: booking")
    slices.compare(
        "PostgreSQL to PostgreSQL, two slices, of one", "", lambda: slices.run(*table, "slices: 2"),
        lambda: slices.run(*table, "slices: 1"),
    )  # fmt: skip
    slices.compare(
        "PostgreSQL to PostgreSQL, four slices, of a pipe", "at most 0.9",
        lambda: slices.run(*table, "slices: 4"), slices.native,
    )  # fmt: skip
    slices.files()
    slices.compare(
        f"{_FILES:,} files, of one file", "at most 1.5", lambda: slices.run("incoming", "files: small/*.csv", "slices: auto"),
        lambda: slices.run("incoming", "files: whole.csv", "slices: auto"),
    )  # fmt: skip
    slices.tables()
    taken = []
    for _ in range(times):
        slices.sql("DROP SCHEMA IF EXISTS copied CASCADE", "CREATE SCHEMA copied")
        taken.append(slices.run("warehouse", 'tables: ["many.*"]', "at_once: 4", "copied.{table}") / _TABLES)
    print(f"  {_TABLES} tables of 1,000 rows: {min(taken):.2f} s each (at most 0.15)\n")
