"""Values that few expect, from each kind to each: they arrive as they are, or are rejects, and nothing breaks."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from devtools.legs import run_leg
from devtools.pairs import KINDS, REAL, Copied, Place
from devtools.postgres import PostgresServer

from ultravect.core.engine.objects.connections import ConnectionSpec
from ultravect.core.engine.run.leg import LegResult
from ultravect.core.model.document import job_from_data

ODD: dict[str, tuple[str, list[str], str, set[int]]] = {
    # kind: what is made first, the table, its rows, and which of them no other kind can hold
    "mariadb": (
        "",
        [
            "CREATE TABLE odd (id int PRIMARY KEY, b tinyint(1), u bigint unsigned, h int INVISIBLE DEFAULT 5, "
            "g int AS (id * 2) VIRTUAL, e enum('a b', 'c''d', ''), s set('x', 'y'), y year)",
            "INSERT INTO odd (id, b, u, e, s, y) VALUES (1, 1, 18446744073709551615, 'c''d', 'x,y', 2026), "
            "(2, 2, 0, '', '', 1901), (3, -1, 1, 'a b', 'y', 2155), (4, NULL, NULL, NULL, NULL, NULL)",
        ],
        "b",
        {2, 3},
    ),
    "postgresql": (
        "",
        [
            'DROP DOMAIN IF EXISTS outer_d, inner_d, "Ödd dom" CASCADE',
            """DROP TYPE IF EXISTS "we ird's" CASCADE""",
            "CREATE DOMAIN inner_d AS numeric(5, 2)",
            "CREATE DOMAIN outer_d AS inner_d",
            """CREATE DOMAIN "Ödd dom" AS text CHECK (value <> '')""",
            """CREATE TYPE "we ird's" AS ENUM ('a b', 'c''d')""",
            'CREATE TABLE odd (id int, d date, ts timestamp, iv interval, arr int[], o outer_d, a "Ödd dom", '
            """e "we ird's", g int GENERATED ALWAYS AS (id * 2) STORED, i int GENERATED ALWAYS AS IDENTITY)""",
            "INSERT INTO odd (id, d, ts, iv, arr, o, a, e) VALUES "
            "(1, '0044-03-15 BC', '0044-03-15 12:00 BC', '1 year 2 mons 3 days 04:05:06.7', '{1,2,NULL}', 12.34, 'x', 'c''d'), "
            "(2, '0999-12-31', '0999-12-31 23:59:59.999999', '-1 day', '{}', -1, 'y', 'a b'), "
            "(3, '12345-01-01', '12345-01-01 00:00', '1000 years', '{{1,2},{3,4}}', NULL, NULL, NULL), "
            "(4, 'infinity', '-infinity', NULL, NULL, NULL, NULL, NULL), (5, '2026-01-01', '2026-01-01', '04:05', '{7}', 0, 'z', 'a b')",
        ],
        "d",
        {1, 3, 4},
    ),
    "sqlite": (
        "",
        [
            "CREATE TABLE odd (id integer, n numeric, t text, b blob)",
            "INSERT INTO odd VALUES (1, 1e300, 'x', x'00ff'), (2, 5, 'a b', 'text in a blob'), (3, 9223372036854775807, '', null)",
        ],
        "n",
        set(),
    ),
    "duckdb": (
        "",
        [
            "CREATE TABLE odd (id integer, l integer[], s struct(a integer, b varchar), h hugeint, g integer AS (id * 2))",
            "INSERT INTO odd (id, l, s, h) VALUES (1, [1, NULL], {'a': 1, 'b': 'x''y'}, 170141183460469231731687303715884105727), "
            "(2, [], NULL, -1), (3, NULL, {'a': NULL, 'b': NULL}, NULL)",
        ],
        "l",
        set(),
    ),
}


@pytest.mark.parametrize("target", KINDS)
@pytest.mark.parametrize("source", REAL)
def test_odd_values_arrive_or_are_rejects(source: str, target: str, places: dict[str, Place]) -> None:
    _, statements, column, lost = ODD[source]
    made, into = places[source], places[target]
    made.drop("odd")
    into.drop("odd_copy")
    for statement in statements:
        made.sql(statement)
    heard = Copied()
    result = _copied(made, into, heard)
    ids = [int(row[0]) for row in into.sql("SELECT id FROM odd_copy ORDER BY id")]
    rejected = {item.row for item in heard.rejected}
    assert result.tally.read == result.tally.inserted + result.tally.rejected
    assert len(ids) == result.tally.inserted
    assert lost <= rejected
    assert all(item.reason for item in heard.rejected)
    # a value that was there arrived as one
    for row in ids:
        there, here = (
            place.sql(f"SELECT {column} IS NULL FROM {table} WHERE id = {row}")[0][0]
            for place, table in ((made, "odd"), (into, "odd_copy"))
        )
        assert bool(there) == bool(here)
    made.drop("odd")
    into.drop("odd_copy")


def _copied(source: Place, target: Place, heard: Copied, **into: Any) -> LegResult:
    job = {
        "ultravect": 1,
        "job": "odd",
        "from": {"connection": source.spec.name, "table": "odd"},
        "into": {"connection": target.spec.name, "table": "odd_copy", "rejects": "100%", **into},
    }
    return run_leg(job_from_data(job), source.spec, target.spec, heard, receipt=f"odd-{source.kind}-{target.kind}")


@pytest.fixture(scope="module")
def unusual(tmp_path_factory: pytest.TempPathFactory) -> Iterator[PostgresServer]:
    """A server whose settings, roles and databases are not those that anyone expects."""
    folder = Path("/var/tmp") / f"ultravect-unusual-{tmp_path_factory.mktemp('x').name}-{id(tmp_path_factory)}"
    server = PostgresServer.create(folder, durable=False)
    server.execute("CREATE DATABASE latin ENCODING 'LATIN1' LOCALE 'C' TEMPLATE template0")
    for setting in (
        "default_transaction_isolation = 'serializable'", "datestyle = 'German'", "intervalstyle = 'iso_8601'",
        "timezone = 'Asia/Kathmandu'", "extra_float_digits = -5", "bytea_output = 'escape'", "client_encoding = 'LATIN1'",
        "standard_conforming_strings = off", "transform_null_equals = on", "statement_timeout = '1ms'",
    ):  # fmt: skip
        server.execute(f"ALTER ROLE postgres IN DATABASE latin SET {setting}")
    yield server
    server.remove()


def test_values_do_not_depend_on_the_settings_of_a_server(unusual: PostgresServer, places: dict[str, Place]) -> None:
    settings = {
        "host": "127.0.0.1",
        "port": unusual.port,
        "database": "latin",
        "user": "postgres",
        "password": unusual.password,
    }
    latin = ConnectionSpec("latin", "postgresql", settings)
    place = places["postgresql"]
    place.drop("odd")
    place.sql("CREATE TABLE odd (id int, f float8, t text, d date, z timestamptz, b bytea, iv interval)")
    place.sql(
        "INSERT INTO odd VALUES (1, 0.1, 'a\\b ''é''', '2026-02-01', '2026-02-01 12:00+00', '\\x00ff', '1 day 02:00'), "
        "(2, 1e-300, NULL, NULL, NULL, NULL, NULL)"
    )
    there = Place("postgresql", latin, lambda statement: [])
    heard = Copied()
    assert _copied(place, there, heard).tally.inserted == 2
    back = Copied()
    job = {
        "ultravect": 1,
        "job": "back",
        "from": {"connection": "latin", "table": "odd_copy"},
        "into": {"connection": place.spec.name, "table": "odd_back", "mode": "overwrite"},
    }
    place.drop("odd_back")
    run_leg(job_from_data(job), latin, place.spec, back, receipt="odd-back")
    columns = "id, f, t, d, z, b, iv::text"
    assert place.sql(f"SELECT {columns} FROM odd_back ORDER BY 1") == place.sql(
        f"SELECT {columns} FROM odd ORDER BY 1"
    )
    for table in ("odd", "odd_back"):
        place.drop(table)
