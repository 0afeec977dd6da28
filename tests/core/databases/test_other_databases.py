"""MariaDB, SQLite and DuckDB: catalogue, questions that cannot write, and how a test says what fails."""

from __future__ import annotations

import sqlite3
from contextlib import closing
from pathlib import Path
from typing import Any

import duckdb
import pytest
from devtools.mariadb import MariadbServer
from tests.core.conftest import Certificates

from ultravect.core.contracts.storage import Listing
from ultravect.core.engine.look.browse import Wanted, list_objects, preview, preview_query
from ultravect.core.engine.objects.connections import ConnectionSpec, database_of, probe
from ultravect.core.errors import UltravectError

MARIADB_TYPES = [
    ("tinyint(1)", "boolean"), ("tinyint(3) unsigned", "smallint"), ("smallint(6)", "smallint"), ("mediumint(9)", "integer"),
    ("int(11)", "integer"), ("int(10) unsigned", "bigint"), ("bigint(20)", "bigint"), ("bigint(20) unsigned", "decimal(20,0)"),
    ("decimal(10,2)", "decimal(10,2)"), ("decimal(65,2)", "decimal"), ("float", "real"), ("double", "double"), ("bit(1)", "boolean"),
    ("bit(12)", "binary(2)"), ("char(3)", "text(3)"), ("varchar(80)", "text(80)"), ("longtext", "text"), ("varbinary(9)", "binary(9)"),
    ("blob", "binary"), ("date", "date"), ("time(3)", "time(3)"), ("datetime(6)", "timestamp(6)"), ("timestamp", "timestamptz(0)"),
    ("year(4)", "smallint"), ("enum('a','b')", "text"), ("set('a','b')", "text"), ("uuid", "uuid"), ("inet6", "text"), ("point", None),
]  # fmt: skip
SQLITE_TYPES = [
    ("INTEGER", "bigint"), ("VARCHAR(80)", "text(80)"), ("DECIMAL(8,2)", "decimal(8,2)"), ("NUMERIC", "decimal"), ("DATE", "date"),
    ("DATETIME", "timestamp"), ("BOOLEAN", "boolean"), ("REAL", "double"), ("BLOB", "binary"), ("", "text"), ("DOUBLE PRECISION", "double"),
    ("UNSIGNED BIG INT", "bigint"), ("STRING", "text"),
]  # fmt: skip
DUCKDB_TYPES = [
    ("BOOLEAN", "boolean"), ("TINYINT", "smallint"), ("UINTEGER", "bigint"), ("UBIGINT", "decimal(20,0)"), ("HUGEINT", "decimal"),
    ("DECIMAL(12,3)", "decimal(12,3)"), ("FLOAT", "real"), ("VARCHAR", "text"), ("BLOB", "binary"), ("DATE", "date"), ("TIME", "time"),
    ("TIMESTAMP", "timestamp"), ("TIMESTAMP WITH TIME ZONE", "timestamptz"), ("UUID", "uuid"), ("INTEGER[]", "json"),
    ("STRUCT(a INTEGER)", "json"), ("ENUM('a', 'b')", "text"), ("INTERVAL", None),
]  # fmt: skip


def _columns(kinds: list[tuple[str, str | None]]) -> str:
    return ", ".join(f"c{number} {native}" for number, (native, _) in enumerate(kinds))


