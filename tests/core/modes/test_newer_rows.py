"""Only rows that are new: whatever dies, is late, or comes twice, the target holds what a plain model of it says."""

from __future__ import annotations

from collections import Counter
from contextlib import suppress
from pathlib import Path
from typing import Any

import pytest
from devtools.pairs import Place
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from tests.core.modes.newer import Killed, Nightly

from ultravect.core.engine.objects.connections import ConnectionSpec
from ultravect.core.engine.operate.marks import marks_of, reset_mark, set_mark
from ultravect.core.engine.plan.newer.newer_rows import Again
from ultravect.core.errors import UltravectError

PAIRS = [
    ("postgresql", "mariadb"),
    ("mariadb", "postgresql"),
    ("sqlite", "duckdb"),
    ("duckdb", "sqlite"),
    ("postgresql", "postgresql"),
]
OVERLAP = 3

# what happens to the source between runs, and how runs end
_INSERT = st.tuples(st.just("insert"), st.integers(0, OVERLAP), st.integers(0, 9))
_CHANGE = st.tuples(st.just("update"), st.integers(0, 20), st.integers(0, 9))
_DELETE = st.tuples(st.just("delete"), st.integers(0, 20), st.just(0))
_RUN = st.tuples(st.sampled_from(["run", "run", "killed", "repeated"]), st.just(0), st.just(0))
STEPS = st.lists(st.one_of(_INSERT, _INSERT, _CHANGE, _DELETE, _RUN), min_size=3, max_size=9)


def _values(place: Place, table: str, columns: str) -> list[tuple[Any, ...]]:
    return [tuple(int(value) for value in row) for row in place.sql(f"SELECT {columns} FROM {table}")]


def _make(place: Place, table: str, columns: str) -> None:
    place.drop(table)
    place.sql(f"CREATE TABLE {table} ({columns})")


