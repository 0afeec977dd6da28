"""Types said in one pass over a block agree with types said from text, value by value."""

import csv
import datetime as dt
import io

import numpy as np
import pyarrow as pa
import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st
from tests.core.files import file_of

from ultravect.core.layouts.base import Rows, WantedColumn
from ultravect.core.layouts.delimited.opening import open_delimited
from ultravect.core.layouts.delimited.reader import DelimitedReader
from ultravect.core.model.layout import DelimitedLayout
from ultravect.core.types.canonical import parse_type
from ultravect.core.types.from_text import convert_plain
from ultravect.core.types.inference.column import ColumnInference
from ultravect.core.types.inference.proof import Proof
from ultravect.core.types.text_formats import TextFormats

KINDS = ("bigint", "decimal(38,2)", "decimal(38,9)", "double", "date", "timestamp", "timestamptz", "boolean")
PATTERNS = ("YYYY-MM-DD", "DD.MM.YYYY", "MM/DD/YYYY")
FITTING = {
    "bigint": st.integers(-(2**63), 2**63 - 1).map(str),
    "decimal(38,2)": st.decimals(-9999, 9999, places=2).map(str),
    "decimal(38,9)": st.decimals(-9999, 9999, places=9).map("{:f}".format),
    "double": st.floats(-1e18, 1e18).map(repr),
    "date": st.dates().map(str),
    "timestamp": st.datetimes().map(lambda moment: moment.isoformat(" ")),
    "timestamptz": st.datetimes(dt.datetime(2, 1, 1)).map(lambda moment: moment.isoformat("T", "seconds") + "+02:00"),
    "boolean": st.sampled_from(["true", "No", "YES", "n/a"]),
}
NEAR = st.one_of(
    st.integers(-(10**19), 10**19).map(str),
    st.decimals(-9999, 9999, places=2).map(str),
    st.floats(allow_nan=False, allow_infinity=False).map(repr),
    st.dates().map(str),
    st.dates().map(lambda day: day.strftime("%d.%m.%Y")),
    st.datetimes().map(lambda moment: moment.isoformat(" ")),
    st.datetimes().map(lambda moment: moment.isoformat("T", "seconds") + "+02:00"),
    st.text("0123456789-.:T eE+xZ", max_size=20),
    st.sampled_from(
        ["true", "FALSE", "", "n/a", "2025-02-29", "2024-02-29", "0000-01-01", "007", "-", "-0", ".5", "5.", "ü", '"']
    ),
)  # fmt: skip


def opened(content: bytes, **values: object) -> DelimitedReader:
    layout = DelimitedLayout.model_validate(
        {"format": "delimited", "delimiter": ",", "header": True, "encoding": "utf-8", "values": values}
    )
    return open_delimited(file_of("v.csv", content), layout)


def written(values: list[str], ending: str = "\n") -> bytes:
    """A column of the values, quoted where need be, next to another."""
    file = io.StringIO()
    csv.writer(file, lineterminator=ending).writerows([["v", "w"], *([value, "x"] for value in values)])
    return file.getvalue().encode()


def proof_of(values: list[str], kind: str, formats: TextFormats, ending: str = "\n") -> Proof | None:
    reader = opened(written(values, ending), nulls=list(formats.nulls))
    (block,) = reader.blocks()
    found = reader.prove(block, [WantedColumn(0, parse_type(kind), formats, plain=True)])
    assert found is not None
    return found[0]


@settings(max_examples=400, deadline=None)
@given(
    data=st.data(),
    kind=st.sampled_from(KINDS),
    pattern=st.sampled_from(PATTERNS),
    ending=st.sampled_from(["\n", "\r\n"]),
)
def test_what_a_block_proves_the_text_says_too(data: st.DataObject, kind: str, pattern: str, ending: str) -> None:
    formats = TextFormats(nulls=("", "n/a"), date_pattern=pattern)
    values = data.draw(st.lists(FITTING[kind] | FITTING[kind] | FITTING[kind] | NEAR, min_size=1, max_size=30))
    proof = proof_of(values, kind, formats, ending)
    if proof is None:
        return  # too few are of the type to say anything
    rest = proof.rest.to_pylist()
    assert [values[place] for place in proof.places] == rest
    fit = [
        value
        for place, value in enumerate(values)
        if place not in set(proof.places.tolist()) and value not in formats.nulls
    ]
    assert (len(fit), proof.nulls) == (proof.fit, sum(value in formats.nulls for value in values))
    if fit:
        converted = convert_plain(pa.array(fit), parse_type(kind), formats)
        assert not converted.failed.any()
        found = converted.array.to_pylist()
        assert kind == "boolean" or (proof.low, proof.high) == (min(found), max(found))
        # what a type scan must not take for numbers
        codes = [value for value in fit if value.lstrip("-").startswith("0") and value.lstrip("-")[1:2].isdigit()]
        assert not codes or kind in ("date", "timestamp", "timestamptz")


