"""A UUID that becomes text is the same text in every target, in each load, and in expressions."""

from __future__ import annotations

import hashlib
import uuid

import pytest
from devtools.legs import run_leg
from devtools.pairs import KINDS, Copied, Place

from ultravect.core.model.document import read_job

_TEXTS = {
    "mariadb": "varchar(36)",
    "sqlserver": "nvarchar(36)",
    "postgresql": "varchar(36)",
    "sqlite": "text",
    "duckdb": "varchar",
}
_KEYS = [uuid.UUID(int=n << 64 | 0xAB_00) for n in (1, 2, 3)]


@pytest.mark.parametrize("kind", KINDS)
def test_as_the_key_of_a_table_that_is_there(places: dict[str, Place], kind: str) -> None:
    """As it was found: without dashes, so that the second upsert inserted every row again."""
    source, target = places["postgresql"], places[kind]
    source.drop("passes")
    source.sql("CREATE TABLE passes (id uuid, n integer)")
    for number, key in enumerate(_KEYS):
        source.sql(f"INSERT INTO passes VALUES ('{key}', {number})")
    target.drop("passes_of_text")
    if kind in _TEXTS:
        text = _TEXTS[kind]
        target.sql(f"CREATE TABLE passes_of_text (id {text}, n integer, shown {text}, hashed varchar(64))")
    job, _ = read_job(
        "ultravect: 1\njob: passes\nfrom: {connection: source, table: passes}\n"
        "columns:\n- id text(36)\n- n\n- cast(id as text) as shown text(36)\n- sha256(cast(id as text)) as hashed text(64)\n"
        "into: {connection: target, table: passes_of_text, mode: upsert, keys: [id]}\n"
    )
    assert run_leg(job, source.spec, target.spec, Copied()).tally.inserted == 3
    again = run_leg(job, source.spec, target.spec, Copied()).tally
    assert (again.inserted, again.unchanged + again.updated) == (0, 3)
    rows = target.sql("SELECT id, shown, hashed FROM passes_of_text ORDER BY n")
    assert [tuple(row) for row in rows] == [
        (str(key), str(key), hashlib.sha256(str(key).encode()).hexdigest()) for key in _KEYS
    ]
    target.drop("passes_of_text")


@pytest.mark.parametrize("kind", ["postgresql", "mariadb", "sqlserver", "duckdb"])
def test_rows_are_chosen_by_one(places: dict[str, Place], kind: str) -> None:
    """As a text with dashes, as everywhere: whatever the database compares its own type with."""
    native = "uniqueidentifier" if kind == "sqlserver" else "uuid"
    source, target = places[kind], places["postgresql"]
    source.drop("chosen_passes")
    source.sql(f"CREATE TABLE chosen_passes (id {native}, n integer)")
    for number, key in enumerate(_KEYS):
        source.sql(f"INSERT INTO chosen_passes VALUES ('{key}', {number})")
    first, second, _ = map(str, _KEYS)
    for where, found in (
        (f"id = '{second}'", [1]),
        (f"id <> '{second}'", [0, 2]),
        (f"id = '{second.upper()}'", []),
        (f"id in ('{first}', 'none')", [0]),
        (f"id >= '{second}'", [1, 2]),
        ("id like '%-0002-%' or id = 'x'", [1]),
        ("id is null", []),
    ):
        job, _ = read_job(
            f'ultravect: 1\njob: chosen\nfrom: {{connection: source, table: chosen_passes, where: "{where}"}}\n'
            "into: {connection: target, table: chosen_here, mode: overwrite}\n"
        )
        target.drop("chosen_here")
        run_leg(job, source.spec, target.spec, Copied())
        assert [n for (n,) in target.sql("SELECT n FROM chosen_here ORDER BY n")] == found, where
    target.drop("chosen_here")
