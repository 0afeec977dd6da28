"""From a job with many objects to its legs: which there are, what each copies, in which order, and what is wrong."""

from __future__ import annotations

import sqlite3
from contextlib import closing
from pathlib import Path
from typing import Any

import openpyxl
import pytest
from hypothesis import given
from hypothesis import strategies as st

from ultravect.core.engine.objects.connections import ConnectionSpec
from ultravect.core.engine.objects.names import RunFacts
from ultravect.core.engine.plan.legs import Legs, lay_out
from ultravect.core.engine.plan.legs.found_files import Paths
from ultravect.core.engine.plan.legs.order import in_order
from ultravect.core.engine.plan.newer.newer_rows import mark_key
from ultravect.core.model.document import DeclarationError, job_from_data
from ultravect.core.model.jobs.rename import in_case

TABLES = """
CREATE TABLE guest (guest_id integer primary key);
CREATE TABLE booking (booking_id integer primary key, guest_id integer references guest);
CREATE TABLE booking_tmp (a integer);
CREATE TABLE "Hut List" (a integer);
CREATE TABLE "odd{x}""name" (a integer);
CREATE TABLE ultravect_receipt (a integer);
CREATE VIEW open_booking AS SELECT * FROM booking;
"""


@pytest.fixture
def lite(tmp_path: Path) -> ConnectionSpec:
    path = tmp_path / "huts.sqlite"
    with closing(sqlite3.connect(path)) as session:
        session.executescript(TABLES)
    return ConnectionSpec("huts", "sqlite", {"path": str(path)}, [str(tmp_path)])


@pytest.fixture
def folder(tmp_path: Path) -> ConnectionSpec:
    inside = tmp_path / "files"
    inside.mkdir()
    return ConnectionSpec("incoming", "folder", {"path": str(inside)}, [str(inside)])


def _files(folder: ConnectionSpec, *names: str) -> None:
    for name in names:
        path = Path(folder.settings["path"]) / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text("a\n1\n")


def _workbook(folder: ConnectionSpec, name: str) -> None:
    path = Path(folder.settings["path"]) / name
    path.parent.mkdir(parents=True, exist_ok=True)
    openpyxl.Workbook().save(path)


def _legs(
    source: ConnectionSpec, target: ConnectionSpec, given: dict[str, Any], into: dict[str, Any], **more: Any
) -> Legs:
    known = more.pop("known", None)
    job = {
        "ultravect": 1,
        "job": "many",
        "from": {"connection": source.name, **given},
        "into": {"connection": target.name, **into},
        **more,
    }
    return lay_out(job_from_data(job), source, target, RunFacts(), known)


def _pairs(legs: Legs) -> dict[str, str]:
    return {leg.object: leg.job.into.object_name for leg in legs.legs}


def _codes(legs: Legs) -> list[str]:
    return [finding.code for finding in legs.findings]


@pytest.mark.parametrize(
    ("tables", "left_out", "found"),
    [
        (["*"], [], ["guest", "Hut List", "booking", "booking_tmp", 'odd{x}"name']),
        (["booking*"], ["*_tmp"], ["booking"]),
        (["booking*", "guest"], ["booking_tmp"], ["guest", "booking"]),
        (["BOOKING"], [], ["booking"]),
        (["open_booking"], [], ["open_booking"]),
        (['"Hut List"'], [], ["Hut List"]),
        (["main.g*", "g?est"], [], ["guest"]),
        (["[gh]uest"], [], ["guest"]),
    ],
)
def test_patterns_of_tables(lite: ConnectionSpec, tables: list[str], left_out: list[str], found: list[str]) -> None:
    legs = _legs(lite, lite, {"tables": tables, "except": left_out}, {"table": "copy_{table}"})
    assert sorted(_pairs(legs)) == sorted(found)
    assert not legs.errors


def test_odd_names_are_quoted_and_read_again(lite: ConnectionSpec) -> None:
    legs = _legs(lite, lite, {"tables": ["*"]}, {"table": "raw_{table}"})
    assert _pairs(legs)["Hut List"] == '"raw_Hut List"'
    assert _pairs(legs)['odd{x}"name'] == '"raw_odd{{x}}""name"'
    assert {leg.job.source.table for leg in legs.legs} >= {'"Hut List"', '"odd{{x}}""name"'}


def test_parents_come_first_and_circles_end() -> None:
    assert in_order(3, {0: {2}, 2: {1}}) == [1, 2, 0]
    assert sorted(in_order(3, {0: {1}, 1: {2}, 2: {0}})) == [0, 1, 2]


@given(
    st.integers(0, 8).flatmap(
        lambda n: st.tuples(st.just(n), st.sets(st.tuples(st.integers(0, n), st.integers(0, n))))
    )
)
def test_any_references_give_an_order_of_all(case: tuple[int, set[tuple[int, int]]]) -> None:
    count, pairs = case[0] + 1, case[1]
    parents: dict[int, set[int]] = {}
    for child, parent in pairs:
        if child > parent:  # no circles
            parents.setdefault(child, set()).add(parent)
    order = in_order(count, parents)
    assert sorted(order) == list(range(count))
    assert all(order.index(parent) < order.index(child) for child in parents for parent in parents[child])


