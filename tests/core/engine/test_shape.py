"""Shaping: among any good and bad rows, exactly the bad ones are rejects, and the good ones arrive as they were."""

from __future__ import annotations

import datetime as dt
import decimal
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from tests.core.files import file_of

from ultravect.core.engine.plan.leg_plan import ColumnPlan
from ultravect.core.engine.run.counting.tally import Tally
from ultravect.core.engine.run.rejected.rejects import Reject, RejectLedger
from ultravect.core.engine.run.shape import Shaper
from ultravect.core.engine.run.shaped import Shaped
from ultravect.core.errors import UltravectError
from ultravect.core.layouts.delimited.opening import open_delimited
from ultravect.core.model.layout import DelimitedLayout
from ultravect.core.types.canonical import parse_type

# a column's type, its good values with what they become, and bad ones
KINDS: dict[str, tuple[list[tuple[str, Any]], list[str]]] = {
    "integer": ([("1", 1), ("-7", -7), ("", None)], ["x", "1.5", "99999999999", "0x10"]),
    "decimal(6,2)": (
        [("1.5", decimal.Decimal("1.50")), ("-0.01", decimal.Decimal("-0.01"))],
        ["1.234", "12345.6", "-"],
    ),
    "date": ([("2026-01-02", dt.date(2026, 1, 2)), ("", None)], ["2026-02-30", "soon", "1.1.2026"]),
    "boolean": ([("yes", True), ("FALSE", False)], ["1", "ja"]),
    "text(3)": ([("abc", "abc"), ("é", "é"), ("", None)], ["abcd"]),
    "timestamp": ([("2026-01-02 03:04", dt.datetime(2026, 1, 2, 3, 4))], ["2026-01-02 03:04Z", "2026-01-02 99:00"]),
    "time": ([("23:59", dt.time(23, 59))], ["24:00"]),
}
NAMES = list(KINDS)


@st.composite
def rows(draw: st.DrawFn) -> list[tuple[list[str], list[Any] | None]]:
    """Rows as text, each with its values, or None where something in it is bad."""
    made = []
    for _ in range(draw(st.integers(1, 25))):
        texts: list[str] = []
        values: list[Any] | None = []
        for good, bad in KINDS.values():
            if draw(st.integers(0, 14)) == 0:
                texts.append(draw(st.sampled_from(bad)))
                values = None
            else:
                text, value = draw(st.sampled_from(good))
                texts.append(text)
                if values is not None:
                    values.append(value)
        if draw(st.integers(0, 14)) == 0:
            texts.append("one too many")
            values = None
        made.append((texts, values))
    return made


def shape(content: str, kinds: list[str], nullable: bool = True) -> list[Shaped]:
    data = content.encode()
    layout = DelimitedLayout(delimiter=",", header=True)
    reader = open_delimited(file_of("t.csv", data), layout)
    columns = [
        ColumnPlan(index, name, f"c{index}", parse_type(kind), "", reader.formats, nullable)
        for index, (name, kind) in enumerate(zip(reader.names, kinds, strict=True))
    ]
    shaper = Shaper(reader, columns)
    return [shaper.shape(block) for block in reader.blocks()]


@settings(max_examples=150, deadline=None)
@given(rows())
def test_good_rows_arrive_and_bad_ones_are_reported(made: list[tuple[list[str], list[Any] | None]]) -> None:
    header = ",".join(f"n{index}" for index in range(len(KINDS)))
    content = "\n".join([header, *(",".join(texts) for texts, _ in made), ""])
    (shaped,) = shape(content, NAMES)
    assert shaped.rows == len(made)
    assert [list(row.values()) for row in shaped.batch.to_pylist()] == [
        values for _, values in made if values is not None
    ]
    bad = [number for number, (_, values) in enumerate(made, 1) if values is None]
    assert [(reject.row, reject.line) for reject in shaped.rejects] == [(number, number + 1) for number in bad]
    assert [reject.record for reject in shaped.rejects] == [",".join(made[number - 1][0]) for number in bad]
    for reject in shaped.rejects:
        texts = made[reject.row - 1][0]
        if reject.column:
            assert reject.value == texts[int(reject.column[1:])]
        else:
            assert reject.reason == f"{len(texts)} values where the header has {len(KINDS)} columns"


def test_the_first_reason_of_a_row_is_given() -> None:
    (shaped,) = shape("a,b\nx,y\n", ["integer", "date"])
    assert [(reject.column, reject.value, reject.reason) for reject in shaped.rejects] == [("a", "x", "not a number")]


def test_null_where_none_may_be() -> None:
    (shaped,) = shape("a,b\n1,\n,2\n3,4\n", ["integer", "integer"], nullable=False)
    assert [(reject.row, reject.column, reject.value) for reject in shaped.rejects] == [
        (1, "b", None),
        (2, "a", None),
    ]
    assert shaped.batch.num_rows == 1


def test_rows_are_numbered_over_blocks() -> None:
    lines = [f"{number},{'y' * 50}" for number in range(1, 20_001)]
    lines[15_000] = "bad," + "y" * 50
    shaped = shape("a,b\n" + "\n".join(lines), ["integer", "text"])
    assert len(shaped) > 1, "the file must be larger than a block for this test to mean anything"
    rejects = [reject for item in shaped for reject in item.rejects]
    assert [(reject.row, reject.line) for reject in rejects] == [(15_001, 15_002)]
    assert sum(item.rows for item in shaped) == 20_000


def test_values_and_records_are_cut_to_a_length_that_can_be_kept() -> None:
    (shaped,) = shape("a,b\n" + "z" * 50_000 + ",1\n", ["integer", "integer"])
    (reject,) = shaped.rejects
    assert (len(reject.value or ""), len(reject.record)) == (1000, 10_000)


def rejected(number: int) -> Reject:
    return Reject("t.csv", number, number + 1, "a", "x", "not a number", "x")


@pytest.mark.parametrize(
    ("limit", "count", "read", "final", "passes"),
    [
        (0, 0, 10, True, True),
        (0, 1, 10, False, False),
        (5, 5, 10, True, True),
        (5, 6, 10, False, False),
        ("10%", 1, 10, True, True),
        ("10%", 2, 10, True, False),
        ("10%", 9, 10, False, True),
        ("0%", 1, 10, True, False),
    ],
)
def test_how_many_rejects_are_tolerated(limit: int | str, count: int, read: int, final: bool, passes: bool) -> None:
    kept: list[Reject] = []
    ledger = RejectLedger(limit, kept.extend)
    ledger.add([rejected(number) for number in range(1, count + 1)])
    assert len(kept) == ledger.count == count
    if passes:
        ledger.enforce(read, final=final)
        return
    with pytest.raises(UltravectError) as raised:
        ledger.enforce(read, final=final)
    assert raised.value.where["row"] == 1
    assert ("among the first" in raised.value.detail) == (not final)


@given(st.lists(st.integers(0, 1000), min_size=6, max_size=6), st.integers(-1, 1))
def test_a_tally_adds_up_or_not(counts: list[int], off: int) -> None:
    tally = Tally(sum(counts) + off, *counts)
    assert tally.adds_up == (off == 0)
