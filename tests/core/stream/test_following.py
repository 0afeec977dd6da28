"""A target that follows a log is at each of its commits what the source was at one, whatever happens there, and whatever breaks off."""

from __future__ import annotations

import random
import threading
from contextlib import suppress
from typing import Any

import psycopg
import pytest
from devtools.pairs import Place
from tests.core.stream.conftest import Followed, Heard, require_joined

from ultravect.core.engine.look.check import check_job
from ultravect.core.engine.operate.marks import marks_of, reset_mark, set_mark
from ultravect.core.engine.stream.follow import StreamPaused
from ultravect.core.errors import UltravectError
from ultravect.core.kinds.postgresql import change_log
from ultravect.core.model.document import job_from_data

TABLES = (
    "CREATE TABLE guest (id int PRIMARY KEY, code text UNIQUE, letter text)",
    "CREATE TABLE booking (hut text, day int, guest int REFERENCES guest ON UPDATE CASCADE ON DELETE SET NULL, nights numeric(7,2), "
    "note text, made timestamptz, seal bytea, PRIMARY KEY (hut, day))",
)


def _state(session: psycopg.Connection[Any]) -> list[Any]:
    return [
        sorted(session.execute(f"SELECT {columns} FROM {table}".encode()).fetchall(), key=str)
        for table, columns in (
            ("guest", "id, code, md5(letter)"),
            ("booking", "hut, day, guest, nights, md5(note), made, seal"),
        )
    ]


class Workload:
    """Transactions of both tables, as chance has it."""

    def __init__(self, chance: random.Random, session: psycopg.Connection[Any]) -> None:
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
        return chance.choice(
            [
                (
                    "INSERT INTO guest VALUES (%s, %s, %s)",
                    (guest, chance.choice([None, f"c{chance.randint(1, 9)}"]), self._text()),
                ),
                ("DELETE FROM guest WHERE id = %s", (guest,)),
                ("UPDATE guest SET id = %s WHERE id = %s", (other, guest)),
                ("UPDATE guest SET code = %s WHERE id = %s", (f"c{chance.randint(1, 9)}", guest)),
                ("UPDATE guest SET letter = %s WHERE id = %s", (self._text(), guest)),
                (
                    "INSERT INTO booking VALUES (%s, %s, %s, %s, %s, now(), %s)",
                    (
                        hut,
                        day,
                        chance.choice([None, guest]),
                        chance.choice([None, 1.5, -7]),
                        self._text(),
                        chance.choice([None, b"\0\xff"]),
                    ),
                ),
                ("UPDATE booking SET nights = nights * 2 WHERE abs(nights) < 1000", ()),
                ("UPDATE booking SET day = %s WHERE day = %s AND hut = %s", (day, chance.randint(1, 9), hut)),
                ("DELETE FROM booking WHERE day = %s", (day,)),
                ("TRUNCATE booking", ()) if chance.random() < 0.2 else ("DELETE FROM booking WHERE hut = 'none'", ()),
            ]
        )

    def transaction(self) -> None:
        with suppress(_Undone), self.session.transaction():
            for _ in range(self.chance.randint(1, 5)):
                # below a savepoint, so that a constraint undoes one statement
                with suppress(psycopg.Error, _Undone), self.session.transaction():
                    self.session.execute(*self._statement())  # type: ignore[arg-type]
                    if self.chance.random() < 0.1:
                        raise _Undone
            if self.chance.random() < 0.1:
                raise _Undone

    def prepared(self, name: str) -> None:
        """A transaction that is prepared, and committed by another session, or rolled back."""
        with psycopg.connect(self.session.info.dsn, password=self.session.info.password) as session:
            session.tpc_begin(session.xid(1, name, "a"))
            with suppress(psycopg.Error):
                session.execute(
                    "INSERT INTO guest VALUES (%s, NULL, 'by two phases')", (self.chance.randint(100, 120),)
                )
                session.tpc_prepare()
                (session.tpc_commit if self.chance.random() < 0.7 else session.tpc_rollback)()


