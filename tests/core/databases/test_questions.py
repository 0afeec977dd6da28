"""Questions only read, whatever their text: comments, quotes and several statements do not get through."""

from __future__ import annotations

import time
from contextlib import suppress

import pytest
from devtools.pairs import KINDS, Place
from hypothesis import given
from hypothesis import strategies as st

from ultravect.core.contracts.target import Database
from ultravect.core.dialects.statements import Lexical, NotReadable, statements
from ultravect.core.engine.objects.connections import database_of
from ultravect.core.errors import UltravectError
from ultravect.core.kinds.registry import dialects


def _texts(sql: str, dialect: str) -> list[str]:
    return [statement.text for statement in statements(sql, dialects()[dialect].lexical)]


@pytest.mark.parametrize(
    ("dialect", "sql", "found"),
    [
        ("postgresql", "select 1; drop table t", ["select 1", "drop table t"]),
        ("postgresql", "/* /* */ select */ copy t to program 'x'", ["copy t to program 'x'"]),
        (
            "postgresql",
            "select ';' , \";\" , $$;$$ , $a$ $$ ; $a$ -- ;\n",
            ["select ';' , \";\" , $$;$$ , $a$ $$ ; $a$"],
        ),
        ("postgresql", r"select 'a\'; drop table t; --'", [r"select 'a\'", "drop table t"]),
        ("postgresql", r"select E'a\'; drop table t; --'", [r"select E'a\'; drop table t; --'"]),
        ("postgresql", "select a$b$c; select 2", ["select a$b$c", "select 2"]),
        ("mariadb", r"select 'a\'; drop table t; -- '", [r"select 'a\'; drop table t; -- '"]),
        ("mariadb", "select 1--1; # x; y\nselect 2", ["select 1--1", "select 2"]),
        ("mariadb", "select `;` /* ; */", ["select `;`"]),
        ("sqlite", "select [;]; select 1 /* open", ["select [;]", "select 1"]),
        ("duckdb", "/* a /* b */ c */ ;; from t", ["from t"]),
    ],
)
def test_statements_are_told_apart(dialect: str, sql: str, found: list[str]) -> None:
    assert _texts(sql, dialect) == found


@pytest.mark.parametrize("sql", ["select 'a", 'select "a', "/* a", "select $$a", "select $x$ $$ "])
def test_what_is_not_closed_is_no_statement(sql: str) -> None:
    with pytest.raises(NotReadable):
        statements(sql, dialects()["postgresql"].lexical)


@given(
    st.text(alphabet="'\"`$;/*-# \n\\aE[]()", max_size=60),
    st.sampled_from(["postgresql", "mariadb", "sqlite", "duckdb"]),
)
def test_any_text_is_read_or_refused(sql: str, dialect: str) -> None:
    try:
        found = statements(sql, dialects()[dialect].lexical)
    except NotReadable:
        return
    for item in found:
        assert item.text in sql
        # what was found once is found again, alone
        assert [again.text for again in statements(item.text, dialects()[dialect].lexical)] == [item.text]


def test_time_grows_with_the_length_alone() -> None:
    """Compared with itself: ten times the text takes about ten times as long, not a hundred times."""
    lexical = Lexical(nested_comments=True, dollar_quotes=True, escaped_texts=True)

    def seconds(text: str) -> float:
        started = time.perf_counter()
        for _ in range(3):
            statements(text, lexical)
        return time.perf_counter() - started

    for piece in ("/* x */ ", "-- x\n", "''", "a ", "/*/**/*/"):
        short, long = seconds(piece * 1_500), seconds(piece * 15_000)
        assert long < 60 * max(short, 0.002), piece


WRITES = {
    "postgresql": [
        "insert into asked values (2)", "/* select */ delete from asked", "with x as (delete from asked returning 1) select * from x",
        "select 1; delete from asked", "select * into other from asked", "explain analyze delete from asked",
        "explain (analyze) insert into asked values (3)", "copy asked to program 'true'", "/* /* */ select */ copy asked to '/tmp/x'",
        "select 1) to program 'true' --", "do $$ begin delete from asked; end $$",
    ],
    "mariadb": [
        "insert into asked values (2)", "select 1 into outfile '/tmp/ultravect-x'", "/*!50000 delete from asked */",
        "select 1 /*! into outfile '/tmp/ultravect-x' */", "/*M! delete from asked */ select 1", "select 1; delete from asked",
        "# select\ndelete from asked", "select 1) q; delete from asked; -- ", "explain delete from asked into outfile '/tmp/x'",
    ],
    "sqlite": [
        "insert into asked values (2)", "attach '/tmp/x.db' as x", "pragma journal_mode = off", "pragma writable_schema = 1",
        "select load_extension('x')", "with x as (select 1) delete from asked", "vacuum into '/tmp/ultravect-x.db'",
        "select 1; delete from asked",
    ],
    "sqlserver": [
        "insert into asked values (2)", "select 1 delete from asked", "select * into b from asked", "exec sp_rename 'asked', 'b'",
        "with x as (select 1 as a) delete from asked", "select 1; delete from asked", "select 1 commit",
    ],
    "duckdb": [
        "insert into asked values (2)", "copy asked to '/tmp/ultravect-x.csv'", "attach '/tmp/x.db' as x", "install httpfs",
        "load httpfs", "select * from read_csv('/etc/passwd')", "from '/etc/passwd'", "set enable_external_access = true",
        "select 1; delete from asked", "explain analyze insert into asked values (4)",
    ],
}  # fmt: skip
CASES = [(kind, sql) for kind in KINDS for sql in WRITES[kind]]


@pytest.fixture
def asked(places: dict[str, Place], request: pytest.FixtureRequest) -> Database:
    place = places[request.param]
    place.drop("asked")
    place.sql("CREATE TABLE asked (a integer)")
    place.sql("INSERT INTO asked VALUES (1)")
    return database_of(place.spec)


@pytest.mark.parametrize(("asked", "sql"), CASES, indirect=["asked"])
def test_no_question_writes(asked: Database, sql: str) -> None:
    with pytest.raises(UltravectError) as raised:
        asked.ask(sql, 5, 5)
    assert raised.value.code in (
        "not-a-question", "question-refused", "read-only", "database-error", "privilege-missing",
    )  # fmt: skip
    with suppress(UltravectError):
        asked.columns_of(sql)  # which describes at most
    assert asked.ask("select count(*), max(a) from asked", 1, 5).rows == [[1, 1]]


@pytest.mark.parametrize("asked", KINDS, indirect=True)
@pytest.mark.parametrize(
    "sql",
    ["select a from asked -- it; ends", "/* it */ select a from asked;", "(select a from asked)", "with x as (select a from asked) select a from x"],
)  # fmt: skip
def test_questions_are_answered(asked: Database, sql: str) -> None:
    if sql.startswith("(") and asked.dialect.name == "sqlite":
        return
    assert asked.ask(sql, 5, 5).rows == [[1]]
