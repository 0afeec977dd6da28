"""What a stream takes: against PostgreSQL's own subscription with a backlog, and its lag while the source is busy."""

from __future__ import annotations

import os
import shutil
import subprocess
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import psycopg
from devtools.mariadb import MariadbServer
from devtools.stack import Stack

from ultravect.client import Client

_TABLE = "CREATE TABLE booking (id bigint PRIMARY KEY, hut text, guest int, nights int, price numeric(10,2), note text, made timestamptz)"
_LOAD = """
CREATE PROCEDURE load(first int, last int) LANGUAGE plpgsql AS $$ BEGIN FOR i IN first..last LOOP
  INSERT INTO booking SELECT i * 100 + g, 'hut ' || g % 50, g, g % 7, g * 1.25, 'a note of some length ' || i, now() FROM generate_series(1, 60) g;
  UPDATE booking SET nights = nights + 1 WHERE id BETWEEN i * 100 + 1 AND i * 100 + 30;
  DELETE FROM booking WHERE id BETWEEN i * 100 + 50 AND i * 100 + 59; COMMIT;
END LOOP; END $$"""
_MARIADB_TABLE = _TABLE.replace("hut text", "hut varchar(40)").replace("timestamptz", "datetime(6)")
_MARIADB_LOAD = """
CREATE PROCEDURE load_changes(first int, last int) BEGIN DECLARE i int DEFAULT first;
  WHILE i <= last DO START TRANSACTION;
  INSERT INTO booking SELECT i * 100 + seq, concat('hut ', seq % 50), seq, seq % 7, seq * 1.25, concat('a note of some length ', i),
    now(6) FROM seq_1_to_60;
  UPDATE booking SET nights = nights + 1 WHERE id BETWEEN i * 100 + 1 AND i * 100 + 30;
  DELETE FROM booking WHERE id BETWEEN i * 100 + 50 AND i * 100 + 59; COMMIT; SET i = i + 1;
  END WHILE; END"""
_CHANGES = 100
_TRANSACTIONS = 10_000
_JOB = """ultravect: 1
job: follow-bench
from: {connection: follow-source, table: booking, newer: log}
into: {connection: warehouse, table: followed, mode: upsert, keys: primary, carry: [keys]}
run: {follow: 1 s}
"""
_MARIADB_JOB = (
    _JOB.replace("follow-bench", "follow-mariadb")
    .replace("follow-source", "follow-maria")
    .replace("followed", "followed_maria")
)
_SECONDS, _RATE = 30, 5000


