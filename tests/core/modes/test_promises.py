"""What a load must keep whatever else happens: its own rows, those of others, and the word about both. In every database."""

from __future__ import annotations

import json
import threading
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import MySQLdb
import pytest
from devtools.legs import run_leg
from devtools.pairs import KINDS, Copied, Place
from tests.core.modes.exports import Export
from tests.core.modes.writing import Writer

from ultravect.core.contracts.receipt import ReceiptKey
from ultravect.core.engine.objects.connections import ConnectionSpec, database_of
from ultravect.core.engine.objects.names import RunFacts
from ultravect.core.engine.objects.targets import open_target
from ultravect.core.errors import UltravectError
from ultravect.core.model.document import job_from_data

ROWS = [(1, "tea"), (2, "soup")]


@pytest.fixture(params=KINDS)
def writer(request: pytest.FixtureRequest, places: dict[str, Place], tmp_path: Path) -> Iterator[Writer]:
    place = places[request.param]
    place.drop("modes")
    yield Writer(place, tmp_path)
    place.drop("modes")


@pytest.fixture
def export(tmp_path: Path) -> Export:
    for name in ("exports", "incoming"):
        (tmp_path / name).mkdir()
    spec = ConnectionSpec("exports", "folder", {"path": str(tmp_path / "exports")}, [str(tmp_path)])
    return Export(spec, tmp_path / "incoming")


OVERWRITE: dict[str, Any] = {"mode": "overwrite"}
UPSERT: dict[str, Any] = {"mode": "upsert", "keys": ["k"]}


@pytest.mark.parametrize("into", [{}, OVERWRITE, UPSERT], ids=["append", "overwrite", "upsert"])
def test_statements_of_the_job_change_the_same_table(into: dict[str, Any], writer: Writer) -> None:
    """What they change is not counted as the load's."""
    writer.load([(7, "old"), (8, "old")])
    table = writer.table
    result = writer.load(
        ROWS,
        **into,
        before=[f"UPDATE {table} SET v = 'older'"],
        after=[f"UPDATE {table} SET v = 'tea!' WHERE k = 1", f"DELETE FROM {table} WHERE k = 8"],
    )
    assert result.tally.inserted == 2
    kept = [] if into is OVERWRITE else [(7, "older")]
    assert writer.rows() == [(1, "tea!"), (2, "soup"), *kept]


def test_an_attempt_that_was_taken_over_commits_no_more(writer: Writer) -> None:
    """A worker that goes on after a pause finds its receipt's key taken."""
    writer.load([(7, "old")], run="first")
    database = database_of(writer.place.spec)
    name = database.dialect.parse_table(writer.table)
    assert database.ledger(name).committed([ReceiptKey("slow"), ReceiptKey("slow.2")]) is None
    for run, into in (("slow", {}), ("slow.2", OVERWRITE)):
        with pytest.raises(UltravectError) as raised:
            writer.load(ROWS, run=run, **into)
        assert (raised.value.code, raised.value.outcome) == ("attempt-replaced", "nothing")
    assert writer.rows() == [(7, "old")]
    assert writer.load(ROWS, run="slow.3").tally.inserted == 2
    found = database.ledger(name).committed([ReceiptKey("slow"), ReceiptKey("slow.3")])
    assert found is not None
    assert found.tally["inserted"] == 2
    assert writer.left_behind() == []


def test_a_failure_after_the_commit_says_so(writer: Writer, monkeypatch: pytest.MonkeyPatch) -> None:
    from ultravect.core.engine.run import leg_run

    def fails(*_: object) -> None:
        raise UltravectError("verify-failed", "counted in vain")

    monkeypatch.setattr(leg_run.LegRun, "_verify", fails)
    with pytest.raises(UltravectError) as raised:
        writer.load(ROWS)
    assert raised.value.outcome == "committed"
    assert writer.heard.receipt is not None
    assert writer.heard.receipt.tally["inserted"] == 2
    monkeypatch.undo()
    with pytest.raises(UltravectError) as raised:
        writer.load([("x", "tea")], columns=["k integer", "v"])
    assert raised.value.outcome == ""


