"""The binary log of MariaDB, followed into PostgreSQL: see ``test_following`` for what holds for every log."""

from __future__ import annotations

import random
import threading
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from typing import Any

import MySQLdb
import pytest
from tests.core.stream.conftest import FollowedMaria, Heard

from ultravect.core.engine.look.check import check_job
from ultravect.core.engine.operate.marks import reset_mark
from ultravect.core.engine.stream.follow import StreamPaused
from ultravect.core.errors import UltravectError
from ultravect.core.kinds.mariadb import change_log
from ultravect.core.model.document import job_from_data

TABLES = (
    "CREATE TABLE guest (id int PRIMARY KEY, code varchar(20) UNIQUE, letter text)",
    "CREATE TABLE booking (hut varchar(20), day int, guest int, nights decimal(7,2), note mediumtext, made datetime(6), seal blob, "
    "PRIMARY KEY (hut, day), FOREIGN KEY (guest) REFERENCES guest (id))",
)


def _state(rows: Any) -> list[Any]:
    return [
        sorted(rows(f"SELECT {columns} FROM {table}"), key=str)
        for table, columns in (
            ("guest", "id, code, md5(letter)"),
            ("booking", "hut, day, guest, nights, md5(note), made, seal"),
        )
    ]


@contextmanager
def _transaction(session: Any) -> Iterator[Any]:
    with session.cursor() as cursor:
        cursor.execute("BEGIN")
        yield cursor
        cursor.execute("COMMIT")


class Workload:
    """Transactions of both tables, as chance has it."""

    def __init__(self, chance: random.Random, session: Any) -> None:
        self.chance, self.session = chance, session

    def _text(self) -> str | None:
        size = self.chance.choice([0, 8, 8, 4000, 30_000])
        plain = "".join(self.chance.choices("abcdef0123456789\t\n\\'\"ä😀", k=size))
        return plain or self.chance.choice([None, ""])

    def _statement(self) -> tuple[str, tuple[Any, ...]]:
        chance = self.chance
        guest, other, day, hut = (
            chance.randint(1, 12),
            chance.randint(1, 12),
            chance.randint(1, 9),
            chance.choice(["Alm", "Fels"]),
        )
        code = chance.choice([None, f"c{chance.randint(1, 9)}"])
        night = (
            hut,
            day,
            chance.choice([None, guest]),
            chance.choice([None, 1.5, -7]),
            self._text(),
            chance.choice([None, b"\0\xff"]),
        )
        return chance.choice(
            [
                ("INSERT INTO guest VALUES (%s, %s, %s)", (guest, code, self._text())),
                ("REPLACE INTO guest VALUES (%s, %s, %s)", (guest, code, self._text())),
                ("DELETE FROM guest WHERE id = %s", (guest,)),
                ("UPDATE guest SET id = %s WHERE id = %s", (other, guest)),
                ("UPDATE guest SET code = %s WHERE id = %s", (f"c{chance.randint(1, 9)}", guest)),
                ("UPDATE guest SET letter = %s WHERE id = %s", (self._text(), guest)),
                ("INSERT INTO booking VALUES (%s, %s, %s, %s, %s, now(6), %s)", night),
                ("UPDATE booking SET nights = nights * 2 WHERE abs(nights) < 1000", ()),
                ("UPDATE booking SET day = %s WHERE day = %s AND hut = %s", (day, chance.randint(1, 9), hut)),
                ("DELETE FROM booking WHERE day = %s", (day,)),
            ]
        )

    def transaction(self) -> None:
        chance = self.chance
        with self.session.cursor() as cursor:
            if chance.random() < 0.05:
                cursor.execute("TRUNCATE booking")
                return
            cursor.execute("BEGIN")
            for _ in range(chance.randint(1, 5)):
                cursor.execute("SAVEPOINT here")
                # one statement that a constraint refuses is undone by itself
                with suppress(MySQLdb.Error):
                    cursor.execute(*self._statement())
                    if chance.random() < 0.1:
                        cursor.execute("ROLLBACK TO here")
            cursor.execute("ROLLBACK" if chance.random() < 0.1 else "COMMIT")


class _Broken(Exception):
    """Something has broken off."""


@pytest.mark.parametrize("seed", range(4))
def test_each_commit_of_the_target_is_a_state_that_the_source_had(followed_maria: FollowedMaria, seed: int) -> None:
    followed, chance = followed_maria, random.Random(seed)
    for statement in TABLES:
        followed.sql(statement)
    if seed % 2:
        followed.mariadb.execute("SET GLOBAL log_bin_compress = ON, GLOBAL log_bin_compress_min_len = 10")
    work = Workload(chance, followed.source)
    for _ in range(10):
        work.transaction()
    followed.follow(job := followed.job("guest", "booking", into={"carry": None}))
    states = [_state(followed.sql)]
    assert _state(followed.there) == states[0]
    reached = 0

    def check(account: Any) -> None:
        nonlocal reached
        found = _state(followed.there)
        assert found in states[reached:], account.as_dict()
        reached = states.index(found, reached)
        if seed % 2 and chance.random() < 0.2:
            raise _Broken

    try:
        for turn in range(3):
            for _ in range(chance.randint(3, 25)):
                work.transaction()
                states.append(_state(followed.sql))
                if chance.random() < 0.05:
                    followed.sql("FLUSH BINARY LOGS")
            for _ in range(100):
                try:
                    followed.follow(job, Heard(check))
                    break
                except _Broken:
                    pass
            assert _state(followed.there) == states[-1], turn
    finally:
        followed.mariadb.execute("SET GLOBAL log_bin_compress = OFF")
