"""Comparing: what differs is exactly what differs, between all kinds, whatever their types write; and what changes meanwhile is none of it."""

from __future__ import annotations

import csv
import json
import os
import random
import subprocess
import sys
from collections.abc import Callable, Mapping
from decimal import Decimal
from pathlib import Path

import pyarrow as pa
import pyarrow.parquet as pq
import pytest
from devtools.legs import run_leg
from devtools.pairs import KINDS, Copied, Place

from ultravect.core.engine.objects.connections import ConnectionSpec
from ultravect.core.engine.operate.compare import Asked, Comparison, compare_job, compare_objects
from ultravect.core.engine.operate.row_hashes import siphash_of
from ultravect.core.errors import UltravectError
from ultravect.core.model.document import job_from_data

NOW = Asked(settle_seconds=0)
TYPES = {
    "postgresql": "id integer, worth numeric(10,2), changed timestamp, note text",
    "mariadb": "id int, worth decimal(10,2), changed datetime(6), note varchar(80)",
    "sqlite": "id integer, worth decimal(10,2), changed timestamp, note text",
    "duckdb": "id integer, worth decimal(10,2), changed timestamp, note varchar",
    "sqlserver": "id int, worth decimal(10,2), changed datetime2, note nvarchar(80)",
}
NOTES = ["", "a", "A", "a ", "é", "e\u0301", "😀", "it's", "x" * 70, None]
Row = tuple[int, Decimal | None, str | None, str | None]


def random_rows(chance: random.Random, count: int) -> list[Row]:
    return [
        (
            number,
            chance.choice([None, Decimal(chance.randint(-500, 500)) / 100]),
            chance.choice([None, f"2026-07-0{chance.randint(1, 9)} 0{chance.randint(0, 9)}:30:00"]),
            chance.choice(NOTES),
        )
        for number in range(count)
    ]


def changed_rows(chance: random.Random, rows: list[Row]) -> list[Row]:
    """Some are gone, some other, some new."""
    kept = [row for row in rows if chance.random() > 0.1]
    for at in chance.sample(range(len(kept)), min(len(kept), 4)):
        kept[at] = (kept[at][0], *random_rows(chance, 1)[0][1:])
    new = [(1000 + number, *row[1:]) for number, row in enumerate(random_rows(chance, chance.randint(0, 3)))]
    chance.shuffle(kept)
    return [*kept, *new]


def fill(place: Place, table: str, rows: list[Row]) -> None:
    def literal(value: object) -> str:
        if value is None:
            return "NULL"
        quote = "N'" if place.kind == "sqlserver" else "'"
        return str(value) if isinstance(value, int | Decimal) else quote + str(value).replace("'", "''") + "'"

    place.drop(table)
    place.sql(f"CREATE TABLE {table} ({TYPES[place.kind]})")
    for start in range(0, len(rows), 100):
        values = ", ".join(f"({', '.join(map(literal, row))})" for row in rows[start : start + 100])
        place.sql(f"INSERT INTO {table} VALUES {values}")


def expected(source: list[Row], target: list[Row]) -> dict[int, str]:
    left, right = {row[0]: row for row in source}, {row[0]: row for row in target}
    places = {
        key: "both" if key in left and key in right else "source" if key in left else "target" for key in left | right
    }
    return {key: place for key, place in places.items() if left.get(key) != right.get(key)}


def found(result: Comparison) -> dict[int, str]:
    assert result.complete
    assert len(result.differences) == result.only_source + result.only_target + result.different
    return {int(item.keys["id"] or 0): item.where for item in result.differences}


@pytest.mark.parametrize("source", KINDS)
@pytest.mark.parametrize("target", KINDS)
def test_what_differs_is_found(places: dict[str, Place], source: str, target: str) -> None:
    chance = random.Random(f"{source} {target}")
    for count in (0, 3, 120):
        rows = random_rows(chance, count)
        others = changed_rows(chance, rows)
        fill(places[source], "compared_a", rows)
        fill(places[target], "compared_b", others)
        sides = (places[source].spec, "compared_a"), (places[target].spec, "compared_b")
        result = compare_objects(*sides, Asked(keys=["id"], settle_seconds=0))
        assert found(result) == expected(rows, others)
        assert (result.rows_source, result.rows_target, result.rejected) == (len(rows), len(others), 0)
        different = [item for item in result.differences if item.where == "both"]
        assert all(one != other for item in different for one, other in item.values.values())
        assert result.equal == (expected(rows, others) == {})


@pytest.mark.parametrize("source", KINDS)
@pytest.mark.parametrize("target", KINDS)
def test_what_a_load_has_copied_is_equal(places: dict[str, Place], source: str, target: str) -> None:
    """Of every type, with its extreme values."""
    places[target].drop("compared_all")
    into = {"connection": places[target].spec.name, "table": "compared_all", "mode": "overwrite"}
    data = {
        "ultravect": 1,
        "job": "c",
        "from": {"connection": places[source].spec.name, "table": "torture"},
        "into": into,
    }
    job = job_from_data(data)
    run_leg(job, places[source].spec, places[target].spec, Copied())
    result = compare_job(job, places[source].spec, places[target].spec, None, NOW)
    assert [item.as_dict() for item in result.differences] == []
    assert (result.equal, result.rows_source) == (True, 3)


