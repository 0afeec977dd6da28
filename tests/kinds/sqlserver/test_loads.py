"""What is peculiar to tables of SQL Server: counters, columns that the server writes, code pages, its locks and its errors."""

from __future__ import annotations

import itertools
import threading
from pathlib import Path
from typing import Any

import pytest
from devtools.legs import run_leg
from devtools.pairs import Copied
from standins.sqlserver.server import SqlserverStandIn
from tests.kinds.sqlserver.conftest import Server

from ultravect.core.contracts.receipt import ReceiptKey
from ultravect.core.dialects.base import TableName
from ultravect.core.engine.look.check import check_job
from ultravect.core.engine.objects.connections import ConnectionSpec
from ultravect.core.engine.run.leg import LegResult
from ultravect.core.errors import UltravectError
from ultravect.core.model.document import job_from_data

_runs = itertools.count(1)


class Files:
    """Loads rows of a file into one table of the server, and copies the table into a file."""

    def __init__(self, server: Server, folder: Path, table: str) -> None:
        self.server, self.folder, self.table = server, folder, table
        self.spec = ConnectionSpec("incoming", "folder", {"path": str(folder)}, [str(folder)])
        self.heard = Copied()

    def job(self, text: str, **into: Any) -> Any:
        (self.folder / "rows.csv").write_text(text)
        source = {"connection": "incoming", "files": "rows.csv", "layout": {"format": "delimited", "delimiter": ","}}
        return job_from_data(
            {
                "ultravect": 1,
                "job": "sql",
                "from": source,
                "into": {"connection": "ledger", "table": self.table, **into},
            }
        )

    def load(self, text: str, **into: Any) -> LegResult:
        self.heard = Copied()
        job = self.job(text, **into)
        return run_leg(job, self.spec, self.server.spec, self.heard, receipt=f"sql-{next(_runs)}")

    def refused(self, text: str, **into: Any) -> UltravectError:
        with pytest.raises(UltravectError) as raised:
            self.load(text, **into)
        assert raised.value.hint or raised.value.code == "database-error"
        return raised.value

    def rows(self) -> list[tuple[Any, ...]]:
        return self.server.sql(f"SELECT * FROM {self.table} ORDER BY 1")


@pytest.fixture
def files(server: Server, tmp_path: Path, table: str) -> Files:
    return Files(server, tmp_path, table)


def made(files: Files, columns: str) -> None:
    files.server.sql(f"CREATE TABLE {files.table} ({columns})")


@pytest.mark.parametrize("mode", ["append", "overwrite", "upsert"])
def test_the_numbers_of_a_counting_column_are_kept(files: Files, mode: str) -> None:
    made(files, "id int IDENTITY(1,1) PRIMARY KEY, hut nvarchar(20)")
    keys = {"keys": ["id"]} if mode == "upsert" else {}
    files.load("id,hut\n7,ALP\n9,FAL\n", mode=mode, **keys)
    assert files.rows() == [(7, "ALP"), (9, "FAL")]
    # left out, the table counts
    files.server.sql(f"INSERT INTO {files.table} (hut) VALUES (N'own')")
    assert len(files.rows()) == 3


def test_what_the_server_writes_by_itself_is_not_written(files: Files) -> None:
    made(
        files,
        "id int PRIMARY KEY, nights int, price decimal(8,2), total AS (nights * price) PERSISTED, rv rowversion",
    )
    files.load("id,nights,price\n1,2,10.50\n", mode="upsert", keys=["id"])
    ((_, _, _, total, version),) = files.server.sql(
        f"SELECT id, nights, price, total, CAST(rv AS bigint) FROM {files.table}"
    )
    assert float(total) == 21
    files.load("id,nights,price\n1,3,10.50\n", mode="upsert", keys=["id"])
    assert files.server.sql(f"SELECT CAST(rv AS bigint) FROM {files.table}")[0][0] > version
    assert "total" in files.refused("id,total\n1,5\n", mode="append").detail


