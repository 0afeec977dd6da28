"""Scanning: at the parser's speed or value by value, the same is found; samples and counts of what was seen."""

from __future__ import annotations

from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from tests.core.files import file_of

from ultravect.core.engine.look.profile import Profile
from ultravect.core.engine.look.sample import RandomRows
from ultravect.core.engine.plan.source import scan as scanning
from ultravect.core.engine.plan.source.scan import scan_columns
from ultravect.core.layouts.delimited import opened as delimited
from ultravect.core.layouts.delimited.opening import open_delimited
from ultravect.core.model.layout import DelimitedLayout
from ultravect.core.types.inference.column_type import ColumnType

VALUES = st.sampled_from(
    ["1", "0", "-7", "42", "007", "1.5", "0.25", "00.5", "1e3", "2E-2", "", '""', " 3", "true", "no", "2026-01-02", "2026-01-02 03:04", "x",
     "12345678901", "12345678901234567890", "0x10", '"5"', '"a,b"', "2026-02-30", "+4", "1.250", "nan"]
)  # fmt: skip


@st.composite
def columns(draw: st.DrawFn) -> list[list[str]]:
    """Columns that are mostly of one kind, with something else late in them."""
    made = []
    length = draw(st.integers(12, 40))
    for _ in range(draw(st.integers(1, 4))):
        usual = draw(st.lists(VALUES, min_size=1, max_size=2))
        column = [draw(st.sampled_from(usual)) for _ in range(length)]
        if draw(st.booleans()):
            column[draw(st.integers(6, length - 1))] = draw(VALUES)
        made.append(column)
    return made


def _found(content: bytes) -> list[tuple[Any, ...]]:
    reader = open_delimited(file_of("v.csv", content), DelimitedLayout(delimiter=",", header=True, encoding="utf-8"))
    found = scan_columns(reader, range(len(reader.names))).columns.values()
    return [_facts(item) for item in found]


def _facts(entry: ColumnType) -> tuple[Any, ...]:
    mixed = entry.evidence.startswith("mixed") or entry.evidence.startswith("text,")
    return (str(entry.type), entry.values, entry.nulls, "" if mixed else entry.evidence, entry.date_pattern)


@settings(max_examples=100, deadline=None)
@given(columns())
def test_both_ways_find_the_same(made: list[list[str]]) -> None:
    rows = zip(*made, strict=True)
    content = (
        ",".join(f"c{n}" for n in range(len(made))) + "\n" + "".join(",".join(row) + "\n" for row in rows)
    ).encode()
    with pytest.MonkeyPatch.context() as patch:
        # blocks of a few rows, so that most of the file is read after its types are known
        patch.setattr(delimited, "BLOCK_BYTES", (64, 64, 64))
        patch.setattr(delimited, "LATER_BLOCK_BYTES", 64)
        patch.setattr(scanning, "_CAREFUL_BLOCKS", 1)
        quick = _found(content)
        patch.setattr(scanning, "_CAREFUL_BLOCKS", 10**9)
        careful = _found(content)
    assert quick == careful


def test_random_rows_come_from_everywhere() -> None:
    content = ("n\n" + "".join(f"{number}\n" for number in range(200_000))).encode()
    reader = open_delimited(file_of("n.csv", content), DelimitedLayout())
    sample = RandomRows(200, seed=1)
    scan_columns(reader, [0], takers=[sample])
    values = [int(row[0] or 0) for row in sample.rows]
    assert values == sorted(values)
    assert len(set(values)) == 200
    assert sample.numbers == [value + 1 for value in values]
    assert sum(value < 100_000 for value in values) in range(60, 140)


@settings(max_examples=50, deadline=None)
@given(st.lists(st.one_of(st.none(), st.text("abé", max_size=3)), min_size=1, max_size=60))
def test_counts_are_right(values: list[str | None]) -> None:
    content = (
        "v,w\n" + "".join(f"{'' if value is None else chr(34) + value + chr(34)},x\n" for value in values)
    ).encode()
    reader = open_delimited(file_of("v.csv", content), DelimitedLayout(delimiter=",", header=True, encoding="utf-8"))
    profile = Profile(2)
    scan_columns(reader, [0, 1], takers=[profile])
    counts = profile.counts(0, "text", None, None)
    present = [value for value in values if value is not None]
    assert (counts.values, counts.nulls, counts.distinct) == (len(present), values.count(None), len(set(present)))
    assert counts.shortest == min(map(len, present), default=None)
    assert counts.longest == max(map(len, present), default=None)
    assert dict(counts.top).items() <= {v: present.count(v) for v in present}.items()
    assert [count for _, count in counts.top] == sorted((present.count(v) for v in set(present)), reverse=True)[:5]