def test_a_leg_waits_where_the_target_has_the_key(lite: ConnectionSpec, tmp_path: Path) -> None:
    target = ConnectionSpec("other", "sqlite", {"path": str(tmp_path / "other.sqlite")}, [str(tmp_path)])
    with closing(sqlite3.connect(tmp_path / "other.sqlite")) as session:
        session.executescript(TABLES)
    legs = _legs(lite, target, {"tables": ["booking", "guest"]}, {"table": "{table}"})
    assert [(leg.object, leg.after) for leg in legs.legs] == [("guest", ()), ("booking", (1,))]


WRONG = [
    ({"tables": ["nothing*"]}, {"table": "raw_{table}"}, "nothing-found"),
    ({"tables": ["gest"]}, {"table": "raw_{table}"}, "table-missing"),
    ({"tables": ["guest", "booking"]}, {"table": "raw_{schema}_{table}x{run_id}"}, None),
    ({"tables": ["*"], "except": ["none*"]}, {"table": "raw_{table}"}, "except-without-effect"),
    ({"files": "{hut}/*.csv"}, {"table": "{hut}"}, "file-missing"),
]


@pytest.mark.parametrize(("given_", "into", "code"), WRONG)
def test_what_is_wrong_is_a_finding(
    lite: ConnectionSpec, folder: ConnectionSpec, given_: dict[str, Any], into: dict[str, Any], code: str | None
) -> None:
    source = folder if "files" in given_ else lite
    legs = _legs(source, lite, given_, into)
    assert [item for item in _codes(legs) if item != "views-left-out"] == ([code] if code else [])


def test_nothing_is_a_note_where_it_may_be(lite: ConnectionSpec, folder: ConnectionSpec) -> None:
    for source, given_ in ((lite, {"tables": ["nothing*"]}), (folder, {"files": "{hut}/*.csv"})):
        name = "{table}" if source is lite else "{hut}"
        legs = _legs(source, lite, {**given_, "allow_none": True}, {"table": f"x_{name}"})
        assert [(item.severity, item.code) for item in legs.findings] == [("note", "nothing-found")]


def test_two_objects_with_one_target_are_refused(lite: ConnectionSpec, folder: ConnectionSpec) -> None:
    _files(folder, "a/day.csv", "b/day.csv", "a/Day.csv")
    legs = _legs(folder, lite, {"files": "**/*.csv"}, {"table": "{file_stem}"})
    assert _codes(legs) == ["targets-equal", "targets-equal"]
    assert "a/Day.csv and a/day.csv would both go into" in legs.findings[0].message
    fixed = _legs(
        folder,
        lite,
        {"files": "**/*.csv"},
        {"table": "{folder}_{file_stem}"},
        objects={"a/Day.csv": {"into": {"table": "other"}}},
    )
    assert not fixed.errors
    assert _pairs(fixed)["a/Day.csv"] == "other"


def test_captures_make_groups_of_like_files(lite: ConnectionSpec, folder: ConnectionSpec) -> None:
    _files(folder, "007/a.csv", "007/b.csv", "0[1]/a.csv", "x y/{z}.csv", "deep/er/a.csv")
    legs = _legs(folder, lite, {"files": "{hut}/*.csv"}, {"table": "hut_{hut}"})
    assert _pairs(legs) == {"007/*.csv": "hut_007", "0[1]/*.csv": '"hut_0[1]"', "x y/*.csv": '"hut_x y"'}
    jobs = {leg.object: leg.job for leg in legs.legs}
    assert jobs["007/*.csv"].parameters == {"hut": "007"}
    assert jobs["x y/*.csv"].source.files == "x y/{{z}}.csv"


@pytest.mark.parametrize("more", [{}, {"sheets": ["*"]}])
def test_an_object_keeps_its_mark_when_a_second_file_arrives(
    lite: ConnectionSpec, folder: ConnectionSpec, more: dict[str, Any]
) -> None:
    """What was copied is noted under the object's name: as one of another name, the first file would be copied again."""
    given_, into = {"files": "{hut}/*", "newer": "files", **more}, {"table": "stay_{hut}"}
    create = _workbook if more else _files
    create(folder, "alp/1.xlsx" if more else "alp/1.csv")
    (before,) = _legs(folder, lite, given_, into).legs
    create(folder, "alp/2.xlsx" if more else "alp/2.csv")
    (after,) = _legs(folder, lite, given_, into).legs
    assert mark_key(after.job, ()) == mark_key(before.job, ())


@pytest.mark.parametrize(
    ("pattern", "path", "captured"),
    [
        ("{hut}/{day}.csv", "007/2026-07-01.csv", {"hut": "007", "day": "2026-07-01"}),
        ("in/**/{hut}-{day}.csv", "in/a/b/007-1.csv", {"hut": "007", "day": "1"}),
        ("in/{hut}/**/x.csv", "in/7/a/x.csv", {"hut": "7"}),
        ("{kind}_?_*.csv", "b_1_z.csv", {"kind": "b"}),
        ("{{x}}-{hut}.csv", "{x}-7.csv", {"hut": "7"}),
    ],
)
def test_what_captures_stand_for(pattern: str, path: str, captured: dict[str, str]) -> None:
    assert Paths(pattern, list(captured)).captured(path) == captured


