"""Upsert against a hand-written script, overwrite against append, and what bad rows cost."""

from __future__ import annotations

import subprocess
import time
from collections.abc import Callable
from pathlib import Path

from devtools.stack import Stack

from ultravect.client import Client

_TABLE = """CREATE TABLE {name} (booking_id bigint {key}, hut_code text, guest_name text, arrival date, nights integer,
    night_price numeric(10,2), paid boolean, booked_at timestamp)"""
# half of the file's keys are new, a quarter is there and differs, a quarter is there and equal
_FILL = """INSERT INTO ledger SELECT booking_id + step * {rows}, hut_code, guest_name, arrival,
    CASE WHEN step = 0 AND booking_id % 2 = 0 THEN nights + 1 ELSE nights END, night_price, paid, booked_at
    FROM booking, generate_series(0, 5) step
    WHERE booking_id + step * {rows} > {rows} / 2 AND booking_id + step * {rows} <= {rows} * 11 / 2"""
# COPY into a temporary table, and the one statement that does the rest
_SCRIPT = """BEGIN;
CREATE TEMP TABLE s (LIKE ledger) ON COMMIT DROP;
\\copy s from '{file}' with (format csv, header)
INSERT INTO ledger AS t SELECT * FROM s ON CONFLICT (booking_id) DO UPDATE SET
  (hut_code, guest_name, arrival, nights, night_price, paid, booked_at) = (excluded.hut_code, excluded.guest_name,
   excluded.arrival, excluded.nights, excluded.night_price, excluded.paid, excluded.booked_at)
  WHERE (t.hut_code, t.guest_name, t.arrival, t.nights, t.night_price, t.paid, t.booked_at) IS DISTINCT FROM
   (excluded.hut_code, excluded.guest_name, excluded.arrival, excluded.nights, excluded.night_price, excluded.paid, excluded.booked_at);
COMMIT;
"""
_OVERWRITE = """BEGIN;
DELETE FROM filled;
\\copy filled from '{file}' with (format csv, header)
COMMIT;
"""
_JOB = """ultravect: 1
job: mode
from: {{connection: incoming, files: {file}}}
into: {{connection: warehouse, table: {table}, {into}}}
"""


class _Modes:
    def __init__(self, client: Client, stack: Stack, rows: int, times: int) -> None:
        self.client, self.stack, self.rows, self.times = client, stack, rows, times
        self.url = stack.postgres.url("warehouse")

    def sql(self, *statements: str) -> None:
        for statement in statements:
            self.stack.postgres.execute(statement, "warehouse")

    def run(self, file: str, table: str, into: str) -> float:
        self.client.save_job("mode", _JOB.format(file=file, table=table, into=into))
        started = time.perf_counter()
        ended = self.client.wait(self.client.run("mode").id)
        taken = time.perf_counter() - started
        assert ended.state == "succeeded", ended.error
        return taken

    def fill(self) -> None:
        """The ledger of five times as many rows."""
        self.sql("DROP TABLE IF EXISTS ledger", _TABLE.format(name="ledger", key="PRIMARY KEY"))
        self.sql(_FILL.format(rows=self.rows), "ANALYZE ledger", "CHECKPOINT")

    def upsert(self) -> float:
        self.fill()
        return self.run("bench.csv", "ledger", "mode: upsert, keys: [booking_id]")

    def script(self) -> float:
        self.fill()
        return self._psql(_SCRIPT)

    def _filled(self, mode: str, check: str = "") -> None:
        """A table that holds as many rows for overwrite, and none for append."""
        self.sql("DROP TABLE IF EXISTS filled", _TABLE.format(name="filled", key=check))
        if mode == "overwrite":
            self.sql("INSERT INTO filled SELECT * FROM booking")
        self.sql("CHECKPOINT")

    def write(self, mode: str, file: str = "bench.csv", into: str = "", check: str = "") -> float:
        self._filled(mode, check)
        return self.run(file, "filled", f"mode: {mode}{into and ', ' + into}")

    def delete_and_copy(self) -> float:
        self._filled("overwrite")
        return self._psql(_OVERWRITE)

    def _psql(self, script: str) -> float:
        text = script.format(file=Path(self.stack.files) / "bench.csv")
        started = time.perf_counter()
        subprocess.run(["psql", "-q", "-v", "ON_ERROR_STOP=1", self.url], input=text, text=True, check=True)
        return time.perf_counter() - started

    def compare(self, label: str, limit: str, ours: Callable[[], float], theirs: Callable[[], float]) -> None:
        ratios = sorted(ours() / theirs() for _ in range(self.times))
        print(
            f"  {label:<44} {ratios[len(ratios) // 2]:.2f} ({ratios[0]:.2f} to {ratios[-1]:.2f}; {limit})", flush=True
        )


def _spoil(file: Path, spoiled: Path, each: int, value: str) -> None:
    """The same file with one row in ``each`` whose number of nights is ``value``."""
    with file.open() as rows, spoiled.open("w") as out:
        for number, line in enumerate(rows):
            if number and number % each == 0:
                before, nights, rest = _around_nights(line)
                line = f"{before},{value},{rest}" if nights else line
            out.write(line)


def _around_nights(line: str) -> tuple[str, str, str]:
    """What stands before the number of nights, it, and what stands after it: the last four values have no commas."""
    tail = line.rsplit(",", 4)
    return tail[0], tail[1], ",".join(tail[2:])


def run(client: Client, stack: Stack, rows: int, times: int) -> None:
    """Prints the figures; ``bench.csv`` with ``rows`` rows is there."""
    modes = _Modes(client, stack, rows, times)
    modes.sql("DROP TABLE IF EXISTS booking", _TABLE.format(name="booking", key=""))
    modes.run("bench.csv", "booking", "mode: append")
    print(f"Write modes in PostgreSQL, {rows:,} rows, seconds of a whole run (median, lowest to highest)")
    modes.compare(f"upsert into {rows * 5:,}, of COPY and ON CONFLICT", "at most 1.2", modes.upsert, modes.script)
    modes.compare(
        "overwrite, of append into an empty table", "at most 1.1",
        lambda: modes.write("overwrite"), lambda: modes.write("append"),
    )  # fmt: skip
    modes.compare(
        "the same with old_rows: truncate", "at most 1.1",
        lambda: modes.write("overwrite", into="old_rows: truncate"), lambda: modes.write("append"),
    )  # fmt: skip
    modes.compare(
        "overwrite, of DELETE and \\copy in one transaction", "at most 1.0",
        lambda: modes.write("overwrite"), modes.delete_and_copy,
    )  # fmt: skip
    bench = Path(stack.files) / "bench.csv"
    for name, value, shown in (
        ("typed.csv", "many", "that are no numbers"),
        ("refused.csv", "-7", "that a constraint refuses"),
    ):
        _spoil(bench, bench.with_name(name), max(2, rows // 1000), value)
        check = "" if value == "many" else "CHECK (booking_id > 0), CHECK (nights >= 0)"
        modes.compare(
            f"1,000 rows {shown}, of the clean load", "at most 1.5",
            lambda name=name, check=check: modes.write("append", name, "rejects: 5000", check),
            lambda check=check: modes.write("append", check=check),
        )  # fmt: skip
    print()
