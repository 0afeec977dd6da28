"""Loading PostgreSQL: every type with its extreme values arrives as it was, by the binary way and by the text way."""

from __future__ import annotations

import datetime as dt
import decimal
import re
import uuid
from typing import Any
from urllib.parse import unquote, urlsplit

import psycopg
import pyarrow as pa
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from ultravect.core.contracts.write_plan import Attempt, WritePlan
from ultravect.core.contracts.write_session import Counts
from ultravect.core.dialects.base import NewColumn, NewTable, TableName
from ultravect.core.engine.write.driver import open_write
from ultravect.core.errors import UltravectError
from ultravect.core.kinds.postgresql.copy_in import encoding_for
from ultravect.core.kinds.postgresql.database import PostgresqlDatabase
from ultravect.core.kinds.postgresql.kind import PostgresqlSettings
from ultravect.core.types.canonical import CanonicalType, parse_type

D = decimal.Decimal
EXACT = decimal.Context(prec=60)
UTC = dt.UTC
UID = uuid.UUID("123e4567-e89b-12d3-a456-426614174000")
EXTREMES: dict[str, list[Any]] = {
    "boolean": [True, False],
    "smallint": [-(2**15), 0, 2**15 - 1],
    "integer": [-(2**31), 0, 2**31 - 1],
    "bigint": [-(2**63), 0, 2**63 - 1],
    "decimal(18,2)": [D("-9999999999999999.99"), D("0.00"), D("0.01"), D("10000.00"), D("9999999999999999.99")],
    "decimal(4,4)": [D("-0.9999"), D("0.0001")],
    "decimal(9,0)": [D("-999999999"), D("10000")],
    "decimal(18,18)": [D("0.123456789012345678")],
    "decimal(38,10)": [D("-9999999999999999999999999999.9999999999"), D("0E-10")],
    "real": [1.5, float("inf"), -0.0],
    "double": [1e308, 5e-324, float("-inf")],
    "text": ["", " ", "é€😀", 'a"b\\n,\tx', "line\r\nbreak", "\\N", "x" * 100_000],
    "text(3)": ["", "äöü"],
    "date": [dt.date(1, 1, 1), dt.date(1999, 12, 31), dt.date(2000, 1, 1), dt.date(9999, 12, 31)],
    "time": [dt.time(0), dt.time(23, 59, 59, 999999)],
    "timestamp": [dt.datetime(1, 1, 1), dt.datetime(1999, 12, 31, 23, 59, 59, 999999), dt.datetime(9999, 12, 31)],
    "timestamptz": [dt.datetime(1900, 1, 1, tzinfo=UTC), dt.datetime(2026, 3, 29, 1, 30, tzinfo=UTC)],
    "uuid": [UID.bytes],
    "json": ['{"a": [1, null]}', '"x"'],
}


@pytest.fixture(scope="module")
def database(stack: Any) -> PostgresqlDatabase:
    parts = urlsplit(stack.postgres.url("warehouse"))
    return PostgresqlDatabase(
        "warehouse",
        PostgresqlSettings(
            host=parts.hostname or "",
            port=parts.port or 0,
            database="warehouse",
            user="postgres",
            password=unquote(parts.password or ""),
        ),
    )


def load(
    database: PostgresqlDatabase, columns: dict[str, CanonicalType], batch: pa.RecordBatch, *, create: bool = True
) -> None:
    """Puts one batch into ``pg_load``."""
    listed = [NewColumn(name, kind) for name, kind in columns.items()]
    order = Attempt(WritePlan(TableName(None, "pg_load"), listed, create=NewTable(listed) if create else None))
    with open_write(database, order) as target:
        target.write(batch)
        assert target.finish() == Counts(batch.num_rows)
        target.publish()


@pytest.fixture
def connection(database_url: str) -> Any:
    with psycopg.connect(database_url, autocommit=True) as opened:
        opened.execute("DROP TABLE IF EXISTS pg_load")
        yield opened
        opened.execute("DROP TABLE IF EXISTS pg_load")