def test_folders_and_sheets(lite: ConnectionSpec, folder: ConnectionSpec) -> None:
    _files(folder, "north/a.csv", "north/b.csv", "south/a.csv")
    legs = _legs(folder, lite, {"files": "*/*.csv"}, {"table": "t_{folder}"})
    assert {leg.object: leg.job.source.files for leg in legs.legs} == {"north": "north/*.csv", "south": "south/*.csv"}
    book = openpyxl.Workbook()
    book.active.title = "Huts"
    for name in ("Repairs 2026", "notes"):
        book.create_sheet(name)
    book.save(Path(folder.settings["path"]) / "book.xlsx")
    into = {"table": "{sheet}", "rename": "snake_case"}
    legs = _legs(folder, lite, {"files": "*.xlsx", "sheets": ["H*", "Repairs*"]}, into)
    assert _pairs(legs) == {"book.xlsx/Huts": "huts", "book.xlsx/Repairs 2026": "repairs_2026"}
    assert _codes(_legs(folder, lite, {"files": "*.xlsx", "sheets": ["none"]}, into)) == ["sheet-missing"]


def test_what_one_object_needs_differently(lite: ConnectionSpec) -> None:
    objects = {
        "booking": {"from": {"where": "booking_id > 5"}, "columns": ["booking_id"], "into": {"mode": "overwrite"}},
        "gest": {"into": {"mode": "overwrite"}},
    }
    legs = _legs(lite, lite, {"tables": ["*"]}, {"table": "raw_{table}"}, objects=objects)
    jobs = {leg.object: leg.job for leg in legs.legs}
    assert (jobs["booking"].source.where, jobs["booking"].columns) == ("booking_id > 5", ["booking_id"])
    assert (jobs["booking"].into.mode, jobs["guest"].into.mode) == ("overwrite", "append")
    assert [(item.code, item.fix) for item in legs.findings if item.severity == "warning"] == [
        ("object-unknown", "did you mean 'guest'?")
    ]


def test_tables_that_appear_and_vanish_are_findings(lite: ConnectionSpec) -> None:
    legs = _legs(lite, lite, {"tables": ["booking", "guest"]}, {"table": "x_{table}"}, known=["guest", "hut"])
    assert [(item.code, item.message.split(": ")[1].split(";")[0]) for item in legs.findings] == [
        ("objects-new", "booking"),
        ("objects-gone", "hut"),
    ]


@pytest.mark.parametrize(
    ("given_", "into", "more", "said"),
    [
        ({"files": "{seson}/*.csv"}, {"table": "t"}, {"parameters": {"season": 1}}, "did you mean 'season'?"),
        ({"tables": ["*"]}, {"table": "t"}, {}, "name it by {table}"),
        (
            {"tables": ["*"]},
            {"table": "{table}"},
            {"objects": {"a": {"into": {"mod": "append"}}}},
            "objects.a: into.mod",
        ),
        ({"table": "a"}, {"table": "t"}, {"objects": {"a": {}}}, "objects goes with many"),
        ({"files": "a.csv"}, {"table": "t", "keys": "primary"}, {}, "takes the keys of a source table"),
        ({"table": "a", "except": ["b"]}, {"table": "t"}, {}, "from.except goes with from.tables"),
        ({"files": "a.csv", "newer": {"by": "x"}}, {"table": "t"}, {}, "files are new as a whole"),
        (
            {"table": "a", "newer": {"by": "x"}},
            {"table": "t", "mode": "overwrite"},
            {},
            "newer goes with append or upsert",
        ),
        ({"table": "a", "newer": {"by": "x", "overlap": 5}}, {"table": "t"}, {}, "known by into.keys"),
        (
            {"table": "a", "where": "b = 1"},
            {"table": "t", "mode": "upsert", "keys": ["b"], "gone": "delete"},
            {},
            "needs all rows",
        ),
        ({"table": "a", "newer": "soup"}, {"table": "t"}, {}, "'soup' is none of them"),
    ],
)
def test_what_a_job_file_cannot_say(
    given_: dict[str, Any], into: dict[str, Any], more: dict[str, Any], said: str
) -> None:
    job = {"ultravect": 1, "job": "x", "from": {"connection": "a", **given_}, "into": {"connection": "b", **into}}
    with pytest.raises(DeclarationError) as refused:
        job_from_data({**job, **more})
    assert said in " ".join(f"{problem} {problem.hint}" for problem in refused.value.problems)


@pytest.mark.parametrize(
    ("name", "snake"),
    [
        ("BookingId", "booking_id"),
        ("Guest Name", "guest_name"),
        ("HTTPCode", "http_code"),
        ("already_snake", "already_snake"),
        ("Größe (m²)", "größe_m²"),
        ("__", "__"),
        ("V2Total", "v2_total"),
    ],
)
def test_names_in_snake_case(name: str, snake: str) -> None:
    assert in_case(name, "snake_case") == snake
    assert in_case(snake, "snake_case") == snake
