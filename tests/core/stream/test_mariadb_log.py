"""The binary log of MariaDB, followed into PostgreSQL: see ``test_following`` for what holds for every log."""

from __future__ import annotations

import random
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from typing import Any

import MySQLdb
import pytest
from tests.core.stream.conftest import FollowedMaria, Heard, require_joined

from ultravect.core.engine.look.check import check_job
from ultravect.core.engine.operate.marks import reset_mark
from ultravect.core.engine.stream.follow import StreamPaused
from ultravect.core.errors import UltravectError
from ultravect.core.kinds.mariadb import change_log
from ultravect.core.kinds.mariadb.binlog import Broken, TableRows
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


def test_a_snapshot_and_the_log_are_joined_without_a_row_twice_or_missing(followed_maria: FollowedMaria) -> None:
    """A history has each number of a row once: from that of the snapshot on, without a gap, though others write all the time."""
    followed = followed_maria
    followed.sql("CREATE TABLE stamp (id int PRIMARY KEY, n int NOT NULL)")
    followed.sql("INSERT INTO stamp SELECT seq, 0 FROM seq_1_to_200")
    columns = ["*", "change() as done", "log_position() as place"]
    job = followed.job("stamp", columns=columns, into={"mode": "append", "keys": None, "carry": None})
    over = threading.Event()

    def write(part: int) -> None:
        chance = random.Random(part)
        session = followed.connected()
        while not over.is_set():
            with _transaction(session) as cursor:
                for _ in range(chance.randint(1, 3)):
                    cursor.execute(
                        "UPDATE stamp SET n = n + 1 WHERE id = %s", (chance.randint(0, 49) * 4 + part + 1,)
                    )
        session.close()

    require_joined(followed, job, write, over)


def test_a_transaction_of_two_phases_comes_when_it_is_committed_also_by_a_stream_that_began_in_between(
    followed_maria: FollowedMaria,
) -> None:
    followed = followed_maria
    followed.sql(TABLES[0])
    columns = ["id", "change() as done"]
    history = followed.job(
        "guest",
        job=f"{followed.name}-history",
        columns=columns,
        into={"table": "history_{table}", "mode": "append", "keys": None, "carry": None},
    )
    for job in (mirror := followed.job("guest"), history):
        followed.follow(job)

    def prepare(name: str, guest: int) -> Any:
        session = followed.connected()
        with session.cursor() as cursor:
            cursor.execute(f"XA START '{name}', 'b'")
            cursor.execute("INSERT INTO guest VALUES (%s, NULL, 'by two phases')", (guest,))
            cursor.execute(f"XA END '{name}', 'b'")
            cursor.execute(f"XA PREPARE '{name}', 'b'")
        return session

    sessions = {name: prepare(name, guest) for name, guest in (("one", 1), ("two", 2), ("three", 3))}
    followed.sql("INSERT INTO guest VALUES (10, 'in between', NULL)")
    for job in (mirror, history):
        followed.follow(job)
    assert followed.there("SELECT id FROM guest") == followed.there("SELECT id FROM history_guest") == [(10,)]
    for name, how in (("one", "COMMIT"), ("two", "ROLLBACK")):
        sessions.pop(name).cursor().execute(f"XA {how} '{name}', 'b'")
    followed.sql("INSERT INTO guest VALUES (11, 'after', NULL)")
    for job in (mirror, history):
        followed.follow(job)
    assert followed.there("SELECT id FROM guest ORDER BY 1") == followed.sql("SELECT id FROM guest ORDER BY 1")
    assert followed.there("SELECT id FROM history_guest ORDER BY id") == [(1,), (10,), (11,)]
    sessions.pop("three").cursor().execute("XA COMMIT 'three', 'b'")
    for job in (mirror, history):
        followed.follow(job)
    assert followed.there("SELECT id, done FROM history_guest ORDER BY id") == [
        (1, "insert"),
        (3, "insert"),
        (10, "insert"),
        (11, "insert"),
    ]


