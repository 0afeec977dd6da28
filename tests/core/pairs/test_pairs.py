"""Any database to any other and back: every value is what it was."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import pytest
from tests.core.engine.test_run import Heard
from tests.core.pairs.conftest import KINDS, Place
from tests.core.pairs.torture import Torture

from ultravect.core.engine.run import LegResult, run_leg
from ultravect.core.model.document import job_from_data

# where moments lose their zone, which is said on the way back
_BACK = {"mariadb": ["*", "instant at time zone 'UTC' as instant"]}


def copy(
    source: Place, target: Place, heard: Heard, from_: dict[str, Any], columns: Sequence[str] = ("*",), **into: Any
) -> LegResult:
    structure = {
        "ultravect": 1,
        "job": "leg",
        "from": {"connection": source.spec.name, **from_},
        "columns": list(columns),
        "into": {"connection": target.spec.name, **into},
    }
    return run_leg(job_from_data(structure), source.spec, target.spec, heard)


@pytest.mark.parametrize("source", KINDS)
@pytest.mark.parametrize("target", KINDS)
def test_there_and_back(places: dict[str, Place], source: str, target: str) -> None:
    a, b = places[source], places[target]
    there, back = f"torture_from_{source}", f"torture_by_{target}"
    b.drop(there)
    heard = Heard()
    result = copy(a, b, heard, {"table": "torture"}, table=there)
    assert (result.tally.inserted, heard.rejected) == (3, [])
    assert result.created
    # back into a table with the types of the first, so that only values can differ
    a.drop(back)
    a.sql(Torture(source).create.replace("torture", back))
    result = copy(b, a, heard, {"table": there}, _BACK.get(target, ["*"]), table=back)
    assert (result.tally.inserted, heard.rejected) == (3, [])
    assert a.different(back) == []
