"""The front desks of the huts: guests check in and out all day, in a PostgreSQL database whose log can be followed."""

from __future__ import annotations

import random
import threading
from contextlib import suppress

import psycopg

from demo.generate import FAMILY, GIVEN, HUTS

TABLES = (
    """CREATE TABLE guest (
        guest_id int PRIMARY KEY, name text NOT NULL, email text, passport text
    )""",
    """CREATE TABLE stay (
        stay_id bigint PRIMARY KEY, guest_id int NOT NULL REFERENCES guest, hut_code varchar(4) NOT NULL, beds smallint NOT NULL,
        arrived_at timestamptz NOT NULL DEFAULT now(), left_at timestamptz, owed numeric(8,2) NOT NULL, wishes text
    )""",
)
_WISHES = [None, None, "a bed by the window", "vegan soup", "wake at 4, for the ridge"]
_FIRST_STAYS = 400
_PAUSE_SECONDS = 0.4


def _guest(number: int) -> tuple[object, ...]:
    chance = random.Random(number)
    return (
        number,
        f"{chance.choice(FAMILY)}, {chance.choice(GIVEN)}",
        f"guest{number}@example.org",
        f"X{chance.randrange(10**7):07d}",
    )


class Desk:
    """``url``: the database, which is empty when it is made."""

    def __init__(self, url: str) -> None:
        self._url, self._over = url, threading.Event()
        self._chance, self._newest = random.Random(3), 0
        self._thread = threading.Thread(target=self._work, daemon=True)
        with psycopg.connect(url) as session:
            for table in TABLES:
                session.execute(table.encode())
            for _ in range(_FIRST_STAYS):
                self.check_in(session)

    def check_in(self, session: psycopg.Connection[tuple[object, ...]]) -> None:
        """A guest comes, and has a bed."""
        self._newest += 1
        session.execute("INSERT INTO guest VALUES (%s, %s, %s, %s)", _guest(self._newest))
        hut = self._chance.randrange(len(HUTS)) + 1
        session.execute(
            "INSERT INTO stay (stay_id, guest_id, hut_code, beds, owed, wishes) VALUES (%s, %s, %s, %s, %s, %s)",
            (
                self._newest,
                self._newest,
                f"{hut:03d}",
                self._chance.randint(1, 4),
                self._chance.randint(30, 120),
                self._chance.choice(_WISHES),
            ),
        )

    def busy(self) -> None:
        """One guest comes, others order, leave, or have come in error: a transaction each."""
        with psycopg.connect(self._url, autocommit=True) as session:
            with session.transaction():
                self.check_in(session)
            some = self._chance.randint(1, self._newest)
            session.execute("UPDATE stay SET owed = owed + 8.50 WHERE stay_id = %s", (some,))
            session.execute("UPDATE stay SET left_at = now() WHERE stay_id = %s AND left_at IS NULL", (some // 2,))
            if self._chance.random() < 0.1:
                with session.transaction():
                    session.execute("DELETE FROM stay WHERE stay_id = %s", (some,))
                    session.execute("DELETE FROM guest WHERE guest_id = %s", (some,))

    def open(self) -> None:
        """Guests come and go until it is closed."""
        self._thread.start()

    def close(self) -> None:
        self._over.set()
        if self._thread.is_alive():
            self._thread.join()

    def _work(self) -> None:
        while not self._over.wait(_PAUSE_SECONDS):
            with suppress(psycopg.OperationalError):  # the server is stopped before it is closed
                self.busy()