# one column each: the type, and values as SQL writes them
VALUES = {
    "tinyint": ["-128", "127"], "tinyint unsigned": ["0", "255"], "boolean": ["0", "1"], "smallint": ["-32768", "32767"],
    "smallint unsigned": ["65535"], "mediumint": ["-8388608", "8388607"], "mediumint unsigned": ["16777215"],
    "int": ["-2147483648", "2147483647"], "int unsigned": ["4294967295"], "bigint": ["-9223372036854775808", "9223372036854775807"],
    "bigint unsigned": ["18446744073709551615", "0"], "float": ["0.1", "16777217", "-1e-30"], "double": ["0.1", "-1.7e308"],
    "decimal(20,5)": ["-123456789012345.12345", "0", "0.00001", "-0.5"], "decimal(5,0)": ["-99999", "7"], "decimal(4,4)": ["0.1234", "-0.0001"],
    "decimal(38,10) unsigned": ["9999999999999999999999999999.9999999999"], "decimal(19,9)": ["1234567890.123456789"],
    "bit(1)": ["b'1'", "b'0'"], "bit(12)": ["b'111100001111'", "b'1'"], "year": ["1901", "2155", "0"],
    "date": ["'1000-01-01'", "'9999-12-31'", "'2024-02-29'"], "time": ["'23:59:59'", "'00:00:00'"], "time(1)": ["'12:34:56.7'"],
    "time(3)": ["'12:34:56.789'"], "time(6)": ["'00:00:00.000001'"], "datetime": ["'1000-01-01 00:00:00'", "'9999-12-31 23:59:59'"],
    "datetime(1)": ["'2024-02-29 12:34:56.7'"], "datetime(4)": ["'2024-02-29 12:34:56.7891'"], "datetime(6)": ["'1900-03-01 00:00:00.000001'"],
    "timestamp null": ["'1970-01-01 00:00:01'", "'2038-01-19 03:14:07'", "'2000-02-29 23:59:59'"], "timestamp(3) null": ["'2024-12-31 23:59:59.999'"],
    "timestamp(6) null": ["'1999-12-31 00:00:00.123456'"], "char(5)": ["'ä😀'", "''", "'a  '"], "char(5) character set latin1": ["'ü€'", "X'818D'"],
    "varchar(20)": ["'naïve 😀'", "''", "'blank '"], "varchar(300) character set utf8mb3": ["'ü'"], "varchar(20) character set latin2": ["'ěšč'"],
    "varchar(20) character set koi8r": ["'Привет'"], "varchar(20) character set gbk": ["'汉字'"], "varchar(20) character set sjis": ["'漢字'"],
    "text character set utf16": ["'ü😀'"], "text character set ucs2": ["'ü'"], "text character set utf32": ["'😀'"], "tinytext": ["'x'"],
    "mediumtext": ["'y'"],
    "longtext": ["repeat('ä', 70000)"], "text compressed": ["repeat('abc', 1000)", "'x'"], "varchar(2000) compressed": ["repeat('abc', 600)", "''"],
    "blob compressed": ["repeat(x'00ff', 5000)"], "binary(6)": ["x'010000'", "x'000000000000'"], "varbinary(9)": ["x'00ff'", "''"],
    "blob": ["x'0001fe'"], "longblob": ["repeat(x'00', 66000)"],
    "json": ["'{\"a\": [1, 2.50, null]}'"], "enum('a','b''c','ü')": ["'a'", "'b''c'", "'ü'"],
    "enum('ž','x') character set latin2": ["'ž'"], "set('x','y','z')": ["'x,z'", "''"], "uuid": ["'123e4567-e89b-12d3-a456-426655440000'",
    "'0190163d-8694-7f2a-8000-000000000000'"], "inet6": ["'2001:db8::1'", "'::'", "'::ffff:1.2.3.4'"], "inet4": ["'10.0.0.0'"],
    "int as (id * 2) virtual": [], "int as (id * 3) stored": [],
}  # fmt: skip


def test_values_of_every_type_come_from_the_log_as_they_come_from_the_table(followed_maria: FollowedMaria) -> None:
    followed = followed_maria
    columns = ", ".join(f"c{number} {native}" for number, native in enumerate(VALUES))
    followed.mariadb.execute(f"CREATE TABLE odd (id int PRIMARY KEY, {columns})", database=followed.name)
    follow = followed.job("odd", into={"carry": None})
    followed.follow(follow)
    longest = max(map(len, VALUES.values()))
    for row in range(longest + 1):
        named = [(f"c{number}", values[row]) for number, values in enumerate(VALUES.values()) if row < len(values)]
        names, written = (
            ", ".join(["id", *(name for name, _ in named)]),
            ", ".join([str(row), *(value for _, value in named)]),
        )
        followed.mariadb.execute(f"INSERT INTO odd ({names}) VALUES ({written})", database=followed.name)
    followed.follow(follow)
    # the same rows once more, copied from a snapshot
    again = followed.job("odd", job=f"{followed.name}-again", into={"table": "again_{table}", "carry": None})
    followed.follow(again)
    for number, native in enumerate(VALUES):
        column = f"SELECT c{number} FROM {{}} ORDER BY id"
        assert followed.there(column.format("odd")) == followed.there(column.format("again_odd")), native
    assert followed.there("SELECT count(*) FROM odd") == [(longest + 1,)]
    followed.sql("UPDATE odd SET c0 = 5; DELETE FROM odd WHERE id > 0")
    followed.follow(follow)
    assert followed.there("SELECT id, c0 FROM odd") == [(0, 5)]


