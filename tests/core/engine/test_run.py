"""A leg from file to table, in this process: whatever a file holds, the table holds the same."""

from __future__ import annotations

import csv
import io
from collections.abc import Sequence
from contextlib import nullcontext
from pathlib import Path
from typing import Any

import psycopg
import pytest
from devtools.legs import run_leg
from devtools.stack import Stack
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from ultravect.core.contracts.changes import RowChange
from ultravect.core.contracts.receipt import Receipt
from ultravect.core.engine.objects.connections import ConnectionSpec, probe
from ultravect.core.engine.plan.leg_plan import LegPlan
from ultravect.core.engine.run.leg import PHASES, LegResult
from ultravect.core.engine.run.rejected.rejects import Reject
from ultravect.core.errors import StopRequested, UltravectError
from ultravect.core.model.document import job_from_data
from ultravect.core.model.finding import Finding


class Heard:
    """A listener that remembers."""

    def __init__(self) -> None:
        self.phases: list[tuple[str, str]] = []
        self.figures: list[dict[str, Any]] = []
        self.rejected: list[Reject] = []
        self.findings: list[Finding] = []
        self.lines: list[str] = []

    def phase(self, name: str, state: str) -> None:
        self.phases.append((name, state))

    def progress(self, figures: dict[str, Any]) -> None:
        self.figures.append(figures)

    def log(self, level: str, text: str) -> None:
        self.lines.append(text)

    def finding(self, finding: Finding) -> None:
        self.findings.append(finding)

    def rejects(self, rejects: Sequence[Reject]) -> None:
        self.rejected += rejects

    def changes(self, changes: Sequence[RowChange]) -> None: ...

    def planned(self, plan: LegPlan) -> None: ...

    def read_again(self) -> None: ...

    def published(self, receipt: Receipt) -> None: ...


class Ground:
    """A folder and a table of one test's own."""

    def __init__(self, folder: Path, stack: Stack) -> None:
        self.folder = folder
        self.source = ConnectionSpec("incoming", "folder", {"path": str(folder)}, [str(folder)])
        self.target = ConnectionSpec("warehouse", "postgresql", dict(stack.warehouse))
        self.url = stack.postgres.url("warehouse")

    def leg(self, content: bytes, heard: Heard | None = None, shield: Any = nullcontext, **into: Any) -> LegResult:
        (self.folder / "run.csv").write_bytes(content)
        structure = {
            "ultravect": 1,
            "job": "leg",
            "from": {"connection": "incoming", "files": "run.csv", "layout": {"delimiter": ",", "header": True}},
            "into": {"connection": "warehouse", "table": "core_run", **into},
        }
        return run_leg(job_from_data(structure), self.source, self.target, heard or Heard(), shield)

    def sql(self, statement: str) -> list[tuple[Any, ...]]:
        with psycopg.connect(self.url, autocommit=True) as connection:
            cursor = connection.execute(statement.encode())
            return cursor.fetchall() if cursor.description else []


@pytest.fixture
def ground(tmp_path: Path, stack: Stack) -> Ground:
    made = Ground(tmp_path, stack)
    made.sql("DROP TABLE IF EXISTS core_run")
    return made


CELL = st.text(st.characters(exclude_characters="\0", exclude_categories=["Cs"]), max_size=12)