@pytest.fixture(params=["mariadb", "sqlite", "duckdb"])
def place(request: pytest.FixtureRequest, tmp_path: Path) -> tuple[ConnectionSpec, list[tuple[str, str | None]]]:
    """A database of each kind with the same tables in it, and the types of its table ``kinds``."""
    kind = request.param
    if kind == "mariadb":
        server: MariadbServer = request.getfixturevalue("mariadb")
        server.execute(
            "DROP DATABASE huts",
            "CREATE DATABASE huts",
            "USE huts",
            f"CREATE TABLE kinds ({_columns(MARIADB_TYPES)})",
            "CREATE TABLE hut (code char(3) PRIMARY KEY COMMENT 'three digits', beds int NOT NULL DEFAULT 0, note varchar(40)) "
            "COMMENT 'forty of them'",
            "INSERT INTO hut VALUES ('001', 12, 'ä'), ('002', 8, NULL), ('003', 8, 'b')",
            "CREATE VIEW open_hut AS SELECT code FROM hut",
        )
        return ConnectionSpec("db", kind, server.settings("huts")), MARIADB_TYPES
    path = tmp_path / "huts.db"
    spec = ConnectionSpec("db", kind, {"path": str(path)}, [str(tmp_path)])
    kinds: list[tuple[str, str | None]] = SQLITE_TYPES if kind == "sqlite" else DUCKDB_TYPES
    script = (
        f"CREATE TABLE kinds ({_columns(kinds)}); CREATE TABLE hut (code varchar(3) PRIMARY KEY NOT NULL, "
        "beds integer NOT NULL DEFAULT 0, note varchar(40)); CREATE VIEW open_hut AS SELECT code FROM hut;"
        "INSERT INTO hut VALUES ('001', 12, 'ä'), ('002', 8, NULL), ('003', 8, 'b');"
    )
    if kind == "sqlite":
        with closing(sqlite3.connect(path)) as database:
            database.executescript(script)
    else:
        with closing(duckdb.connect(str(path))) as other:
            other.execute(
                script + "COMMENT ON TABLE hut IS 'forty of them'; COMMENT ON COLUMN hut.code IS 'three digits'"
            )
    return spec, kinds


def test_catalogue(place: tuple[ConnectionSpec, list[tuple[str, str | None]]]) -> None:
    spec, kinds = place
    database = database_of(spec)
    names = [info.name.split(".")[-1] for info in database.tables("", "", 100)]
    assert names == ["hut", "kinds", "open_hut"]
    paged: list[str] = []
    while page := database.tables("", paged[-1] if paged else "", 1):
        paged += [info.name for info in page]
    assert [name.split(".")[-1] for name in paged] == names
    assert [info.name.split(".")[-1] for info in database.tables("OPEN", "", 100)] == ["open_hut"]
    table = database.table(database.dialect.parse_table("kinds"))
    assert table is not None
    assert [str(column.type) if column.type else None for column in table.columns] == [kind for _, kind in kinds]
    hut = database.table(database.dialect.parse_table("hut"))
    assert hut is not None
    assert [(c.name, c.nullable, c.has_default, c.key) for c in hut.columns] == [
        ("code", False, False, True),
        ("beds", False, True, False),
        ("note", True, False, False),
    ]
    comments = ("", "") if spec.kind == "sqlite" else ("forty of them", "three digits")
    assert (hut.comment, hut.columns[0].comment) == comments
    view = database.table(database.dialect.parse_table("open_hut"))
    assert view is not None
    assert view.kind == "view"
    assert database.table(database.dialect.parse_table("nothing")) is None


def test_previews(place: tuple[ConnectionSpec, list[tuple[str, str | None]]]) -> None:
    spec, _ = place
    seen = preview(spec, "hut", Wanted(rows=2, counts=True))
    assert seen["rows"] == [["001", 12, "ä"], ["002", 8, None]]
    beds = seen["columns"][1]["counts"]
    assert (beds["values"], beds["nulls"], beds["distinct"], beds["top"][0], beds["low"], beds["high"]) == (
        3, 0, 2, {"value": "8", "count": 2}, "8", "12",
    )  # fmt: skip
    assert (seen["columns"][2]["counts"]["nulls"], seen["columns"][2]["counts"]["longest"]) == (1, 1)
    assert sorted(row[0] for row in preview(spec, "hut", Wanted(rows=3, random=True))["rows"]) == [
        "001",
        "002",
        "003",
    ]
    asked = preview_query(spec, "with a as (select code, beds from hut) select * from a where beds > 10;", Wanted())
    assert (asked["rows"], [entry["name"] for entry in asked["columns"]]) == ([["001", 12]], ["code", "beds"])
    assert {item["kind"] for item in list_objects(spec, Listing())} == {"table", "view"}
    with pytest.raises(UltravectError) as raised:
        preview(spec, "hutt", Wanted())
    assert (raised.value.code, "hut" in raised.value.hint) == ("table-missing", True)