@pytest.mark.parametrize(
    "column",
    [(246, 5, 9), (246, 0, 0), (246, 200, 3), (18, 40, 0), (17, 7, 0),
     (248, 30, 0), (247, 3, 0), (252, 9, 0), (252, 0, 0), (16, 200, 0), (249, 0, 0), (99, 0, 0)],
)  # fmt: skip
def test_columns_that_there_are_not_are_refused(column: tuple[int, int, int]) -> None:
    """What a server says of a column decides how many bytes are read."""
    with pytest.raises(Broken):
        TableRows([(*column, False)], [])


def test_definitions_are_followed_at_their_change_or_pause_the_stream(followed_maria: FollowedMaria) -> None:
    followed = followed_maria
    followed.sql("CREATE TABLE hut (id int PRIMARY KEY, beds int, note text)")
    followed.sql("INSERT INTO hut VALUES (1, 10, 'a')")
    followed.follow(job := followed.job("hut", into={"if_different": "widen"}))
    followed.sql(
        "UPDATE hut SET beds = 11; ALTER TABLE hut ADD canton varchar(2) AFTER id; UPDATE hut SET canton = 'GR'"
    )
    followed.sql(
        "ALTER TABLE hut MODIFY beds bigint; INSERT INTO hut VALUES (2, 'UR', 5000000000, 'b'); CREATE INDEX beds ON hut (beds)"
    )
    followed.follow(job)
    columns = "SELECT id, beds, note, canton FROM hut ORDER BY 1"
    assert followed.there(columns) == followed.sql(columns)
    # what was added and taken away while no one followed
    followed.sql(
        "ALTER TABLE hut ADD room int; UPDATE hut SET room = 3; ALTER TABLE hut DROP room; UPDATE hut SET beds = 2 WHERE id = 1"
    )
    with pytest.raises(StreamPaused, match="has no room any more") as paused:
        followed.follow(job)
    followed.follow(job, accepted=[paused.value.what])
    assert followed.there(columns) == followed.sql(columns)

    def rename(account: Any) -> None:
        if followed.sql("SHOW COLUMNS FROM hut LIKE 'note'"):
            followed.sql("ALTER TABLE hut CHANGE note remark text; UPDATE hut SET remark = 'n' WHERE id = 1")

    followed.sql("UPDATE hut SET beds = 8 WHERE id = 1; UPDATE hut SET beds = 9 WHERE id = 1")
    with pytest.raises(StreamPaused, match="has a new column, remark text, and has no note any more"):
        followed.follow(job, Heard(rename), windows=3)
    assert followed.there("SELECT beds, note FROM hut WHERE id = 1") == [(9, "a")]


@pytest.mark.parametrize(
    ("statements", "left"),
    [
        ("TRUNCATE TABLE hut", []),
        ("DELETE FROM hut", []),
        ("DROP TABLE hut; CREATE TABLE hut (id int PRIMARY KEY, beds int); INSERT INTO hut VALUES (9, 9)", [(9, 9)]),
        ("CREATE OR REPLACE TABLE hut (id int PRIMARY KEY, beds int) SELECT 7 AS id, 70 AS beds", [(7, 70)]),
        ("TRUNCATE `hut`; INSERT INTO hut VALUES (4, 4)", [(4, 4)]),
        (
            "CREATE TABLE other (hut int, id int); TRUNCATE other; DROP TABLE other; CREATE TABLE other LIKE hut",
            [(1, 1), (2, 2)],
        ),
        (
            "CREATE TEMPORARY TABLE hut (id int); INSERT INTO hut VALUES (5); TRUNCATE hut; DROP TABLE hut",
            [(1, 1), (2, 2)],
        ),
        (
            "CREATE VIEW shown AS SELECT * FROM hut; DROP VIEW shown; ALTER TABLE hut COMMENT 'TRUNCATE hut'",
            [(1, 1), (2, 2)],
        ),
    ],
)
def test_a_table_that_is_emptied_in_any_way_is_empty_there_too(
    followed_maria: FollowedMaria, statements: str, left: Any
) -> None:
    followed = followed_maria
    followed.sql("CREATE TABLE hut (id int PRIMARY KEY, beds int); INSERT INTO hut VALUES (1, 1), (2, 2)")
    followed.follow(job := followed.job("hut"))
    followed.sql(statements)
    followed.follow(job)
    assert followed.there("SELECT * FROM hut ORDER BY id") == left