def _csv(path: Path, rows: list[Row]) -> None:
    with path.open("w", newline="") as file:
        csv.writer(file, delimiter=";").writerows(
            [["note", "worth", "id", "changed"], *((n, w, i, c) for i, w, c, n in rows)]
        )


def _json(path: Path, rows: list[Row]) -> None:
    path.write_text(
        "\n".join(
            json.dumps({"id": i, "worth": float(w) if w is not None else None, "changed": c, "note": n})
            for i, w, c, n in rows
        )
    )


def _parquet(path: Path, rows: list[Row]) -> None:
    ids, worths, moments, notes = zip(*rows, strict=True)
    table = {"id": ids, "worth": pa.array(worths, pa.decimal128(12, 4)), "changed": moments, "note": notes}
    pq.write_table(pa.table({name: pa.array(values) for name, values in table.items()}), path)


WRITERS: Mapping[str, Callable[[Path, list[Row]], None]] = {"csv": _csv, "jsonl": _json, "parquet": _parquet}


@pytest.mark.parametrize("ending", WRITERS)
def test_files_with_tables_and_with_each_other(places: dict[str, Place], tmp_path: Path, ending: str) -> None:
    chance = random.Random(ending)
    rows = [row for row in random_rows(chance, 60) if row[3]]
    others = [row for row in changed_rows(chance, rows) if row[3]]
    WRITERS[ending](tmp_path / f"a.{ending}", rows)
    _csv(tmp_path / "b.csv", others)
    folder = ConnectionSpec("files", "folder", {"path": str(tmp_path)}, [str(tmp_path)])
    asked = Asked(keys=["id"], settle_seconds=0)
    assert found(compare_objects((folder, f"a.{ending}"), (folder, "b.csv"), asked)) == expected(rows, others)
    fill(places["postgresql"], "compared_b", others)
    table = (places["postgresql"].spec, "compared_b")
    assert found(compare_objects((folder, f"a.{ending}"), table, asked)) == expected(rows, others)
    assert found(compare_objects(table, (folder, f"a.{ending}"), asked)) == expected(others, rows)


def test_a_job_is_compared_as_it_would_load(places: dict[str, Place], tmp_path: Path) -> None:
    place = places["postgresql"]
    (tmp_path / "a.csv").write_text("code,beds,season\na,1,2026\nb,2,2026\nc,x,2026\nd,4,2025\n")
    folder = ConnectionSpec("files", "folder", {"path": str(tmp_path)}, [str(tmp_path)])
    place.drop("compared_huts")
    place.sql("CREATE TABLE compared_huts (code text PRIMARY KEY, beds integer, season integer, other text)")
    place.sql("INSERT INTO compared_huts VALUES ('A', 1, 2026, 'kept'), ('B', 3, 2026, NULL), ('E', 1, 2024, NULL)")
    layout = {"format": "delimited", "delimiter": ",", "header": True}
    job = job_from_data(
        {
            "ultravect": 1,
            "job": "c",
            "from": {
                "connection": "files",
                "files": "a.csv",
                "layout": layout,
                "where": "season > 2025",
            },
            "columns": ["upper(code) as code", "beds", "season"],
            "into": {
                "connection": place.spec.name,
                "table": "compared_huts",
                "mode": "overwrite",
                "replaces": "season = 2026",
            },
        }
    )
    result = compare_job(job, folder, place.spec, None, NOW)
    assert (result.rows_source, result.rows_target, result.rejected, result.equal) == (2, 2, 1, False)
    assert [item.as_dict() for item in result.differences] == [
        {"where": "both", "keys": {"code": "B"}, "values": {"beds": {"source": "2", "target": "3"}}}
    ]
    some = compare_job(job, folder, place.spec, None, Asked(where="code <> 'B'", settle_seconds=0))
    assert (some.rows_source, some.rows_target, some.differences) == (1, 1, [])
    same = compare_job(job, folder, place.spec, None, Asked(columns=["season"], settle_seconds=0))
    assert (same.columns, same.differences) == (["code", "season"], [])


def test_rows_that_the_job_rejects_are_none(places: dict[str, Place], tmp_path: Path) -> None:
    place = places["postgresql"]
    (tmp_path / "a.csv").write_text("id,beds\n1,10\n2,-5\n3,200\n")
    place.drop("compared_beds")
    place.sql("CREATE TABLE compared_beds (id integer PRIMARY KEY, beds integer CHECK (beds < 100))")
    place.sql("INSERT INTO compared_beds VALUES (1, 10)")
    folder = ConnectionSpec("files", "folder", {"path": str(tmp_path)}, [str(tmp_path)])
    job = job_from_data(
        {
            "ultravect": 1,
            "job": "c",
            "from": {"connection": "files", "files": "a.csv"},
            "require": ["beds > 0"],
            "into": {"connection": place.spec.name, "table": "compared_beds", "mode": "append", "rejects": 9},
        }
    )
    result = compare_job(job, folder, place.spec, None, NOW)
    assert (result.rejected, result.differences, result.equal) == (2, [], False)


