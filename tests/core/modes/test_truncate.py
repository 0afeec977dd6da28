"""Overwrites that take the old rows away at once: quicker, and readers wait; only where the job says so."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import psycopg
import pytest
from devtools.pairs import Place
from tests.core.modes.test_bad_targets import Hooked, load
from tests.core.modes.writing import Writer

from ultravect.core.errors import UltravectError


@pytest.fixture
def writer(places: dict[str, Place], tmp_path: Path, kind: str) -> Writer:
    places[kind].drop("modes")
    return Writer(places[kind], tmp_path)


def codes(writer: Writer, **into: Any) -> list[str]:
    return [
        finding.code
        for finding in writer.check([(1, "soup")], mode="overwrite", old_rows="truncate", **into).findings
    ]


@pytest.mark.parametrize("kind", ["postgresql"])
@pytest.mark.parametrize("into", [{}, {"keys": ["k"]}, {"keep_previous": 1}])
def test_old_rows_are_taken_away_at_once(writer: Writer, into: dict[str, Any]) -> None:
    writer.load([(1, "soup"), (2, "stew")])
    writer.place.sql("CREATE INDEX modes_k ON modes (k)")
    result = writer.load(
        [(3, "rice"), (3, "rice") if "keys" in into else (4, "peas")], mode="overwrite", old_rows="truncate", **into
    )
    assert [key for key, _ in writer.rows()] == ([3] if "keys" in into else [3, 4])
    assert (result.rows_before, result.rows_after) == (2, len(writer.rows()))
    assert writer.place.sql("SELECT count(*) FROM pg_indexes WHERE tablename = 'modes'") == [(1,)]
    # no dead rows are left
    assert writer.place.sql("SELECT pg_relation_size('modes') <= 8192") == [(True,)]


@pytest.mark.parametrize("kind", ["postgresql"])
def test_readers_wait_and_a_failed_load_gives_the_old_rows_back(writer: Writer) -> None:
    writer.load([(1, "soup")])

    def intrude() -> None:
        with pytest.raises(psycopg.errors.LockNotAvailable):
            writer.place.sql("SET lock_timeout = '200ms'; SELECT count(*) FROM modes")
        raise UltravectError("stopped", "stopped on purpose")

    with pytest.raises(UltravectError, match="on purpose"):
        load(writer, Hooked("publish running", intrude), mode="overwrite", old_rows="truncate")
    assert writer.rows() == [(1, "soup")]


@pytest.mark.parametrize("kind", ["postgresql", "mariadb", "sqlite", "duckdb"])
def test_only_where_it_is_another_thing(writer: Writer) -> None:
    writer.load([(1, "soup")])
    found = codes(writer)
    assert ("readers-wait" in found, "setting-unused" in found) == (
        (True, False) if writer.place.kind == "postgresql" else (False, True)
    )
    writer.load([(2, "stew")], mode="overwrite", old_rows="truncate")
    assert writer.rows() == [(2, "stew")]


@pytest.mark.parametrize("kind", ["postgresql"])
def test_what_forbids_it_is_told_before(writer: Writer) -> None:
    writer.load([(1, "soup")])
    writer.place.sql("ALTER TABLE modes ADD PRIMARY KEY (k)")
    writer.place.sql("CREATE TABLE modes_child (k int REFERENCES modes)")
    try:
        assert "target-depended-on" in codes(writer)
        checked = writer.check([(1, "soup")], mode="overwrite", old_rows="truncate")
        (error,) = [finding for finding in checked.findings if finding.severity == "error"]
        assert "foreign key modes_child_k_fkey of modes_child depends on it" in error.message
    finally:
        writer.place.sql("DROP TABLE modes_child")


@pytest.mark.parametrize(
    ("into", "part"),
    [
        ({"mode": "append"}, "goes with mode: overwrite only"),
        ({"mode": "overwrite", "old_rows": "burn"}, "is not one of 'delete' or 'truncate'"),
    ],
)
@pytest.mark.parametrize("kind", ["sqlite"])
def test_where_it_makes_no_sense(writer: Writer, into: dict[str, Any], part: str) -> None:
    with pytest.raises(UltravectError) as caught:
        writer.load([(1, "soup")], **{"old_rows": "truncate", **into})
    assert part in str(caught.value) + str(getattr(caught.value, "problems", ""))
