"""What PostgreSQL's catalogue says, what questions it takes, and its refusals in the user's terms."""

from __future__ import annotations

import time
from collections.abc import Iterator
from typing import Any

import psycopg
import pytest
from devtools.stack import Stack

from ultravect.core.contracts.kept_sessions import keeping_sessions
from ultravect.core.dialects.base import TableName
from ultravect.core.errors import UltravectError
from ultravect.core.kinds.postgresql.database import PostgresqlDatabase
from ultravect.core.kinds.postgresql.kind import PostgresqlSettings
from ultravect.core.kinds.postgresql.session import translate

COLUMNS = [
    # as declared; what the catalogue writes; the canonical type
    ("smallint", "smallint", "smallint"),
    ("varchar(7)", "character varying(7)", "text(7)"),
    ("char(3)", "character(3)", "text(3)"),
    ("numeric(8,3)", "numeric(8,3)", "decimal(8,3)"),
    ("numeric", "numeric", "decimal"),
    ("numeric(60,2)", "numeric(60,2)", "decimal"),
    ("timestamp(3)", "timestamp(3) without time zone", "timestamp(3)"),
    ("timestamptz", "timestamp with time zone", "timestamptz"),
    ("time(0)", "time(0) without time zone", "time(0)"),
    ("jsonb", "jsonb", "json"),
    ("bytea", "bytea", "binary"),
    ("int[]", "integer[]", None),
    ("interval", "interval", None),
    ("cat_code", "cat_code", "text(4)"),
    ("cat_mood", "cat_mood", None),
]


@pytest.fixture(scope="module")
def database(stack: Stack) -> PostgresqlDatabase:
    return PostgresqlDatabase("warehouse", PostgresqlSettings.model_validate(stack.warehouse))


@pytest.fixture(scope="module")
def catalogue(stack: Stack) -> Iterator[None]:
    declared = ", ".join(f"c{index} {kind}" for index, (kind, _, _) in enumerate(COLUMNS))
    run = lambda sql: stack.postgres.execute(sql, "warehouse")  # noqa: E731
    run("DROP SCHEMA IF EXISTS cat CASCADE")
    run("CREATE SCHEMA cat")
    run("CREATE DOMAIN cat_code AS varchar(4) NOT NULL")
    run("CREATE TYPE cat_mood AS ENUM ('calm', 'stormy')")
    run(f"CREATE TABLE cat.all_types ({declared})")
    run(
        "CREATE TABLE cat.kinds (plain int, required int NOT NULL, defaulted int NOT NULL DEFAULT 5, dropped int, "
        "counted int GENERATED ALWAYS AS IDENTITY, doubled int GENERATED ALWAYS AS (plain * 2) STORED)"
    )
    run("ALTER TABLE cat.kinds DROP COLUMN dropped")
    run('CREATE VIEW cat."Odd View" AS SELECT 1 AS "A b"')
    run("CREATE MATERIALIZED VIEW cat.kept AS SELECT 1 AS a")
    yield
    run("DROP SCHEMA cat CASCADE")
    run("DROP DOMAIN cat_code")
    run("DROP TYPE cat_mood")


@pytest.mark.usefixtures("catalogue")
def test_columns_and_their_types(database: PostgresqlDatabase) -> None:
    table = database.table(TableName("cat", "all_types"))
    assert table is not None
    found = [(column.native, str(column.type) if column.type else None) for column in table.columns]
    assert found == [(native, kind) for _, native, kind in COLUMNS]


@pytest.mark.usefixtures("catalogue")
def test_what_a_column_takes(database: PostgresqlDatabase) -> None:
    table = database.table(TableName("cat", "kinds"))
    assert table is not None
    assert {column.name: (column.nullable, column.has_default, column.generated) for column in table.columns} == {
        "plain": (True, False, False),
        "required": (False, False, False),
        "defaulted": (False, True, False),
        "counted": (False, True, True),
        "doubled": (True, True, True),
    }
    domain = database.table(TableName("cat", "all_types"))
    assert domain is not None
    assert domain.columns[13].nullable is False, "the domain takes no NULL"


@pytest.mark.usefixtures("catalogue")
def test_kinds_of_tables_and_searching(database: PostgresqlDatabase) -> None:
    found = {info.name: info.kind for info in database.tables("CAT.", "", 100)}
    assert found == {
        "cat.all_types": "table",
        "cat.kinds": "table",
        "cat.Odd View": "view",
        "cat.kept": "materialized view",
    }
    assert len(database.tables("cat.", "", 2)) == 2
    view = database.table(TableName("cat", "Odd View"))
    assert view is not None
    assert [column.name for column in view.columns] == ["A b"]
    assert database.table(TableName("cat", "odd view")) is None
    assert database.table(TableName(None, "kinds")) is None, "not on the search path"


