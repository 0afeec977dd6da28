"""The demo's other servers: MariaDB, OpenSSH, a web server, and the stand-ins for an object store and SQL Server."""

from __future__ import annotations

import functools
import secrets
import shutil
import tempfile
import threading
from dataclasses import dataclass
from http.server import SimpleHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any
from urllib.parse import unquote, urlsplit

from demo.desk import Desk
from demo.objectstore import ObjectStore
from demo.places import RESERVATIONS, reservations, weigh_slips, write_forecast, write_masts
from standins.sqlserver.server import SqlserverStandIn
from standins.warehouse import WarehouseStandIn

from devtools.mariadb import MariadbServer
from devtools.sshd import SshServer

BUCKET = "weather-masts"
_ACCOUNTS = "accounts"
_STAGING = "board-staging"
_TOKEN = "forecast-for-huts"


class _WebHandler(SimpleHTTPRequestHandler):
    """Files, for those who send the token."""

    def log_message(self, *arguments: Any) -> None:
        pass

    def send_head(self) -> Any:
        if self.headers.get("Authorization") != f"Bearer {_TOKEN}":
            self.send_error(401, "who are you?")
            return None
        return super().send_head()


@dataclass
class Places:
    """Everything next to the service's own files and warehouse."""

    folder: Path
    mariadb: MariadbServer
    ssh: SshServer
    store: ObjectStore
    web: ThreadingHTTPServer
    accounts: SqlserverStandIn
    postgres: str
    board: WarehouseStandIn
    desk: Desk

    @classmethod
    def start(cls, rows: int, postgres: str) -> Places:
        """``postgres``: the URL of a server in which the stand-in for SQL Server has its database, and the front desks have theirs."""
        folder = Path(tempfile.mkdtemp(prefix="ultravect-places-", dir="/var/tmp"))
        write_masts(folder / "buckets" / BUCKET, rows)
        write_forecast(folder / "web")
        mariadb = MariadbServer.create(logged=True)
        mariadb.execute("CREATE DATABASE reservations")
        mariadb.execute(*RESERVATIONS, database="reservations")
        guests, booked, paid = reservations(rows)
        for table, columns, content in (
            ("guest", "guest_id, name, email, born, member", guests),
            (
                "booking",
                "booking_id, guest_id, hut_code, arrival, nights, night_price, status, changed_at, remark",
                booked,
            ),
            ("payment", "booking_id, amount, paid_at, receipt", paid),
        ):
            marks = ", ".join(["%s"] * len(columns.split(",")))
            mariadb.insert("reservations", f"INSERT INTO {table} ({columns}) VALUES ({marks})", content)
        mariadb.execute("ANALYZE TABLE guest, booking, payment", database="reservations")
        ssh = SshServer.create()
        (ssh.files / "slips-2026-07.txt").write_text(weigh_slips(max(60, rows // 20)), "ascii")
        store = ObjectStore(folder / "buckets", "AKMASTS", secrets.token_urlsafe(24)).run()
        handler = functools.partial(_WebHandler, directory=str(folder / "web"))
        web = ThreadingHTTPServer(("127.0.0.1", 0), handler)
        threading.Thread(target=web.serve_forever, daemon=True).start()
        accounts = SqlserverStandIn(postgres, [_ACCOUNTS])
        (store.folder / _STAGING).mkdir()
        with accounts.administer() as opened:
            opened.execute("CREATE DATABASE board")
            opened.execute("CREATE DATABASE desk")
        desk = Desk(postgres.rpartition("/")[0] + "/desk")
        key = store.settings(_STAGING)
        board = WarehouseStandIn(
            postgres.rpartition("/")[0] + "/board", store.folder, key["access_key"], key["secret_key"]
        )
        return cls(folder, mariadb, ssh, store, web, accounts, postgres, board, desk)

    def another_night(self) -> str:
        """Guests change their minds: some bookings change, one is new. What happened, in a sentence."""
        self.mariadb.execute(
            "UPDATE booking SET nights = nights + 1, changed_at = now(3) WHERE status = 'confirmed' ORDER BY arrival DESC LIMIT 12",
            "INSERT INTO booking SELECT max(booking_id) + 1, 1, '007', '2026-08-30', 2, 84.50, 'confirmed', now(3), NULL FROM booking",
            database="reservations",
        )
        return "another night: twelve guests stay longer, one has booked anew"

    def connections(self, files: Path) -> dict[str, tuple[str, dict[str, object]]]:
        """Kind and settings of the connections to these places, and to the database files in ``files``."""
        exports = files / "exports"
        lake = files / "lake"
        for folder in (exports, lake):
            folder.mkdir(exist_ok=True)
        return {
            "reservations": ("mariadb", self.mariadb.settings("reservations")),
            "accounts": (
                "sqlserver",
                {
                    "host": "127.0.0.1",
                    "port": self.accounts.port,
                    "database": _ACCOUNTS,
                    "user": "postgres",
                    "password": unquote(urlsplit(self.postgres).password or ""),
                    "tls": "off",
                },
            ),
            "board": (
                "warehouse",
                {
                    "host": "127.0.0.1",
                    "port": self.board.port,
                    "database": "board",
                    "user": "postgres",
                    "password": unquote(urlsplit(self.postgres).password or ""),
                    "tls": "off",
                    "bucket": _STAGING,
                    "endpoint": self.store.settings(_STAGING)["endpoint"],
                    "access_key": self.store.settings(_STAGING)["access_key"],
                    "secret_key": self.store.settings(_STAGING)["secret_key"],
                },
            ),
            "desk": (
                "postgresql",
                {
                    "host": "127.0.0.1",
                    "port": urlsplit(self.postgres).port,
                    "database": "desk",
                    "user": "postgres",
                    "password": unquote(urlsplit(self.postgres).password or ""),
                    "tls": "off",
                },
            ),
            "exports": ("folder", {"path": str(exports)}),
            "season": ("lake", {"path": str(lake)}),
            "guestbooks": ("sqlite", {"path": str(files / "guestbook.db")}),
            "weather-archive": ("duckdb", {"path": str(files / "weather.duckdb")}),
            "masts": ("objectstore", self.store.settings(BUCKET)),
            "freight": ("sftp", self.ssh.settings()),
            "forecast": (
                "http",
                {
                    "url": f"http://127.0.0.1:{self.web.server_address[1]}/",
                    "token": _TOKEN,
                    "paths": ["forecast.json"],
                },
            ),
        }

    def stop(self) -> None:
        self.desk.close()
        self.accounts.close()
        self.board.close()
        self.web.shutdown()
        self.store.shutdown()
        self.ssh.remove()
        self.mariadb.remove()
        shutil.rmtree(self.folder, ignore_errors=True)