@pytest.mark.parametrize(
    ("value", "kind"),
    [("120", "bigint"), ("-9223372036854775808", "bigint"), ("12.50", "decimal(38,2)"), ("-0.05", "decimal(38,2)"),
     ("7", "decimal(38,2)"), ("1.5e-7", "double"), ("0.1", "double"), ("2026-06-01", "date"), ("True", "boolean"),
     ("2026-06-01T23:59:59", "timestamp"), ("2026-06-01 23:59:59.000001", "timestamp"), ("2026-06-01T23:59:59Z", "timestamptz")],
)  # fmt: skip
def test_plain_values_need_no_second_look(value: str, kind: str) -> None:
    proof = proof_of([value] * 3, kind, TextFormats())
    assert proof is not None
    assert (proof.fit, len(proof.rest)) == (3, 0)


@settings(deadline=None)
@given(st.lists(st.text(st.characters(exclude_categories=["Cs"]), max_size=12), min_size=1, max_size=30))
def test_lengths_and_null_words_of_text(values: list[str]) -> None:
    formats = TextFormats(nulls=("", "n/a"))
    values = [*values, "x", "n/a "]
    reader = opened(written(values), nulls=list(formats.nulls))
    inferences = [ColumnInference("c", formats), ColumnInference("c", formats)]
    numbers = np.arange(len(values)) + 1
    for block in reader.blocks():
        found = reader.prove(block, [WantedColumn(0, parse_type("text"), formats, plain=True)])
        assume(found is not None)
        assert found is not None
        assume(found[0] is not None)
        assert found[0] is not None
        inferences[0].take(found[0], numbers)
    inferences[1].add(pa.array(values), numbers)
    first, second = (inference.result() for inference in inferences)
    assert (first.values, first.nulls, first.longest) == (second.values, second.nulls, second.longest)


CELL = st.text(st.characters(codec="utf-8", exclude_characters="\0\r"), max_size=6) | st.sampled_from(
    ['"', ',"', "\n", "\r\n", "n/a", ""]
)


@settings(deadline=None, max_examples=200)
@given(
    st.lists(
        st.tuples(*[CELL] * 3),
        min_size=1, max_size=10,
    ),
    st.sampled_from([csv.QUOTE_MINIMAL, csv.QUOTE_ALL, csv.QUOTE_NONNUMERIC]),
)  # fmt: skip
def test_texts_in_quotes_or_not_are_read_as_the_library_reads_them(rows: list[tuple[str, ...]], quoting: int) -> None:
    file = io.StringIO()
    csv.writer(file, lineterminator="\n", quoting=quoting).writerows([("a", "b", "c"), *rows])
    reader = opened(file.getvalue().encode(), nulls=["", "n/a"])
    for block in reader.blocks():
        typed = reader.read_typed(block, [WantedColumn(at, parse_type("text"), reader.formats) for at in range(3)])
        careful: Rows = reader.read(block)
        if typed is not None:
            assert not careful.bad
            assert typed.to_pydict() == {
                name: column.cast(pa.string()).to_pylist()
                for name, column in zip("012", careful.values.columns, strict=True)
            }


@pytest.mark.parametrize(
    "body", [b"1,2\n\n3,4\n", b"1,2\r3,4\n", b"1,2,3\n", b"1\n", b'"1,2\n3,4\n', b'"1"x,2\n', b"1,2\n3,\n4"]
)
def test_rows_that_are_not_plain_are_left_to_the_careful_way(body: bytes) -> None:
    reader = opened(b"a,b\n" + b"5,6\n")
    (block,) = reader.blocks()
    odd = type(block)(block.path, body, 2, block.dialect)  # type: ignore[call-arg,attr-defined]
    wanted = [WantedColumn(at, parse_type("text"), reader.formats) for at in range(2)]
    assert reader.read_typed(odd, wanted) is None
    assert reader.prove(odd, wanted) is None
