"""Any database to any other and back: every value is what it was."""

from __future__ import annotations

from pathlib import Path

import pytest
from devtools.natives import LIMITED, NATIVES, fates, make
from devtools.pairs import KINDS, Place, lake_place, there_and_back

from ultravect.core.engine.objects.connections import database_of


@pytest.mark.parametrize("source", KINDS)
@pytest.mark.parametrize("target", KINDS)
def test_there_and_back(places: dict[str, Place], source: str, target: str) -> None:
    trip = there_and_back(places[source], places[target])
    for copied in (trip.there, trip.back):
        assert copied.result is not None
        assert (copied.result.tally.inserted, copied.rejected) == (3, [])
    assert trip.there.result is not None
    assert trip.there.result.created
    assert trip.different == []
    # what changes the meaning of a value is said beforehand
    assert any("without its zone" in item for item in trip.there.announced) == (target == "mariadb")


@pytest.mark.parametrize("form", ["delta", "iceberg"])
@pytest.mark.parametrize("source", KINDS)
def test_into_a_lake_and_back(places: dict[str, Place], tmp_path: Path, source: str, form: str) -> None:
    trip = there_and_back(places[source], lake_place(tmp_path / "lake", form))
    for copied in (trip.there, trip.back):
        assert copied.result is not None
        assert (copied.result.tally.inserted, copied.rejected) == (3, [])
    assert trip.different == []


@pytest.mark.parametrize("source", KINDS)
@pytest.mark.parametrize("target", KINDS)
def test_no_value_of_any_native_type_changes_silently(
    places: dict[str, Place], natives: None, source: str, target: str
) -> None:
    # what the server writes by itself, or what its stand-in has not
    others = {"rowversion", "sql_variant", "geography", "hierarchyid"}
    assert {native for native, _ in NATIVES[source]} >= {*database_of(places[source].spec).dialect.natives} - others
    for fate in fates(places[source], places[target]):
        assert not fate.silent, (fate.native, fate.changed)
        assert fate.equal == fate.values or fate.native in LIMITED, (fate.native, fate.rejected, fate.changed)


@pytest.fixture(scope="module")
def natives(places: dict[str, Place]) -> None:
    for place in places.values():
        make(place)