class _Undone(Exception):
    """Rolls a transaction back."""


class _Broken(Exception):
    """Something has broken off."""


@pytest.mark.parametrize("seed", range(6))
def test_each_commit_of_the_target_is_a_state_that_the_source_had(followed: Followed, seed: int) -> None:
    chance = random.Random(seed)
    for statement in TABLES:
        followed.sql(statement)
    if seed % 3 == 2:
        followed.sql("ALTER TABLE guest REPLICA IDENTITY FULL; ALTER TABLE booking REPLICA IDENTITY FULL")
    work = Workload(chance, followed.source)
    for _ in range(10):
        work.transaction()
    followed.follow(job := followed.job("guest", "booking"))
    states = [_state(followed.source)]
    assert _state(followed.target) == states[0]
    reached = 0

    def check(account: Any) -> None:
        nonlocal reached
        found = _state(followed.target)
        assert found in states[reached:], account.as_dict()
        reached = states.index(found, reached)
        if seed % 2 and chance.random() < 0.2:
            raise _Broken

    for turn in range(3):
        for _ in range(chance.randint(3, 25)):
            work.transaction()
            states.append(_state(followed.source))
        for _ in range(100):
            try:
                followed.follow(job, Heard(check))
                break
            except _Broken:
                pass
        assert _state(followed.target) == states[-1], turn


def test_prepared_transactions_come_when_they_are_committed(followed: Followed) -> None:
    followed.sql(TABLES[0])
    followed.follow(job := followed.job("guest"))
    work = Workload(random.Random(1), followed.source)
    if followed.sql("SHOW max_prepared_transactions") == [("0",)]:
        pytest.skip("the server takes no prepared transactions")
    for number in range(10):
        work.prepared(f"p{number}")
    followed.follow(job)
    assert followed.there("SELECT id, letter FROM guest ORDER BY 1") == followed.sql(
        "SELECT id, letter FROM guest ORDER BY 1"
    )


def test_a_snapshot_and_the_log_are_joined_without_a_row_twice_or_missing(followed: Followed) -> None:
    """A history has each number of a row once: from that of the snapshot on, without a gap, though others write all the time."""
    followed.sql("CREATE TABLE stamp (id int PRIMARY KEY, n int NOT NULL)")
    followed.sql("INSERT INTO stamp SELECT id, 0 FROM generate_series(1, 200) id")
    job = followed.job(
        "stamp",
        columns=["*", "change() as done", "log_position() as place"],
        into={"mode": "append", "keys": None, "carry": None},
    )
    over = threading.Event()

    def write(part: int) -> None:
        chance = random.Random(part)
        with psycopg.connect(followed.server.url(followed.name), autocommit=True) as session:
            while not over.is_set():
                with session.transaction():
                    for _ in range(chance.randint(1, 3)):
                        row = chance.randint(0, 49) * 4 + part + 1
                        session.execute("UPDATE stamp SET n = n + 1 WHERE id = %s", (row,))

    require_joined(followed, job, write, over)


def test_a_table_that_comes_to_the_job_later_gets_a_snapshot_of_its_own(followed: Followed) -> None:
    for statement in TABLES:
        followed.sql(statement)
    followed.sql("INSERT INTO guest VALUES (1, 'a', 'x'); INSERT INTO booking VALUES ('Alm', 1, 1)")
    followed.follow(followed.job("guest"))
    followed.sql("INSERT INTO guest VALUES (2, 'b', 'y'); UPDATE booking SET nights = 3")
    followed.follow(job := followed.job("guest", "booking"))
    followed.sql("DELETE FROM booking; INSERT INTO booking VALUES ('Fels', 2, 2)")
    followed.follow(job)
    assert _state(followed.target) == _state(followed.source)
    here = followed.here
    assert {item.object for item in marks_of(job_from_data(job), here, followed.into)} == {"guest", "booking"}
    followed.there("DELETE FROM guest")
    reset_mark(job_from_data(job), here, followed.into, "guest")
    followed.follow(job)
    assert _state(followed.target) == _state(followed.source)
    with pytest.raises(UltravectError, match="cannot be set by hand"):
        set_mark(job_from_data(job), here, followed.into, "guest", "5")


