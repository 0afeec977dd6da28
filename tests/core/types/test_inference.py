"""Types found from values, and the evidence given for them."""

from __future__ import annotations

import numpy as np
import pyarrow as pa
import pytest
from hypothesis import given
from hypothesis import strategies as st

from ultravect.core.types.from_text import convert
from ultravect.core.types.inference.column import ColumnInference
from ultravect.core.types.inference.column_type import ColumnType
from ultravect.core.types.text_formats import TextFormats


def infer(*blocks: list[str | None], formats: TextFormats | None = None) -> ColumnType:
    inference = ColumnInference("c", formats or TextFormats())
    row = 1
    for block in blocks:
        inference.add(pa.array(block, pa.string()), np.arange(row, row + len(block)))
        row += len(block)
    return inference.result()


@pytest.mark.parametrize(
    ("values", "kind", "evidence"),
    [
        (["1", "2", "-3"], "integer", "3 whole numbers, -3 to 2"),
        (["1", "3000000000"], "bigint", "2 whole numbers, 1 to 3000000000"),
        (["1", "99999999999999999999"], "text", "digits beyond 64 bits, first in row 2"),
        (["1", "007"], "text", "digits with leading zeros, first in row 2: 007"),
        (["0", "10"], "integer", "2 whole numbers, 0 to 10"),
        (["1.5", "2", ""], "decimal(18,2)".replace("2)", "1)"), "2 numbers, at most 1 decimal, 1.5 to 2.0"),
        (["0.50", "12345678901234567.25"], "decimal(38,2)", "2 numbers, at most 2 decimals"),
        (["1e5", "2"], "double", "2 numbers with exponents"),
        (["true", "No", "yes"], "boolean", "3 words for true and false"),
        (["2026-01-01", "2026-12-31"], "date", "2 dates (YYYY-MM-DD), 2026-01-01 to 2026-12-31"),
        (["13.01.2026"], "date", "1 date (DD.MM.YYYY)"),
        (["13/01/2026", "01/02/2026"], "date", "2 dates (DD/MM/YYYY)"),
        (["01/13/2026", "01/02/2026"], "date", "2 dates (MM/DD/YYYY)"),
        (
            ["01/02/2026", "03/04/2026"],
            "text",
            "could be dates (DD/MM/YYYY) or dates (MM/DD/YYYY): no day is above 12",
        ),
        (["2026-01-01 10:00:00"], "timestamp", "1 timestamp (YYYY-MM-DD HH:MM:SS)"),
        (["2026-01-01T10:00:00Z"], "timestamptz", "1 timestamp (YYYY-MM-DD HH:MM:SS zone)"),
        (["07:30", "23:59:59"], "time", "2 times of day"),
        (["7:30 AM", "12:05 pm"], "time", "07:30:00 to 12:05:00"),
        (
            ["5/19/2006 0:00:00", "12/1/2006 13:05:00"],
            "timestamp",
            "(M/D/YYYY HH:MM:SS), 2006-05-19 00:00:00 to 2006-12-01 13:05:00",
        ),
        (["5/19/2006 12:05 AM", "1/2/2006 12:00:01 PM"], "timestamp", "2006-01-02 12:00:01 to 2006-05-19 00:05:00"),
        (["5/9/2006", "6/9/2006"], "text", "no day is above 12"),
        (["3-Jul-26", "14-Aug-99"], "date", "2 dates (D-MON-YY), 1999-08-14 to 2026-07-03"),
        (["July 3, 2026", "May 14, 2026"], "date", "2 dates (MONTH D, YYYY), 2026-05-14 to 2026-07-03"),
        (["2026-7-3", "2026-10-12"], "date", "2 dates (YYYY-M-D)"),
        (["0123456789abcdef0123456789abcdef"], "text", "text, at most 32 characters"),
        (["0.12345678901234568", "12.5"], "double", "measured numbers"),
        (["0.1000000000000000055511", "2.5"], "double", "measured numbers"),
        (["1.7976931348623157e308", "4.9e-324"], "double", "numbers with exponents"),
        (["1.000000000000000001", "2"], "decimal(38,18)", "at most 18 decimals"),
        (["47.123456", "8.5"], "decimal(18,6)", "at most 6 decimals"),
        (["1", "NA", "3"], "text", "2 whole numbers, and 'NA' 1 time, which may mean NULL"),
        (["$1,250.50", "$3.00"], "text", "2 decimal numbers with $"),
        (["12%", "7.5%"], "text", "2 decimal numbers with %"),
        (["1,234,567", "12,000"], "text", "with a comma between thousands"),
        (["123e4567-e89b-12d3-a456-426614174000"], "uuid", "1 UUID"),
        (["a", "bcd"], "text", "text, at most 3 characters"),
        (["", None, "  "], "text", "no values, so nothing says its type"),
        (["1", "2", "3", "x"], "text", "mixed: 3 whole numbers, 1 other (row 4: 'x')"),
        (["2026-01-01", "2026-01-02", "soon"], "text", "mixed: 2 dates (YYYY-MM-DD), 1 other (row 3: 'soon')"),
    ],
)
def test_type_and_evidence(values: list[str | None], kind: str, evidence: str) -> None:
    found = infer(values)
    assert (str(found.type), evidence in found.evidence) == (kind, True), found.evidence
    # the same, whether it comes in one block or value by value
    assert infer(*[[value] for value in values]).type == found.type


def test_words_of_the_layout_count() -> None:
    formats = TextFormats(nulls=("", "n/a"), decimal_mark=",", true_words=("ja",), false_words=("nein",))
    assert str(infer(["1,5", "n/a"], formats=formats).type) == "decimal(18,1)"
    assert str(infer(["ja", "nein"], formats=formats).type) == "boolean"
    assert infer(["1", "n/a"], formats=formats).nulls == 1


def test_exceptions_name_rows_across_blocks() -> None:
    found = infer(["1"] * 100, ["2", "x"], ["y"])
    assert list(found.exceptions) == [(102, "x"), (103, "y")]


@given(
    st.lists(
        st.one_of(
            st.none(),
            st.text(max_size=6),
            st.integers().map(str),
            st.dates().map(str),
            st.decimals(allow_nan=False, allow_infinity=False, places=2).map(str),
        ),
        max_size=20,
    ),
    st.integers(1, 5),
)
def test_every_value_converts_to_the_type_found(values: list[str | None], size: int) -> None:
    found = infer(*[values[start : start + size] for start in range(0, len(values), size)])
    formats = TextFormats(date_pattern=found.date_pattern or "YYYY-MM-DD")
    assert not convert(pa.array(values, pa.string()), found.type, formats).failed.any()
