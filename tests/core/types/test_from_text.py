"""Text into types: what converts, what does not, and why."""

from __future__ import annotations

import datetime as dt
import decimal
import re
import uuid

import numpy as np
import pyarrow as pa
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from tests.core.files import file_of

from ultravect.core.engine.plan.leg_plan import ColumnPlan
from ultravect.core.engine.run.shape import Shaper
from ultravect.core.layouts.delimited.opening import open_delimited
from ultravect.core.model.layout import DelimitedLayout
from ultravect.core.types.canonical import parse_type
from ultravect.core.types.from_text import convert
from ultravect.core.types.misfits import explain
from ultravect.core.types.text_formats import TextFormats

ISO = TextFormats()
GERMAN = TextFormats(
    decimal_mark=",", date_pattern="DD.MM.YYYY", true_words=("ja",), false_words=("nein",), nulls=("", "n/a")
)
UTC = dt.UTC
D = decimal.Decimal


@pytest.mark.parametrize(
    ("kind", "text", "value", "formats"),
    [
        ("smallint", "-32768", -32768, ISO),
        ("integer", " 7 ", 7, ISO),
        ("integer", "+7", 7, ISO),
        ("integer", "", None, ISO),
        ("integer", "n/a", None, GERMAN),
        ("bigint", "9223372036854775807", 2**63 - 1, ISO),
        ("decimal(10,2)", "1.500", D("1.50"), ISO),
        ("decimal(10,2)", "-0.5", D("-0.50"), ISO),
        ("decimal(10,2)", ".0", D("0.00"), ISO),
        ("decimal(10,2)", "-.500", D("-0.50"), ISO),
        ("decimal(10,2)", "1234,5", D("1234.50"), GERMAN),
        ("decimal(38,0)", "9" * 38, D("9" * 38), ISO),
        ("decimal", "1.10", "1.10", ISO),
        ("double", "1e5", 1e5, ISO),
        ("real", "0.5", 0.5, ISO),
        ("double", "-inf", float("-inf"), ISO),
        ("boolean", "TRUE", True, ISO),
        ("boolean", "nein", False, GERMAN),
        ("date", "2024-02-29", dt.date(2024, 2, 29), ISO),
        ("date", "31.12.2026", dt.date(2026, 12, 31), GERMAN),
        ("time", "23:59:59.5", dt.time(23, 59, 59, 500000), ISO),
        ("time", "07:30", dt.time(7, 30), ISO),
        ("timestamp", "2026-01-02T03:04:05.123456", dt.datetime(2026, 1, 2, 3, 4, 5, 123456), ISO),
        ("timestamp", "02.01.2026 03:04", dt.datetime(2026, 1, 2, 3, 4), GERMAN),
        ("timestamptz", "2026-01-02 03:04:05+01:00", dt.datetime(2026, 1, 2, 2, 4, 5, tzinfo=UTC), ISO),
        ("timestamptz", "2026-01-02 03:04:05Z", dt.datetime(2026, 1, 2, 3, 4, 5, tzinfo=UTC), ISO),
        ("uuid", "123E4567-e89b-12d3-a456-426614174000", bytes.fromhex("123e4567e89b12d3a456426614174000"), ISO),
        ("text", " kept ", " kept ", ISO),
        ("text", "", "", ISO),
    ],
)
def test_what_converts(kind: str, text: str, value: object, formats: TextFormats) -> None:
    converted = convert(pa.array([text]), parse_type(kind), formats)
    assert converted.array.to_pylist() == [value]
    assert not converted.failed.any()


@pytest.mark.parametrize(
    ("kind", "text", "reason", "formats"),
    [
        ("smallint", "32768", "out of range for smallint: -32768 to 32767", ISO),
        ("integer", "3000000000", "out of range for integer", ISO),
        ("bigint", "9" * 25, "out of range for bigint: 64 bits", ISO),
        ("integer", "1.5", "not a whole number", ISO),
        ("integer", "0x1F", "not a number", ISO),
        ("integer", "1 000", "not a number", ISO),
        ("decimal(10,2)", "1.555", "more than 2 decimals", ISO),
        ("decimal(10,2)", "123456789.5", "more than 8 digits before the decimal mark", ISO),
        ("decimal(10,2)", "1.50", "not a number", GERMAN),
        ("double", "many", "not a number", ISO),
        ("double", "1e400", "out of range for double", ISO),
        ("real", "-1e39", "out of range for real", ISO),
        ("boolean", "1", "not one of true, yes, false, no", ISO),
        ("date", "2026-02-30", "or no such day", ISO),
        ("date", "30.02.2026", "not a date written as DD.MM.YYYY, or no such day", GERMAN),
        ("date", "2026-01-02 00:00:00", "not a date", ISO),
        ("time", "24:00:00", "not a time of day", ISO),
        ("timestamp", "2026-01-02T03:04:05Z", "has a time zone", ISO),
        ("timestamptz", "2026-01-02 03:04:05", "has no time zone", ISO),
        ("uuid", "123", "not a value of type uuid", ISO),
    ],
)
def test_what_does_not_and_why(kind: str, text: str, reason: str, formats: TextFormats) -> None:
    wanted = parse_type(kind)
    # among good values: only the bad one fails
    good = {"date": "01.01.2026" if formats is GERMAN else "2026-01-01"}.get(kind, "")
    converted = convert(pa.array([good, text, None]), wanted, formats)
    assert converted.failed.tolist() == [False, True, False]
    assert converted.array[1].as_py() is None
    assert reason in explain(text, wanted, formats)


