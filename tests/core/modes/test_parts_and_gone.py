"""A part of a table is replaced, and rows that the source has no more are deleted or flagged."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest
from devtools.pairs import KINDS, Place
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from tests.core.modes.writing import Writer, rejected_comes_back

from ultravect.core.errors import UltravectError

ROWS = st.lists(st.tuples(st.integers(1, 9), st.sampled_from(["x", "y"])), max_size=8)


def _writer(place: Place, folder: Path, columns: str = "k integer, v varchar(9)") -> Writer:
    place.drop("modes")
    place.sql(f"CREATE TABLE modes ({columns})")
    return Writer(place, folder)


@pytest.mark.parametrize("kind", KINDS)
@given(held=ROWS, rows=ROWS, keyed=st.booleans())
@settings(max_examples=6, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
def test_only_the_part_is_replaced(
    places: dict[str, Place],
    tmp_path: Path,
    kind: str,
    held: list[tuple[int, str]],
    rows: list[tuple[int, str]],
    keyed: bool,
) -> None:
    writer = _writer(places[kind], tmp_path)
    for row in held:
        places[kind].sql(f"INSERT INTO modes VALUES {row}")
    into: dict[str, Any] = {"keys": ["k", "v"]} if keyed else {}
    result = writer.load(rows, mode="overwrite", replaces="v = 'x'", rejects="100%", **into)
    mine = [row for row in rows if row[1] == "x"]
    kept = list(dict.fromkeys(mine)) if keyed else mine
    assert result.tally.rejected == len(rows) - len(mine)
    assert sorted(writer.rows()) == sorted([row for row in held if row[1] != "x"] + kept)
    assert all("outside the part" in reject.reason for reject in writer.heard.rejected)


def test_a_row_without_the_value_is_outside_the_part(places: dict[str, Place], tmp_path: Path) -> None:
    writer = _writer(places["postgresql"], tmp_path)
    result = writer.load([(1, "x"), (2, None)], mode="overwrite", replaces="v = 'x'", rejects=1)
    assert (result.tally.inserted, result.tally.rejected) == (1, 1)
    checked = writer.check([(1, "x")], mode="overwrite", replaces="v = 'x'")
    assert checked.strategy is not None
    assert checked.strategy.name == "delete and insert"
    assert checked.strategy.why_not["swap"] == "only a part of the rows is replaced"


@pytest.mark.parametrize(
    ("replaces", "columns", "code"),
    [
        ("v like 'x%' and k % 2 = 1", ["*"], "part-not-plain"),
        ("v = 'x'", ["k"], "part-undecided"),
        ("other = 'x'", ["*"], "part-undecided"),
    ],
)
def test_a_part_that_cannot_be_decided_is_refused(
    places: dict[str, Place], tmp_path: Path, replaces: str, columns: list[str], code: str
) -> None:
    writer = _writer(places["postgresql"], tmp_path)
    checked = writer.check([(1, "x")], mode="overwrite", replaces=replaces, columns=columns)
    assert [finding.code for finding in checked.findings if finding.severity == "error"] == [code]


@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.parametrize("indexed", [True, False])
def test_rows_that_are_gone_are_deleted(places: dict[str, Place], tmp_path: Path, kind: str, indexed: bool) -> None:
    key = " primary key" if indexed else ""
    writer = _writer(places[kind], tmp_path, f"k integer{key}, v varchar(9)")
    writer.load([(number, "x") for number in range(1, 11)])
    into: dict[str, Any] = {"mode": "upsert", "keys": ["k"], "gone": "delete"}
    result = writer.load([(number, "y") for number in range(2, 12)], **into)
    assert (result.gone, result.tally.updated, result.tally.inserted) == (1, 9, 1)
    assert [row[0] for row in writer.rows()] == list(range(2, 12))
    assert [change.before for change in writer.heard.changed if change.kind == "gone"] == [{"k": "1", "v": "x"}]
    with pytest.raises(UltravectError) as refused:
        writer.load([(2, "y")], **into)
    assert refused.value.code == "gone-limit"
    assert len(writer.rows()) == 10
    assert writer.load([(2, "y")], **into, gone_limit=9).gone == 9


@pytest.mark.parametrize("kind", KINDS)
def test_rows_that_are_gone_are_flagged_and_come_back(places: dict[str, Place], tmp_path: Path, kind: str) -> None:
    places[kind].drop("modes")
    writer = Writer(places[kind], tmp_path)
    into: dict[str, Any] = {"mode": "upsert", "keys": ["k"], "gone": {"flag": "is_gone"}, "gone_limit": "100%"}
    writer.load([(1, "x"), (2, "x")], **into)  # the table is made with the flag
    assert writer.load([(2, "x")], **into).gone == 1
    assert [(row[0], bool(row[1])) for row in writer.rows("k, is_gone")] == [(1, True), (2, False)]
    assert writer.load([(2, "x")], **into).gone == 0  # it was flagged before
    writer.load([(1, "x"), (2, "x")], **into)
    assert not any(row[1] for row in writer.rows("k, is_gone"))
    # one that comes back changed
    assert writer.load([(2, "x")], **into).gone == 1
    tally = writer.load([(1, "y"), (2, "x")], **into).tally
    assert (tally.updated, tally.unchanged) == (1, 1)
    assert [(row[0], row[1], bool(row[2])) for row in writer.rows("k, v, is_gone")] == [
        (1, "y", False),
        (2, "x", False),
    ]
    # one that comes back, and that the database refuses
    assert writer.load([(2, "x")], **into).gone == 1
    place = places[kind]
    if kind in ("postgresql", "mariadb"):
        place.sql("ALTER TABLE modes ADD CONSTRAINT short CHECK (length(v) < 5)")
        assert writer.load([(1, "too long"), (2, "x")], rejects=1, **into).tally.rejected == 1
        assert [(row[0], row[1], bool(row[2])) for row in writer.rows("k, v, is_gone")] == [
            (1, "y", False),
            (2, "x", False),
        ]


@pytest.mark.parametrize("kind", KINDS)
def test_a_flagged_row_that_comes_back_and_is_rejected_is_there_again(
    places: dict[str, Place], tmp_path: Path, kind: str
) -> None:
    places[kind].drop("modes")
    rejected_comes_back(Writer(places[kind], tmp_path))


def test_a_rejected_row_keeps_the_rows_that_are_gone(places: dict[str, Place], tmp_path: Path) -> None:
    """The row that could not be read may be one of them."""
    writer = _writer(places["postgresql"], tmp_path)
    writer.load([(1, "x"), (2, "x")])
    result = writer.load(
        [("soup", "x"), (2, "x")], mode="upsert", keys=["k"], gone="delete", gone_limit="100%", rejects=1
    )
    assert result.gone == 0
    assert len(writer.rows()) == 2


def test_a_flag_has_to_be_there(places: dict[str, Place], tmp_path: Path) -> None:
    writer = _writer(places["postgresql"], tmp_path)
    into: dict[str, Any] = {"mode": "upsert", "keys": ["k"]}
    for flag, code in (("is_gone", "flag-column-missing"), ("v", "flag-column-copied")):
        codes = [item.code for item in writer.check([(1, "x")], gone={"flag": flag}, **into).findings]
        assert code in codes