def as_read(kind: CanonicalType, value: Any) -> Any:
    """What psycopg gives for a value of Arrow."""
    if value is None:
        return None
    if kind.name == "uuid":
        return uuid.UUID(bytes=value)
    return value


@pytest.mark.parametrize("text_way", [False, True])
@pytest.mark.parametrize("kind", EXTREMES)
def test_extreme_values_arrive(kind: str, text_way: bool, database: PostgresqlDatabase, connection: Any) -> None:
    wanted = parse_type(kind)
    values = [None, *EXTREMES[kind], None]
    columns = {"n": parse_type("integer"), "v": wanted}
    arrays = [pa.array(range(len(values)), pa.int32()), pa.array(values, wanted.arrow)]
    if text_way:
        # a column without a binary encoder sends the whole load by the text way
        columns["other"] = parse_type("text")
        arrays.append(pa.array(["1 day"] * len(values)))
        dialect = database.dialect
        connection.execute(
            f"CREATE TABLE pg_load (n int, v {dialect.from_canonical(wanted).native}, other interval)".encode()
        )
    load(database, columns, pa.RecordBatch.from_arrays(arrays, names=list(columns)), create=not text_way)
    column = "v::text" if wanted.name == "json" else "v"
    found = [row[0] for row in connection.execute(f"SELECT {column} FROM pg_load ORDER BY n".encode())]
    if wanted.name == "real":
        assert found == [None if value is None else pytest.approx(value) for value in values]
    else:
        assert found == [as_read(wanted, value) for value in values]


def test_every_type_that_can_be_created_has_a_binary_encoder() -> None:
    bases = {
        "decimal(18,2)": "numeric",
        "text": "text",
        "text(3)": "varchar",
        "json": "jsonb",
        "timestamptz": "timestamptz",
    }
    bases |= {
        "boolean": "bool",
        "smallint": "int2",
        "integer": "int4",
        "bigint": "int8",
        "real": "float4",
        "double": "float8",
    }
    bases |= {"date": "date", "time": "time", "timestamp": "timestamp", "uuid": "uuid"}
    assert [kind for kind, base in bases.items() if encoding_for(base, parse_type(kind).arrow) is None] == []
    assert encoding_for("numeric", pa.string()) is None
    assert encoding_for("interval", pa.string()) is None


ROW = st.tuples(
    st.none() | st.integers(-(2**63), 2**63 - 1),
    st.none() | st.decimals(min_value=-(10**9), max_value=10**9, places=3),
    st.none() | st.text(st.characters(exclude_characters="\0", exclude_categories=["Cs"])),
    st.none() | st.booleans(),
    st.none() | st.datetimes(min_value=dt.datetime(1, 1, 1)),
    st.none() | st.integers(-(10**38) + 1, 10**38 - 1).map(lambda digits: D(digits).scaleb(-11, EXACT)),
)