@pytest.mark.parametrize("pair", PAIRS, ids="-".join)
@given(steps=STEPS)
@settings(max_examples=3, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
def test_an_upsert_with_an_overlap_misses_nothing(
    places: dict[str, Place], pair: tuple[str, str], steps: list[tuple[str, int, int]]
) -> None:
    """Rows are committed late, updated and deleted; runs are killed and done again by another worker."""
    source, target = places[pair[0]], places[pair[1]]
    _make(source, "newer_src", "k integer primary key, v integer, changed integer")
    target.drop("newer_dst")
    nightly = Nightly(
        source.spec,
        target,
        {"table": "newer_src", "newer": {"by": "changed", "overlap": OVERLAP}},
        {"table": "newer_dst", "mode": "upsert", "keys": "primary"},
    )
    held: dict[int, tuple[int, int]] = {}
    copied: dict[int, tuple[int, int]] = {}
    clock = 10
    for number, (what, place, value) in enumerate([*steps, ("run", 0, 0)], 1):
        match what:
            case "insert":
                clock += 1
                held[number] = (value, clock - place)  # it may be committed late
                source.sql(f"INSERT INTO newer_src VALUES ({number}, {value}, {clock - place})")
            case "update" if held:
                clock += 1
                key = sorted(held)[place % len(held)]
                held[key] = (value, clock)
                source.sql(f"UPDATE newer_src SET v = {value}, changed = {clock} WHERE k = {key}")
            case "delete" if held:
                key = sorted(held)[place % len(held)]
                del held[key]
                source.sql(f"DELETE FROM newer_src WHERE k = {key}")
            case "killed":
                with suppress(Killed):
                    nightly.run(killed=True)
            case "run" | "repeated":
                # where nothing was committed yet, one that is repeated copies too
                nightly.run(repeated=what == "repeated")
                copied |= held
    found = {row[0]: row[1:] for row in _values(target, "newer_dst", "k, v, changed")} if copied or held else {}
    # what was deleted in the source before it was copied never came, and what came stays
    assert {key: found.get(key) for key in held} == held
    assert found.keys() <= copied.keys() | held.keys()


@pytest.mark.parametrize("pair", PAIRS, ids="-".join)
@given(steps=st.lists(st.sampled_from(["same", "next", "run", "killed", "repeated"]), min_size=3, max_size=9))
@settings(max_examples=3, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
def test_rows_without_a_key_come_exactly_once(
    places: dict[str, Place], pair: tuple[str, str], steps: list[str]
) -> None:
    """Rows with the highest value come in any number, before and after a run, and some are equal in everything."""
    source, target = places[pair[0]], places[pair[1]]
    _make(source, "newer_src", "v integer, changed integer")
    _make(target, "newer_dst", "v integer, changed integer")
    nightly = Nightly(source.spec, target, {"table": "newer_src", "newer": {"by": "changed"}}, {"table": "newer_dst"})
    expected: Counter[tuple[int, ...]] = Counter()
    clock = 1
    for number, step in enumerate([*steps, "run"]):
        if step in ("same", "next"):
            clock += step == "next"
            row = (number % 2, clock)
            expected[row] += 1
            source.sql(f"INSERT INTO newer_src VALUES {row}")
        else:
            with suppress(Killed):
                nightly.run(killed=step == "killed", repeated=step == "repeated")
    nightly.run()
    assert Counter(_values(target, "newer_dst", "v, changed")) == expected


@pytest.mark.parametrize(
    ("native", "values"),
    [
        ("timestamp", ["'2026-07-13 03:39:00'", "'2026-07-13 03:39:01'", "'2026-07-14 00:00:00'"]),
        ("date", ["'2026-07-13'", "'2026-07-14'", "'2026-08-01'"]),
        ("decimal(20,2)", ["'1.25'", "'1.50'", "'12345678901234567.75'"]),
        ("bigint", ["-5", "0", "9223372036854775807"]),
    ],
)
@pytest.mark.parametrize("kind", ["postgresql", "mariadb", "sqlite", "duckdb"])
def test_every_type_that_grows_keeps_a_mark(
    places: dict[str, Place], kind: str, native: str, values: list[str]
) -> None:
    place, target = places[kind], places["postgresql"]
    if kind == "sqlite" and native.startswith("decimal"):
        native = "decimal text(20,2)"
    _make(place, "newer_src", f"k integer primary key, changed {native}")
    target.drop("newer_dst")
    nightly = Nightly(place.spec, target, {"table": "newer_src", "newer": {"by": "changed"}}, {"table": "newer_dst"})
    for number, value in enumerate(values):
        place.sql(f"INSERT INTO newer_src VALUES ({number}, {value})")
        assert nightly.run().tally.inserted == 1
    assert nightly.run().nothing
    assert len(target.sql("SELECT * FROM newer_dst")) == len(values)


def test_a_moment_with_a_zone_keeps_its_instant(places: dict[str, Place]) -> None:
    place = places["postgresql"]
    _make(place, "newer_src", "k integer primary key, changed timestamptz")
    place.drop("newer_dst")
    nightly = Nightly(place.spec, place, {"table": "newer_src", "newer": {"by": "changed"}}, {"table": "newer_dst"})
    place.sql("INSERT INTO newer_src VALUES (1, '2026-07-13 03:39:00+02'), (2, '2026-07-13 01:39:00.000001+00')")
    assert nightly.run().tally.inserted == 2
    place.sql("INSERT INTO newer_src VALUES (3, '2026-07-13 01:39:00.000001+00'), (4, '2026-07-12 23:00:00-04')")
    assert nightly.run().tally.inserted == 2
    (mark,) = marks_of(nightly.job, place.spec, place.spec)
    assert mark.value == "2026-07-13 03:00:00+00:00"


BAD = {
    "mark-column-unordered": ("k integer, changed varchar(20)", ["(1, 'x')"], {}),
    "mark-column-null": ("k integer, changed integer", ["(1, 1)", "(2, NULL)"], {}),
    "mark-not-indexed": ("k integer, changed integer", ["(1, 1)"], {}),
    "column-unknown": ("k integer, other integer", ["(1, 1)"], {}),
    "overlap-invalid": ("k integer, changed integer", ["(1, 1)"], {"overlap": "10 min"}),
    "mark-value-invalid": ("k integer, changed date", ["(1, '2026-01-01')"], {"since": "yesterday"}),
}


@pytest.mark.parametrize("code", BAD)
def test_a_column_that_does_not_do_is_a_finding(places: dict[str, Place], code: str) -> None:
    columns, rows, more = BAD[code]
    place = places["postgresql"]
    _make(place, "newer_src", columns)
    for row in rows:
        place.sql(f"INSERT INTO newer_src VALUES {row}")
    place.drop("newer_dst")
    into = {"table": "newer_dst", "mode": "upsert", "keys": ["k"]}
    nightly = Nightly(place.spec, place, {"table": "newer_src", "newer": {"by": "changed", **more}}, into)
    assert code in nightly.codes()


def test_a_column_that_goes_back_changes_its_type_or_loses_its_table(places: dict[str, Place]) -> None:
    place, target = places["postgresql"], places["mariadb"]
    _make(place, "newer_src", "k integer primary key, changed integer unique")
    target.drop("newer_dst")
    nightly = Nightly(place.spec, target, {"table": "newer_src", "newer": {"by": "changed"}}, {"table": "newer_dst"})
    place.sql("INSERT INTO newer_src VALUES (1, 100)")
    nightly.run()
    place.sql("UPDATE newer_src SET changed = 50")
    assert "mark-ahead" in nightly.codes()
    assert nightly.run().nothing
    place.sql("ALTER TABLE newer_src ALTER changed TYPE date USING '2026-01-01'")
    assert "mark-type-changed" in nightly.codes()
    with pytest.raises(UltravectError, match="the mark is a number"):
        nightly.run()
    place.sql("ALTER TABLE newer_src ALTER changed TYPE integer USING 70")
    target.drop("newer_dst")
    assert "mark-without-table" in nightly.codes()
    assert nightly.run().tally.inserted == 1


def test_a_mark_is_shown_set_and_reset_and_a_range_is_copied_anew(places: dict[str, Place]) -> None:
    place = places["postgresql"]
    _make(place, "newer_src", "k integer primary key, v integer, changed integer")
    place.drop("newer_dst")
    nightly = Nightly(
        place.spec,
        place,
        {"table": "newer_src", "newer": {"by": "changed", "since": 3}},
        {"table": "newer_dst", "mode": "upsert", "keys": "primary"},
    )
    place.sql("INSERT INTO newer_src SELECT n, n, n FROM generate_series(1, 9) n")
    assert "since 3: about 7 rows" in nightly.check().effect
    assert nightly.run().tally.inserted == 7
    place.sql("UPDATE newer_src SET v = 0 WHERE k < 9")  # without a new time of change
    assert nightly.run().nothing
    tally = nightly.run(again=Again("1", "4")).tally
    assert (tally.inserted, tally.updated) == (2, 2)
    (mark,) = marks_of(nightly.job, place.spec, place.spec)
    assert (mark.column, mark.value) == ("changed", "9")
    (mark,) = set_mark(nightly.job, place.spec, place.spec, "", "5")
    assert mark.value == "5"
    assert nightly.run().tally.updated == 4
    (mark,) = reset_mark(nightly.job, place.spec, place.spec, "newer_src")
    assert mark.value == ""
    assert nightly.run().tally.read == 7
    for name, code in (("other", "object-unknown"),):
        with pytest.raises(UltravectError) as refused:
            set_mark(nightly.job, place.spec, place.spec, name, "5")
        assert refused.value.code == code
    with pytest.raises(UltravectError, match="is no integer that a mark could have"):
        set_mark(nightly.job, place.spec, place.spec, "", "soup")


def test_two_runs_that_were_planned_at_once_copy_once(places: dict[str, Place]) -> None:
    """The second finds another mark than it was planned with, and commits nothing."""
    place = places["postgresql"]
    _make(place, "newer_src", "k integer primary key, changed integer")
    _make(place, "newer_dst", "k integer, changed integer")
    nightly = Nightly(place.spec, place, {"table": "newer_src", "newer": {"by": "changed"}}, {"table": "newer_dst"})
    place.sql("INSERT INTO newer_src VALUES (1, 1)")
    nightly.run()
    place.sql("INSERT INTO newer_src VALUES (2, 2)")

    def overtaken(_: Any) -> None:
        set_mark(nightly.job, place.spec, place.spec, "", "2")

    nightly.heard.planned = overtaken  # type: ignore[method-assign]
    heard = nightly.heard
    from devtools.legs import run_leg

    with pytest.raises(UltravectError) as refused:
        run_leg(nightly.job, nightly.source, nightly.target, heard, receipt="late")
    assert refused.value.code == "mark-moved"
    assert len(place.sql("SELECT * FROM newer_dst")) == 1


def _ticking(place: Place, into: dict[str, Any], unique: str = "") -> Nightly:
    """A job into a table of its own from one whose rows share moments: two of them have the highest."""
    _make(place, "newer_src", "k integer, v integer, changed integer")
    _make(place, "newer_dst", f"k integer {unique}, v integer, changed integer")
    place.sql("INSERT INTO newer_src VALUES (1, 1, 1), (2, 2, 5), (3, 3, 5)")
    return Nightly(
        place.spec, place, {"table": "newer_src", "newer": {"by": "changed"}}, {"table": "newer_dst", **into}
    )


KEYED = {"mode": "append", "keys": ["k"]}
UPSERT = {"mode": "upsert", "keys": ["k"]}


@pytest.mark.parametrize("unique", ["", "primary key"])
@pytest.mark.parametrize("kind", ["postgresql", "mariadb", "sqlite", "duckdb"])
def test_rows_with_keys_are_added_once(places: dict[str, Place], kind: str, unique: str) -> None:
    """As it was found: the row at the mark was added again by each run, or refused by the table's key for ever."""
    place = places[kind]
    nightly = _ticking(place, KEYED, unique)
    assert [nightly.run().tally.inserted, nightly.run().tally.read] == [3, 0]
    place.sql("INSERT INTO newer_src VALUES (4, 4, 5)")
    # one that was added does not change: the next one would have its key again
    place.sql("UPDATE newer_src SET v = 33 WHERE k = 3")
    assert [nightly.run().tally.inserted, nightly.run().tally.read] == [1, 0]
    place.sql("INSERT INTO newer_src VALUES (5, 5, 6)")
    assert nightly.run().tally.inserted == 1
    assert sorted(_values(place, "newer_dst", "k, v")) == [(1, 1), (2, 2), (3, 3), (4, 4), (5, 5)]


@pytest.mark.parametrize("kind", ["postgresql", "mariadb", "sqlite", "duckdb"])
@pytest.mark.parametrize("into", [{}, UPSERT], ids=["append", "upsert"])
def test_a_row_at_the_mark_is_known_by_its_content_and_not_by_their_number(
    places: dict[str, Place], kind: str, into: dict[str, Any]
) -> None:
    place = places[kind]
    nightly = _ticking(place, into)
    assert [nightly.run().tally.inserted, nightly.run().tally.read] == [3, 0]
    place.sql("DELETE FROM newer_src WHERE k = 3")
    place.sql("INSERT INTO newer_src VALUES (4, 4, 5)")
    assert [nightly.run().tally.inserted, nightly.run().tally.read] == [1, 0]
    place.sql("UPDATE newer_src SET v = 44 WHERE k = 4")
    assert [nightly.run().tally.read, nightly.run().tally.read] == [1, 0]
    found = sorted(_values(place, "newer_dst", "k, v"))
    assert found == [(1, 1), (2, 2), (3, 3), *([(4, 4)] if not into else []), (4, 44)]


@pytest.mark.parametrize("into", [{}, KEYED, UPSERT], ids=["append", "keys", "upsert"])
def test_a_column_more_or_less_doubles_no_row_at_the_mark(places: dict[str, Place], into: dict[str, Any]) -> None:
    """As it was found: rows are known by what a run reads of them, and the next one read another column."""
    place = places["postgresql"]
    nightly = _ticking(place, {**into, "if_different": "widen"})
    assert nightly.run().tally.inserted == 3
    place.sql("ALTER TABLE newer_src ADD w integer DEFAULT 7")
    place.sql("INSERT INTO newer_src VALUES (4, 4, 5, 8)")
    assert [nightly.run().tally.inserted, nightly.run().tally.read] == [1, 0]
    nightly.data["columns"] = ["k", "changed"]
    place.sql("INSERT INTO newer_src VALUES (5, 5, 5, 8)")
    assert [nightly.run().tally.inserted, nightly.run().tally.read] == [1, 0]
    assert sorted(key for (key,) in _values(place, "newer_dst", "k")) == [1, 2, 3, 4, 5]
    if into:
        return
    place.sql("ALTER TABLE newer_src RENAME k TO kk")
    nightly.data["columns"] = ["kk as k", "changed"]
    assert "mark-columns-changed" in nightly.codes()
    set_mark(nightly.job, place.spec, place.spec, "", "6")
    place.sql("INSERT INTO newer_src VALUES (6, 6, 7, 8)")
    assert nightly.run().tally.inserted == 1


def test_adding_rows_again_is_refused(places: dict[str, Place]) -> None:
    nightly = _ticking(places["postgresql"], KEYED)
    nightly.data["from"]["newer"]["overlap"] = 3
    assert "overlap-doubles" in nightly.codes()
    del nightly.data["from"]["newer"]["overlap"]
    nightly.run()
    with pytest.raises(UltravectError, match="twice"):
        nightly.run(again=Again("1", "5"))


def test_rows_that_go_into_files_are_copied_once(places: dict[str, Place], tmp_path: Path) -> None:
    """As it was found: a target of files is no table, and was taken for one that is gone."""
    place = places["postgresql"]
    _make(place, "newer_src", "k integer, v integer, changed integer")
    place.sql("INSERT INTO newer_src VALUES (1, 1, 1), (2, 2, 5)")
    target = ConnectionSpec("out", "folder", {"path": str(tmp_path)}, [str(tmp_path)])
    nightly = Nightly(place.spec, target, {"table": "newer_src", "newer": {"by": "changed"}}, {"files": "rows.jsonl"})
    assert [nightly.run().tally.inserted, nightly.run().tally.read] == [2, 0]
    place.sql("INSERT INTO newer_src VALUES (3, 3, 5)")
    assert [nightly.run().tally.inserted, nightly.run().tally.read] == [1, 0]
