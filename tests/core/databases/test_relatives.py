"""Servers that speak PostgreSQL's protocol and lack some of it: found by trying, and loaded in another way."""

from __future__ import annotations

import itertools
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pyarrow as pa
import pytest
from devtools.legs import run_leg
from devtools.pairs import Copied
from devtools.stack import Stack
from standins.relative import LACKING
from tests.kinds.warehouse.test_staged_loads import TYPES, VALUES

from ultravect.core.engine.look.check import CheckResult, check_job
from ultravect.core.engine.objects.connections import ConnectionSpec, database_of
from ultravect.core.engine.run.leg import LegResult
from ultravect.core.errors import UltravectError
from ultravect.core.model.document import job_from_data
from ultravect.core.model.jobs.job import Job

ROOT = Path(__file__).parents[3]
_tables = itertools.count(1)
KINDS: list[tuple[str, ...]] = [("binary",), ("versions",), ("temporary",), ("locks", "temporary"), tuple(LACKING)]


class Relative:
    """A table at a server that lacks something, and a file to load."""

    def __init__(self, stack: Stack, folder: Path, lacks: tuple[str, ...]) -> None:
        options = [part for name in lacks for part in ("--lacks", name)]
        # in a process of its own: the driver waits for some answers without letting other threads work
        self.stand_in = subprocess.Popen(
            [sys.executable, "-m", "standins.relative", "--postgres", stack.postgres.url("warehouse"), *options],
            cwd=ROOT, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True,
        )  # fmt: skip
        assert self.stand_in.stdout is not None
        port = int(self.stand_in.stdout.readline())
        self.stack, self.folder, self.lacks = stack, folder, lacks
        self.table = f"relative{next(_tables)}"
        self.files = ConnectionSpec("incoming", "folder", {"path": str(folder)}, [str(folder)])
        settings = {**stack.warehouse, "port": port, "tls": "off"}
        self.spec = ConnectionSpec("relative", "postgresql", settings)
        self.heard = Copied()

    def job(self, text: str, **into: Any) -> Job:
        (self.folder / "rows.csv").write_text(text)
        return job_from_data(
            {
                "ultravect": 1,
                "job": "relative",
                "from": {
                    "connection": "incoming",
                    "files": "rows.csv",
                    "layout": {"format": "delimited", "delimiter": ","},
                },
                "columns": into.pop("columns", ["*"]),
                "into": {"connection": "relative", "table": self.table, **into},
            }
        )

    def load(self, text: str, receipt: str = "", **into: Any) -> LegResult:
        self.heard = Copied()
        name = receipt or f"relative-{next(_tables)}"
        return run_leg(self.job(text, **into), self.files, self.spec, self.heard, receipt=name)

    def check(self, text: str, **into: Any) -> CheckResult:
        return check_job(self.job(text, **into), self.files, self.spec)

    def rows(self) -> list[tuple[Any, ...]]:
        return self.stack.postgres.execute(f"SELECT * FROM {self.table} ORDER BY 1", "warehouse")


@pytest.fixture(params=KINDS, ids=lambda lacks: "-".join(lacks))
def relative(request: pytest.FixtureRequest, stack: Stack, tmp_path: Path) -> Iterator[Relative]:
    made = Relative(stack, tmp_path, request.param)
    yield made
    made.stand_in.communicate()


def test_all_modes(relative: Relative) -> None:
    first = relative.load("id,hut\n1,ALP\n2,FAL\n")
    assert (first.created, first.tally.inserted) == (True, 2)
    relative.load("id,hut\n3,GRA\n", mode="append")
    upserted = relative.load("id,hut\n2,FAL\n3,NEW\n4,TAL\n4,LAST\n", mode="upsert", keys=["id"]).tally
    assert (upserted.inserted, upserted.updated, upserted.unchanged, upserted.repeated) == (1, 1, 1, 1)
    assert relative.rows() == [(1, "ALP"), (2, "FAL"), (3, "NEW"), (4, "LAST")]
    relative.load("id,hut\n3,PART\n", mode="overwrite", replaces="id = 3")
    assert relative.rows()[2] == (3, "PART")
    relative.load("id,hut\n9,ALL\n", mode="overwrite")
    assert relative.rows() == [(9, "ALL")]
    left = relative.stack.postgres.execute(
        "SELECT relname FROM pg_class WHERE relname ~ 'ultravect_(staged|matched)'", "warehouse"
    )
    assert left == []