@settings(max_examples=40, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(rows=st.lists(ROW, min_size=1, max_size=30), start=st.integers(0, 5))
def test_any_rows_arrive(
    rows: list[tuple[Any, ...]], start: int, database: PostgresqlDatabase, connection: Any
) -> None:
    """And come back; also from a slice of a batch, whose buffers begin elsewhere."""
    kinds = ["bigint", "decimal(15,3)", "text", "boolean", "timestamp", "decimal(38,11)"]
    columns = {f"c{index}": parse_type(kind) for index, kind in enumerate(kinds)}
    arrays = [pa.array([row[index] for row in rows], kind.arrow) for index, kind in enumerate(columns.values())]
    batch = pa.RecordBatch.from_arrays(arrays, names=list(columns)).slice(min(start, len(rows) - 1))
    connection.execute("DROP TABLE IF EXISTS pg_load")
    load(database, columns, batch)
    assert connection.execute("SELECT * FROM pg_load").fetchall() == [
        tuple(row.values()) for row in batch.to_pylist()
    ]
    read = pa.concat_tables(database.read("SELECT * FROM pg_load", list(columns.values()), "reading"))
    assert read.to_pydict() == {str(at): column.to_pylist() for at, column in enumerate(batch.columns)}


def as_server(text: str | None) -> str | None:
    """A moment as Arrow writes it, as PostgreSQL does."""
    return text and re.sub(r"\.?0*(\+00)?$", r"\1", text.replace("Z", "+00")) if text and "." in text else text


ODD = {
    "date": ("date", "'epoch'::date + d"),
    "timestamp": ("timestamp", "'epoch'::timestamp + d * interval '1 day' + d * interval '1.000007 s'"),
    "timestamptz": ("timestamptz", "'epoch'::timestamptz + d * interval '1 day 1 s'"),
}


@settings(max_examples=10, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(days=st.lists(st.integers(-2_400_000, 30_000_000), min_size=1, max_size=20))
@pytest.mark.parametrize("kind", ODD)
def test_moments_beyond_arrow_come_as_the_server_writes_them(
    kind: str, days: list[int], database: PostgresqlDatabase
) -> None:
    """Years before Christ and after 9999, infinite values: and those next to them."""
    native, value = ODD[kind]
    statement = (
        f"SELECT v, v::text FROM (SELECT ({value})::{native} FROM unnest('{{{','.join(map(str, days))}}}'::int[]) d "
        f"UNION ALL VALUES ('infinity'::{native}), ('-infinity'), (NULL)) s(v)"
    )
    (read,) = database.read(statement, [parse_type(kind), parse_type("text")], "reading")
    assert list(map(as_server, read["0"].to_pylist())) == read["1"].to_pylist()


@pytest.mark.parametrize(
    ("kind", "values"),
    [
        (
            "decimal",
            ["NaN", "Infinity", "-0.0001", "0", "0.00", "10000", "1e-20", "1e30", "123456789.000100", "-70000.5"],
        ),
        ("decimal(5,2)", ["NaN", "1.5", "-999.99", "0.001", "1000"]),
        ("time", ["24:00:00", "23:59:59.5"]),
        ("text", ["a"]),
    ],
)
def test_values_beyond_a_type_come_as_their_text(kind: str, values: list[str], database: PostgresqlDatabase) -> None:
    native = {"decimal": "numeric", "decimal(5,2)": "numeric", "time": "time", "text": "bpchar"}[kind]
    listed = ", ".join(f"('{value}'::{native})" for value in values)
    (read,) = database.read(
        f"SELECT v, v::text FROM (VALUES {listed}) s(v)", [parse_type(kind), parse_type("text")], "reading"
    )
    assert pa.types.is_string(read["0"].type)
    same = as_server if kind == "time" else str
    assert list(map(same, read["0"].to_pylist())) == read["1"].to_pylist()


def test_leaving_without_publishing_undoes_all(database: PostgresqlDatabase, connection: Any) -> None:
    columns = [NewColumn("v", parse_type("integer"))]
    batch = pa.RecordBatch.from_arrays([pa.array([1], pa.int32())], names=["v"])
    with open_write(
        database, Attempt(WritePlan(TableName(None, "pg_load"), columns, create=NewTable(columns)))
    ) as opened:
        opened.write(batch)
        assert opened.finish() == Counts(1)
    assert connection.execute("SELECT to_regclass('pg_load')").fetchone() == (None,)


@pytest.mark.parametrize(
    ("ddl", "code", "part"),
    [
        ("v int PRIMARY KEY", "constraint-refused", "Key (v)=(1) already exists"),
        ("v int CHECK (v > 5)", "constraint-refused", "violates check constraint"),
    ],
)
def test_what_only_the_database_can_refuse(
    ddl: str, code: str, part: str, database: PostgresqlDatabase, connection: Any
) -> None:
    connection.execute(f"CREATE TABLE pg_load ({ddl})".encode())
    batch = pa.RecordBatch.from_arrays([pa.array([1, 1], pa.int32())], names=["v"])
    with pytest.raises(UltravectError) as raised:
        load(database, {"v": parse_type("integer")}, batch, create=False)
    assert raised.value.code == code
    assert part in raised.value.detail
    assert connection.execute("SELECT count(*) FROM pg_load").fetchone() == (0,)
