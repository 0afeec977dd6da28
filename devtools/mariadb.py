"""A MariaDB server of our own, from Debian's packages, on loopback."""

from __future__ import annotations

import os
import pwd
import secrets
import shutil
import subprocess
import tempfile
import time
from collections.abc import Sequence
from contextlib import closing
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import MySQLdb

from devtools.postgres import free_port

_START_SECONDS = 60
_LOGGED = (
    "--log-bin=log",
    "--server-id=1",
    "--binlog-format=ROW",
    "--binlog-row-image=FULL",
    "--binlog-row-metadata=FULL",
)


def _owner() -> list[str]:
    """The server refuses to run as root; then Debian's user mysql runs it."""
    return ["--user=mysql"] if os.geteuid() == 0 else []


@dataclass
class MariadbServer:
    """``folder`` holds the data; user ``demo`` with ``password``, who may do everything."""

    folder: Path
    port: int
    password: str
    process: subprocess.Popen[bytes] | None = field(default=None, repr=False)

    @classmethod
    def create(cls, *, options: Sequence[str] = (), logged: bool = False) -> MariadbServer:
        """Makes an empty server and starts it; ``logged``: it keeps a log of changes, which jobs can follow."""
        folder = Path(tempfile.mkdtemp(prefix="ultravect-maria-", dir="/var/tmp"))
        if os.geteuid() == 0:
            owner = pwd.getpwnam("mysql")
            os.chown(folder, owner.pw_uid, owner.pw_gid)
        folder.chmod(0o755)
        # its own place for temporary files: two installations in one folder delete each other's
        temporary = folder / "temporary"
        temporary.mkdir(mode=0o777)
        temporary.chmod(0o777)
        server = cls(folder, free_port(), secrets.token_urlsafe(12))
        command = [
            "mariadb-install-db",
            f"--datadir={folder}/data",
            f"--tmpdir={temporary}",
            "--auth-root-authentication-method=normal",
            "--skip-test-db",
        ]
        done = subprocess.run([*command, *_owner()], capture_output=True, text=True, cwd="/")
        if done.returncode:
            raise SystemExit(f"mariadb-install-db failed:\n{done.stdout}{done.stderr}")
        start = folder / "start.sql"
        start.write_text(
            f"CREATE USER IF NOT EXISTS demo@'127.0.0.1' IDENTIFIED BY '{server.password}';"
            "\nGRANT ALL ON *.* TO demo@'127.0.0.1' WITH GRANT OPTION;\n"
        )
        start.chmod(0o644)
        server.start([*options, *(_LOGGED if logged else ())])
        return server

    def start(self, options: Sequence[str] = ()) -> None:
        binary = shutil.which("mariadbd") or "/usr/sbin/mariadbd"
        log = (self.folder / "server.log").open("ab")
        self.process = subprocess.Popen(
            [
                binary, "--no-defaults", *_owner(), f"--datadir={self.folder}/data", f"--port={self.port}",
                "--bind-address=127.0.0.1", f"--socket={self.folder}/socket", f"--pid-file={self.folder}/pid",
                f"--init-file={self.folder}/start.sql", f"--tmpdir={self.folder}/temporary",
                "--skip-name-resolve", "--innodb-flush-log-at-trx-commit=0",
                "--innodb-flush-method=nosync", "--debug-no-sync", "--innodb-buffer-pool-size=128M",
                "--character-set-server=utf8mb4", "--local-infile=1", *options,
            ],
            stdout=log, stderr=log, stdin=subprocess.DEVNULL, start_new_session=True, cwd="/",
        )  # fmt: skip
        until = time.monotonic() + _START_SECONDS
        while time.monotonic() < until and self.process.poll() is None:
            try:
                self.execute("SELECT 1")
                return
            except MySQLdb.Error:
                time.sleep(0.1)
        raise SystemExit(f"MariaDB did not start:\n{(self.folder / 'server.log').read_text()[-3000:]}")

    def stop(self) -> None:
        if self.process is not None:
            self.process.terminate()
            try:
                self.process.wait(20)
            except subprocess.TimeoutExpired:
                self.process.kill()
                self.process.wait()

    def kill(self) -> None:
        """Ends the server the hard way."""
        assert self.process is not None
        self.process.kill()
        self.process.wait()

    def remove(self) -> None:
        self.stop()
        shutil.rmtree(self.folder, ignore_errors=True)

    def settings(self, database: str) -> dict[str, object]:
        """Settings of a connection to a database of this server."""
        return {
            "host": "127.0.0.1",
            "port": self.port,
            "database": database,
            "user": "demo",
            "password": self.password,
        }

    def execute(self, *statements: str, database: str = "") -> list[tuple[Any, ...]]:
        """Runs statements; the rows of the last one."""
        connected = MySQLdb.connect(
            host="127.0.0.1", port=self.port, user="demo", password=self.password, database=database,
            charset="utf8mb4", autocommit=True, connect_timeout=5,
        )  # fmt: skip
        with closing(connected), connected.cursor() as cursor:
            for statement in statements:
                cursor.execute(statement)
            return list(cursor.fetchall() or ())

    def insert(self, database: str, statement: str, rows: Sequence[Sequence[object]]) -> None:
        """One statement for many rows."""
        connected = MySQLdb.connect(
            host="127.0.0.1", port=self.port, user="demo", password=self.password, database=database,
            charset="utf8mb4", autocommit=True,
        )  # fmt: skip
        with closing(connected), connected.cursor() as cursor:
            cursor.executemany(statement, rows)
