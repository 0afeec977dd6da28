"""Files as targets: every format holds what was copied, appears whole or not at all, and is found again."""

from __future__ import annotations

import csv
import gzip
import io
import json
from collections.abc import Callable
from contextlib import nullcontext
from pathlib import Path
from typing import Any

import pyarrow.parquet as pq
import pytest
from devtools.legs import run_leg
from devtools.pairs import Copied, Place
from devtools.torture import Torture
from openpyxl import load_workbook
from tests.core.modes.exports import HEADER, ROWS, Export

from ultravect.core.engine.look.check import check_job
from ultravect.core.engine.objects.connections import ConnectionSpec
from ultravect.core.errors import UltravectError
from ultravect.core.model.document import job_from_data


@pytest.fixture
def folder_export(tmp_path: Path) -> Export:
    for name in ("exports", "incoming"):
        (tmp_path / name).mkdir()
    spec = ConnectionSpec("exports", "folder", {"path": str(tmp_path / "exports")}, [str(tmp_path)])
    return Export(spec, tmp_path / "incoming")


def read_csv(data: bytes, delimiter: str = ",") -> list[list[str]]:
    return list(csv.reader(io.StringIO(data.decode(), newline=""), delimiter=delimiter))


def read_xlsx(data: bytes) -> list[list[Any]]:
    return [[cell.value for cell in row] for row in load_workbook(io.BytesIO(data))["rows"].iter_rows()]


def test_what_each_format_holds(folder_export: Export) -> None:
    made = folder_export
    for ending in ("csv", "tsv", "csv.gz", "jsonl", "parquet", "xlsx"):
        result = made.run(f"out/hut-{ending}.{ending}")
        assert (result.tally.inserted, result.rows_after) == (3, 3)
    files = made.files()
    rows = read_csv(files["out/hut-csv.csv"])
    assert rows[0] == HEADER.strip().split(",")
    assert rows[1:] == [[str(value) for value in row] for row in ROWS]
    assert read_csv(files["out/hut-tsv.tsv"], "\t") == rows
    assert gzip.decompress(files["out/hut-csv.gz.csv.gz"]) == files["out/hut-csv.csv"]
    objects = [json.loads(line) for line in files["out/hut-jsonl.jsonl"].splitlines()]
    assert objects[1] == {"hut": "007", "n": 2, "price": None, "day": None, "note": "two\nlines", "open": False}
    assert objects[0]["note"] == 'a "quoted", one'
    table = pq.read_table(io.BytesIO(files["out/hut-parquet.parquet"]))
    assert str(table.schema.field("price").type) == "decimal128(8, 2)"
    assert str(table.schema.field("day").type) == "date32[day]"
    assert [row["note"] for row in table.to_pylist()] == [row[4] for row in ROWS]
    sheet = read_xlsx(files["out/hut-xlsx.xlsx"])
    assert sheet[0] == rows[0]
    assert sheet[1][:3] == ["007", 1, 4.5]
    assert str(sheet[3][3])[:10] == "1999-12-31"


def test_overwrite_replaces_the_set_and_append_never_a_file(export: Export) -> None:
    export.run("season/{season}/hut.csv", mode="overwrite", split={"rows": 2})
    assert sorted(export.files()) == ["season/2026/hut-0001.csv", "season/2026/hut-0002.csv"]
    export.run("season/{season}/hut.csv", ROWS[:1], mode="overwrite", split={"rows": 2})
    files = export.files()
    assert sorted(files) == ["season/2026/hut-0001.csv"]
    assert len(read_csv(files["season/2026/hut-0001.csv"])) == 2
    export.run("day.csv")
    export.run("day.csv", ROWS[:2], run=77)
    export.run("day.csv", ROWS[:1], run=78)
    files = export.files()
    assert {path: len(read_csv(data)) - 1 for path, data in files.items() if path.startswith("day")} == {
        "day.csv": 3,
        "day-run77.csv": 2,
        "day-run78.csv": 1,
    }
    # what others put there is never removed
    assert len(files) == 4


def test_a_run_that_is_taken_over_writes_its_files_once(export: Export) -> None:
    first = export.run("day.csv", run=5)
    again = export.run("day.csv", run=5, taken_over=True)
    assert again.tally == first.tally
    assert sorted(export.files()) == ["day.csv"]


def test_partition_folders_are_read_back(folder_export: Export) -> None:
    layout = {"format": "parquet", "partition_by": ["hut"], "compression": "snappy", "row_group_rows": 1}
    rows = [*ROWS, ("", 4, "", "", "nobody's", "")]
    folder_export.run("lake/rows.parquet", rows, layout=layout)
    files = folder_export.files()
    null = "__HIVE_DEFAULT_PARTITION__"
    assert sorted(files) == [f"lake/hut={key}/rows.parquet" for key in ("007", "008", null)]
    item = pq.ParquetFile(io.BytesIO(files["lake/hut=007/rows.parquet"]))
    assert (item.metadata.num_rows, item.metadata.num_row_groups) == (2, 2)
    assert "hut" not in item.schema_arrow.names


