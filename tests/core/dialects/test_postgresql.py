"""The PostgreSQL dialect, against the server: names that need quotes, and types both ways."""

from __future__ import annotations

import psycopg
import pytest
from hypothesis import given
from hypothesis import strategies as st

from ultravect.core.dialects.base import NewColumn, NewTable, TableName
from ultravect.core.kinds.postgresql.dialect import PostgresqlDialect
from ultravect.core.types.canonical import Fit, parse_type

PG = PostgresqlDialect()
TYPES = [
    "boolean", "smallint", "integer", "bigint", "decimal(10,2)", "decimal", "real", "double", "text", "text(7)", "binary",
    "date", "time", "time(3)", "timestamp", "timestamp(0)", "timestamptz", "timestamptz(3)", "uuid", "json",
]  # fmt: skip


@pytest.mark.parametrize("kind", TYPES)
def test_a_type_created_is_the_type_found(kind: str, database_url: str) -> None:
    wanted = parse_type(kind)
    translation = PG.from_canonical(wanted)
    with psycopg.connect(database_url) as connection:
        connection.execute(PG.create_table(TableName("pg_temp", "t"), NewTable([NewColumn("c", wanted)]))[0].encode())
        row = connection.execute(
            "SELECT format_type(atttypid, atttypmod) FROM pg_attribute WHERE attrelid = 'pg_temp.t'::regclass AND attname = 'c'"
        ).fetchone()
        connection.rollback()
    assert row is not None
    assert PG.to_canonical(row[0]) == wanted
    assert translation.fit == Fit.EXACT


def test_what_has_no_exact_type_says_so() -> None:
    translation = PG.from_canonical(parse_type("binary(16)"))
    assert (translation.native, translation.fit) == ("bytea", Fit.WIDER)
    assert translation.change


@pytest.mark.parametrize("native", ["money", "integer[]", "interval", "point", "mood"])
def test_native_types_without_a_canonical_one(native: str) -> None:
    assert PG.to_canonical(native) is None


@pytest.mark.parametrize(
    ("text", "schema", "name"),
    [
        ("t", None, "t"),
        ("s.t", "s", "t"),
        ('"Odd ""T"".x"', None, 'Odd "T".x'),
        (' a . "b c" ', "a", "b c"),
        ("größe", None, "größe"),
    ],
)
def test_table_names(text: str, schema: str | None, name: str) -> None:
    assert PG.parse_table(text) == TableName(schema, name)


@pytest.mark.parametrize("text", ["", "a.b.c", "a b", "a.", '"open', "t;drop", "x" * 64, "a..b"])
def test_what_is_no_table_name(text: str) -> None:
    if text == "t;drop":  # odd, but one word: it is quoted, and harms nothing
        assert PG.table(PG.parse_table(text)) == '"t;drop"'
        return
    with pytest.raises(ValueError, match=r"\w"):
        PG.parse_table(text)


@given(st.text(min_size=1, max_size=15).filter(lambda text: "\0" not in text and max(text) < "\ud800"))
def test_no_name_breaks_out_of_its_quotes(name: str) -> None:
    quoted = PG.quote(name)
    assert quoted[0] == quoted[-1] == '"'
    assert quoted[1:-1].replace(chr(34) * 2, "").count('"') == 0
    assert PG.parse_table(quoted).name == name