@pytest.mark.parametrize(
    "sql",
    [
        "insert into hut values ('009', 1, null)",
        "delete from hut",
        "drop table hut",
        "select 1; drop table hut",
        "with a as (select 1) delete from hut",
        "attach '/etc/passwd' as p",
        "select * from nowhere",
        "select code from",
        "",
    ],
)
def test_questions_cannot_write(sql: str, place: tuple[ConnectionSpec, list[tuple[str, str | None]]]) -> None:
    spec, _ = place
    with pytest.raises(UltravectError) as raised:
        database_of(spec).ask(sql, 10, 5)
    assert raised.value.code in ("not-a-question", "question-refused", "read-only", "database-error")
    assert database_of(spec).ask("select count(*) from hut", 10, 5).rows == [[3]]


ENDLESS = "with recursive n(i) as (select 1 union all select i + 1 from n where i < 900000000) select count(*) from n"


def test_questions_end_in_time(place: tuple[ConnectionSpec, list[tuple[str, str | None]]]) -> None:
    spec, _ = place
    sql = "select sleep(30)" if spec.kind == "mariadb" else ENDLESS
    with pytest.raises(UltravectError) as raised:
        database_of(spec).ask(sql, 10, 0.3)
    assert raised.value.code == "time-limit"


def test_a_question_reads_no_other_file(tmp_path: Path) -> None:
    duckdb.connect(str(tmp_path / "a.duckdb")).close()
    (tmp_path / "b.csv").write_text("secret\n")
    spec = ConnectionSpec("db", "duckdb", {"path": str(tmp_path / "a.duckdb")}, [str(tmp_path)])
    with pytest.raises(UltravectError) as raised:
        database_of(spec).ask(f"select * from read_csv('{tmp_path}/b.csv')", 1, 5)
    assert (raised.value.code, "secret" in raised.value.detail) == ("read-only", False)


def test_steps_pass(place: tuple[ConnectionSpec, list[tuple[str, str | None]]]) -> None:
    spec, _ = place
    result = probe(spec)
    assert result.error is None
    networked = ["resolve", "reach"] if spec.kind == "mariadb" else ["reach"]
    logged = ["log"] if spec.kind == "mariadb" else []
    assert [step.step for step in result.steps] == [*networked, "sign in", "list", "read", *logged]
    assert probe(spec, write=True).error is None


@pytest.mark.parametrize(
    ("changes", "code"),
    [
        ({"password": "wrong"}, "wrong-password"),
        ({"database": "nowhere"}, "unknown-database"),
        ({"port": 1}, "port-refused"),
        ({"host": "no-such-host.invalid"}, "unknown-host"),
        ({"tls": "verified"}, "certificate-refused"),
    ],
)
def test_mariadb_says_why(changes: dict[str, Any], code: str, mariadb: MariadbServer) -> None:
    error = probe(ConnectionSpec("db", "mariadb", mariadb.settings("information_schema") | changes)).error
    assert error is not None
    assert (error.code, bool(error.hint)) == (code, True), error.detail


def test_mariadb_encrypts_and_verifies(mariadb: MariadbServer, certificates: Certificates) -> None:
    for changes in ({"tls": "required"}, {"tls": "verified", "tls_ca": certificates.authority}):
        result = probe(ConnectionSpec("db", "mariadb", mariadb.settings("information_schema") | changes))
        assert result.error is None, result.error
        assert ", encrypted with TLS" in result.steps[2].detail
    plain = probe(ConnectionSpec("db", "mariadb", mariadb.settings("information_schema") | {"tls": "off"}))
    assert ", not encrypted" in plain.steps[2].detail


@pytest.mark.parametrize("kind", ["sqlite", "duckdb"])
def test_files_that_are_no_database(kind: str, tmp_path: Path) -> None:
    (tmp_path / "text.db").write_text("this is no database, only some words that are long enough to be read")
    for path, root, code in (
        (tmp_path / "text.db", tmp_path, "file-not-database"),
        (tmp_path / "none.db", tmp_path, "file-missing"),
        (tmp_path, tmp_path, "file-is-folder"),
        (tmp_path / "text.db", tmp_path / "elsewhere", "folder-outside-roots"),
        (Path("text.db"), tmp_path, "folder-not-absolute"),
    ):
        error = probe(ConnectionSpec("db", kind, {"path": str(path)}, [str(root)])).error
        assert error is not None
        assert error.code == code