@pytest.mark.parametrize(
    "text", ["decimal(39,2)", "decimal(4,5)", "integer(3)", "text(0)", "varchar", "time(9)", "date(1,2)", "", "a b"]
)
def test_types_that_are_none(text: str) -> None:
    with pytest.raises(ValueError, match=r"\w"):
        parse_type(text)


@pytest.mark.parametrize("text", ["decimal(10,2)", "decimal", "text(4)", "timestamptz(3)", "integer"])
def test_types_are_written_as_read(text: str) -> None:
    assert str(parse_type(text)) == text


@given(st.lists(st.none() | st.uuids(), min_size=1), st.integers(0, 3))
def test_uuids_with_and_without_hyphens(values: list[uuid.UUID | None], start: int) -> None:
    """Also from a slice, and with others among them."""
    texts = [None if value is None else (str(value) if value.int % 2 else value.hex.upper()) for value in values]
    array = pa.array(["not one", *texts], pa.string()).slice(min(start, len(values)))
    converted = convert(array, parse_type("uuid"), ISO)
    expected = [None, *(value and value.bytes for value in values)][min(start, len(values)) :]
    assert converted.array.to_pylist() == expected
    assert converted.failed.tolist() == [text == "not one" for text in array.to_pylist()]


NUMBERISH = st.text(alphabet="0123456789+-.eE xnaif", max_size=12) | st.sampled_from(
    ["0x1F", "0X10", "1e400", "-1e39", "inf", "NaN", "1.", ".5", "+.5", "-0", "1e2", "1e-2", "9" * 20]
)
DATEISH = st.from_regex(
    r"[12][0-9]{3}-[01][0-9]-[0-3][0-9]([ T][0-2][0-9]:[0-5][0-9](:[0-9]{2}(\.[0-9]{1,7})?)?(Z|\+0[0-9]:?00)?)?",
    fullmatch=True,
)
WORDS = st.sampled_from(["true", "TRUE", "True", "tRUE", "yes", "no", "n", "0", "1", "", " true"])


@pytest.mark.parametrize(
    "kind",
    [
        "smallint",
        "integer",
        "bigint",
        "decimal(5,2)",
        "decimal(38,10)",
        "real",
        "double",
        "boolean",
        "date",
        "timestamp",
        "timestamptz",
        "text(5)",
    ],
)
@settings(max_examples=150, deadline=None)
@given(
    data=st.data(), quoted=st.booleans(), written=st.sampled_from([{}, {"dates": "DD.MM.YYYY", "decimal_mark": ","}])
)
def test_the_fast_way_and_the_careful_way_agree(
    kind: str, data: st.DataObject, quoted: bool, written: dict[str, str]
) -> None:
    """What is taken at once is what the kernels make of it; and the kernels take what was meant."""
    source = DATEISH if kind.startswith(("date", "time")) else WORDS if kind == "boolean" else NUMBERISH
    values = data.draw(st.lists(source, min_size=1, max_size=8))
    if written:
        values = [re.sub(r"(\d{4})-(\d\d)-(\d\d)", r"\3.\2.\1", value.replace(".", ",")) for value in values]
    form = '"{}";x\n' if quoted else "{};x\n"
    content = ("v;w\n" + "".join(form.format(value) for value in values)).encode()
    layout = DelimitedLayout.model_validate(
        {"format": "delimited", "delimiter": ";", "header": True, "encoding": "utf-8", "values": written}
    )
    reader = open_delimited(file_of("v.csv", content), layout)
    shaper = Shaper(reader, [ColumnPlan(0, "v", "v", parse_type(kind), "", reader.formats)])
    block = next(reader.blocks())
    shaper._path = block.path
    careful = shaper._sort_out(block, reader.read(block))
    shaped = shaper.shape(block)
    assert list(shaped.rejects) == list(careful.rejects)
    assert shaped.index.tolist() == careful.index.tolist()
    assert shaped.batch.equals(careful.batch) or _same_with_nan(shaped.batch, careful.batch)
    assert careful.rows == shaped.rows == len(values) == careful.batch.num_rows + len(careful.rejects)


def _same_with_nan(item: pa.RecordBatch, other: pa.RecordBatch) -> bool:
    left, right = (np.asarray(batch.column(0).to_numpy(zero_copy_only=False), dtype=float) for batch in (item, other))
    return np.array_equal(left, right, equal_nan=True)
