"""Types told from bytes where they stand agree with types told from text, value by value."""

import numpy as np
import pyarrow as pa
import pytest
from hypothesis import given
from hypothesis import strategies as st

from ultravect.core.types.canonical import CanonicalType
from ultravect.core.types.from_text import convert_plain
from ultravect.core.types.inference import ColumnInference
from ultravect.core.types.spans import PAD, Spans, prove, text_proof
from ultravect.core.types.text_formats import TextFormats

_TYPES = (
    CanonicalType("bigint"),
    CanonicalType("decimal", precision=38, scale=2),
    CanonicalType("decimal", precision=38, scale=9),
    CanonicalType("date"),
    CanonicalType("timestamp"),
    CanonicalType("boolean"),
)
_NEAR = st.one_of(
    st.integers(-(10**17), 10**17).map(str),
    st.decimals(-9999, 9999, places=2).map(str),
    st.dates().map(str),
    st.datetimes().map(lambda moment: moment.isoformat(" ", "seconds")),
    st.text("0123456789-.:T eE+x", max_size=20),
    st.sampled_from(
        ["true", "FALSE", "", "2025-02-29", "2024-02-29", "0000-01-01", "007", "-", "-0", ".5", "5.", "ü"]
    ),
)


def spans_of(values: list[str]) -> Spans:
    words = [value.encode() for value in values]
    buffer = np.frombuffer(b"\n" * PAD + b"".join(words) + b"\n" * PAD, np.uint8)
    ends = PAD + np.cumsum([len(word) for word in words])
    return Spans(buffer, ends - [len(word) for word in words], ends)


@given(st.lists(_NEAR, min_size=1, max_size=30), st.sampled_from(_TYPES))
def test_what_bytes_prove_the_text_says_too(values: list[str], kind: CanonicalType) -> None:
    formats = TextFormats()
    proof = prove(spans_of(values), kind, formats)
    fit = [value for value, rest in zip(values, proof.rest, strict=True) if not rest and value]
    assert len(fit) == proof.fit
    assert proof.nulls == values.count("")
    if fit:
        converted = convert_plain(pa.array(fit), kind, formats)
        assert not converted.failed.any()
        found = converted.array.to_pylist()
        assert kind.name == "boolean" or (proof.low, proof.high) == (min(found), max(found))
        # what a type scan must not take for numbers
        assert not any(
            value.lstrip("-").startswith("0") and value.lstrip("-")[1:2].isdigit() for value in fit
        ) or kind.name in ("date", "timestamp")


@pytest.mark.parametrize(
    ("value", "kind"),
    [("120", _TYPES[0]), ("-7", _TYPES[0]), ("1234567890123456", _TYPES[0]), ("12.50", _TYPES[1]), ("-0.05", _TYPES[1]),
     ("7", _TYPES[1]), ("2026-06-01", _TYPES[3]), ("2026-06-01T23:59:59", _TYPES[4]), ("True", _TYPES[5])],
)  # fmt: skip
def test_plain_values_need_no_second_look(value: str, kind: CanonicalType) -> None:
    assert prove(spans_of([value] * 3), kind, TextFormats()).fit == 3


@given(st.lists(st.text(max_size=12), min_size=1, max_size=30))
def test_lengths_and_null_words_of_text(values: list[str]) -> None:
    nulls = ("", "n/a")
    proof = text_proof(spans_of(values), nulls, 0)
    inference = ColumnInference("c", TextFormats(nulls=nulls))
    inference.add(pa.array([*values, "x"]), np.arange(len(values) + 1))
    told = inference.result()
    assert (proof.fit, proof.nulls) == (told.values - 1, told.nulls)