def test_rows_that_are_refused_come_from_one_reading(writer: Writer) -> None:
    """Between the reading that was refused and the second one, the source changes: what counts is the second."""
    place = writer.place
    place.drop("changing")
    place.sql("CREATE TABLE changing (k integer, v varchar(20))")
    place.sql("INSERT INTO changing VALUES (1, 'a'), (2, 'b'), (3, 'c'), (4, 'd')")
    place.sql(f"CREATE TABLE {writer.table} (k integer PRIMARY KEY, v varchar(20))")
    place.sql(f"INSERT INTO {writer.table} VALUES (1, 'there'), (9, 'there')")

    class Changing(Copied):
        def read_again(self) -> None:
            super().read_again()
            place.sql("DELETE FROM changing WHERE k = 2")
            place.sql("INSERT INTO changing VALUES (0, 'new'), (9, 'bad too')")

    heard = Changing()
    job = job_from_data(
        {
            "ultravect": 1,
            "job": "changing",
            "from": {"connection": place.spec.name, "table": "changing"},
            "columns": ["k", "v || '' as v text(20)"],
            "into": {"connection": place.spec.name, "table": writer.table, "rejects": 5},
        }
    )
    result = run_leg(job, place.spec, place.spec, heard, receipt=f"changing-{place.kind}")
    place.drop("changing")
    read_again = place.kind != "duckdb"  # which knows before what it would refuse
    bad = [json.loads(item.record)["k"] for item in heard.rejected]
    if read_again:
        assert sorted(bad) == [1, 9]
        assert writer.rows() == [(0, "new"), (1, "there"), (3, "c"), (4, "d"), (9, "there")]
        assert (result.tally.read, result.tally.inserted, result.tally.rejected) == (5, 3, 2)


@pytest.fixture
def maria(writer: Writer) -> Iterator[Callable[..., Any]]:
    """Another session, for MariaDB alone."""
    if writer.place.kind != "mariadb":
        pytest.skip("of MariaDB only")
    settings = writer.place.spec.settings
    opened = []

    def connect() -> Any:
        session = MySQLdb.connect(
            read_timeout=30,
            host=settings["host"],
            port=settings["port"],
            user=settings["user"],
            password=settings["password"],
            database=settings["database"],
            autocommit=True,
        )
        opened.append(session)
        return session

    yield connect
    for session in opened:
        session.close()


def _ask(session: Any, statement: str) -> Any:
    cursor = session.cursor()
    cursor.execute(statement)
    return cursor.fetchall()


@pytest.mark.parametrize(
    ("statement", "kept"),
    [
        ("INSERT INTO {t} (k, v) VALUES (99, 'mine')", "SELECT count(*) FROM {t} WHERE v = 'mine'"),
        (
            "CREATE INDEX mine ON {t} (v)",
            "SELECT count(*) FROM information_schema.statistics WHERE index_name = 'mine' AND table_name = '{t}'",
        ),
        (
            "ALTER TABLE {t} ADD COLUMN mine integer",
            "SELECT count(*) FROM information_schema.columns WHERE column_name = 'mine' AND table_name = '{t}'",
        ),
    ],
    ids=["rows", "an index", "a column"],
)  # fmt: skip
def test_what_others_commit_during_an_overwrite_stays(
    statement: str, kept: str, writer: Writer, maria: Callable[..., Any], monkeypatch: pytest.MonkeyPatch
) -> None:
    from ultravect.core.kinds.mariadb.write import MariadbSession

    writer.load([(7, "old")])
    done = threading.Event()
    real = MariadbSession.end_rows

    def other() -> None:
        _ask(maria(), statement.format(t=writer.table))
        done.set()

    def end_rows(session: MariadbSession) -> int:
        threading.Thread(target=other, daemon=True).start()
        assert not done.wait(0.4)  # writers wait, as they do in PostgreSQL
        if statement.startswith("INSERT"):
            assert _ask(maria(), f"SELECT v FROM {writer.table}") == (("old",),)  # and readers do not
        return real(session)

    monkeypatch.setattr(MariadbSession, "end_rows", end_rows)
    if statement.startswith("INSERT"):
        assert writer.load(ROWS, **OVERWRITE).tally.inserted == 2
    else:
        with pytest.raises(UltravectError) as raised:
            writer.load(ROWS, **OVERWRITE)
        assert (raised.value.code, raised.value.outcome) == ("table-changed", "nothing")
    assert done.wait(10)
    assert _ask(maria(), kept.format(t=writer.table))[0][0] == 1