def test_rows_without_a_key_are_compared_as_they_are(places: dict[str, Place]) -> None:
    place = places["postgresql"]
    fill(place, "compared_a", [(1, None, None, "a")] * 3 + [(2, None, None, "b")])
    fill(place, "compared_b", [(1, None, None, "a")] * 2 + [(2, None, None, "c")])
    result = compare_objects((place.spec, "compared_a"), (place.spec, "compared_b"), NOW)
    assert (result.only_source, result.only_target, result.different) == (2, 1, 0)
    assert [finding.code for finding in result.findings] == ["compare-without-keys"]


def test_what_is_written_meanwhile_is_no_difference(
    places: dict[str, Place], monkeypatch: pytest.MonkeyPatch
) -> None:
    place = places["postgresql"]
    rows = random_rows(random.Random(1), 50)
    fill(place, "compared_a", rows)
    fill(place, "compared_b", [row for row in rows if row[0] not in (3, 7)])

    def meanwhile(seconds: float) -> None:
        assert seconds == 5
        place.sql("INSERT INTO compared_b SELECT * FROM compared_a WHERE id = 3")
        place.sql("UPDATE compared_a SET note = 'later' WHERE id = 9")

    monkeypatch.setattr("time.sleep", meanwhile)
    asked = Asked(keys=["id"], settle_seconds=5)
    result = compare_objects((place.spec, "compared_a"), (place.spec, "compared_b"), asked)
    assert found(result) == {7: "source"}


def test_many_differences_are_counted_as_far_as_they_go(
    places: dict[str, Place], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("ultravect.core.engine.operate.compare._MOST_ROWS", 100)
    place = places["postgresql"]
    fill(place, "compared_a", random_rows(random.Random(1), 800))
    fill(place, "compared_b", [])
    asked = Asked(keys=["id"], settle_seconds=0)
    result = compare_objects((place.spec, "compared_a"), (place.spec, "compared_b"), asked)
    assert (result.complete, result.equal, 50 < result.only_source <= 100) == (False, False, True)


def test_what_was_not_looked_at_is_not_called_equal(
    places: dict[str, Place], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("ultravect.core.engine.operate.compare._MOST_ROWS", 100)
    place = places["postgresql"]
    fill(place, "compared_a", random_rows(random.Random(1), 800))
    fill(place, "compared_b", [])
    monkeypatch.setattr("time.sleep", lambda seconds: place.sql("INSERT INTO compared_b SELECT * FROM compared_a"))
    asked = Asked(keys=["id"], settle_seconds=1)
    result = compare_objects((place.spec, "compared_a"), (place.spec, "compared_b"), asked)
    assert (result.differences, result.complete, result.equal) == ([], False, False)


def test_long_values_are_cut_and_long_lists_end(places: dict[str, Place], monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("ultravect.core.engine.operate.compare._SHOWN_SIZE", 25_000)
    place = places["postgresql"]
    for table, letter in (("compared_a", "x"), ("compared_b", "y")):
        place.drop(table)
        place.sql(
            f"CREATE TABLE {table} AS SELECT i AS id, repeat('{letter}', 5000) AS note FROM generate_series(1, 60) i"
        )
    asked = Asked(keys=["id"], settle_seconds=0)
    result = compare_objects((place.spec, "compared_a"), (place.spec, "compared_b"), asked)
    assert (result.different, len(result.differences)) == (60, 12)
    assert result.differences[0].values == {"note": ("x" * 1000, "y" * 1000)}


def test_what_cannot_be_compared_is_said(places: dict[str, Place]) -> None:
    place = places["postgresql"]
    fill(place, "compared_a", [])
    cases = [
        ((place.spec, "compared_a"), (place.spec, "nowhere"), Asked(), "table-missing"),
        ((place.spec, "compared_a"), (place.spec, "compared_a"), Asked(keys=["ids"]), "column-unknown"),
        ((place.spec, "compared_a"), (place.spec, "compared_a"), Asked(columns=["ids"]), "column-unknown"),
        ((place.spec, "compared_a"), (place.spec, "compared_a"), Asked(where="ids = 1"), "column-unknown"),
        ((place.spec, "compared_a"), (place.spec, "compared_a"), Asked(where="id ="), "expression-syntax"),
    ]
    for first, second, asked, code in cases:
        with pytest.raises(UltravectError) as error:
            compare_objects(first, second, asked)
        assert error.value.code == code


def test_the_hash_is_the_one_that_is_published() -> None:
    """Python's own hash of bytes is the same function, with a key of zeros where PYTHONHASHSEED is 0."""
    program = "print(*(hash(bytes(range(size))) % 2**64 for size in range(1, 40)))"
    environment = os.environ | {"PYTHONHASHSEED": "0"}
    said = subprocess.run(
        [sys.executable, "-c", program], env=environment, capture_output=True, text=True, check=True
    )
    assert sys.hash_info.algorithm == "siphash13"
    assert [siphash_of(0, 0, bytes(range(size))) for size in range(1, 40)] == [
        int(word) for word in said.stdout.split()
    ]
