"""`./dev bench [PART …]`: prints ratios and figures of some parts, or of all; `--rows` and `--times` make it shorter."""

from __future__ import annotations

import argparse
import csv
import os
import platform
import shutil
import statistics
import subprocess
import tempfile
import time
from collections.abc import Callable
from importlib.metadata import version
from pathlib import Path

import adbc_driver_postgresql.dbapi as adbc
import psycopg
import pyarrow as pa
import pyarrow.csv as pv
from demo.generate import bookings
from devtools.stack import Stack

from benchmarks import compare, follow, lake, look, modes, pairs, scale, slices, sqlserver, targets, warehouse
from ultravect.client import Client, Run

_COLUMNS = ["booking_id", "hut_code", "guest_name", "arrival", "nights", "night_price", "paid", "booked_at"]
_TABLE = """CREATE TABLE booking (booking_id bigint, hut_code text, guest_name text, arrival date, nights integer,
    night_price numeric(10,2), paid boolean, booked_at timestamp)"""
_JOB = """ultravect: 1
job: {name}
from: {{connection: incoming, files: {file}}}
into: {{connection: warehouse, table: {table}}}
"""


def _write(path: Path, rows: int) -> None:
    """Eight mixed columns of the demo's bookings; every twentieth price is missing."""
    block = list(bookings(20_000))
    wanted = [block[0].index(name) for name in _COLUMNS]
    chosen = [[row[index] for index in wanted] for row in block[1:]]
    with path.open("w", newline="", encoding="utf-8") as file:
        writer = csv.writer(file, lineterminator="\n")
        writer.writerow(_COLUMNS)
        for start in range(0, rows, len(chosen)):
            for number, row in enumerate(chosen[: rows - start], start + 1):
                row[0] = number
                if number % 20 == 0:
                    row[5] = ""
                writer.writerow(row)
                if number % 20 == 0:
                    row[5] = "48.50"


_PARTS = [
    "csv",
    "modes",
    "pairs",
    "look",
    "slices",
    "lake",
    "sqlserver",
    "warehouse",
    "scale",
    "targets",
    "follow",
    "compare",
]


class Bench:
    """One service and one file, measured in turns so that the machine's moods hit all alike."""

    def __init__(self, stack: Stack, client: Client, rows: int, times: int) -> None:
        self.stack, self.client, self.rows, self.times = stack, client, rows, times
        self.url = stack.postgres.url("warehouse")
        self.file = stack.files / "bench.csv"
        _write(self.file, rows)
        self._save("bench", "bench.csv", "booking")

    def _save(self, name: str, file: str, table: str) -> None:
        self.client.save_job(name, _JOB.format(name=name, file=file, table=table))

    def _empty(self) -> None:
        for statement in ("DROP TABLE IF EXISTS booking", _TABLE, "CHECKPOINT"):
            self.stack.postgres.execute(statement, "warehouse")

    def _timed(self, action: Callable[[], object]) -> float:
        self._empty()
        started = time.perf_counter()
        action()
        taken = time.perf_counter() - started
        (found,) = self.stack.postgres.execute("SELECT count(*) FROM booking", "warehouse")[0]
        assert isinstance(found, int)
        assert found > 0
        return taken

    def _run(self, job: str) -> Run:
        run = self.client.wait(self.client.run(job).id)
        assert run.state == "succeeded", run.error
        return run

    def _native(self) -> None:
        command = ["psql", "-q", self.url, "-c", f"\\copy booking from '{self.file}' with (format csv, header)"]
        subprocess.run(command, check=True)

    def _arrow(self) -> None:
        """Arrow's CSV reader, and the ingest of an ADBC driver."""
        with adbc.connect(self.url) as connection, connection.cursor() as cursor:
            types = pv.ConvertOptions(
                column_types={"night_price": pa.decimal128(10, 2), "hut_code": pa.string(), "nights": pa.int32()}
            )
            cursor.adbc_ingest("booking", pv.open_csv(self.file, convert_options=types), mode="append")
            connection.commit()

    def _row_by_row(self, rows: int) -> None:
        statement = f"INSERT INTO booking VALUES ({', '.join(['%s'] * len(_COLUMNS))})"
        with psycopg.connect(self.url) as connection, self.file.open(newline="", encoding="utf-8") as file:
            reader = csv.reader(file)
            next(reader)
            for number, row in enumerate(reader):
                if number >= rows:
                    break
                connection.execute(statement.encode(), [value or None for value in row])

    def against_the_client(self) -> None:
        ours, native, arrow = [], [], []
        for _ in range(self.times):
            native.append(self._timed(self._native))
            arrow.append(self._timed(self._arrow))
            ours.append(self._timed(lambda: self._run("bench")))
        ratios = [item / other for item, other in zip(ours, native, strict=True)]
        rows = f"{self.rows:,} rows, {self.file.stat().st_size / 1e6:.0f} MB"
        print(f"CSV into PostgreSQL, append, {rows} x {len(_COLUMNS)} columns, whole run")
        _line("  seconds, ours", ours)
        _line("  seconds, psql \\copy", native)
        _line("  ratio (at most 1.0)", ratios)
        _line("  seconds, Arrow and ADBC", arrow)
        _line("  ratio", [item / other for item, other in zip(ours, arrow, strict=True)])
        sample = min(self.rows, 100_000)
        slow = self._timed(lambda: self._row_by_row(sample)) / sample
        fast = statistics.median(ours) / self.rows
        print(f"  row-by-row insert script, per row: {slow / fast:.0f} x our time (at least 10 x)\n")

    def memory(self) -> None:
        print("Peak memory of a leg (at most 400 MB, and the same for a file five times as large)")
        for factor in (1, 5):
            path = self.stack.files / "large.csv"
            with path.open("wb") as large, self.file.open("rb") as file:
                header = file.readline()
                large.write(header)
                for _ in range(factor):
                    file.seek(len(header))
                    shutil.copyfileobj(file, large, 16 << 20)
            self._save("large", "large.csv", "booking")
            self._empty()
            run = self._run("large")
            print(f"  {path.stat().st_size / 1e6:>6.0f} MB: {(run.legs[0].peak_memory or 0) / 1e6:.0f} MB")
            path.unlink()
        print()

    def scan(self) -> None:
        """A run into a table that is missing also finds the types of the whole file first."""
        self.stack.postgres.execute("DROP TABLE IF EXISTS booking", "warehouse")
        started = time.perf_counter()
        self._run("bench")
        taken = time.perf_counter() - started
        print(f"The same with the table missing (types found in the whole file first): {taken:.1f} s\n")

    def first_row(self) -> None:
        small = self.stack.files / "small.csv"
        _write(small, 5000)
        self._save("small", "small.csv", "booking")
        taken = []
        for _ in range(15):
            self._empty()
            time.sleep(0.3)  # idle again
            run = self._run("small")
            assert run.first_row_at is not None
            taken.append((run.first_row_at - run.queued_at).total_seconds() * 1000)
        print("From the call that starts a run to its first row read, idle service (median under 250 ms)")
        _line("  milliseconds", taken)