class _Follow:
    def __init__(self, client: Client, stack: Stack, times: int) -> None:
        self.client, self.server, self.times = client, stack.postgres, times
        for database in ("follow_source", "follow_other"):
            self.server.execute(f"CREATE DATABASE {database}")
            self.server.execute(_TABLE, database)
        self.source = psycopg.connect(self.server.url("follow_source"), autocommit=True)
        self.source.execute(_LOAD)
        client.add_connection("follow-source", "postgresql", {**stack.warehouse, "database": "follow_source"})
        client.save_job("follow-bench", _JOB)
        self.made = 0

    def until(self, reached: Callable[[], bool]) -> None:
        while not reached():
            time.sleep(0.05)

    def end(self) -> int:
        row = self.source.execute("SELECT (pg_current_wal_insert_lsn() - '0/0'::pg_lsn)::bigint").fetchone()
        return int(row[0]) if row else 0

    def ours(self, end: int) -> float:
        started = time.perf_counter()
        self.client.start_stream("follow-bench")

        def reached() -> bool:
            high, _, low = self.client.stream("follow-bench").position.partition("/")
            return bool(low) and (int(high, 16) << 32) + int(low, 16) >= end

        self.until(reached)
        taken = time.perf_counter() - started
        self.client.pause_stream("follow-bench")
        return taken

    def theirs(self, end: int) -> float:
        started = time.perf_counter()
        self.server.execute("ALTER SUBSCRIPTION follow_other ENABLE", "follow_other")
        asked = f"SELECT confirmed_flush_lsn - '0/0'::pg_lsn >= {end} FROM pg_replication_slots WHERE slot_name = 'follow_other'"
        self.until(lambda: bool((self.source.execute(asked).fetchone() or [False])[0]))
        taken = time.perf_counter() - started
        self.server.execute("ALTER SUBSCRIPTION follow_other DISABLE", "follow_other")
        return taken

    def backlog(self) -> None:
        self.client.start_stream("follow-bench")
        self.until(lambda: self.client.stream("follow-bench").state == "following")
        self.client.pause_stream("follow-bench")
        self.source.execute("CREATE PUBLICATION follow_other FOR TABLE booking")
        self.source.execute("SELECT pg_create_logical_replication_slot('follow_other', 'pgoutput')")
        self.server.execute(
            f"CREATE SUBSCRIPTION follow_other CONNECTION '{self.server.url('follow_source')}' PUBLICATION follow_other "
            "WITH (create_slot = false, copy_data = false, enabled = false)",
            "follow_other",
        )
        ratios, rates, others = [], [], []
        for _ in range(self.times):
            self.source.execute(f"CALL load({self.made}, {self.made + _TRANSACTIONS - 1})".encode())
            self.made += _TRANSACTIONS
            end = self.end()
            ours, theirs = self.ours(end), self.theirs(end)
            ratios.append(theirs / ours)
            rates.append(_CHANGES * _TRANSACTIONS / ours)
            others.append(theirs)
        ratios.sort()
        print(
            f"  {'backlog, changes a second against a subscription':<50} {ratios[len(ratios) // 2]:.2f} "
            f"({ratios[0]:.2f} to {ratios[-1]:.2f}; at least 0.8; {max(rates):,.0f} a second)",
            flush=True,
        )
        self.server.execute("DROP SUBSCRIPTION follow_other", "follow_other")
        self.mariadb(sorted(others)[len(others) // 2])

    def mariadb(self, theirs: float) -> None:
        """The same backlog in MariaDB, against the seconds of the subscription."""
        server = MariadbServer.create(logged=True)
        try:
            server.execute("CREATE DATABASE follow")
            server.execute(_MARIADB_TABLE, _MARIADB_LOAD, database="follow")
            self.client.add_connection("follow-maria", "mariadb", {**server.settings("follow"), "tls": "off"})
            self.client.save_job("follow-mariadb", _MARIADB_JOB)
            self.client.start_stream("follow-mariadb")
            self.until(lambda: self.client.stream("follow-mariadb").state == "following")
            ratios = []
            for turn in range(self.times):
                self.client.pause_stream("follow-mariadb")
                server.execute(
                    f"CALL load_changes({turn * _TRANSACTIONS}, {(turn + 1) * _TRANSACTIONS - 1})", database="follow"
                )
                before = self.client.stream("follow-mariadb").tables[0].changes
                started = time.perf_counter()
                self.client.start_stream("follow-mariadb")
                wanted = before + _CHANGES * _TRANSACTIONS
                self.until(lambda wanted=wanted: self.client.stream("follow-mariadb").tables[0].changes >= wanted)  # type: ignore[misc]
                ratios.append(theirs / (time.perf_counter() - started))
            ratios.sort()
            print(
                f"  {'the same from MariaDB':<50} {ratios[len(ratios) // 2]:.2f} ({ratios[0]:.2f} to {ratios[-1]:.2f}; at least 0.5)",
                flush=True,
            )
        finally:
            self.client.remove_stream("follow-mariadb")
            server.remove()

    def lag(self) -> None:
        """Transactions of a row each, as many as the machine makes, up to five thousand a second."""
        self.client.start_stream("follow-bench")
        self.until(lambda: self.client.stream("follow-bench").state == "following")
        self.source.execute("CREATE SEQUENCE tick START 1000000000")
        folder = Path(tempfile.mkdtemp(dir="/var/tmp"))
        script = folder / "tick.sql"
        script.write_text("INSERT INTO booking (id, note) VALUES (nextval('tick'), 'a note');\n")
        program = shutil.which("pgbench") or str(sorted(Path("/usr/lib/postgresql").glob("*/bin/pgbench"))[-1])
        command = [
            program,
            "-n",
            "-f",
            str(script),
            "-c",
            "4",
            "-j",
            "2",
            "-R",
            str(_RATE),
            "-T",
            str(_SECONDS),
            "-h",
            "127.0.0.1",
        ]
        before = self.client.stream("follow-bench").tables[0].changes
        subprocess.run(
            [*command, "-p", str(self.server.port), "-U", "postgres", "follow_source"],
            env={**os.environ, "PGPASSWORD": self.server.password},
            check=True,
            capture_output=True,
        )
        lags = []
        end = self.end()
        high, _, low = self.client.stream("follow-bench").position.partition("/")
        while (int(high, 16) << 32) + int(low, 16) < end:
            time.sleep(0.05)
            found = self.client.stream("follow-bench")
            high, _, low = found.position.partition("/")
        changes = self.client.stream("follow-bench").tables[0].changes - before
        lags = [line.lag for line in self.client.stream_minutes("follow-bench", 0.1)]
        shown = f"{changes / _SECONDS:,.0f} transactions a second"
        print(
            f"  {'longest lag of a window, in seconds':<50} {max(lags[-1:]):.2f} (at most 1.5; {shown})", flush=True
        )
        shutil.rmtree(folder)

    def close(self) -> None:
        self.client.remove_stream("follow-bench")
        self.source.close()


def run(client: Client, stack: Stack, times: int) -> None:
    print("Following a log (1 s windows)")
    follow = _Follow(client, stack, times)
    try:
        follow.backlog()
        follow.lag()
    finally:
        follow.close()
    print()
