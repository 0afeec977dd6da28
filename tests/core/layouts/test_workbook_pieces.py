"""A large sheet, read some rows at a time, gives what it gives when it is read at once."""

from __future__ import annotations

import datetime as dt
import io
import random
import re
import zipfile
from collections.abc import Iterator
from typing import Any

import openpyxl
import pytest
from openpyxl.utils import get_column_letter
from tests.core.files import file_of
from tests.core.layouts.test_formats import bad_of

from ultravect.core.engine.look.sample import text_rows
from ultravect.core.layouts import open_layout
from ultravect.core.layouts.base import Reader
from ultravect.core.layouts.workbook import pieces
from ultravect.core.layouts.workbook import reader as workbook
from ultravect.core.model.document import LAYOUT


@pytest.fixture
def small(monkeypatch: pytest.MonkeyPatch) -> Iterator[None]:
    monkeypatch.setattr(pieces, "HEAD_ROWS", 12)
    monkeypatch.setattr(workbook, "HEAD_ROWS", 12)
    monkeypatch.setattr(pieces, "_PIECE_ROWS", (3, 4))
    monkeypatch.setattr(pieces, "_READ", 97)
    monkeypatch.setattr(pieces, "_LARGE", 0)


def opened(content: bytes, **layout: Any) -> Reader:
    return open_layout(file_of("a.xlsx", content), LAYOUT.read({"format": "xlsx", **layout}))


def lines_of(reader: Reader) -> list[tuple[int | None, list[str | None]]]:
    """The good rows, each with its number in the sheet."""
    found = []
    for block in reader.blocks():
        rows = reader.read(block)
        texts = text_rows(rows.values)
        found += [(block.row_line(int(at)), row) for at, row in zip(rows.index, texts, strict=True)]
    return found


def random_book(chance: random.Random, *, width: int, count: int, empty: int) -> bytes:
    book = openpyxl.Workbook()
    sheet = book.active
    top, left = chance.randint(1, 4), chance.randint(1, 3)
    for column in range(width):
        sheet.cell(top, left + column, f"name {column}")
    for row in range(top + 1, top + 1 + count):
        for column in range(width):
            some = [
                7,
                2.5,
                "text & <more>",
                "text",
                True,
                dt.datetime(2026, 7, 1, 8, 30),
                dt.date(2026, 7, 2),
                "#N/A",
                None,
            ]
            if row == top + 1:
                sheet.cell(row, left + column, 1)
            elif chance.randrange(10) >= empty:
                sheet.cell(row, left + column, chance.choice(some))
    if chance.random() < 0.3:
        sheet.merge_cells(start_row=top + 2, start_column=left, end_row=top + 3, end_column=left)
    out = io.BytesIO()
    book.save(out)
    return out.getvalue()


@pytest.mark.parametrize("seed", range(12))
def test_pieces_are_the_whole(seed: int, monkeypatch: pytest.MonkeyPatch, request: pytest.FixtureRequest) -> None:
    chance = random.Random(seed)
    content = random_book(chance, width=chance.randint(2, 5), count=chance.randint(1, 40), empty=chance.randint(0, 6))
    layout: dict[str, Any] = {"values": {"errors": chance.choice(["null", "text", "reject"])}}
    whole = opened(content, **layout)
    if chance.random() < 0.3:
        layout["range"] = f"A1:{get_column_letter(openpyxl.load_workbook(io.BytesIO(content)).active.max_column)}30"
        whole = opened(content, **layout)
    wanted = (whole.names, whole.layout, plain(lines_of(whole)), bad_of(whole))
    request.getfixturevalue("small")
    reader = opened(content, **layout)
    assert (reader.names, reader.layout, plain(lines_of(reader)), bad_of(reader)) == wanted


def plain(lines: list[tuple[int | None, list[str | None]]]) -> list[tuple[int | None, list[str | None]]]:
    """Numbers and moments in one form, in which they stand in no block of a column of texts."""
    return [(line, [cell and re.sub(r"\.0+$| 00:00:00(\.0+)?$", "", cell) for cell in row]) for line, row in lines]


def test_a_value_outside_the_columns_makes_its_row_a_reject(small: None) -> None:
    book = openpyxl.Workbook()
    for number in range(40):
        book.active.append([number, number * 2] if number else ["a", "b"])
    book.active["D31"] = "outside"
    out = io.BytesIO()
    book.save(out)
    reader = opened(out.getvalue())
    ((row, line, reason),) = bad_of(reader)
    assert (row, line, len(lines_of(reader))) == (30, 31, 38)
    assert "cell D31" in reason
    assert "layout.range" in reason
    assert opened(out.getvalue(), range="A1:D40").names == ["a", "b", "column_3", "column_4"]


def with_prefix(content: bytes) -> bytes:
    """The same workbook, its sheet written with a prefix for each name, as some programs do."""
    out = io.BytesIO()
    with zipfile.ZipFile(io.BytesIO(content)) as archive, zipfile.ZipFile(out, "w") as written:
        for name in archive.namelist():
            data = archive.read(name)
            if name.startswith("xl/worksheets/sheet"):
                for tag in (b"worksheet", b"sheetData", b"row", b"c", b"v", b"is", b"t", b"mergeCells", b"mergeCell"):
                    for end in (b" ", b">", b"/"):
                        data = data.replace(b"<" + tag + end, b"<x:" + tag + end).replace(
                            b"</" + tag + b">", b"</x:" + tag + b">"
                        )
                data = data.replace(b"xmlns=", b"xmlns:x=")
            written.writestr(name, data)
    return out.getvalue()


def test_names_with_a_prefix(small: None) -> None:
    content = random_book(random.Random(5), width=3, count=30, empty=0)
    assert lines_of(opened(with_prefix(content))) == lines_of(opened(content))


def test_it_is_read_in_pieces(small: None, monkeypatch: pytest.MonkeyPatch) -> None:
    content = random_book(random.Random(5), width=3, count=30, empty=0)
    read: list[int] = []
    cells_of = pieces.cells_of

    def counted(*given: Any) -> Any:
        found = cells_of(*given)
        read.append(len(found.rows))
        return found

    monkeypatch.setattr(pieces, "cells_of", counted)
    blocks = opened(content).blocks()
    next(blocks)
    assert read == [12]
    list(blocks)
    assert read == [12, 12, 3, *[4] * 4]