@pytest.mark.parametrize(
    ("sql", "columns", "rows", "more"),
    [
        ("select 1 as a, 'x' as b", ["a", "b"], [[1, "x"]], False),
        ("  -- a remark\n select 1;  ", ["?column?"], [[1]], False),
        ("/* a remark */ (select 2)", ["?column?"], [[2]], False),
        ("values (1), (2), (3)", ["column1"], [[1], [2]], True),
        ("with x as (select 1 as a) select * from x", ["a"], [[1]], False),
        ("show timezone", ["TimeZone"], [["UTC"]], False),
        ("select 1 as a where false", ["a"], [], False),
        ("select", [], [[]], False),
    ],
)
def test_questions(
    sql: str, columns: list[str], rows: list[list[Any]], more: bool, database: PostgresqlDatabase
) -> None:
    answer = database.ask(sql, 2, 5)
    assert (answer.columns, answer.rows, answer.more) == (columns, rows, more)


@pytest.mark.parametrize(
    "sql", ["", "do $$ begin end $$", "set x.y = 1", "vacuum", "insert into t values (1)", "begin", "selects"]
)
def test_what_is_no_question(sql: str, database: PostgresqlDatabase) -> None:
    with pytest.raises(UltravectError) as raised:
        database.ask(sql, 1, 5)
    assert raised.value.code == "not-a-question"


@pytest.mark.parametrize(
    ("sqlstate", "code"),
    [
        (None, "connection-lost"),
        ("08006", "connection-lost"),
        ("57P01", "connection-lost"),
        ("57014", "time-limit"),
        ("42501", "privilege-missing"),
        ("23505", "constraint-refused"),
        ("23503", "constraint-refused"),
        ("23514", "constraint-refused"),
        ("53100", "target-full"),
        ("25006", "read-only"),
        ("XX000", "database-error"),
    ],
)
def test_refusals_in_the_users_terms(sqlstate: str | None, code: str) -> None:
    kind = psycopg.errors.lookup(sqlstate) if sqlstate else psycopg.OperationalError
    shown = translate(kind("the database's own words"), "warehouse", "loading x into y")
    assert shown.code == code
    assert "warehouse" in shown.detail
    assert shown.hint or code == "database-error"
    assert ("the database's own words" in shown.detail) == (code != "connection-lost")


def test_obstacles_to_creating(database: PostgresqlDatabase, stack: Stack) -> None:
    assert database.may_create(TableName(None, "anything")) == ""
    assert "there is no schema 'nowhere'" in database.may_create(TableName("nowhere", "t"))
    stack.postgres.execute("CREATE ROLE cat_guest LOGIN PASSWORD 'guest-of-the-hut'", "warehouse")
    guest = dict(stack.warehouse) | {"user": "cat_guest", "password": "guest-of-the-hut"}
    as_guest = PostgresqlDatabase("guest", PostgresqlSettings.model_validate(guest))
    assert "may not create tables in schema 'public'" in as_guest.may_create(TableName(None, "t"))
    stack.postgres.execute("DROP ROLE cat_guest", "warehouse")


def _asked(database: PostgresqlDatabase, sql: str) -> object:
    return database.ask(sql, 1, 10).rows[0][0]


def test_a_kept_session_is_like_a_new_one(database: PostgresqlDatabase, stack: Stack) -> None:
    alive = "SELECT count(*) FROM pg_stat_activity WHERE pid = {}"
    with keeping_sessions():
        process = _asked(database, "SELECT pg_backend_pid()")
        for sql in (
            "SELECT set_config('search_path', 'pg_catalog', false)",
            "SELECT set_config('timezone', 'Asia/Tokyo', false)",
            "SELECT pg_advisory_lock(20261129)::text",
        ):
            _asked(database, sql)
        for sql, wanted in (
            ("SELECT pg_backend_pid()", process),
            ("SELECT current_setting('search_path') = 'pg_catalog'", False),
            ("SELECT current_setting('timezone')", "UTC"),
            ("SELECT count(*) FROM pg_locks WHERE locktype = 'advisory' AND pid = pg_backend_pid()", 0),
            ("SELECT current_setting('application_name')", "ultravect ask"),
        ):
            assert _asked(database, sql) == wanted, sql
        database.drop(TableName(None, "kept_no_such_table"))  # no longer read-only

        with pytest.raises(UltravectError):
            _asked(database, "SELECT 1 / 0")
        after = _asked(database, "SELECT pg_backend_pid()")
        assert after != process, "a session that failed is not kept"
        stack.postgres.execute(f"SELECT pg_terminate_backend({after}, 5000)", "warehouse")
        last = _asked(database, "SELECT pg_backend_pid()")
        assert last != after, "a session that was lost is replaced"

        stack.postgres.execute("CREATE ROLE kept_guest LOGIN PASSWORD 'guest-of-the-hut'", "warehouse")
        guest = {**stack.warehouse, "user": "kept_guest", "password": "guest-of-the-hut"}
        as_guest = PostgresqlDatabase("warehouse", PostgresqlSettings.model_validate(guest))
        assert _asked(as_guest, "SELECT current_user::text") == "kept_guest"
        wrong = PostgresqlDatabase("warehouse", PostgresqlSettings.model_validate({**guest, "password": "another"}))
        with pytest.raises(UltravectError, match="refused the password"):
            _asked(wrong, "SELECT 1")
    deadline = time.monotonic() + 10
    while stack.postgres.execute(alive.format(last), "warehouse") != [(0,)]:
        assert time.monotonic() < deadline, "the session outlives what it was kept for"
        time.sleep(0.05)
    stack.postgres.execute("DROP ROLE kept_guest", "warehouse")