@pytest.mark.parametrize(
    ("files", "into", "part"),
    [
        ("out.dat", {}, "has no known format"),
        ("out.csv", {"layout": {"format": "parquet"}}, "ends like a file of delimited"),
        ("out.parquet.gz", {}, "compressed inside"),
        ("out.csv", {"mode": "upsert", "keys": ["n"]}, "files have no keys"),
        ("out.csv", {"if_different": "widen"}, "are for tables"),
        ("out.csv", {"table": "hut"}, "table and files are there"),
        ("out.csv", {"split": {"size": "big"}}, "a number and a unit"),
    ],
)
def test_what_a_job_cannot_ask_of_files(folder_export: Export, files: str, into: dict[str, Any], part: str) -> None:
    with pytest.raises(UltravectError) as raised:
        folder_export.job(files, **into)
    assert part in str(raised.value.where) + raised.value.detail


@pytest.mark.parametrize(
    ("files", "code"),
    [("out-{seson}.csv", "placeholder-unknown"), ("../out.csv", "file-outside-folder")],
)
def test_a_name_that_cannot_be(folder_export: Export, files: str, code: str) -> None:
    with pytest.raises(UltravectError) as raised:
        folder_export.run(files)
    assert raised.value.code == code
    assert folder_export.files() == {}


def test_a_failed_load_leaves_no_file(export: Export) -> None:
    with pytest.raises(UltravectError) as raised:
        export.run("day.csv", [*ROWS, ("009", "four", "", "", "", "")])
    assert raised.value.code == "too-many-rejects"
    assert export.files() == {}


def test_what_a_sheet_cannot_hold_is_rejected(folder_export: Export) -> None:
    rows = [
        ("1", 1, "", "1899-12-31", "x", ""),
        ("2", 2, "", "", "bell \x07", ""),
        ("3", 3, "", "", "y" * 40_000, ""),
    ]
    result = folder_export.run("out.xlsx", [*rows, *ROWS], rejects=10)
    assert (result.tally.rejected, result.tally.inserted) == (3, 3)
    assert [reject.column for reject in folder_export.heard.rejected] == ["day", "note", "note"]


def test_check_tells_how_files_would_hold_it(folder_export: Export) -> None:
    export = folder_export
    found = check_job(export.job("out-{run_date}.parquet"), export.source, export.target)
    assert found.passed
    assert [column["native"] for column in found.columns][:4] == ["STRING", "INT(32)", "DECIMAL(8,2)", "DATE"]
    assert found.target.startswith("out-20")


@pytest.mark.parametrize("kind", ["postgresql", "mariadb", "sqlite", "duckdb"])
@pytest.mark.parametrize("ending", ["csv", "jsonl", "parquet"])
def test_from_any_database_to_files_and_back(
    places: dict[str, Place], tmp_path: Path, kind: str, ending: str, spec: Callable[[Path], ConnectionSpec]
) -> None:
    place, target = places[kind], spec(tmp_path)
    structure = {
        "ultravect": 1,
        "job": "leg",
        "from": {"connection": place.spec.name, "table": "torture"},
        "into": {"connection": "exports", "files": f"torture.{ending}"},
    }
    out = Copied()
    result = run_leg(job_from_data(structure), place.spec, target, out, nullcontext)
    assert (result.tally.inserted, out.rejected) == (3, [])
    table = f"back_from_{ending}"
    place.drop(table)
    place.sql(Torture(kind).create.replace("torture", table))
    layout = {"layout": {"format": "jsonl", "flatten": 0}} if ending == "jsonl" else {}
    structure = {
        "ultravect": 1,
        "job": "leg",
        "from": {"connection": "exports", "files": f"torture.{ending}", **layout},
        # a document that is nothing but a text is a text in a line of JSON, and no longer a document
        "columns": ["* except (doc)"] if ending == "jsonl" else ["*"],
        "into": {"connection": place.spec.name, "table": table},
    }
    back = Copied()
    result = run_leg(job_from_data(structure), target, place.spec, back, nullcontext)
    assert (result.tally.inserted, back.rejected) == (3, [])
    assert place.different(table) == (["doc"] if ending == "jsonl" else [])


@pytest.fixture
def spec() -> Callable[[Path], ConnectionSpec]:
    return lambda folder: ConnectionSpec("exports", "folder", {"path": str(folder)}, [str(folder)])


def test_notes_of_appended_files_do_not_pile_up(folder_export: Export) -> None:
    """As it was found: one more for each run, all of them read by each load."""
    made, runs = folder_export, 120
    folder = Path(str(made.target.settings["path"]))
    for _ in range(runs):
        made.run("out/night.jsonl")
    notes = [path for path in (folder / "out").iterdir() if path.name.startswith(".ultravect-set-")]
    assert len(notes) < 75
    assert len(made.files()) == runs
    made.run("out/night.jsonl", mode="overwrite")
    assert list(made.files()) == ["out/night.jsonl"]
