"""Which statements a job may run before and after its rows: decided by what they begin with, in each database's own words."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ultravect.core.dialects.base import Dialect
from ultravect.core.dialects.statements import NotReadable, statements
from ultravect.core.kinds.registry import dialects

TAKEN = {
    "postgresql": [
        "insert into seen select 1", "update hut set v = 1", "delete from hut", "truncate hut", "analyze hut", "with x as (select 1) delete from hut",
        "refresh materialized view huts", "create table if not exists a (k int)", "create unique index i on a (k)", "drop view huts",
        "alter table hut drop column k", "comment on table hut is 'x; do $$ $$'", "select refresh_huts()", "create or replace view v as select 1",
    ],
    "mariadb": [
        "insert into seen values (1)", "replace into seen values (1)", "optimize table hut", "create table a (k int) engine=InnoDB",
        "truncate table a",
    ],
    "sqlite": ["insert or replace into hut values (1)", "reindex", "drop table if exists a", "analyze"],
    "duckdb": ["insert into hut select 1", "create or replace table a as select 1"],
    "sqlserver": [
        "update hut set a = 1, b = 2 where c = 'set x'", "merge into hut using x on 1 = 1 when matched then update set v = 1", "delete from hut",
        "alter table hut drop column k", "alter table hut alter column k bigint", "update statistics hut", "insert into hut select [exec] from x",
        "create index i on hut (k)", "drop table hut",
    ],
}  # fmt: skip

REFUSED = {
    "postgresql": [
        "do $$ begin execute 'copy hut to program x'; end $$", "copy hut to program 'sh'", "create function f() returns int as 'x' language c",
        "create extension dblink", "grant all on hut to public", "alter role x superuser", "set role x", "set session authorization x", "call p()",
        "create trigger t after insert on hut execute function f()", "security label on table hut is 'x'", "create foreign table f () server s",
        "alter system set x = 1", "load 'x'", "vacuum hut", "import foreign schema s from server x into y",
        "create rule r as on insert to hut do also nothing", "alter default privileges grant all on tables to x", "explain analyze delete from hut",
        "prepare x as select 1", "execute x", "reset all", "create publication p for all tables", "reassign owned by a to b", "drop function f",
        "create event trigger e on ddl_command_start", "create user mapping for x server y",
    ],
    "mariadb": [
        "create function f returns string soname 'x.so'", "create event e on schedule every 1 day do select 1", "grant all on *.* to x", "call p()",
        "select 1 into outfile '/tmp/x'", "select 1 into dumpfile '/tmp/x'", "/*! grant all on *.* to x */",
        "load data infile '/etc/passwd' into table a", "create table a (k int) engine=connect table_type=csv file_name='/etc/passwd'",
        "create table a (k int) data directory='/tmp'", "create table a (k int) engine=federated connection='mysql://x'",
        "create trigger t before insert on a for each row set @a = 1", "set global general_log = 1", "install plugin x soname 'y'",
        "create procedure p() select 1", "do sleep(10)", "handler a open", "prepare s from 'x'", "execute immediate 'drop user x'", "kill 1",
        "flush hosts", "create definer=root@localhost view v as select 1",
    ],
    "sqlite": [
        "attach '/x' as y", "pragma writable_schema = 1", "create virtual table v using x", "create trigger t after insert on a begin select 1; end",
        "vacuum into '/x'", "detach y",
    ],
    "duckdb": [
        "attach '/x'", "copy a to '/x'", "install httpfs", "load httpfs", "pragma x", "call f()", "export database '/x'", "set x = 1",
        "create macro m() as 1", "create secret s (type s3)",
    ],
    "sqlserver": [
        "exec xp_cmdshell 'dir'", "exec('drop database x')", "execute as login = 'sa'", "sp_who", "insert into hut exec xp_cmdshell 'dir'",
        "delete from hut exec xp_cmdshell 'dir'", "delete from hut grant all to x", "update hut set a = 1 set noexec off",
        "delete from hut set noexec off", "select 1 drop login x", "delete from hut drop table other", "update statistics hut set rowcount 1",
        "alter table hut add k int drop database x", "delete from hut create login x with password = 'x'",
        "select * from openrowset('x', 'y', 'z')", "delete from hut waitfor delay '1:00'", "grant control server to x", "declare @a int",
        "set noexec off delete from hut", "delete from hut if 1 = 1 delete from hut", "dbcc checkdb", "alter table hut enable trigger all",
        "create trigger t on hut for insert as select 1", "delete from hut revert", "bulk insert hut from '/x'",
    ],
}  # fmt: skip


def _refusal(dialect: Dialect, text: str, *, calls: bool = False) -> str:
    """Why a statement is refused; "" where it is taken."""
    try:
        found = statements(text, dialect.lexical)
    except NotReadable as error:
        return str(error)
    if len(found) != 1:
        return "not one"
    return found[0].refusal(dialect.takes, dialect.refused_words, dialect.lexical, calls=calls)


@pytest.mark.parametrize(("name", "text"), [(name, text) for name, texts in TAKEN.items() for text in texts])
def test_statements_of_rows_tables_views_and_indexes_are_taken(name: str, text: str) -> None:
    assert _refusal(dialects()[name], text) == ""
    assert _refusal(dialects()[name], f"/* why */ {text.upper()}") == ""


@pytest.mark.parametrize(("name", "text"), [(name, text) for name, texts in REFUSED.items() for text in texts])
def test_what_reaches_beyond_tables_is_refused(name: str, text: str) -> None:
    dialect = dialects()[name]
    for written in (text, text.upper(), f"-- why\n{text}", f"({text}", text.replace(" ", "\n\t")):
        assert _refusal(dialect, written) != "", written


@pytest.mark.parametrize(
    ("name", "text", "taken"),
    [
        ("postgresql", "call refresh_huts()", True),
        ("mariadb", "call refresh_huts()", True),
        ("sqlserver", "exec refresh_huts @a = 1", True),
        ("sqlserver", "exec [refresh huts]", True),
        ("sqlserver", "exec('drop database x')", False),
        ("sqlserver", "execute as login = 'sa'", False),
        ("sqlserver", "exec refresh_huts grant all to x", False),
        ("postgresql", "do $$ begin end $$", False),
    ],
)
def test_procedures_are_called_where_an_admin_allows_it(name: str, text: str, taken: bool) -> None:
    assert (_refusal(dialects()[name], text, calls=True) == "") is taken
    assert _refusal(dialects()[name], text) != ""


@given(st.sampled_from(sorted(REFUSED)), st.text(alphabet=" \n\t;()'\"`[]-/*#$aEx", max_size=12), st.data())
def test_nothing_that_stands_before_makes_it_taken(name: str, before: str, data: st.DataObject) -> None:
    """Whatever is written in front of it: a refused statement is not taken for another one."""
    refused = data.draw(st.sampled_from(REFUSED[name]))
    dialect = dialects()[name]
    try:
        found = statements(f"{before}{refused}", dialect.lexical)
    except NotReadable:
        return
    for statement in found:
        if statement.text == refused:
            assert statement.refusal(dialect.takes, dialect.refused_words, dialect.lexical, calls=False) != ""
