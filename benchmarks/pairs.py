"""Tables from database to database against the native clients chained through a pipe, expressions, and a wide check."""

from __future__ import annotations

import os
import subprocess
import time
from collections.abc import Callable
from pathlib import Path

from devtools.mariadb import MariadbServer
from devtools.stack import Stack

from ultravect.client import Client

_TABLE = """CREATE TABLE {name} (booking_id bigint, hut_code varchar(10), guest_name varchar(80), arrival date, nights integer,
    night_price decimal(10,2), paid {flag}, booked_at {moment})"""
_NATURES = {"postgresql": ("boolean", "timestamp"), "mariadb": ("boolean", "datetime(6)")}
_TEN = ", ".join(
    f'"{expression} as {name}"'
    for name, expression in {
        "hut_code": "upper(hut_code)",
        "guest_name": "trim(guest_name)",
        "nights": "coalesce(nights, 0) + 0",
        "night_price": "round(coalesce(night_price, 0), 2)",
        "arrival": "case when arrival is null then date '2026-01-01' else arrival end",
        "booking_id": "booking_id * 1",
        "paid": "paid and nights > 0",
        "booked_at": "date_trunc('second', booked_at)",
    }.items()
)
_WHERE = 'where: "booking_id > 0 and nights between 0 and 100"'
_JOB = "ultravect: 1\njob: {name}\nfrom: {{connection: {source}, {object}}}\n{columns}into: {{connection: {target}, table: {table}}}\n"

# what the native clients do, one into the other
_PG_PG = 'psql -q "$URL" -c "\\copy booking to stdout" | psql -q "$URL" -c "\\copy native from stdin"'
_MARIA_PG = (
    'mariadb --defaults-file="$CNF" -N -B --quick bench -e "select * from booking"'
    ' | psql -q "$URL" -c "\\copy native from stdin with (null \'NULL\')"'
)
_PG_MARIA = (
    'psql -q "$URL" -c "\\copy (select booking_id, hut_code, guest_name, arrival, nights, night_price, paid::int, booked_at'
    ' from booking) to stdout" | mariadb --defaults-file="$CNF" bench'
    " -e \"load data local infile '/dev/stdin' into table native\""
)


def _timed(action: Callable[[], object]) -> float:
    started = time.perf_counter()
    action()
    return time.perf_counter() - started


class _Pairs:
    def __init__(self, client: Client, stack: Stack, maria: MariadbServer, times: int) -> None:
        self.client, self.stack, self.maria, self.times = client, stack, maria, times
        self.url = stack.postgres.url("warehouse")
        # the client's own options file keeps the password off the command line
        self.options = stack.state / "client.cnf"
        self.options.write_text(
            f"[client]\nhost=127.0.0.1\nport={maria.port}\nuser=demo\npassword={maria.password}\nlocal-infile=1\n"
        )

    def make(self, kind: str, name: str) -> None:
        flag, moment = _NATURES[kind]
        create = _TABLE.format(name=name, flag=flag, moment=moment)
        for statement in (f"DROP TABLE IF EXISTS {name}", create):
            if kind == "postgresql":
                self.stack.postgres.execute(statement, "warehouse")
            else:
                self.maria.execute(statement, database="bench")
        if kind == "postgresql":
            self.stack.postgres.execute("CHECKPOINT", "warehouse")

    def ours(self, source: str, object_: str, target: str, columns: str = "") -> float:
        table = f"into_{target}"
        kind = "mariadb" if target == "maria" else "postgresql"
        self.make(kind, table)
        self.client.save_job(
            "pair",
            _JOB.format(name="pair", source=source, object=object_, columns=columns, target=target, table=table),
        )

        def run() -> None:
            ended = self.client.wait(self.client.run("pair").id)
            assert ended.state == "succeeded", ended.error

        return _timed(run)

    def native(self, command: str, kind: str, table: str) -> float:
        self.make(kind, table)
        environment = {**os.environ, "URL": self.url, "CNF": str(self.options)}
        return _timed(lambda: subprocess.run(["bash", "-o", "pipefail", "-c", command], check=True, env=environment))

    def compare(self, label: str, limit: str, ours: Callable[[], float], theirs: Callable[[], float]) -> None:
        ratios = sorted(ours() / theirs() for _ in range(self.times))
        middle = ratios[len(ratios) // 2]
        print(f"  {label:<44} {middle:.2f} ({ratios[0]:.2f} to {ratios[-1]:.2f}; {limit})", flush=True)


def run(client: Client, stack: Stack, times: int) -> None:
    """Prints the figures; the table ``booking`` of the warehouse is there, and ``bench.csv`` with the same rows."""
    maria = MariadbServer.create()
    try:
        maria.execute("CREATE DATABASE bench")
        client.add_connection("maria", "mariadb", maria.settings("bench"))
        pairs = _Pairs(client, stack, maria, times)
        pairs.make("mariadb", "booking")
        pairs.make("postgresql", "booking")
        bench = Path(stack.files) / "bench.csv"
        subprocess.run(
            ["psql", "-q", pairs.url, "-c", f"\\copy booking from '{bench}' with (format csv, header)"], check=True
        )
        pairs.ours("warehouse", "table: booking", "maria")
        maria.execute("INSERT INTO booking SELECT * FROM into_maria", database="bench")
        print("Seconds of a whole run, as a ratio of the native clients through a pipe (median, lowest to highest)")
        pairs.compare(
            "PostgreSQL to PostgreSQL", "at most 1.0",
            lambda: pairs.ours("warehouse", "table: booking", "warehouse"),
            lambda: pairs.native(_PG_PG, "postgresql", "native"),
        )  # fmt: skip
        pairs.compare(
            "MariaDB to PostgreSQL", "at most 1.2",
            lambda: pairs.ours("maria", "table: booking", "warehouse"),
            lambda: pairs.native(_MARIA_PG, "postgresql", "native"),
        )  # fmt: skip
        pairs.compare(
            "PostgreSQL to MariaDB", "at most 1.2",
            lambda: pairs.ours("warehouse", "table: booking", "maria"),
            lambda: pairs.native(_PG_MARIA, "mariadb", "native"),
        )  # fmt: skip
        print("Ten expressions (eight columns and two in where), as a ratio of the same without")
        pairs.compare(
            "CSV to PostgreSQL", "at most 1.3",
            lambda: pairs.ours("incoming", f"files: bench.csv, {_WHERE}", "warehouse", f"columns: [{_TEN}]\n"),
            lambda: pairs.ours("incoming", "files: bench.csv", "warehouse"),
        )  # fmt: skip
        wide = ", ".join(
            f"c{number} {kind}" for number, kind in enumerate(["integer", "text", "date", "numeric(10,2)"] * 125)
        )
        stack.postgres.execute(f"CREATE TABLE wide ({wide})", "warehouse")
        client.save_job(
            "wide",
            _JOB.format(
                name="wide", source="warehouse", object="table: wide", columns="", target="warehouse", table="wide"
            ),
        )
        print(
            f"Check of a job of 500 columns: {min(_timed(lambda: client.check_job('wide')) for _ in range(3)):.2f} s (under 1)\n"
        )
    finally:
        maria.remove()
