"""A value has one text, whichever way it becomes one; and whole numbers are decimals, whatever else is in their block."""

from __future__ import annotations

import decimal
import hashlib
import uuid

import pyarrow as pa
from hypothesis import given
from hypothesis import strategies as st

from ultravect.core.types.arrow import as_text, convert_typed
from ultravect.core.types.canonical import CanonicalType, parse_type
from ultravect.core.types.text_formats import NO_NULLS
from ultravect.core.types.written import plain_text

UUID = CanonicalType("uuid").arrow


@given(st.lists(st.none() | st.uuids(), max_size=9), st.integers(0, 3))
def test_a_uuid_has_its_dashes(values: list[uuid.UUID | None], start: int) -> None:
    array = pa.array([None if value is None else value.bytes for value in values], UUID).slice(start)
    wanted = [None if value is None else str(value) for value in values][start:]
    assert as_text(array).to_pylist() == wanted
    assert plain_text(array).to_pylist() == wanted
    for kind in ("text", "text(36)"):
        assert convert_typed(array, parse_type(kind), NO_NULLS).array.to_pylist() == wanted
    back = convert_typed(as_text(array), CanonicalType("uuid"), NO_NULLS)
    assert back.array.equals(array)


@given(st.lists(st.none() | st.binary(max_size=20), max_size=9), st.integers(0, 3))
def test_other_bytes_are_their_digits(values: list[bytes | None], start: int) -> None:
    array = pa.array(values, pa.binary()).slice(start)
    assert as_text(array).to_pylist() == [None if value is None else value.hex() for value in values][start:]


@given(st.lists(st.none() | st.integers(-(2**63), 2**63 - 1), max_size=9), st.integers(1, 38), st.data())
def test_whole_numbers_are_decimals_where_they_fit(
    values: list[int | None], precision: int, data: st.DataObject
) -> None:
    """As they stand in a block in which all are whole; before, none of them fitted a type of fewer digits than an integer may have."""
    scale = data.draw(st.integers(0, precision))
    found = convert_typed(pa.array(values, pa.int64()), parse_type(f"decimal({precision},{scale})"), NO_NULLS)
    room = 10 ** (precision - scale)
    for value, read, failed in zip(values, found.array.to_pylist(), found.failed.tolist(), strict=True):
        fits = value is None or abs(value) < room
        assert failed is not fits
        assert read == (None if value is None or not fits else decimal.Decimal(value))


def test_what_is_hashed_is_the_text_with_dashes() -> None:
    value = uuid.UUID(int=7)
    text = as_text(pa.array([value.bytes], UUID))[0].as_py()
    assert hashlib.sha256(text.encode()).hexdigest() == hashlib.sha256(str(value).encode()).hexdigest()
