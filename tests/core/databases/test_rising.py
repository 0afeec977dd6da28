"""Keys that rise have no repeats; whatever else they do is for a query to find out."""

import datetime as dt

import pyarrow as pa
import pytest
from hypothesis import given
from hypothesis import strategies as st

from ultravect.core.loading.row_numbers import AscendingKeys


@given(st.lists(st.integers(-(2**63), 2**63 - 1), max_size=12), st.integers(1, 5))
def test_what_rises_has_no_repeats_in_any_batches(keys: list[int], size: int) -> None:
    watch = AscendingKeys(["k"])
    for start in range(0, len(keys), size):
        watch.see(pa.record_batch({"k": pa.array(keys[start : start + size], pa.int64())}))
    assert watch.so_far == (keys == sorted(set(keys)))


@pytest.mark.parametrize(
    ("keys", "values", "rises"),
    [
        (["k"], pa.array([dt.date(2026, 1, 1), dt.date(2026, 1, 2)]), True),
        (["k"], pa.array([1, 2, None]), False),
        # what a database finds equal of these, it alone knows
        (["k"], pa.array(["a", "b"]), False),
        (["k"], pa.array([1.0, 2.0]), False),
        (["k", "l"], pa.array([1, 2]), False),
        ([], pa.array([1, 2]), False),
    ],
)
def test_which_keys_are_looked_at(keys: list[str], values: pa.Array, rises: bool) -> None:
    watch = AscendingKeys(keys)
    watch.see(pa.record_batch({"k": values, "l": values}))
    assert watch.so_far is rises
