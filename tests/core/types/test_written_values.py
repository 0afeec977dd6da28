"""Thousands marks, time zones, and values that come typed: what they become, and what does not fit."""

from __future__ import annotations

import datetime as dt
import decimal
from typing import Any

import pyarrow as pa
import pytest
from hypothesis import given
from hypothesis import strategies as st

from ultravect.core.types.arrow import as_text, canonical_of, convert_typed
from ultravect.core.types.canonical import parse_type
from ultravect.core.types.from_text import convert
from ultravect.core.types.text_formats import TextFormats

D = decimal.Decimal
SWISS = TextFormats(thousands="'")
GERMAN = TextFormats(decimal_mark=",", thousands=".")
ZURICH = TextFormats(time_zone="Europe/Zurich")


@pytest.mark.parametrize(
    ("kind", "text", "value", "formats"),
    [
        ("integer", "1'250", 1250, SWISS),
        ("integer", "12'50", None, SWISS),
        ("integer", "'125", None, SWISS),
        ("integer", "-1'250'000", -1_250_000, SWISS),
        ("decimal(10,2)", "1'250.50", D("1250.50"), SWISS),
        ("decimal(10,2)", "1.250,50", D("1250.50"), GERMAN),
        ("decimal(10,2)", "1250,50", D("1250.50"), GERMAN),
        ("decimal(10,2)", "1.25,50", None, GERMAN),
        ("double", "1.250.000,5", 1250000.5, GERMAN),
        ("timestamptz", "2026-07-01 12:00", dt.datetime(2026, 7, 1, 10, tzinfo=dt.UTC), ZURICH),
        ("timestamptz", "2026-01-01 12:00", dt.datetime(2026, 1, 1, 11, tzinfo=dt.UTC), ZURICH),
        ("timestamptz", "2026-01-01 12:00Z", dt.datetime(2026, 1, 1, 12, tzinfo=dt.UTC), ZURICH),
        ("timestamptz", "2026-03-29 02:30", None, ZURICH),  # the clock never showed it
        ("timestamptz", "2026-10-25 02:30", None, ZURICH),  # the clock showed it twice
        ("timestamptz", "2026-01-01 12:00", None, TextFormats()),
    ],
)
def test_text(kind: str, text: str, value: Any, formats: TextFormats) -> None:
    converted = convert(pa.array([text]), parse_type(kind), formats)
    assert (converted.array.to_pylist(), bool(converted.failed[0])) == ([value], value is None)


@pytest.mark.parametrize(
    ("values", "kind", "found"),
    [
        (pa.array([1, 300], pa.int64()), "smallint", [1, 300]),
        (pa.array([1, 70_000], pa.int64()), "smallint", [1, None]),
        (pa.array([1.0, 2.5]), "integer", [1, None]),
        (pa.array([1.5, float("nan")]), "decimal(6,2)", [D("1.50"), None]),
        (pa.array([D("1.25"), D("1.255")]), "decimal(6,2)", [D("1.25"), None]),
        (pa.array([D("1.25")]), "double", [1.25]),
        (pa.array([1e300]), "real", [None]),
        (pa.array([True, None]), "text", ["true", None]),
        (pa.array([D("10.500"), D("0.0000001"), D("-3")]), "text", ["10.5", "0.0000001", "-3"]),
        (pa.array([2.0, 0.5]), "text", ["2.0", "0.5"]),
        (pa.array([dt.date(2026, 1, 2)]), "timestamp", [dt.datetime(2026, 1, 2)]),
        (pa.array([dt.datetime(2026, 1, 2, 3)]), "date", [None]),
        (pa.array([dt.datetime(2026, 1, 2)]), "date", [dt.date(2026, 1, 2)]),
        (pa.array([dt.datetime(2026, 1, 2)], pa.timestamp("ns")), "timestamp", [dt.datetime(2026, 1, 2)]),
        (pa.array([dt.datetime(2026, 1, 2)]), "timestamptz", [None]),
        (pa.array(["a", "b", "a"]).dictionary_encode(), "text", ["a", "b", "a"]),
        (pa.array([b"\x00\xff"]), "text", ["00ff"]),
        (pa.array([[1, 2], None]), "json", ["[1, 2]", None]),
        (pa.array(["7", "x"]), "integer", [7, None]),
    ],
)
def test_typed_values(values: pa.Array, kind: str, found: list[Any]) -> None:
    converted = convert_typed(values, parse_type(kind), TextFormats())
    assert converted.array.to_pylist() == found
    assert converted.failed.tolist() == [
        new is None and old is not None for new, old in zip(found, values.to_pylist(), strict=True)
    ]


@given(st.lists(st.one_of(st.none(), st.decimals(-(10**15), 10**15, places=6)), max_size=10))
def test_decimals_are_written_with_all_their_digits_and_no_more(values: list[D | None]) -> None:
    texts = as_text(pa.array(values, pa.decimal128(38, 12))).to_pylist()
    assert [None if text is None else D(text) for text in texts] == values
    assert not any(
        "E" in text or text.endswith(".") or ("." in text and text.endswith("0")) for text in texts if text
    )


@pytest.mark.parametrize(
    ("kind", "name"),
    [
        (pa.int8(), "smallint"), (pa.uint16(), "integer"), (pa.uint32(), "bigint"), (pa.uint64(), "decimal(20,0)"),
        (pa.decimal128(10, 2), "decimal(10,2)"), (pa.decimal256(60, 2), "decimal"), (pa.float16(), "real"), (pa.date64(), "date"),
        (pa.timestamp("ns"), "timestamp"), (pa.timestamp("s", "Europe/Zurich"), "timestamptz"), (pa.time32("s"), "time"),
        (pa.binary(16), "binary(16)"), (pa.large_string(), "text"), (pa.dictionary(pa.int8(), pa.string()), "text"), (pa.null(), "text"),
        (pa.list_(pa.int8()), None), (pa.struct([("a", pa.int8())]), None), (pa.uuid(), "uuid"),
    ],
)  # fmt: skip
def test_types_of_arrow(kind: pa.DataType, name: str | None) -> None:
    found = canonical_of(kind)
    assert (str(found) if found else None) == name
