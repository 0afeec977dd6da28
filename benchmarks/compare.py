"""What comparing equal tables takes: against a hash of each row, summed up by both databases, and against reading both."""

from __future__ import annotations

import subprocess
import time
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor

from devtools.mariadb import MariadbServer
from devtools.stack import Stack

from ultravect.client import Client

_COLUMNS = "id bigint PRIMARY KEY, hut {text}, guest int, nights int, price numeric(10,2), note {text}, made {moment}, paid {flag}"
_FILL = (
    "INSERT INTO {table} SELECT g, 'hut ' || g % 50, g % 1000, g % 7, g % 900 * 1.25, 'a note of some length ' || g, "
    "timestamp '2026-01-01' + g * interval '1 second', g % 2 = 0 FROM generate_series(1, {rows}) g"
)
_HASH = "SELECT count(*), sum(hashtext(t::text)) FROM {table} t"


class _Compare:
    def __init__(self, client: Client, stack: Stack, rows: int, times: int) -> None:
        self.client, self.server, self.rows, self.times = client, stack.postgres, rows, times
        for table in ("compared_here", "compared_there"):
            columns = _COLUMNS.format(text="text", moment="timestamp", flag="boolean")
            self.server.execute(f"CREATE TABLE {table} ({columns})", "warehouse")
            self.server.execute(_FILL.format(table=table, rows=rows), "warehouse")
        self.server.execute("VACUUM ANALYZE", "warehouse")

    def at_once(self, *works: Callable[[], object]) -> float:
        started = time.perf_counter()
        with ThreadPoolExecutor(len(works)) as threads:
            for done in [threads.submit(work) for work in works]:
                done.result()
        return time.perf_counter() - started

    def ours(self, source: tuple[str, str], target: tuple[str, str]) -> float:
        started = time.perf_counter()
        found = self.client.compare(source, target, keys=["id"], settle_seconds=0)
        assert found.equal, found
        return time.perf_counter() - started

    def shown(self, what: str, ratios: Sequence[float], wanted: str) -> None:
        found = sorted(ratios)
        print(f"  {what:<50} {found[len(found) // 2]:.2f} ({found[0]:.2f} to {found[-1]:.2f}; {wanted})", flush=True)

    def in_postgresql(self) -> None:
        here, there = ("warehouse", "compared_here"), ("warehouse", "compared_there")
        ratios = []
        for _ in range(self.times):
            taken = self.ours(here, there)
            hashed = self.at_once(
                *(
                    lambda table=table: self.server.execute(_HASH.format(table=table), "warehouse")
                    for _, table in (here, there)
                )  # type: ignore[misc]
            )
            ratios.append(taken / hashed)
        self.shown("PostgreSQL with PostgreSQL, against a hash there", ratios, "at most 1.0")

    def with_mariadb(self) -> None:
        maria = MariadbServer.create()
        try:
            maria.execute("CREATE DATABASE compared")
            columns = _COLUMNS.format(text="varchar(60)", moment="datetime(6)", flag="boolean")
            maria.execute(
                f"CREATE TABLE compared ({columns})",
                "INSERT INTO compared SELECT seq, concat('hut ', seq % 50), seq % 1000, seq % 7, seq % 900 * 1.25, "
                "concat('a note of some length ', seq), timestamp('2026-01-01') + interval seq second, seq % 2 = 0 "
                f"FROM seq_1_to_{self.rows}",
                database="compared",
            )
            self.client.add_connection("compared-maria", "mariadb", {**maria.settings("compared"), "tls": "off"})
            read_here = ["psql", "-q", self.server.url("warehouse"), "-c", "COPY compared_here TO STDOUT"]
            read_there = [
                "mariadb", "--quick", "--batch", "-h127.0.0.1", f"-P{maria.port}", "-udemo", f"-p{maria.password}", "compared",
                "-e", "SELECT * FROM compared",
            ]  # fmt: skip
            ratios = []
            for _ in range(self.times):
                taken = self.ours(("warehouse", "compared_here"), ("compared-maria", "compared"))
                read = self.at_once(
                    *(
                        lambda command=command: subprocess.run(command, stdout=subprocess.DEVNULL, check=True)  # type: ignore[misc]
                        for command in (read_here, read_there)
                    )
                )
                ratios.append(taken / read)
            self.shown("PostgreSQL with MariaDB, against reading both", ratios, "at most 1.2")
        finally:
            maria.remove()


def run(client: Client, stack: Stack, rows: int, times: int) -> None:
    print(f"Comparing {rows:,} equal rows of 8 columns (ratios of time)")
    compare = _Compare(client, stack, rows, times)
    compare.in_postgresql()
    compare.with_mariadb()
    print()
