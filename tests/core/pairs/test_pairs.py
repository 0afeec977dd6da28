"""Any database to any other and back: every value is what it was."""

from __future__ import annotations

import pytest
from devtools.pairs import KINDS, Place, there_and_back


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
    assert any("without its zone" in one for one in trip.there.announced) == (target == "mariadb")