def test_a_temporal_table_keeps_what_loads_change(files: Files) -> None:
    history = f"{files.table}_before"
    files.server.sql(
        f"CREATE TABLE {files.table} (id int PRIMARY KEY, price decimal(8,2), "
        "starts datetime2 GENERATED ALWAYS AS ROW START HIDDEN NOT NULL, ends datetime2 GENERATED ALWAYS AS ROW END HIDDEN NOT NULL, "
        f"PERIOD FOR SYSTEM_TIME (starts, ends)) WITH (SYSTEM_VERSIONING = ON (HISTORY_TABLE = dbo.{history}))"
    )
    files.load("id,price\n1,10.50\n2,20\n", mode="append")
    ((moment,),) = files.server.sql("SELECT SYSUTCDATETIME()")
    files.load("id,price\n1,11.00\n2,20\n", mode="upsert", keys=["id"])

    def held(what: str) -> list[tuple[int, float]]:
        return [
            (int(number), float(price))
            for number, price in files.server.sql(f"SELECT id, price FROM {what} ORDER BY 1, 2")
        ]

    assert (held(files.table), held(history)) == ([(1, 11.0), (2, 20.0)], [(1, 10.5)])
    result = files.load("id,price\n3,30\n", mode="overwrite", old_rows="truncate")
    assert (result.tally.inserted, result.rows_before, result.rows_after) == (1, 2, 1)
    assert (held(files.table), held(history)) == ([(3, 30.0)], [(1, 10.5), (1, 11.0), (2, 20.0)])
    # columns of its period are read and not written, and its history neither
    assert "starts" in files.refused("id,starts\n4,2026-07-01\n", mode="append").detail
    database = files.server.database()
    live = {name: database.table(TableName("dbo", name)) for name in (files.table, history)}
    assert {name: found.kind for name, found in live.items() if found} == {
        files.table: "table",
        history: "history table",
    }
    refused = check_job(
        files.job("id,price\n9,1\n", mode="append", table=f"dbo.{history}"), files.spec, files.server.spec
    )
    assert "target-is-view" in [finding.code for finding in refused.findings]
    assert held(f"{files.table} FOR SYSTEM_TIME AS OF '{moment}' AS was") == [(1, 10.5), (2, 20.0)]
    answer = database.ask(f"SELECT count(*) FROM {files.table} FOR SYSTEM_TIME AS OF '{moment}'", 1, 5)
    assert [int(count) for (count,) in answer.rows] == [2]
    error = files.refused("id,price,hut\n9,1,ALP\n", mode="overwrite", if_different="rebuild")
    assert error.code == "table-keeps-history"
    files.server.sql(f"ALTER TABLE {files.table} SET (SYSTEM_VERSIONING = OFF)")


def test_a_row_version_is_a_mark(server: Server, tmp_path: Path, table: str) -> None:
    server.sql(f"CREATE TABLE {table} (id int PRIMARY KEY, hut nvarchar(20), rv rowversion)")
    server.sql(f"INSERT INTO {table} (id, hut) VALUES (1, N'ALP'), (2, N'FAL')")
    target = ConnectionSpec(
        "copy", "duckdb", {"path": str(tmp_path / "copy.duckdb"), "create": True}, [str(tmp_path)]
    )
    job = job_from_data(
        {
            "ultravect": 1,
            "job": f"new-{table}",
            "from": {"connection": "ledger", "table": table, "newer": {"by": "rv"}},
            "into": {"connection": "copy", "table": "copied", "mode": "upsert", "keys": ["id"]},
        }
    )

    def read() -> int:
        return run_leg(job, server.spec, target, Copied(), receipt=f"rv-{next(_runs)}").tally.read

    assert [read(), read()] == [2, 0]
    server.sql(f"UPDATE {table} SET hut = N'NEW' WHERE id = 2")
    server.sql(f"INSERT INTO {table} (id, hut) VALUES (3, N'GRA')")
    assert [read(), read()] == [2, 0]


REJECTED = [
    ("id int PRIMARY KEY, v nvarchar(20)", "id,v\n1,a\n1,b\n2,c\n", 1, "Violation of"),
    ("id int, v nvarchar(20) NOT NULL", "id,v\n1,a\n2,\n", 1, "NULL"),
    ("id int, v varchar(3)", "id,v\n1,abc\n2,abcd\n", 1, ""),
    ("id int, v int CHECK (v > 0)", "id,v\n1,5\n2,-5\n", 1, ""),
    ("id int, v tinyint", "id,v\n1,255\n2,256\n", 1, ""),
    ("id int, v smallmoney", "id,v\n1,1.5\n2,99999999\n", 1, ""),
    ("id int, v smalldatetime", "id,v\n1,2026-06-01 10:00:00\n2,nonsense\n", 1, ""),
]


@pytest.mark.parametrize(("columns", "text", "count", "reason"), REJECTED)
def test_a_bad_row_is_rejected_and_the_others_arrive(
    files: Files, columns: str, text: str, count: int, reason: str
) -> None:
    made(files, columns)
    result = files.load(text, mode="append", rejects=5)
    assert (result.tally.rejected, result.tally.inserted) == (count, text.count("\n") - 1 - count)
    assert reason in files.heard.rejected[0].reason
    assert len(files.rows()) == result.tally.inserted


