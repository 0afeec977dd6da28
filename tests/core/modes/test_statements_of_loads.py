"""How many statements a small load asks of its target, from planning to verifying."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest
from devtools.pairs import Place
from tests.core.modes.writing import Writer

from ultravect.core.contracts.receipt import RECEIPTS
from ultravect.core.contracts.statements import noting

_FIRST = [(number, "x") for number in range(5)]
_NEXT = [(number, "y") for number in range(3, 8)]


@pytest.mark.parametrize(
    ("kind", "mode", "most"),
    [
        ("postgresql", "append", 12),
        ("postgresql", "overwrite", 14),
        ("postgresql", "upsert", 21),
        ("mariadb", "append", 16),
        # each poll of a lock that is handed over is one more
        ("mariadb", "overwrite", 34),
        ("mariadb", "upsert", 22),
    ],
)
def test_a_small_load_asks_little(places: dict[str, Place], tmp_path: Path, kind: str, mode: str, most: int) -> None:
    place = places[kind]
    place.drop("modes")
    place.sql("CREATE TABLE modes (k integer primary key, v varchar(9))")
    writer = Writer(place, tmp_path)
    into: dict[str, Any] = {"mode": mode} | ({"keys": ["k"]} if mode == "upsert" else {})
    writer.load(_FIRST, **into)
    with noting() as log:
        writer.load([(number + 10, value) for number, value in _NEXT] if mode == "append" else _NEXT, **into)
    assert sum(statement["count"] for statement in log.longest()) <= most


@pytest.mark.parametrize("kind", ["postgresql", "mariadb", "sqlite", "duckdb"])
def test_old_receipts_are_removed_by_some_of_the_loads_after_them(
    places: dict[str, Place], tmp_path: Path, kind: str
) -> None:
    place = places[kind]
    place.drop("modes")
    writer = Writer(place, tmp_path)
    writer.load(_FIRST, run="old")
    place.sql(f"UPDATE {RECEIPTS} SET loaded_at = '2020-01-01 00:00:00' WHERE run = 'old'")
    for number in range(60):
        writer.load([], run=f"young-{number}")
        if not place.sql(f"SELECT 1 FROM {RECEIPTS} WHERE run = 'old'"):
            break
    left = {run for (run,) in place.sql(f"SELECT run FROM {RECEIPTS} WHERE run = 'old' OR run LIKE 'young-%'")}
    assert left == {f"young-{earlier}" for earlier in range(number + 1)}