@settings(max_examples=20, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(
    table=st.lists(st.tuples(CELL, CELL, CELL), min_size=1, max_size=20),
    quoting=st.sampled_from([csv.QUOTE_ALL, csv.QUOTE_MINIMAL]),
)
def test_any_text_arrives_as_it_was(table: list[tuple[str, str, str]], quoting: int, ground: Ground) -> None:
    text = io.StringIO(newline="")
    csv.writer(text, quoting=quoting).writerows([("a", "b", "c"), *table])
    ground.sql("DROP TABLE IF EXISTS core_run")
    ground.sql("CREATE TABLE core_run (a text, b text, c text)")
    result = ground.leg(text.getvalue().encode())
    empty = None if quoting == csv.QUOTE_MINIMAL else ""
    assert ground.sql("SELECT * FROM core_run") == [tuple(cell or empty for cell in row) for row in table]
    assert (result.tally.read, result.tally.inserted, result.rows_after) == (len(table),) * 3


@settings(max_examples=20, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(
    table=st.lists(
        st.tuples(
            st.integers(-(2**63), 2**63 - 1),
            st.decimals(min_value=-(10**6), max_value=10**6, places=2),
            st.booleans(),
            st.dates(),
            st.datetimes(min_value=__import__("datetime").datetime(1000, 1, 1)),
        ),
        min_size=1,
        max_size=20,
    )
)
def test_a_table_made_for_the_data_holds_the_data(table: list[tuple[Any, ...]], ground: Ground) -> None:
    """Whatever types are inferred, the values come back as they were written."""
    lines = [",".join(str(cell).lower() if isinstance(cell, bool) else str(cell) for cell in row) for row in table]
    ground.sql("DROP TABLE IF EXISTS core_run")
    ground.leg("\n".join(["a,b,c,d,e", *lines]).encode())
    assert ground.sql("SELECT a::numeric, b, c, d, e FROM core_run") == table


def test_phases_come_in_order_and_progress_grows(ground: Ground) -> None:
    heard = Heard()
    ground.leg(("a,b\n" + "".join(f"{n},x\n" for n in range(50_000))).encode(), heard)
    done = [name for name, state in heard.phases if state == "done"]
    assert done == list(PHASES)
    read = [figures["rows_read"] for figures in heard.figures]
    assert read == sorted(read)
    assert heard.figures[-1]["rows_staged"] == 50_000
    assert heard.figures[-1]["bytes_read"] <= heard.figures[-1]["bytes_total"]
    assert heard.lines[0] == "created table core_run, visible once the load is published"
    assert heard.lines[1:] == [
        "verified: 50,000 rows of this load counted by the database, in the statements that wrote them"
    ]


def test_a_stop_while_publishing_comes_too_late_or_undoes_all(ground: Ground) -> None:
    """The shield is around the commit and nothing else: a stop is either before it or after."""
    ground.leg(b"a\n1\n")
    moments: list[int] = []

    class Shield:
        def __enter__(self) -> None:
            moments.append(ground.sql("SELECT count(*) FROM core_run")[0][0])

        def __exit__(self, *_: object) -> None:
            moments.append(ground.sql("SELECT count(*) FROM core_run")[0][0])

    ground.leg(b"a\n2\n", shield=Shield)
    assert moments == [1, 2]

    class Stopped(Heard):
        def phase(self, name: str, state: str) -> None:
            if (name, state) == ("stage", "done"):
                raise StopRequested

    with pytest.raises(StopRequested):
        ground.leg(b"a\n3\n", Stopped())
    assert ground.sql("SELECT a FROM core_run ORDER BY a") == [(1,), (2,)]


def test_others_who_write_at_once_are_noticed_and_not_blamed(ground: Ground) -> None:
    ground.leg(b"a\n1\n")

    class Busy(Heard):
        def phase(self, name: str, state: str) -> None:
            if (name, state) == ("publish", "done"):
                ground.sql("INSERT INTO core_run SELECT generate_series(100, 104)")

    heard = Busy()
    result = ground.leg(b"a\n2\n", heard)
    assert (result.rows_before, result.rows_after, result.tally.inserted) == (1, 7, 1)
    assert any("others wrote to it during the run" in line for line in heard.lines)


def test_rows_that_vanish_after_the_commit_fail_the_run(ground: Ground) -> None:
    ground.leg(b"a\n1\n")

    class Thief(Heard):
        def phase(self, name: str, state: str) -> None:
            if (name, state) == ("publish", "done"):
                ground.sql("DELETE FROM core_run WHERE a = 2")

    with pytest.raises(UltravectError) as raised:
        ground.leg(b"a\n2\n3\n", Thief())
    assert raised.value.code == "verify-failed"
    assert "2 rows were committed" in raised.value.detail


def test_odd_names_are_names_and_not_sql(ground: Ground) -> None:
    ground.sql('DROP TABLE IF EXISTS "x""; drop table y; --"')
    header = '"a""; drop table core_run; --",select,Größe,"a b"\n'
    ground.leg(header.encode() + b"1,2,3,4\n", table='"x""; drop table y; --"')
    assert ground.sql('SELECT * FROM "x""; drop table y; --"') == [(1, 2, 3, 4)]
    ground.sql('DROP TABLE "x""; drop table y; --"')


def test_a_partitioned_table_and_one_of_another_schema(ground: Ground) -> None:
    ground.sql("DROP SCHEMA IF EXISTS ledger CASCADE")
    ground.sql("CREATE SCHEMA ledger")
    ground.sql("CREATE TABLE ledger.booking (a int, b text) PARTITION BY RANGE (a)")
    ground.sql("CREATE TABLE ledger.low PARTITION OF ledger.booking FOR VALUES FROM (0) TO (10)")
    ground.sql("CREATE TABLE ledger.high PARTITION OF ledger.booking FOR VALUES FROM (10) TO (99)")
    result = ground.leg(b"a,b\n1,x\n50,y\n", table="ledger.booking")
    assert (result.rows_after, ground.sql("SELECT count(*) FROM ledger.high")) == (2, [(1,)])
    with pytest.raises(UltravectError) as raised:
        ground.leg(b"a,b\n100,z\n", table="ledger.booking")
    assert raised.value.code in ("constraint-refused", "database-error")
    assert ground.sql("SELECT count(*) FROM ledger.booking") == [(2,)]


def test_domains_and_defaults(ground: Ground) -> None:
    ground.sql("DROP DOMAIN IF EXISTS hut_code CASCADE")
    ground.sql("CREATE DOMAIN hut_code AS varchar(3) NOT NULL")
    ground.sql(
        "CREATE TABLE core_run (id int GENERATED BY DEFAULT AS IDENTITY, hut hut_code, seen timestamptz DEFAULT now())"
    )
    ground.leg(b"hut\n001\n002\n")
    assert ground.sql("SELECT id, hut, seen IS NOT NULL FROM core_run ORDER BY id") == [
        (1, "001", True),
        (2, "002", True),
    ]
    with pytest.raises(UltravectError, match="longer than 3 characters"):
        ground.leg(b"hut\n0001\n")


def test_the_file_vanishes_between_plan_and_read(ground: Ground) -> None:
    class Vanishing(Heard):
        def finding(self, finding: Finding) -> None:
            (ground.folder / "run.csv").unlink(missing_ok=True)

    with pytest.raises(UltravectError) as raised:
        ground.leg(b"a\n1\n", Vanishing())
    assert raised.value.code == "file-missing"
    assert ground.sql("SELECT to_regclass('core_run')") == [(None,)]


@pytest.mark.parametrize("swap", ["source", "target"])
def test_connections_in_the_wrong_place(swap: str, ground: Ground) -> None:
    if swap == "source":
        ground.source = ground.target
    else:
        ground.target = ground.source
    with pytest.raises(UltravectError) as raised:
        ground.leg(b"a\n1\n")
    assert raised.value.code == ("not-a-storage" if swap == "source" else "not-a-database")
    assert probe(ground.source)