@pytest.mark.parametrize(
    ("statements", "said"),
    [
        ("RENAME TABLE hut TO old, other TO hut", "was renamed, or another table took its name"),
        ("ALTER TABLE hut RENAME TO old; ALTER TABLE other RENAME hut", "was renamed"),
        ("ALTER TABLE hut TRUNCATE PARTITION low", "partitions of hut were dropped, emptied or exchanged"),
        ("ALTER TABLE hut DROP PARTITION low", "partitions of hut were dropped"),
    ],
)
def test_rows_that_change_without_being_logged_pause_the_stream(
    followed_maria: FollowedMaria, statements: str, said: str
) -> None:
    followed = followed_maria
    parts = "PARTITION BY RANGE (id) (PARTITION low VALUES LESS THAN (10), PARTITION high VALUES LESS THAN MAXVALUE)"
    followed.sql(f"CREATE TABLE hut (id int PRIMARY KEY, beds int) {parts}; INSERT INTO hut VALUES (1, 1), (20, 2)")
    followed.sql(f"CREATE TABLE other (id int PRIMARY KEY, beds int) {parts}")
    followed.follow(job := followed.job("hut"))
    followed.sql(f"UPDATE hut SET beds = 5; {statements}; INSERT INTO hut VALUES (30, 3)")
    with pytest.raises(StreamPaused, match=said) as paused:
        followed.follow(job)
    assert followed.there("SELECT * FROM hut ORDER BY id") == [(1, 5), (20, 5)], (
        "all before the change, and nothing after it"
    )
    followed.follow(job, accepted=[paused.value.what])
    assert (30, 3) in followed.there("SELECT * FROM hut ORDER BY id")


def test_rows_of_statements_and_of_parts_of_rows_end_the_stream(followed_maria: FollowedMaria) -> None:
    followed = followed_maria
    for number, (settings, statement, code) in enumerate(
        [
            ("binlog_format = 'STATEMENT'", "UPDATE {} SET beds = 2", "log-statement"),
            ("binlog_row_image = 'MINIMAL'", "INSERT INTO {} (id) VALUES (5)", "log-row-image"),
        ]
    ):
        table = f"hut{number}"
        followed.sql(
            f"CREATE TABLE {table} (id int PRIMARY KEY, beds int DEFAULT 3, note text); INSERT INTO {table} VALUES (1, 1, 'a')"
        )
        followed.follow(job := followed.job(table, job=f"{followed.name}-{number}"))
        with followed.connected().cursor() as cursor:
            cursor.execute(f"SET SESSION {settings}")
            cursor.execute("SET SESSION sql_mode = ''")
            cursor.execute(statement.format(table))
        with pytest.raises(UltravectError) as refused:
            followed.follow(job)
        assert (refused.value.code, "--reset" in refused.value.hint) == (code, True), refused.value


def test_a_log_that_is_gone_or_begun_anew_is_said_and_all_is_copied_anew(followed_maria: FollowedMaria) -> None:
    followed = followed_maria
    followed.sql(TABLES[0])
    followed.follow(job := followed.job("guest"))
    for away in ("purged", "begun anew"):
        followed.sql("INSERT INTO guest VALUES (1, 'a', 'x')")
        followed.sql("FLUSH BINARY LOGS" if away == "purged" else "RESET MASTER")
        followed.sql("DELETE FROM guest; INSERT INTO guest VALUES (2, 'b', 'y')")
        if away == "purged":
            # the server keeps files that one still reads, and for a moment those that it may need itself
            while len(files := followed.sql("SHOW BINARY LOGS")) > 1:
                followed.sql(f"PURGE BINARY LOGS TO '{files[-1][0]}'")
                time.sleep(0.1)
        else:
            # long enough that the place is there again
            followed.sql("INSERT INTO guest VALUES (3, 'long', repeat('x', 60000)); DELETE FROM guest WHERE id = 3")
        with pytest.raises(UltravectError, match="is not known") as lost:
            followed.follow(job)
        assert (lost.value.code, "mark JOB --reset" in lost.value.hint) == ("log-lost", True)
        reset_mark(job_from_data(job), followed.here, followed.into, "")
        followed.follow({**job, "into": {**job["into"], "gone_limit": "100%"}})
        assert followed.there("SELECT id FROM guest") == [(2,)]


