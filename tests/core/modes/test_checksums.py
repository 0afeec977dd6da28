"""Rows are read again after the load, and each column's checksum is that of the rows sent; what differs is reported."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pyarrow as pa
import pytest
from devtools.pairs import KINDS, REAL, Place, copy
from devtools.torture import COLUMNS
from hypothesis import given
from hypothesis import strategies as st
from tests.core.modes.writing import Writer

from ultravect.core.errors import UltravectError
from ultravect.core.types.canonical import CanonicalType
from ultravect.core.types.checksum import column_sum

_TEXT = CanonicalType("text")


def total(values: list[str | None]) -> int:
    return column_sum(pa.array(values, pa.string()), _TEXT)


@given(
    st.lists(st.one_of(st.none(), st.text(max_size=12)), max_size=30), st.randoms(use_true_random=False), st.data()
)
def test_sums_add_up_whatever_the_order_and_tell_values_apart(values: list[Any], random: Any, data: Any) -> None:
    shuffled = list(values)
    random.shuffle(shuffled)
    cut = data.draw(st.integers(0, len(values)))
    assert total(shuffled) == total(values) == (total(values[:cut]) + total(values[cut:])) % 2**64
    assert column_sum(pa.array(["x", *values, "y"], pa.string()).slice(1, len(values)), _TEXT) == total(values)
    if values:
        other = [*values[:-1], f"{values[-1] or ''}!"]
        assert total(other) != total(values)


@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.parametrize("mode", ["append", "overwrite"])
def test_the_target_gives_back_what_was_sent(places: dict[str, Place], tmp_path: Path, kind: str, mode: str) -> None:
    writer = Writer(places[kind], tmp_path)
    writer.place.drop("modes")
    writer.load([(1, "soup"), (2, None)], checksums=True)
    result = writer.load([(3, "stew"), (4, "é 🏔"), (5, None)], mode=mode, checksums=True)
    assert result.checksums == {
        "k": f"{total(['3', '4', '5']):016x}", "v": f"{total(['stew', 'é 🏔', None]):016x}"
    }  # fmt: skip
    assert writer.load([(6, "tea"), (6, "tea")], keys=["k"], checksums=True).checksums is None
    check = writer.check([(6, "tea")], mode="upsert", keys=["k"], checksums=True)
    assert [finding.place for finding in check.findings if finding.code == "setting-unused"] == ["into.checksums"]


@pytest.mark.parametrize("source", REAL)
@pytest.mark.parametrize("target", REAL)
def test_every_type_has_the_same_sum_in_every_database(places: dict[str, Place], source: str, target: str) -> None:
    table = f"summed_from_{source}"
    places[target].drop(table)
    copied = copy(places[source], places[target], "torture", table, checksums=True)
    assert copied.result is not None
    assert copied.result.checksums is not None
    assert set(copied.result.checksums) >= {name for name, _, _ in COLUMNS} - {"doc"}


@pytest.mark.parametrize("kind", ["postgresql"])
def test_a_trigger_that_changes_values_is_reported(places: dict[str, Place], tmp_path: Path, kind: str) -> None:
    writer = Writer(places[kind], tmp_path)
    writer.place.drop("modes")
    writer.load([(1, "soup")])
    writer.place.sql(
        "CREATE OR REPLACE FUNCTION shout() RETURNS trigger LANGUAGE plpgsql AS "
        "$$BEGIN NEW.v = upper(NEW.v); RETURN NEW; END$$"
    )
    writer.place.sql("CREATE TRIGGER shout BEFORE INSERT ON modes FOR EACH ROW EXECUTE FUNCTION shout()")
    with pytest.raises(UltravectError) as raised:
        writer.load([(2, "stew")], checksums=True)
    assert raised.value.code == "checksum-differs"
    assert raised.value.detail.endswith("than were sent, in v")
    assert writer.rows() == [(1, "soup"), (2, "STEW")]