def test_a_character_that_a_code_page_has_not_is_no_question_mark(files: Files) -> None:
    made(files, "id int, v varchar(20)")
    files.load("id,v\n1,für 5 €\n", mode="append")
    failed = files.refused("id,v\n2,fine\n3,höhle 😀\n", mode="append")
    assert (failed.code, "row 2" in failed.detail, "😀" in failed.detail) == ("character-lost", True, True)
    assert files.rows() == [(1, "für 5 €")]


def test_names_that_differ_in_case_alone_clash(files: Files) -> None:
    found = check_job(files.job("hut,Hut\n1,2\n"), files.spec, files.server.spec)
    assert [finding.code for finding in found.findings if finding.code == "name-adapted"]
    files.load("hut,Hut\n1,2\n")
    assert len(files.rows()[0]) == 2


def test_a_load_waits_for_who_holds_the_table_and_says_so(files: Files) -> None:
    made(files, "id int PRIMARY KEY")
    other = files.server.session()
    other.execute("BEGIN TRANSACTION")
    other.execute(f"SELECT TOP (1) 1 FROM {files.table} WITH (TABLOCK, UPDLOCK, HOLDLOCK)")
    heard: list[str] = []
    files.heard.log = lambda level, text: heard.append(text)  # type: ignore[method-assign]
    done = threading.Event()

    def load() -> None:
        job = files.job("id\n1\n", mode="upsert", keys=["id"])
        run_leg(job, files.spec, files.server.spec, files.heard, receipt=f"sql-{next(_runs)}")
        done.set()

    running = threading.Thread(target=load)
    running.start()
    while not any("another session holds a lock" in text for text in heard):
        assert running.is_alive()
        done.wait(0.05)
    other.execute("COMMIT")
    running.join(30)
    other.close()
    assert files.rows() == [(1,)]


FAULTS = [
    ("deadlock", "INSERT", "deadlock", "run again"),
    ("log full", "INSERT", "target-full", "transaction log"),
    ("break off", "INSERT", "connection-lost", "run again"),
    ("break off", "BULK", "connection-lost", "run again"),
    ("break off", "COMMIT", "outcome-unknown", "receipt"),
]


@pytest.mark.parametrize(("what", "word", "code", "hint"), FAULTS)
def test_a_server_that_fails_leaves_the_old_rows(
    files: Files, stand_in: SqlserverStandIn, what: str, word: str, code: str, hint: str
) -> None:
    made(files, "id int PRIMARY KEY, v nvarchar(20)")
    files.load("id,v\n1,old\n", mode="upsert", keys=["id"])
    files.server.fault(what, word)
    failed = files.refused("id,v\n1,new\n2,new\n", mode="upsert", keys=["id"])
    assert (failed.code, hint in failed.hint) == (code, True)
    assert files.rows() == [(1, "old")]
    # and the next attempt is as if nothing had been
    files.load("id,v\n1,new\n2,new\n", mode="upsert", keys=["id"])
    assert files.rows() == [(1, "new"), (2, "new")]


def test_an_attempt_that_is_barred_commits_no_more(server: Server, files: Files) -> None:
    made(files, "id int PRIMARY KEY")
    files.load("id\n1\n", mode="append")
    database = server.database()
    name = TableName("dbo", files.table)
    (info,) = database.tables(files.table, "", 10)
    assert (info.name, type(info.rows)) == (f"dbo.{files.table}", int)
    run = f"barred-{files.table}"
    assert database.ledger(name).committed([ReceiptKey(run)]) is None
    job = files.job("id\n2\n", mode="append")
    with pytest.raises(UltravectError) as raised:
        run_leg(job, files.spec, server.spec, files.heard, receipt=run)
    assert raised.value.code == "attempt-replaced"
    assert files.rows() == [(1,)]


def test_a_transaction_cannot_be_ended_by_a_statement_of_the_job(files: Files) -> None:
    made(files, "id int")
    for statement in (
        "COMMIT",
        "UPDATE t SET a = 1 COMMIT",
        "DELETE FROM x; COMMIT",
        "IF 1 = 1 ROLLBACK",
        "USE master",
    ):
        found = check_job(files.job("id\n1\n", mode="append", after=[statement]), files.spec, files.server.spec)
        assert [finding.code for finding in found.findings if finding.severity == "error"], statement


