"""What a load costs does not grow with its target: large tables are not counted, unless the job asks for it."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any

import pytest
from devtools.pairs import KINDS, Place
from tests.core.modes.writing import Writer

from ultravect.core.contracts.statements import noting
from ultravect.core.contracts.write_plan import COUNTED_ROWS
from ultravect.core.errors import UltravectError

_LARGE = COUNTED_ROWS + 1
# all rows of the table are looked at, whatever is asked of them
_WHOLE = re.compile(r"select count(_big)?\(\*\)[^(]*\bfrom\s+\S*\bmodes\b(?!.*(where|limit|top))", re.I)


def _large(places: dict[str, Place], kind: str, folder: Path) -> Writer:
    place = places[kind]
    place.drop("modes")
    writer = Writer(place, folder)
    writer.load([(number, f"v{number}") for number in range(_LARGE)], mode="append")
    return writer


MODES: list[dict[str, Any]] = [
    {"mode": "upsert", "keys": ["k"]},
    {"mode": "overwrite", "replaces": "k = 5"},
    {"mode": "append"},
    {"mode": "overwrite"},
]


@pytest.mark.parametrize("kind", KINDS)
def test_a_large_target_is_not_counted(places: dict[str, Place], tmp_path: Path, kind: str) -> None:
    writer = _large(places, kind, tmp_path)
    for into in MODES:
        with noting() as log:
            result = writer.load([(5, "new")], **into)
        counted = [ran["text"] for ran in log.longest() if _WHOLE.search(ran["text"])]
        assert counted == [], into
        # rows that are all deleted are counted by that
        deleted = into == {"mode": "overwrite"} and result.rows_before == _LARGE + 1
        assert result.rows_about or result.rows_before is None or deleted
    assert (result.tally.inserted, result.rows_after) == (1, 1)
    assert [(int(k), v) for k, v in writer.rows()] == [(5, "new")]


@pytest.mark.parametrize("kind", KINDS)
def test_one_that_is_counted_exactly_on_demand(places: dict[str, Place], tmp_path: Path, kind: str) -> None:
    writer = _large(places, kind, tmp_path)
    result = writer.load([(_LARGE, "new")], mode="append", count="exact")
    assert (result.rows_before, result.rows_after, result.rows_about) == (_LARGE, _LARGE + 1, False)
    result = writer.load([(5, "new")], mode="overwrite", count="exact")
    assert (result.rows_before, result.rows_after, result.rows_about) == (_LARGE + 1, 1, False)


def test_a_large_target_is_found_not_to_be_empty(places: dict[str, Place], tmp_path: Path) -> None:
    writer = _large(places, "postgresql", tmp_path)
    with pytest.raises(UltravectError, match="holds more than 10,000 rows"):
        writer.load([(5, "new")], mode="append", only_if_empty=True)
