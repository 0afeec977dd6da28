"""How values are spread, and files that are alike: what is shown of them."""

from __future__ import annotations

from typing import Any

import pyarrow as pa
import pytest
from hypothesis import given
from hypothesis import strategies as st

from ultravect.core.engine.look.alike import LEAST, grouped
from ultravect.core.engine.look.histogram import BINS, histogram
from ultravect.core.patterns import matcher


@given(st.lists(st.integers(-(10**12), 10**12), min_size=2))
def test_each_value_is_in_one_part(values: list[int]) -> None:
    found = histogram(pa.array([*map(str, values), None]), "bigint")
    if len(set(values)) == 1:
        assert found is None
    else:
        assert found is not None
        assert (len(found), sum(one["count"] for one in found)) == (BINS, len(values))


@pytest.mark.parametrize(
    ("kind", "values", "low", "high"),
    [
        ("decimal(10,2)", ["1.50", "3.00"], "1.5", "3"),
        ("date", ["2026-07-01", "2026-07-17"], "2026-07-01", "2026-07-17"),
        ("timestamp", ["2026-07-01 02:00:00", "2026-07-01 18:00:00"], "2026-07-01 02:00:00", "2026-07-01 18:00:00"),
        ("text(4)", ["a", "b"], None, None),
        ("integer", ["1", "many"], None, None),
        ("double", ["nan", "inf"], None, None),
        ("integer", [], None, None),
    ],
)
def test_parts_have_ends_of_their_type(kind: str, values: list[str], low: str | None, high: str | None) -> None:
    found = histogram(pa.array(values, pa.string()), kind)
    assert (found[0]["low"], found[-1]["high"]) == (low, high) if found else low is None


def _file(name: str) -> dict[str, Any]:
    return {"name": name, "kind": "file", "size": 1, "modified": "2026-07-01T00:00:00"}


@given(st.lists(st.from_regex(r"[ab]{0,2}[0-9]{0,3}(\.csv)?", fullmatch=True).filter(bool), unique=True, max_size=40))
def test_every_file_is_in_one_line_and_patterns_match_no_others(names: list[str]) -> None:
    items = [_file(name) for name in sorted(names)]
    lines = grouped(items)
    single = [line["name"] for line in lines if line["kind"] == "file"]
    groups = [line for line in lines if line["kind"] == "files"]
    assert len(single) + sum(line["files"] for line in groups) == len(names)
    for line in groups:
        matched = [name for name in names if matcher(line["name"])(name)]
        assert line["files"] >= LEAST
        assert line["size"] == line["files"]
        assert len(matched) >= line["files"]
    # in the order in which they are listed
    assert single == sorted(single)
