"""A MariaDB server that takes no LOAD DATA LOCAL, as MySQL 8 does not by default: the same loads by INSERT, and a note."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pyarrow as pa
import pytest
from devtools.mariadb import MariadbServer
from devtools.pairs import Place, there_and_back
from hypothesis import given
from hypothesis import strategies as st
from tests.core.modes.writing import Writer

from ultravect.core.engine.objects.connections import database_of
from ultravect.core.kinds.mariadb.transfer import InsertTransfer
from ultravect.core.loading.text_lines import tabbed_lines


@pytest.fixture
def closed(mariadb: MariadbServer) -> Iterator[None]:
    mariadb.execute("SET GLOBAL local_infile = 0")
    yield
    mariadb.execute("SET GLOBAL local_infile = 1")


def test_every_type_arrives_and_comes_back(places: dict[str, Place], closed: None) -> None:
    for other in ("postgresql", "mariadb"):
        trip = there_and_back(places[other], places["mariadb"])
        for copied in (trip.there, trip.back):
            assert copied.result is not None
            assert (copied.result.tally.inserted, copied.rejected) == (3, [])
        assert trip.different == []


def test_rejects_keys_and_a_note(places: dict[str, Place], closed: None, tmp_path: Path) -> None:
    place = places["mariadb"]
    place.drop("modes")
    place.sql("CREATE TABLE modes (k int PRIMARY KEY, v varchar(4), CHECK (v <> 'no'))")
    writer = Writer(place, tmp_path)
    assert writer.load([(1, "a'b"), (2, "no"), (3, "\\N"), (4, None)], mode="append", rejects=2).tally.rejected == 1
    assert writer.rows() == [(1, "a'b"), (3, "\\N"), (4, None)]
    tally = writer.load([(1, "a'b"), (3, "x\ty"), (5, "é😀")], mode="upsert", keys=["k"]).tally
    assert (tally.inserted, tally.updated, tally.unchanged) == (1, 1, 1)
    assert writer.rows()[1] == (3, "x\ty")
    found = writer.check([(6, "b")], mode="append")
    assert [finding.code for finding in found.findings if finding.code == "load-by-inserts"] == ["load-by-inserts"]
    step = next(step for step in database_of(place.spec).write_steps() if step.name == "write")
    assert "local_infile is off" in step.run()


class _Recorded:
    def __init__(self) -> None:
        self.statements: list[bytes] = []

    def query(self, statement: bytes) -> None:
        self.statements.append(statement)

    def affected_rows(self) -> int:
        return 0


_TEXTS = st.text(st.sampled_from("a'\\N\t\n%\0é"), max_size=5)
_ROWS = st.lists(st.tuples(st.none() | st.integers(0, 9), st.none() | _TEXTS), min_size=1, max_size=8)


@given(rows=_ROWS, room=st.sampled_from([40_000, 1 << 24]))
def test_whatever_stands_in_a_text_is_a_text(rows: list[tuple[int | None, str | None]], room: int) -> None:
    """With and without a form around a value, the statement is the same but for the form."""
    batch = pa.RecordBatch.from_arrays(
        [pa.array([row[0] for row in rows], pa.int32()), pa.array([row[1] for row in rows], pa.string())],
        names=["n", "t"],
    )
    plain, formed = _Recorded(), _Recorded()
    for session, form in ((plain, ""), (formed, "f({})")):
        sent = InsertTransfer.__new__(InsertTransfer)
        sent._session, sent._forms, sent._head, sent._most, sent._loaded = session, ["", form], b"", room // 2, 0
        sent.write(batch)
    assert tabbed_lines(batch).count(b"\n") == len(rows)
    unformed = [statement.replace(b",f(", b",").replace(b"))", b")") for statement in formed.statements]
    assert plain.statements == unformed