def _line(label: str, values: list[float]) -> None:
    figures = f"min {min(values):.2f}  median {statistics.median(values):.2f}  max {max(values):.2f}"
    print(f"{label + ':':<26} {figures}  (of {len(values)})", flush=True)


def _machine() -> str:
    """The processor, and the versions of what is measured."""
    with open("/proc/cpuinfo", encoding="utf-8") as file:
        model = next(
            (line.partition(":")[2].strip() for line in file if line.startswith("model name")), "unknown processor"
        )
    server = subprocess.run(["psql", "--version"], capture_output=True, text=True, check=True).stdout.strip()
    packages = ", ".join(f"{name} {version(name)}" for name in ("pyarrow", "psycopg", "duckdb", "mysqlclient"))
    return f"{os.cpu_count()} x {model}; Python {platform.python_version()}, {server}, {packages}"


def main() -> None:
    parser = argparse.ArgumentParser(prog="./dev bench")
    parser.add_argument("--rows", type=int, default=2_000_000)
    parser.add_argument("--times", type=int, default=5)
    parser.add_argument("parts", nargs="*", choices=[*_PARTS, []], help="only these parts")
    arguments = parser.parse_args()
    parts = arguments.parts or _PARTS
    print(_machine() + "\n")
    folder = Path(tempfile.mkdtemp(prefix="ultravect-bench-", dir="/var/tmp"))
    os.chmod(folder, 0o755)
    stack = Stack.start(folder)
    try:
        with Client(stack.url, token=stack.token) as client:
            client.add_connection("incoming", "folder", {"path": str(stack.files)})
            client.add_connection("warehouse", "postgresql", stack.warehouse)
            bench = Bench(stack, client, arguments.rows, arguments.times)
            if "csv" in parts:
                bench.first_row()
                print()
                bench.against_the_client()
                bench.scan()
                bench.memory()
            if "modes" in parts:
                modes.run(client, stack, arguments.rows, arguments.times)
            if "pairs" in parts:
                pairs.run(client, stack, arguments.times)
            if "look" in parts:
                look.run(client, stack, arguments.times)
            if "lake" in parts:
                lake.run(arguments.rows, arguments.times)
            if "sqlserver" in parts:
                sqlserver.run(arguments.rows, arguments.times)
            if "warehouse" in parts:
                warehouse.run(arguments.rows, arguments.times)
            if "scale" in parts:
                scale.run()
            if "targets" in parts:
                targets.run(stack, 5 * arguments.rows, arguments.times)
            if "follow" in parts:
                follow.run(client, stack, arguments.times)
            if "compare" in parts:
                compare.run(client, stack, arguments.rows, arguments.times)
            if "slices" in parts:
                slices.run(client, stack, arguments.rows, arguments.times)
    finally:
        stack.close()
        stack.postgres.remove()
        shutil.rmtree(folder, ignore_errors=True)


if __name__ == "__main__":
    main()