def test_check_says_what_is_lacking(relative: Relative) -> None:
    relative.load("id\n1\n")
    found = {finding.code: finding for finding in relative.check("id\n2\n", mode="overwrite").findings}
    text = found["server-lacks"].message
    for lacking, words in {
        "binary": "travel as text",
        "versions": "table's growth",
        "temporary": "ordinary table",
    }.items():
        assert (words in text) == (lacking in relative.lacks)
    assert database_of(relative.spec).stages is None


def test_every_type_goes_there_and_comes_back(relative: Relative) -> None:
    names = [item.split()[0] for item in TYPES]
    text = f"n,{','.join(names)},raw\n1,{','.join(VALUES)},00ff\n2{',' * len(names)},\n"
    assert relative.load(text, columns=["n integer", *TYPES, "raw binary"]).tally.inserted == 2
    database = database_of(relative.spec)
    live = database.table(database.dialect.parse_table(relative.table))
    assert live is not None
    types = [column.type for column in live.columns if column.type is not None]
    columns = ", ".join(database.dialect.quote(column.name) for column in live.columns)
    (read,) = database.read(f"SELECT {columns} FROM {relative.table} ORDER BY n", types, "reading")
    assert [column.type for column in read.columns] == [kind.arrow for kind in types]
    shown = dict(
        zip([column.name for column in live.columns], [column[0].as_py() for column in read.columns], strict=True)
    )
    assert (shown["flag"], shown["big"], shown["note"], shown["raw"]) == (True, -(2**63), "é😀 'x'", b"\x00\xff")
    assert [column[1].as_py() for column in read.columns[1:]] == [None] * (len(names) + 1)


def test_texts_that_are_hard_come_back(relative: Relative) -> None:
    words = ["", "NULL", "\\N", 'a "quoted", one', "two\nlines", "\ttab", "end\\"]
    quoted = "".join(f'{number},"{word.replace(chr(34), chr(34) * 2)}"\n' for number, word in enumerate(words))
    relative.load(f"id,word\n{quoted}8,\n", columns=["id integer", "word text"])
    database = database_of(relative.spec)
    live = database.table(database.dialect.parse_table(relative.table))
    assert live is not None
    types = [column.type for column in live.columns if column.type is not None]
    read = pa.concat_tables(database.read(f"SELECT id, word FROM {relative.table} ORDER BY 1", types, "reading"))
    stored = [row[1] for row in relative.rows()]
    assert read.column(1).to_pylist() == stored
    assert stored[2:7] == words[2:]


def test_a_refused_row_ends_the_load_where_it_cannot_be_found(relative: Relative) -> None:
    relative.stack.postgres.execute(f"CREATE TABLE {relative.table} (id integer PRIMARY KEY, hut text)", "warehouse")
    if database_of(relative.spec).can_isolate:
        result = relative.load("id,hut\n1,ALP\n1,FAL\n", mode="append", rejects=5)
        assert (result.tally.inserted, result.tally.rejected) == (1, 1)
        return
    with pytest.raises(UltravectError) as raised:
        relative.load("id,hut\n1,ALP\n1,FAL\n", mode="append", rejects=5)
    assert raised.value.code == "constraint-refused"
    assert relative.rows() == []


def test_a_run_that_was_committed_is_not_repeated(relative: Relative) -> None:
    relative.load("id\n1\n", mode="append", receipt=f"once-{relative.table}")
    again = run_leg(
        relative.job("id\n1\n", mode="append"), relative.files, relative.spec, Copied(),
        receipt=f"once-{relative.table}.2", earlier=[f"once-{relative.table}"],
    )  # fmt: skip
    assert (again.tally.inserted, relative.rows()) == (1, [(1,)])


def test_a_table_is_widened_and_rebuilt(relative: Relative) -> None:
    relative.load("id,hut\n1,ALP\n")
    relative.load("id,hut,night\n2,FAL,2026-07-01\n", mode="append", if_different="widen")
    assert [str(row[2]) for row in relative.rows()] == ["None", "2026-07-01"]
    relative.load("id,beds\n2,12\n", mode="overwrite", if_different="rebuild")
    assert relative.rows() == [(2, 12)]
