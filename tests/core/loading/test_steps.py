"""The steps of a load into a table, each by itself: against plain Python, in databases in memory."""

from __future__ import annotations

import datetime as dt
import functools
import sqlite3
from collections import Counter
from collections.abc import Sequence
from itertools import pairwise
from typing import Any

import duckdb
import numpy as np
import pyarrow as pa
import pytest
from hypothesis import given
from hypothesis import strategies as st

from ultravect.core.contracts.catalogue import Answer, LiveColumn, LiveTable
from ultravect.core.contracts.write_session import RefusedRow, RowsRefused
from ultravect.core.dialects.base import Dialect, TableName
from ultravect.core.dialects.duckdb import DuckdbDialect
from ultravect.core.dialects.merge import ROW, MergeStatements
from ultravect.core.engine.run.rejected.row_places import RowPlaces
from ultravect.core.engine.run.shaped import Shaped
from ultravect.core.engine.write.staged_rows import CHUNK, isolate
from ultravect.core.kinds.sqlite.dialect import SqliteDialect
from ultravect.core.loading.key_ranges import key_ranges, ranges
from ultravect.core.loading.row_numbers import AscendingKeys
from ultravect.core.types.canonical import parse_type


@given(
    rows=st.integers(0, 3 * CHUNK),
    bad=st.sets(st.integers(0, 3 * CHUNK - 1), max_size=12),
    tolerated=st.integers(0, 12),
)
def test_refused_rows_are_found_however_they_lie(rows: int, bad: set[int], tolerated: int) -> None:
    bad = {row for row in bad if row < rows}
    written: Counter[int] = Counter()
    attempts = 0

    def attempt(first: int, last: int) -> tuple[int, int]:
        nonlocal attempts
        attempts += 1
        if refused := bad.intersection(range(first, last)):
            raise RowsRefused(f"row {min(refused)}")
        written.update(range(first, last))
        return 0, last - first

    done = isolate(rows, attempt, tolerated)
    refused = [row for row, _ in done.refused]
    assert refused == sorted(bad)[: tolerated + 1]
    assert all(reason == f"row {row}" for row, reason in done.refused)
    assert done.inserted == written.total()
    assert set(written.values()) <= {1}, "no row is written twice"
    assert not bad.intersection(written)
    if len(bad) <= tolerated:
        assert written.keys() | bad == set(range(rows))
    # each bad row costs the halvings of its chunk, not more
    assert attempts <= -(-rows // CHUNK) + 2 * len(refused) * (CHUNK.bit_length() + 1)


@given(st.lists(st.lists(st.one_of(st.none(), st.integers(-5, 20)), max_size=5), max_size=5), st.booleans())
def test_keys_that_rise_are_known_as_such(batches: list[list[int | None]], as_dates: bool) -> None:
    keys = AscendingKeys(["k"])
    day = dt.date(2026, 1, 1)
    for batch in batches:
        values = [None if value is None or not as_dates else day + dt.timedelta(days=value) for value in batch]
        array = pa.array(values, pa.date32()) if as_dates else pa.array(batch, pa.int64())
        keys.see(pa.record_batch([array], ["k"]))
    flat = [value for batch in batches for value in batch]
    assert keys.so_far == (None not in flat and all(a < b for a, b in pairwise(flat)))  # type: ignore[operator]


def test_other_keys_are_not_taken_for_rising() -> None:
    assert not AscendingKeys([]).so_far
    assert not AscendingKeys(["a", "b"]).so_far
    keys = AscendingKeys(["k"])
    keys.see(pa.record_batch([pa.array(["a", "b"])], ["k"]))
    assert not keys.so_far, "collations may find two texts equal that are not"


@functools.cache
def _duckdb() -> duckdb.DuckDBPyConnection:
    """One for all examples: opening one takes longer than an example."""
    return duckdb.connect()


class InMemory:
    """A table and staged rows in a database in memory."""

    def __init__(self, dialect: Dialect, old: Sequence[tuple[Any, ...]], new: Sequence[tuple[Any, ...]]) -> None:
        self._session: Any = sqlite3.connect(":memory:") if isinstance(dialect, SqliteDialect) else _duckdb()
        types = {"k": "integer", "v": "text", "w": "integer"}
        for table in ("t", "s"):
            self.run(f"DROP TABLE IF EXISTS {table}")
        self.run("CREATE TABLE t (k integer, v text, w integer, gone boolean)")
        self.run(f"CREATE TABLE s (k integer, v text, w integer, {ROW} bigint)")
        for row in old:
            self._session.execute("INSERT INTO t VALUES (?, ?, ?, NULL)", row)
        for number, row in enumerate(new):
            self._session.execute("INSERT INTO s VALUES (?, ?, ?, ?)", (*row, number))
        self.merge = MergeStatements(
            dialect, "t", "s", {name: parse_type(kind) for name, kind in types.items()}, ["k"]
        )

    def run(self, statement: str | None) -> list[tuple[Any, ...]]:
        return list(self._session.execute(statement).fetchall()) if statement else []

    def rows(self) -> dict[int, tuple[Any, ...]]:
        found = self.run("SELECT k, v, w FROM t ORDER BY k")
        assert len({row[0] for row in found}) == len(found)
        return {row[0]: row for row in found}


values = st.tuples(
    st.integers(0, 6),
    st.one_of(st.none(), st.sampled_from(["", "a", "A", "a "])),
    st.one_of(st.none(), st.integers(0, 1)),
)


@pytest.mark.parametrize("dialect", [SqliteDialect(), DuckdbDialect()], ids=["sqlite", "duckdb"])
@given(
    old=st.lists(values, max_size=8, unique_by=lambda row: row[0]),
    new=st.lists(values, max_size=8),
    first=st.booleans(),
)
def test_an_upsert_by_its_single_statements(
    dialect: Dialect, old: list[tuple[Any, ...]], new: list[tuple[Any, ...]], first: bool
) -> None:
    held = InMemory(dialect, old, new)
    merge, before = held.merge, {row[0]: row for row in old}
    wins: dict[int, tuple[Any, ...]] = {}
    for row in reversed(new) if first else new:
        wins[row[0]] = row
    place = (
        {row[0]: number for number, row in reversed(list(enumerate(new)))}
        if first
        else {row[0]: n for n, row in enumerate(new)}
    )
    assert bool(held.run(merge.repeated())) == (len(wins) < len(new))
    losers = held.run(merge.losers(100, first=first))
    assert losers == [(n, place[row[0]]) for n, row in enumerate(new) if n != place[row[0]]]
    held.run(merge.drop_repeats(first=first))
    assert {row[1]: row[1:] for row in held.run(merge.rows(range(len(new) or 1)))} == wins
    known = before.keys() & wins.keys()
    changed = {key for key in known if before[key] != wins[key]}
    lost = before.keys() - wins.keys()
    assert held.run(merge.pairs()) == [(len(known),)]
    assert held.run(merge.ambiguous()) == []
    assert {row[0] for row in held.run(merge.differing(100))} == changed
    assert {row[0] for row in held.run(merge.unknown(100))} == wins.keys() - known
    assert {row[0] for row in held.run(merge.gone(100))} == lost
    assert held.run(merge.comparison()) == [(len(wins) - len(known), len(known), len(changed), len(lost))]
    assert held.run(merge.count_gone("gone")) == [(len(lost),)]
    held.run(merge.update())
    held.run(merge.insert())
    assert held.rows() == {**before, **wins}
    held.run(merge.flag_gone("gone"))
    assert {row[0] for row in held.run("SELECT k FROM t WHERE gone")} == lost
    assert held.run(merge.count_gone("gone")) == [(0,)]
    held.run(merge.delete_gone())
    assert held.rows() == wins


@pytest.mark.parametrize("dialect", [SqliteDialect(), DuckdbDialect()], ids=["sqlite", "duckdb"])
def test_a_key_that_the_target_has_twice_is_named(dialect: Dialect) -> None:
    held = InMemory(dialect, [(1, "a", 0), (1, "b", 0), (2, "c", 0)], [(1, "z", 0), (2, "z", 0)])
    assert held.run(held.merge.ambiguous()) == [(1,)]


class Keyed:
    """A ``Source`` whose only table is ``t``, in a database in memory."""

    dialect = SqliteDialect()

    def __init__(self, keys: Sequence[int]) -> None:
        self._session = sqlite3.connect(":memory:")
        self._session.execute("CREATE TABLE t (k integer)")
        self._session.executemany("INSERT INTO t VALUES (?)", [(key,) for key in keys])

    def ask(self, sql: str, limit: int, seconds: float) -> Answer:
        rows = self._session.execute(sql).fetchmany(limit)
        return Answer([], [list(row) for row in rows], False, [])


def _keyed_table(kind: str = "bigint", **others: Any) -> LiveTable:
    column = LiveColumn("k", kind, kind, parse_type(kind), False, False, **{"key": True, **others})
    return LiveTable(TableName(None, "t"), "table", [column])


@given(keys=st.sets(st.integers(-(10**12), 10**12), max_size=60), count=st.integers(1, 9))
def test_ranges_of_a_key_have_each_row_once(keys: set[int], count: int) -> None:
    source = Keyed(sorted(keys))
    conditions = key_ranges(source, _keyed_table(), count)  # type: ignore[arg-type]
    assert len(conditions) <= count
    parts = [source.ask(f"SELECT k FROM t WHERE {condition}", 1000, 1).rows for condition in conditions]
    if conditions:
        assert sorted(row[0] for rows in parts for row in rows) == sorted(keys)
        # of about equal size, as long as there are enough to be divided
        assert max(map(len, parts)) <= -(-len(keys) // count) + 1


@pytest.mark.parametrize("table", [_keyed_table("text"), _keyed_table("decimal(9,2)"), _keyed_table(key=False)])
def test_what_has_no_order_in_sql_text_is_not_divided(table: LiveTable) -> None:
    assert key_ranges(Keyed([1, 2, 3]), table, 3) == []  # type: ignore[arg-type]
    assert ranges([], "k") == []


@given(st.lists(st.tuples(st.sampled_from(["a.csv", "b.csv"]), st.integers(0, 5), st.booleans()), max_size=8))
def test_refused_rows_are_named_by_where_they_came_from(batches: list[tuple[str, int, bool]]) -> None:
    """Each batch is of a file, skips every second row of it or none, and may have keys."""
    places = RowPlaces()
    before: Counter[str] = Counter()
    expected: list[tuple[str, int, str]] = []
    for path, rows, halved in batches:
        step = 2 if halved else 1
        index = np.arange(0, rows * step, step, dtype=np.int64)
        keys = pa.table({"k": [int(number) for number in index]}) if halved else None
        batch = pa.record_batch([pa.array(index)], ["x"])
        places.see(
            Shaped(
                path=path,
                before=before[path],
                rows=rows * step,
                bytes=0,
                batch=batch,
                rejects=[],
                filtered=0,
                index=index,
                keys=keys,
            )
        )
        expected += [(path, before[path] + int(at) + 1, f'{{"k": {at}}}' if halved else "") for at in index]
        before[path] += rows * step
    found = [places.reject(RefusedRow(number, "no", "{}")) for number in range(len(expected))]
    places.close()
    assert [(reject.object, reject.row, reject.key) for reject in found] == expected