def test_a_transaction_of_many_chunks_is_one_window(followed: Followed, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(change_log, "CHUNK_ROWS", 50)
    followed.sql(TABLES[0])
    followed.sql("INSERT INTO guest SELECT g, 'c' || g, repeat('x', 9000) FROM generate_series(1, 20) g")
    followed.follow(job := followed.job("guest"))
    with followed.source.transaction():
        followed.sql("INSERT INTO guest SELECT g, 'c' || g, 'x' FROM generate_series(21, 400) g")
        followed.sql("UPDATE guest SET letter = 'y' WHERE id % 3 = 0")
        followed.sql("UPDATE guest SET id = id + 1000 WHERE id % 7 = 0")
        followed.sql("DELETE FROM guest WHERE id % 11 = 0")
    heard = followed.follow(job)
    assert len(heard.windows) == 1
    ours = "SELECT id, code, md5(letter) FROM guest ORDER BY 1"
    assert followed.there(ours) == followed.sql(ours)


@pytest.mark.parametrize(
    "statements",
    [
        # unique values that change places, rows that point to others which come and go with them
        "DELETE FROM guest WHERE id = 1; INSERT INTO guest VALUES (9, 'a')",
        "UPDATE guest SET code = NULL WHERE id = 1; UPDATE guest SET code = 'a' WHERE id = 2; UPDATE guest SET code = 'b' WHERE id = 1",
        "INSERT INTO guest VALUES (5, 'e'); UPDATE booking SET guest = 5; DELETE FROM guest WHERE id IN (1, 2)",
        "UPDATE guest SET id = 77 WHERE id = 1",
        "DELETE FROM booking; DELETE FROM guest; INSERT INTO guest VALUES (1, 'b', 'z'); INSERT INTO booking VALUES ('Fels', 9, 1)",
        "TRUNCATE guest CASCADE; INSERT INTO guest VALUES (3, 'a')",
    ],
)
def test_constraints_are_met_in_any_order_that_the_source_allowed(followed: Followed, statements: str) -> None:
    for statement in TABLES:
        followed.sql(statement)
        followed.there(statement)
    followed.sql("INSERT INTO guest VALUES (1, 'a', 'x'), (2, 'b', 'y'), (3, 'c', 'z')")
    followed.sql("INSERT INTO booking VALUES ('Alm', 1, 1), ('Alm', 2, 2)")
    followed.follow(job := followed.job("guest", "booking", into={"carry": None}))
    assert _state(followed.target) == _state(followed.source)
    with followed.source.transaction():
        followed.sql(statements)
    followed.sql("INSERT INTO guest VALUES (50, 'after')")
    followed.follow(job)
    assert _state(followed.target) == _state(followed.source)


def test_what_leaves_the_filter_is_gone_and_what_is_gone_is_deleted_flagged_or_kept(followed: Followed) -> None:
    followed.sql("CREATE TABLE hut (id int PRIMARY KEY, canton text, beds int)")
    followed.sql("INSERT INTO hut SELECT g, 'GR', g FROM generate_series(1, 6) g")
    kinds: dict[str, Any] = {"delete": None, "keep": "keep", "flag": {"flag": "is_gone"}}
    jobs = {
        name: followed.job(
            "hut",
            job=f"{followed.name}-{name}",
            source={"where": "canton = 'GR'"},
            columns=["id as number", "upper(canton) as canton", "beds * 2 as beds"],
            into={"table": name + "_{table}", "keys": ["number"], "gone": gone, "carry": None},
        )
        for name, gone in kinds.items()
    }
    for job in jobs.values():
        followed.follow(job)
    followed.sql(
        "UPDATE hut SET canton = 'UR' WHERE id = 1; DELETE FROM hut WHERE id = 2; UPDATE hut SET beds = 50 WHERE id = 3"
    )
    followed.sql(
        "INSERT INTO hut VALUES (7, 'UR', 7), (8, 'GR', 8); DELETE FROM hut WHERE id = 4; INSERT INTO hut VALUES (4, 'GR', 1)"
    )
    for job in jobs.values():
        followed.follow(job)
    there = [(3, "GR", 100), (4, "GR", 2), (5, "GR", 10), (6, "GR", 12), (8, "GR", 16)]
    assert followed.there("SELECT * FROM delete_hut ORDER BY 1") == there
    assert followed.there("SELECT * FROM keep_hut ORDER BY 1") == [(1, "GR", 2), (2, "GR", 4), *there]
    assert followed.there("SELECT number FROM flag_hut WHERE is_gone ORDER BY 1") == [(1,), (2,)]
    followed.sql("UPDATE hut SET canton = 'GR' WHERE id = 1; TRUNCATE hut; INSERT INTO hut VALUES (5, 'GR', 5)")
    for job in jobs.values():
        followed.follow(job)
    assert followed.there("SELECT * FROM delete_hut") == [(5, "GR", 10)]
    assert followed.there("SELECT count(*) FROM keep_hut") == [(7,)]
    assert followed.there("SELECT number FROM flag_hut WHERE NOT coalesce(is_gone, false)") == [(5,)]


def test_a_history_has_a_row_for_each_change(followed: Followed) -> None:
    followed.sql("CREATE TABLE hut (id int PRIMARY KEY, beds int)")
    followed.sql("INSERT INTO hut VALUES (1, 10)")
    columns = ["*", "change() as change", "committed_at() as at", "log_position() as place"]
    followed.follow(job := followed.job("hut", columns=columns, into={"mode": "append", "keys": None, "carry": None}))
    followed.sql("UPDATE hut SET beds = 11; UPDATE hut SET id = 2; DELETE FROM hut")
    followed.sql("INSERT INTO hut VALUES (3, 30); TRUNCATE hut")
    followed.follow(job)
    assert followed.there("SELECT id, beds, change FROM hut ORDER BY place, id") == [
        (1, 10, "snapshot"), (1, 11, "update"), (2, 11, "update"), (2, None, "delete"), (3, 30, "insert"), (None, None, "truncate"),
    ]  # fmt: skip
    assert followed.there(
        "SELECT count(*) FROM hut WHERE at > now() - interval '10 min' AND place ~ '^[0-9A-F]+/[0-9A-F]+$'"
    ) == [(6,)]


def test_new_columns_and_larger_types_are_followed_and_anything_else_pauses(followed: Followed) -> None:
    followed.sql("CREATE TABLE hut (id int PRIMARY KEY, beds int, note text)")
    followed.sql("INSERT INTO hut VALUES (1, 10, 'a')")
    followed.follow(job := followed.job("hut", into={"if_different": "widen"}))
    followed.sql("UPDATE hut SET beds = 11; ALTER TABLE hut ADD canton varchar(2); UPDATE hut SET canton = 'GR'")
    followed.sql("ALTER TABLE hut ALTER beds TYPE bigint; INSERT INTO hut VALUES (2, 5000000000, 'b', 'UR')")
    followed.follow(job)
    assert followed.there("SELECT * FROM hut ORDER BY 1") == followed.sql("SELECT * FROM hut ORDER BY 1")

    def drop(account: Any) -> None:
        followed.sql("ALTER TABLE hut DROP note; UPDATE hut SET beds = 1 WHERE id = 1")

    followed.sql("UPDATE hut SET note = 'last' WHERE id = 1; UPDATE hut SET beds = 11 WHERE id = 1")
    with pytest.raises(StreamPaused, match="has no note any more") as paused:
        followed.follow(job, Heard(drop), windows=2)
    assert "stream resume" in paused.value.error.hint
    # everything before the change is there, and nothing after it
    assert followed.there("SELECT note, beds FROM hut WHERE id = 1") == [("last", 11)]
    followed.follow(job, accepted=[paused.value.what])
    assert followed.there("SELECT note, beds FROM hut WHERE id = 1") == [("last", 1)]
    # one that is gone when the stream begins again, too
    followed.sql(
        "ALTER TABLE hut ADD room int; UPDATE hut SET room = 3; ALTER TABLE hut DROP room; UPDATE hut SET beds = 2 WHERE id = 1"
    )
    with pytest.raises(StreamPaused, match="has no room any more"):
        followed.follow(job)
    # without widen, a new column pauses
    followed.follow(plain := followed.job("hut", job=f"{followed.name}-plain", into={"table": "plain_{table}"}))

    def add(account: Any) -> None:
        followed.sql("ALTER TABLE hut ADD snow int; UPDATE hut SET snow = 5")

    followed.sql("UPDATE hut SET beds = 3 WHERE id = 1; UPDATE hut SET beds = 4 WHERE id = 1")
    with pytest.raises(StreamPaused, match="a new column, snow integer"):
        followed.follow(plain, Heard(add), windows=2)


def test_changes_that_do_not_fit_are_kept_or_end_the_stream(followed: Followed) -> None:
    followed.sql("CREATE TABLE hut (id int PRIMARY KEY, beds text)")
    followed.there("CREATE TABLE hut (id int PRIMARY KEY, beds int)")
    followed.sql("INSERT INTO hut VALUES (1, '10'), (2, '20')")
    strict = followed.job("hut", job=f"{followed.name}-strict", into={"carry": None})
    followed.follow(strict)
    followed.follow(
        job := followed.job(
            "hut", into={"table": "loose_{table}", "rejects": 5, "carry": None}, columns=["id", "beds integer"]
        )
    )
    followed.sql("UPDATE hut SET beds = 'many' WHERE id = 1; UPDATE hut SET beds = '21' WHERE id = 2")
    heard = followed.follow(job)
    assert [(item.column, item.value, item.key) for item in heard.rejected] == [("beds", "many", '{"id": "1"}')]
    assert followed.there("SELECT * FROM loose_hut ORDER BY 1") == [(1, 10), (2, 21)]
    with pytest.raises(UltravectError) as refused:
        followed.follow(strict)
    assert refused.value.code == "too-many-rejects"
    followed.sql("UPDATE hut SET beds = '12' WHERE id = 1")
    followed.follow(job)
    assert followed.there("SELECT * FROM loose_hut ORDER BY 1") == [(1, 12), (2, 21)]


@pytest.mark.parametrize("kind", ["postgresql", "mariadb", "sqlite", "duckdb", "sqlserver"])
def test_a_change_that_the_target_refuses_is_a_reject_and_the_rest_of_its_window_is_written(
    followed: Followed, places: dict[str, Place], kind: str
) -> None:
    place = places[kind]
    followed.into = place.spec
    followed.sql("CREATE TABLE full_hut (id int PRIMARY KEY, beds int); INSERT INTO full_hut VALUES (1, 10), (2, 20)")
    try:
        place.sql("CREATE TABLE full_hut (id int PRIMARY KEY, beds int CHECK (beds < 50))")
        into = {"connection": place.spec.name, "carry": None, "rejects": 2}
        followed.follow(job := followed.job("full_hut", into=into))
        with followed.source.transaction():
            followed.sql("UPDATE full_hut SET beds = 60 WHERE id = 1; UPDATE full_hut SET beds = 21 WHERE id = 2")
            followed.sql("INSERT INTO full_hut VALUES (3, 70), (4, 40)")
        heard = followed.follow(job)
        assert sorted(item.key for item in heard.rejected) == ['{"id": "1"}', '{"id": "3"}']
        assert all("refused by the target" in item.reason for item in heard.rejected)
        asked = "SELECT id, beds FROM full_hut ORDER BY id"
        assert [tuple(row) for row in place.sql(asked)] == [(1, 10), (2, 21), (4, 40)]
        # a later change that fits writes all of the row
        followed.sql("UPDATE full_hut SET beds = 33 WHERE id IN (1, 3)")
        followed.follow(job)
        assert [tuple(row) for row in place.sql(asked)] == [(1, 33), (2, 21), (3, 33), (4, 40)]
        followed.sql("UPDATE full_hut SET beds = 99")
        with pytest.raises(UltravectError) as refused:
            followed.follow(job)
        assert refused.value.code == "too-many-rejects"
        assert [tuple(row) for row in place.sql(asked)] == [(1, 33), (2, 21), (3, 33), (4, 40)]
    finally:
        place.drop("full_hut")


def test_a_log_that_was_not_kept_is_said_and_all_is_copied_anew(followed: Followed) -> None:
    followed.sql(TABLES[0])
    followed.sql("INSERT INTO guest VALUES (1, 'a', 'x')")
    followed.follow(job := followed.job("guest"))
    ((slot,),) = followed.sql("SELECT slot_name FROM pg_replication_slots WHERE database = current_database()")
    # the server frees a slot some moments after its session has closed
    while followed.sql(f"SELECT active FROM pg_replication_slots WHERE slot_name = '{slot}'") != [(False,)]:
        threading.Event().wait(0.05)
    followed.sql(f"SELECT pg_drop_replication_slot('{slot}')")
    followed.sql("DELETE FROM guest; INSERT INTO guest VALUES (2, 'b', 'y')")
    with pytest.raises(UltravectError, match="is not known") as lost:
        followed.follow(job)
    assert (lost.value.code, "mark JOB --reset" in lost.value.hint) == ("log-lost", True)
    reset_mark(job_from_data(job), followed.here, followed.into, "")
    followed.follow({**job, "into": {**job["into"], "gone_limit": "100%"}})
    assert followed.there("SELECT id FROM guest") == [(2,)]


@pytest.mark.parametrize(
    ("made", "code", "helps"),
    [
        ("CREATE TABLE hut (id int, beds int)", "log-identity", "ALTER TABLE hut REPLICA IDENTITY FULL"),
        ("CREATE TABLE hut (id int PRIMARY KEY); ALTER TABLE hut REPLICA IDENTITY NOTHING", "log-identity",
         "ALTER TABLE hut REPLICA IDENTITY DEFAULT"),
        ("CREATE TABLE hut (id int, beds int) PARTITION BY RANGE (id)", "log-identity", "ALTER TABLE hut REPLICA IDENTITY FULL"),
        ("CREATE UNLOGGED TABLE hut (id int PRIMARY KEY)", "log-of-unlogged", "ALTER TABLE hut SET LOGGED"),
        ("CREATE VIEW hut AS SELECT 1 AS id", "log-of-view", "DROP VIEW hut; CREATE TABLE hut (id int PRIMARY KEY)"),
    ],
)  # fmt: skip
def test_a_check_says_what_is_missing_at_the_source(followed: Followed, made: str, code: str, helps: str) -> None:
    followed.sql(made)
    job = followed.job(source={"tables": None, "table": "hut"}, into={"keys": ["id"], "carry": None})
    job["from"].pop("tables")

    def codes() -> list[str]:
        found = check_job(job_from_data(job), followed.here, followed.into)
        assert followed.sql("SELECT count(*) FROM pg_publication") == [(0,)], "a check makes nothing"
        return [finding.code for finding in found.findings if finding.severity == "error"]

    assert codes() == [code]
    followed.sql(helps)
    assert codes() == []


def test_a_user_who_may_not_follow_the_log_is_shown_what_helps(followed: Followed) -> None:
    followed.sql(TABLES[0])
    user = f"warden_{followed.name}"
    followed.sql(f"CREATE USER {user} PASSWORD 'alp'; GRANT SELECT ON guest TO {user}")
    spec = followed.spec("here", followed.name, user, "alp")
    job = followed.job("guest", source={"newer": {"log": True, "publication": "hut_changes"}})
    job["from"] |= {"table": "guest"}
    job["from"].pop("tables")
    try:
        for _ in range(3):
            found = check_job(job_from_data(job), spec, followed.into)
            lacks = [finding for finding in found.findings if finding.severity == "error"]
            for finding in lacks:
                followed.sql(finding.fix)
            if not lacks:
                break
        followed.follow(job, spec=spec)
        followed.sql("INSERT INTO guest VALUES (1, 'a', 'x')")
        followed.follow(job, spec=spec)
        assert followed.there("SELECT id FROM guest") == [(1,)]
    finally:
        followed.sql(f"DROP OWNED BY {user}")
        followed.sql(f"DROP USER {user}")


@pytest.mark.parametrize("kind", ["mariadb", "sqlite", "duckdb", "sqlserver"])
def test_other_databases_follow_a_log_of_postgresql(followed: Followed, places: dict[str, Place], kind: str) -> None:
    place = places[kind]
    followed.into = place.spec
    followed.sql(
        "CREATE TABLE follower (id int, hut varchar(20), nights numeric(8,2), note text, PRIMARY KEY (id, hut))"
    )
    followed.sql("INSERT INTO follower SELECT g, 'H' || g % 3, g / 4.0, NULL FROM generate_series(1, 40) g")
    into = {"table": "follower", "connection": place.spec.name}
    history = followed.job(
        "follower",
        job=f"{followed.name}-history",
        columns=["id", "change() as change"],
        into={
            "table": "follower_history",
            "connection": place.spec.name,
            "mode": "append",
            "keys": None,
            "carry": None,
        },
    )
    job = followed.job("follower", into=into)
    for one in (job, history):
        one["from"] = {**one["from"], "table": "follower"}
        one["from"].pop("tables")
    try:
        for one in (job, history):
            followed.follow(one)
        followed.sql("UPDATE follower SET nights = 99 WHERE id < 5; DELETE FROM follower WHERE id BETWEEN 10 AND 12")
        followed.sql("UPDATE follower SET hut = 'Z' WHERE id = 20; INSERT INTO follower VALUES (99, 'Q', NULL, 'ü')")
        for one in (job, history):
            followed.follow(one)
        asked = "SELECT id, hut, nights, note FROM follower ORDER BY id"
        assert [
            (row[0], row[1], float(row[2]) if row[2] is not None else None, row[3]) for row in place.sql(asked)
        ] == [(row[0], row[1], float(row[2]) if row[2] is not None else None, row[3]) for row in followed.sql(asked)]
        counted = dict(
            place.sql(
                "SELECT change, count(*) FROM follower_history GROUP BY change"
                if kind != "mariadb"
                else "SELECT `change`, count(*) FROM follower_history GROUP BY `change`"
            )
        )
        assert counted == {"snapshot": 40, "update": 5, "delete": 3, "insert": 1}
        followed.sql("TRUNCATE follower; INSERT INTO follower VALUES (1, 'A', 1, NULL)")
        followed.follow(job)
        assert len(place.sql(asked)) == 1
    finally:
        place.drop("follower")
        place.drop("follower_history")


@pytest.mark.parametrize("kind", ["mariadb", "sqlite", "duckdb", "sqlserver"])
def test_all_tables_of_a_window_are_written_by_one_transaction_of_other_databases(
    followed: Followed, places: dict[str, Place], kind: str
) -> None:
    place = places[kind]
    followed.into = place.spec
    followed.sql("CREATE TABLE pair_a (id int PRIMARY KEY, n int); CREATE TABLE pair_b (id int PRIMARY KEY, n int)")
    followed.sql(
        "INSERT INTO pair_a SELECT g, 0 FROM generate_series(1, 9) g; INSERT INTO pair_b SELECT * FROM pair_a"
    )
    try:
        place.sql("CREATE TABLE pair_a (id int PRIMARY KEY, n int)")
        place.sql("CREATE TABLE pair_b (id int PRIMARY KEY, n int CHECK (n < 50))")
        followed.follow(job := followed.job("pair_a", "pair_b", into={"connection": place.spec.name, "carry": None}))
        for number in range(1, 4):
            with followed.source.transaction():
                for table in ("pair_a", "pair_b"):
                    followed.sql(
                        f"UPDATE {table} SET n = {number} WHERE id > 2; DELETE FROM {table} WHERE id = {number}"
                    )
                    followed.sql(f"INSERT INTO {table} VALUES ({100 + number}, {number})")
        followed.follow(job)
        for table in ("pair_a", "pair_b"):
            asked = f"SELECT id, n FROM {table} ORDER BY id"
            assert [tuple(row) for row in place.sql(asked)] == followed.sql(asked)
        before = [tuple(row) for row in place.sql("SELECT id, n FROM pair_a ORDER BY id")]
        # the second table refuses what is in the same transaction: the first one stays as it was
        with followed.source.transaction():
            followed.sql("UPDATE pair_a SET n = 60; UPDATE pair_b SET n = 60 WHERE id = 5")
        with pytest.raises(UltravectError) as refused:
            followed.follow(job)
        assert refused.value.code in ("constraint-refused", "value-refused")
        assert [tuple(row) for row in place.sql("SELECT id, n FROM pair_a ORDER BY id")] == before
        followed.sql("UPDATE pair_b SET n = 7 WHERE id = 5")
    finally:
        place.drop("pair_a")
        place.drop("pair_b")


@pytest.mark.parametrize("kind", ["mariadb", "sqlite", "duckdb", "sqlserver"])
def test_each_commit_of_another_database_is_a_state_that_the_source_had(
    followed: Followed, places: dict[str, Place], kind: str
) -> None:
    place, chance = places[kind], random.Random(kind)
    followed.into = place.spec
    tables = ("moved_a", "moved_b")
    for table in tables:
        followed.sql(f"CREATE TABLE {table} (id int PRIMARY KEY, code varchar(20) UNIQUE, n int)")
        place.sql(f"CREATE TABLE {table} (id int PRIMARY KEY, code varchar(20), n int)")

    def state(rows: Any) -> list[Any]:
        return [[tuple(row) for row in rows(f"SELECT id, code, n FROM {table} ORDER BY id")] for table in tables]

    def transaction() -> None:
        with followed.source.transaction():
            for _ in range(chance.randint(1, 6)):
                table, one, other = chance.choice(tables), chance.randint(1, 9), chance.randint(1, 9)
                with suppress(psycopg.Error), followed.source.transaction():
                    followed.sql(
                        chance.choice(
                            [
                                f"INSERT INTO {table} VALUES ({one}, 'c{other}', {other})",
                                f"DELETE FROM {table} WHERE id = {one}",
                                f"UPDATE {table} SET id = {one} WHERE id = {other}",
                                f"UPDATE {table} SET n = n + 1",
                                f"UPDATE {table} SET code = 'c{one}' WHERE id = {other}",
                                f"TRUNCATE {table}" if chance.random() < 0.2 else f"DELETE FROM {table} WHERE n > 20",
                            ]
                        )
                    )

    try:
        followed.follow(job := followed.job(*tables, into={"connection": place.spec.name, "carry": None}))
        states, reached = [state(followed.sql)], 0

        def check(account: Any) -> None:
            nonlocal reached
            found = state(place.sql)
            assert found in states[reached:], account.as_dict()
            reached = states.index(found, reached)
            if chance.random() < 0.2:
                raise _Broken

        for _ in range(3):
            for _ in range(10):
                transaction()
                states.append(state(followed.sql))
            for _ in range(60):
                with suppress(_Broken):
                    followed.follow(job, Heard(check))
                    break
            assert state(place.sql) == states[-1]
    finally:
        for table in tables:
            place.drop(table)


def test_kinds_without_a_log_say_what_they_have_instead(followed: Followed, places: dict[str, Place]) -> None:
    job = followed.job("torture", source={"connection": "lite"})
    job["from"] = {**job["from"], "table": "torture"}
    job["from"].pop("tables")
    found = check_job(job_from_data(job), places["sqlite"].spec, followed.into)
    assert [(finding.code, "newer: {by: COLUMN}" in finding.fix) for finding in found.findings] == [
        ("log-missing", True)
    ]