def test_a_counter_and_a_history_are_kept(writer: Writer, maria: Callable[..., Any]) -> None:
    session = maria()
    _ask(session, f"CREATE TABLE {writer.table} (k int AUTO_INCREMENT PRIMARY KEY, v varchar(20))")
    _ask(session, f"INSERT INTO {writer.table} (v) VALUES ('a'), ('b'), ('c')")
    writer.load([(1, "tea")], **OVERWRITE)
    _ask(session, f"INSERT INTO {writer.table} (v) VALUES ('next')")
    assert _ask(session, f"SELECT k FROM {writer.table} WHERE v = 'next'") == ((4,),)
    _ask(session, f"ALTER TABLE {writer.table} ADD SYSTEM VERSIONING")
    writer.load([(5, "soup")], **OVERWRITE)
    assert _ask(session, f"SELECT count(*) FROM {writer.table}") == ((1,),)
    assert _ask(session, f"SELECT count(*) FROM {writer.table} FOR SYSTEM_TIME ALL")[0][0] >= 3
    with pytest.raises(UltravectError, match="keeps the history"):
        writer.load([("x", "y")], **OVERWRITE, if_different="rebuild")


def test_a_zero_in_a_counting_key_arrives(writer: Writer, maria: Callable[..., Any]) -> None:
    session = maria()
    settings = [
        "GLOBAL sql_mode = 'ANSI'", "GLOBAL max_error_count = 0", "GLOBAL tx_isolation = 'READ-UNCOMMITTED'",
        "GLOBAL time_zone = '+05:00'", "GLOBAL sql_select_limit = 1", "GLOBAL foreign_key_checks = 0",
    ]  # fmt: skip
    before = {
        setting.split()[1]: _ask(session, f"SELECT @@GLOBAL.{setting.split()[1]}")[0][0] for setting in settings
    }
    _ask(session, f"CREATE TABLE {writer.table} (k int AUTO_INCREMENT PRIMARY KEY, v varchar(20))")
    try:
        for setting in settings:
            _ask(session, f"SET {setting}")
        for into in ({}, UPSERT, OVERWRITE):
            result = writer.load(
                [(0, "zero"), (1, "one"), (2, "two")] if into else [(0, "zero"), (5, "five")], **into
            )
            assert result.tally.rejected == 0
        with pytest.raises(UltravectError) as raised:
            writer.load([(9, "x" * 21)], columns=["k integer", "v text"])
        assert raised.value.code in ("value-refused", "too-many-rejects", "constraint-refused", "type-narrower")
    finally:
        for name, value in before.items():
            _ask(session, f"SET GLOBAL {name} = {repr(value) if isinstance(value, str) else value}")
    assert writer.rows() == [(0, "zero"), (1, "one"), (2, "two")]


def test_a_trigger_that_writes_to_the_table_is_no_fault(writer: Writer) -> None:
    if writer.place.kind != "postgresql":
        pytest.skip("only there a trigger may write to its own table")
    writer.place.sql(f"CREATE TABLE {writer.table} (k integer, v text)")
    writer.place.sql(
        f"CREATE FUNCTION more_{writer.table}() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN "
        f"IF NEW.k < 100 THEN INSERT INTO {writer.table} VALUES (NEW.k + 100, 'by trigger'); END IF; RETURN NEW; END $$"
    )
    writer.place.sql(
        f"CREATE TRIGGER more AFTER INSERT ON {writer.table} FOR EACH ROW EXECUTE FUNCTION more_{writer.table}()"
    )
    assert writer.load(ROWS).tally.inserted == 2
    assert len(writer.rows()) == 4


@pytest.mark.parametrize("names", ["s-{season}/b.csv", "b-{run_date}.csv"])
def test_an_overwrite_of_files_replaces_what_has_its_name(names: str, export: Export) -> None:
    """Another season, or another day, is another set."""
    first = export.run(names, mode="overwrite", split={"rows": 2})
    assert first.tally.inserted > 2
    before = dict(export.files())
    other = names.replace("{season}", "2027").replace("{run_date}", "2020-01-01")
    export.run(other, rows=[], mode="overwrite", split={"rows": 2})
    for path, content in before.items():
        assert export.files()[path] == content
    export.run(names, mode="overwrite", rows=[], split={"rows": 2})
    left = [path for path in export.files() if path in before]
    assert len(left) == 1


def test_a_barred_attempt_writes_no_file(export: Export) -> None:
    export.run("day.csv", run=1)
    job = export.job("day.csv", None)
    target, name = open_target(job, export.target, RunFacts("9"))
    assert target.ledger(name).committed([ReceiptKey("9-x")]) is None
    before = dict(export.files())
    with pytest.raises(UltravectError) as raised:
        export.run("day.csv", run=9, mode="overwrite")
    assert raised.value.code == "attempt-replaced"
    assert export.files() == before
