"""Texts that a spreadsheet would compute, and databases whose file the first load makes."""

from __future__ import annotations

import csv
import io
from pathlib import Path
from typing import Any

import openpyxl
import pytest
from devtools.legs import run_leg
from devtools.pairs import Copied

from ultravect.core.engine.objects.connections import ConnectionSpec, database_of, probe
from ultravect.core.errors import UltravectError
from ultravect.core.model.document import job_from_data

TEXTS = {
    "=1+1": "'=1+1",
    "=cmd|' /c calc'!A0": "'=cmd|' /c calc'!A0",
    "+1+1": "'+1+1",
    "-2+3+cmd": "'-2+3+cmd",
    "@SUM(1)": "'@SUM(1)",
    "\t=1": "'\t=1",
    "-5": "-5",
    "+41 79 555 12 34": "+41 79 555 12 34",
    "-1.5e3": "-1.5e3",
    "a=1": "a=1",
    "#N/A": "#N/A",
    "": "",
}


class Heard(Copied):
    def __init__(self) -> None:
        super().__init__()
        self.lines: list[str] = []

    def log(self, level: str, text: str) -> None:
        self.lines.append(text)


def _job(folder: Path, into: dict[str, Any]) -> tuple[Any, ConnectionSpec, Heard]:
    with (folder / "rows.csv").open("w", newline="") as file:
        writer = csv.writer(file, quoting=csv.QUOTE_ALL)
        writer.writerow(["n", "remark"])
        writer.writerows([number, text] for number, text in enumerate(TEXTS))
    source = ConnectionSpec("here", "folder", {"path": str(folder)}, [str(folder)])
    layout = {"format": "delimited", "delimiter": ",", "header": True, "preamble": 0}
    job = {
        "ultravect": 1,
        "job": "remarks",
        "from": {"connection": "here", "files": "rows.csv", "layout": layout},
        "columns": ["n integer", "remark text"],
        "into": {"connection": "there", **into},
    }
    return job_from_data(job), source, Heard()


@pytest.mark.parametrize("formulas", ["text", "live"])
def test_csv_texts_are_not_live_unless_asked_for(formulas: str, tmp_path: Path) -> None:
    job, here, heard = _job(tmp_path, {"files": "out.csv", "layout": {"format": "delimited", "formulas": formulas}})
    run_leg(job, here, here, heard, receipt="1-x")
    written = [row[1] for row in csv.reader(io.StringIO((tmp_path / "out.csv").read_text()))][1:]
    assert written == (list(TEXTS.values()) if formulas == "text" else list(TEXTS))
    said = [line for line in heard.lines if "a spreadsheet would compute" in line]
    assert [line.split()[0] for line in said] == (["6"] if formulas == "text" else [])


def test_workbooks_keep_texts_as_texts(tmp_path: Path) -> None:
    job, here, heard = _job(tmp_path, {"files": "out.xlsx"})
    run_leg(job, here, here, heard, receipt="1-x")
    cells = [row[1] for row in openpyxl.load_workbook(tmp_path / "out.xlsx").active.iter_rows(min_row=2)]
    assert [cell.value or "" for cell in cells] == list(TEXTS)
    assert {cell.data_type for cell in cells if cell.value} <= {"s", "inlineStr"}


@pytest.mark.parametrize("kind", ["sqlite", "duckdb"])
def test_a_database_file_is_made_by_the_first_load(kind: str, tmp_path: Path) -> None:
    path = tmp_path / f"new.{kind}"
    plain = ConnectionSpec("there", kind, {"path": str(path)}, [str(tmp_path)])
    spec = ConnectionSpec("there", kind, {"path": str(path), "create": True}, [str(tmp_path)])
    missing = probe(plain).error
    assert missing is not None
    assert (missing.code, "create: true" in missing.hint) == ("file-missing", True)
    tested = probe(spec)
    assert tested.error is None
    assert "the first load makes it" in tested.steps[0].detail
    assert database_of(spec).tables("", "", 10) == []
    assert not path.exists()
    job, here, heard = _job(tmp_path, {"table": "remark"})
    assert run_leg(job, here, spec, heard, receipt="1-x").tally.inserted == len(TEXTS)
    assert database_of(plain).ask("select count(*) from remark", 1, 5).rows == [[len(TEXTS)]]
    outside = ConnectionSpec("there", kind, {"path": "/var/tmp/elsewhere.db", "create": True}, [str(tmp_path)])
    with pytest.raises(UltravectError, match="outside the folders"):
        database_of(outside).tables("", "", 10)