QUESTIONS = [
    "DELETE FROM {t}", "SELECT 1 DELETE FROM {t}", "SELECT 1; DELETE FROM {t}", "WITH a AS (SELECT 1 AS b) DELETE FROM {t}",
    "SELECT * INTO other FROM {t}", "SELECT 1 COMMIT DELETE FROM {t}", "EXEC sp_who", "SELECT 1 EXEC('DELETE FROM {t}')",
    "SELECT * FROM OPENROWSET('a', 'b', 'c')", "/* */ DROP TABLE {t}", "SELECT 1 -- \n DROP TABLE {t}",
    "SELECT 1 /* /* */ DROP TABLE {t} */ DROP TABLE {t}", "SET IMPLICIT_TRANSACTIONS ON SELECT 1", "", "SELECT 'a",
]  # fmt: skip


@pytest.mark.parametrize("question", QUESTIONS)
def test_a_question_cannot_write(server: Server, table: str, question: str) -> None:
    server.sql(f"CREATE TABLE {table} (id int)")
    server.sql(f"INSERT INTO {table} VALUES (1)")
    with pytest.raises(UltravectError) as raised:
        server.database().ask(question.replace("{t}", table), 10, 5)
    assert raised.value.code in ("question-refused", "not-a-question", "database-error")
    assert server.sql(f"SELECT id FROM {table}") == [(1,)]


def test_a_question_may_name_what_is_reserved(server: Server) -> None:
    answer = server.database().ask("SELECT 1 AS [delete], N'COMMIT' AS \"drop\"", 10, 5)
    assert (answer.columns, answer.rows) == (["delete", "drop"], [[1, "COMMIT"]])


def test_more_columns_than_a_table_may_have(server: Server) -> None:
    with (
        pytest.raises(UltravectError) as raised,
        server.database().transaction(TableName("dbo", "broad"), "making a table") as opened,
    ):
        opened.changed(f"CREATE TABLE broad ({', '.join(f'c{at} int' for at in range(1025))})")
    assert raised.value.code == "too-many-columns"


def test_a_query_with_named_parts_and_an_order_is_copied(files: Files) -> None:
    files.load("id,hut\n1,ALP\n2,FAL\n3,GRA\n")
    query = f"WITH late (id, hut) AS (SELECT id, hut FROM {files.table} WHERE id > 1) SELECT hut, id FROM late ORDER BY id DESC"
    job = job_from_data(
        {
            "ultravect": 1,
            "job": "sql",
            "from": {"connection": "ledger", "query": query},
            "into": {"connection": "out", "files": "late.csv"},
        }
    )
    out = ConnectionSpec("out", "folder", {"path": str(files.folder)}, [str(files.folder)])
    assert run_leg(job, files.server.spec, out, Copied()).tally.inserted == 2
    assert sorted((files.folder / "late.csv").read_text().splitlines()[1:]) == ['"FAL",2', '"GRA",3']


@pytest.mark.parametrize("native", ["datetime2(7)", "datetime2", "datetime"])
@pytest.mark.parametrize("unique", ["", "UNIQUE"])
def test_moments_finer_than_microseconds_keep_a_mark(
    server: Server, tmp_path: Path, table: str, native: str, unique: str
) -> None:
    """As it was found: the newest row, a fraction above the mark that was read of it, came with the run after the next one."""
    target = ConnectionSpec(
        "copy", "duckdb", {"path": str(tmp_path / "copy.duckdb"), "create": True}, [str(tmp_path)]
    )
    server.sql(f"CREATE TABLE {table} (id int PRIMARY KEY, changed {native} {unique})")
    job = job_from_data(
        {
            "ultravect": 1,
            "job": f"ticks-{table}",
            "from": {"connection": "ledger", "table": table, "newer": {"by": "changed"}},
            "into": {"connection": "copy", "table": "ticks", "mode": "append"},
        }
    )

    def read() -> int:
        return run_leg(job, server.spec, target, Copied(), receipt=f"ticks-{next(_runs)}").tally.read

    fractions = ["123", "127", "130"] if native == "datetime" else ["1234561", "1234564", "1234567"]
    for number, fraction in enumerate(fractions):
        server.sql(f"INSERT INTO {table} VALUES ({number}, '2026-07-01 10:00:00.{fraction}')")
        assert [read(), read()] == [1, 0], number
    server.sql(f"INSERT INTO {table} VALUES (9, '2026-07-01 10:00:00.{fractions[-1][:-1]}9')")
    assert [read(), read()] == [1, 0]
