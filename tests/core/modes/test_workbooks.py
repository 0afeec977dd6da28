"""Workbooks as targets: several sheets of one, and templates that are filled."""

from __future__ import annotations

import io
import zipfile
from pathlib import Path
from typing import Any

import pytest
from openpyxl import Workbook, load_workbook
from openpyxl.styles import Font
from openpyxl.worksheet.table import Table
from tests.core.modes.exports import ROWS, Export

from ultravect.core.engine.look.check import check_job
from ultravect.core.engine.objects.connections import ConnectionSpec
from ultravect.core.errors import UltravectError


@pytest.fixture
def made(tmp_path: Path) -> Export:
    for name in ("exports", "incoming"):
        (tmp_path / name).mkdir()
    spec = ConnectionSpec("exports", "folder", {"path": str(tmp_path / "exports")}, [str(tmp_path)])
    return Export(spec, tmp_path / "incoming", tmp_path / "exports")


def _book(made: Export, name: str = "season.xlsx") -> Any:
    return load_workbook(io.BytesIO(made.files()[name]))


def _values(sheet: Any) -> list[list[Any]]:
    return [[cell.value for cell in row[:3]] for row in sheet.iter_rows()]


def test_sheets_of_one_book_are_written_one_by_one(made: Export) -> None:
    assert made.run("season.xlsx/bookings", mode="overwrite").rows_after == 3
    made.run("season.xlsx/guests", ROWS[:1], mode="overwrite")
    made.run("season.xlsx/{season}", ROWS[:2])
    book = _book(made)
    assert book.sheetnames == ["bookings", "guests", "2026"]
    assert _values(book["guests"]) == [["hut", "n", "price"], ["007", 1, 4.5]]
    # fewer rows than before leave none behind, and other sheets stay
    made.run("season.xlsx/bookings", ROWS[:1], mode="overwrite")
    book = _book(made)
    assert [row for row in _values(book["bookings"]) if any(row)] == [["hut", "n", "price"], ["007", 1, 4.5]]
    assert len(_values(book["2026"])) == 3
    with pytest.raises(UltravectError) as there:
        made.run("season.xlsx/guests")
    assert there.value.code == "sheet-there"


def test_a_run_that_is_taken_over_fills_its_sheet_once(made: Export) -> None:
    first = made.run("season.xlsx/bookings", run=5)
    again = made.run("season.xlsx/bookings", run=5, taken_over=True)
    assert again.tally == first.tally
    assert len(_values(_book(made)["bookings"])) == 4


def test_a_template_is_filled(made: Export) -> None:
    assert made.disk is not None
    book = Workbook()
    report = book.active
    report.title = "Report"
    report["A1"] = "The season"
    report["A1"].font = Font(bold=True)
    report["E1"] = "=SUM(C5:C99)"
    report["C5"].number_format = "0.00"
    for place, name in enumerate(("hut", "n", "price")):
        report.cell(4, 1 + place).value = name
    report["A6"] = "an old row"
    report.add_table(Table(displayName="rows", ref="A4:C6"))
    book.create_sheet("Notes")["A1"] = "kept"
    (made.disk / "templates").mkdir()
    book.save(made.disk / "templates" / "season.xlsx")
    layout = {"format": "xlsx", "template": "templates/season.xlsx", "sheet": "Report", "start": "A4"}
    for rows in (ROWS, ROWS[:2]):
        made.run(
            "report-{season}.xlsx",
            rows,
            mode="overwrite",
            layout=layout,
            columns=["hut text(3)", "n integer", "price decimal(8,2)"],
        )
        book = _book(made, "report-2026.xlsx")
        report = book["Report"]
        assert _values(report)[3:5] == [["hut", "n", "price"], ["007", 1, 4.5]]
        assert (report["A1"].value, report["A1"].font.bold, report["E1"].value) == (
            "The season",
            True,
            "=SUM(C5:C99)",
        )
        assert report["C6"].number_format == "0.00"
        assert report.tables["rows"].ref == f"A4:C{4 + len(rows)}"
        assert book["Notes"]["A1"].value == "kept"
    assert [cell.value for cell in report["A"]][5:] == ["007"]
    # a template belongs to no one's rows: it is as it was
    assert load_workbook(made.disk / "templates" / "season.xlsx")["Report"]["A6"].value == "an old row"


def test_texts_are_no_formulas(made: Export) -> None:
    made.run("season.xlsx/rows", [("=1+", 1, "", "", "=HYPERLINK(1)", "")], mode="overwrite")
    cell = _book(made)["rows"]["E2"]
    assert (cell.value, cell.data_type) == ("=HYPERLINK(1)", "s")


@pytest.mark.parametrize("content", [b"", b"no workbook", b"PK\3\4", "bomb", "odd"])
def test_a_template_that_cannot_be_filled(made: Export, content: bytes | str) -> None:
    assert made.disk is not None
    layout = {"format": "xlsx", "template": "template.xlsx"}
    with pytest.raises(UltravectError) as missing:
        made.run("report.xlsx", mode="overwrite", layout=layout)
    assert missing.value.code == "file-missing"
    path = made.disk / "template.xlsx"
    if isinstance(content, bytes):
        path.write_bytes(content)
    else:
        with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as archive:
            archive.writestr("xl/workbook.xml", b"0" * (200 << 20 if content == "bomb" else 5))
    with pytest.raises(UltravectError) as refused:
        made.run("report.xlsx", mode="overwrite", layout=layout)
    assert refused.value.code == ("too-large" if content == "bomb" else "workbook-broken")
    assert "report.xlsx" not in made.files()


def test_a_missing_template_is_found_by_check(made: Export) -> None:
    job = made.job("report.xlsx", mode="overwrite", layout={"format": "xlsx", "template": "none.xlsx"})
    found = check_job(job, made.source, made.target)
    assert [item.code for item in found.findings if item.severity == "error"] == ["file-missing"]


@pytest.mark.parametrize(
    ("files", "into", "said"),
    [
        ("a.xlsx/b", {"layout": {"format": "xlsx", "sheet": "c"}}, "leave one of them out"),
        ("a.xlsx/b", {"split": {"rows": 2}}, "has all of them"),
        ("a.xlsx", {"layout": {"format": "xlsx", "start": "4B"}}, "is no cell"),
    ],
)
def test_what_a_job_cannot_ask(made: Export, files: str, into: dict[str, Any], said: str) -> None:
    with pytest.raises(UltravectError) as refused:
        made.job(files, **into)
    assert said in refused.value.detail + str(refused.value.where)


def test_a_name_that_no_sheet_can_have(made: Export) -> None:
    with pytest.raises(UltravectError) as refused:
        made.run(f"season.xlsx/{'x' * 32}")
    assert refused.value.code == "sheet-name"