def test_a_transaction_of_many_chunks_is_one_window(
    followed_maria: FollowedMaria, monkeypatch: pytest.MonkeyPatch
) -> None:
    followed = followed_maria
    monkeypatch.setattr(change_log, "CHUNK_ROWS", 50)
    followed.sql(TABLES[0])
    followed.sql("INSERT INTO guest SELECT seq, concat('c', seq), repeat('x', 9000) FROM seq_1_to_20")
    followed.follow(job := followed.job("guest"))
    followed.sql(
        "BEGIN; INSERT INTO guest SELECT seq, concat('c', seq), 'x' FROM seq_21_to_400; UPDATE guest SET letter = 'y' WHERE id % 3 = 0; "
        "UPDATE guest SET id = id + 1000 WHERE id % 7 = 0; DELETE FROM guest WHERE id % 11 = 0; COMMIT"
    )
    heard = followed.follow(job)
    assert len(heard.windows) == 1
    ours = "SELECT id, code, md5(letter) FROM guest ORDER BY 1"
    assert followed.there(ours) == followed.sql(ours)


def _lacks(followed: FollowedMaria, table: str, **options: Any) -> list[Any]:
    job = followed.job(source={"tables": None, "table": table}, into={"keys": ["id"], "carry": None})
    job["from"].pop("tables")
    found = check_job(job_from_data(job), options.get("spec") or followed.here, followed.into)
    return [finding for finding in found.findings if finding.severity == "error"]


@pytest.mark.parametrize(
    ("made", "code", "helps"),
    [
        ("CREATE TABLE hut (id int PRIMARY KEY) ENGINE = MyISAM", "log-of-unlogged", "ALTER TABLE `hut` ENGINE = InnoDB"),
        ("CREATE VIEW hut AS SELECT 1 AS id", "log-of-view", "DROP VIEW hut; CREATE TABLE hut (id int PRIMARY KEY)"),
        ("CREATE TABLE hut (id int PRIMARY KEY) WITH SYSTEM VERSIONING", "log-of-versioned", "ALTER TABLE hut DROP SYSTEM VERSIONING"),
        ("CREATE TABLE guest (id int PRIMARY KEY); CREATE TABLE hut (id int PRIMARY KEY, guest int, CONSTRAINT of_guest FOREIGN KEY (guest) "
         "REFERENCES guest (id) ON DELETE CASCADE)", "log-of-cascades", "ALTER TABLE hut DROP CONSTRAINT of_guest"),
    ],
)  # fmt: skip
def test_a_check_says_what_is_missing_of_a_table(
    followed_maria: FollowedMaria, made: str, code: str, helps: str
) -> None:
    followed_maria.sql(made)
    assert [finding.code for finding in _lacks(followed_maria, "hut")] == [code]
    followed_maria.sql(helps)
    assert _lacks(followed_maria, "hut") == []


@pytest.mark.parametrize(
    ("setting", "before", "code"),
    [
        ("binlog_format = 'MIXED'", "binlog_format = 'ROW'", "log-level"),
        ("binlog_row_image = 'MINIMAL'", "binlog_row_image = 'FULL'", "log-row-image"),
        ("binlog_row_metadata = 'NO_LOG'", "binlog_row_metadata = 'FULL'", "log-metadata"),
    ],
)
def test_a_check_says_which_settings_help(
    followed_maria: FollowedMaria, setting: str, before: str, code: str
) -> None:
    followed = followed_maria
    followed.sql("CREATE TABLE hut (id int PRIMARY KEY)")
    followed.sql(f"SET GLOBAL {setting}")
    try:
        (found,) = _lacks(followed, "hut")
        assert (found.code, before in found.fix) == (code, True)
        followed.sql(found.fix.split(",")[0].split(";")[0])
        assert _lacks(followed, "hut") == []
    finally:
        followed.sql(f"SET GLOBAL {before}")


def test_a_user_who_may_not_follow_the_log_is_shown_what_helps(followed_maria: FollowedMaria) -> None:
    followed = followed_maria
    followed.sql("CREATE TABLE hut (id int PRIMARY KEY)")
    user = f"warden_{followed.name}"
    followed.sql(
        f"CREATE USER {user}@'127.0.0.1' IDENTIFIED BY 'alp'; GRANT SELECT ON {followed.name}.* TO {user}@'127.0.0.1'"
    )
    spec = followed.spec("here", followed.name, user, "alp")
    try:
        (found,) = _lacks(followed, "hut", spec=spec)
        assert found.code == "log-privilege"
        followed.sql(found.fix)
        assert _lacks(followed, "hut", spec=spec) == []
        followed.follow(job := followed.job("hut"), spec=spec)
        followed.sql("INSERT INTO hut VALUES (1)")
        followed.follow(job, spec=spec)
        assert followed.there("SELECT id FROM hut") == [(1,)]
    finally:
        followed.sql(f"DROP USER {user}@'127.0.0.1'")
