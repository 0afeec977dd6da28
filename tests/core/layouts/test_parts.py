"""A file's parts are together the file: the same rows, with the same numbers and lines."""

from __future__ import annotations

import csv
import gzip
import io

import pyarrow as pa
import pyarrow.parquet as pq
import pytest
from hypothesis import given
from hypothesis import strategies as st
from tests.core.files import file_of

from ultravect.core.layouts import open_layout
from ultravect.core.layouts.base import FileReader, FileSpan
from ultravect.core.layouts.chain import ChainReader
from ultravect.core.layouts.parts import DividesRows, cuts
from ultravect.core.model.document import LAYOUT

_CELLS = st.text(st.sampled_from('ab,;"\n\r \té0'), max_size=6)


def _placed(reader: FileReader, rows_before: int = 0) -> list[tuple[str, int, int | None]]:
    """The rows as text, each with its number and its line."""
    found = []
    for block in reader.blocks():
        count = reader.read(block).count
        found += [(block.row_text(at), rows_before + at, block.row_line(at)) for at in range(count)]
        rows_before += count
    return found


def _divided(reader: FileReader, count: int) -> list[tuple[str, int, int | None]]:
    assert isinstance(reader, DividesRows)
    assert reader.undivided == ""
    parts = reader.parts(count)
    assert len(parts) <= count
    return [row for part in parts for row in _placed(reader.only_part(part), part.rows_before)]


@given(
    rows=st.lists(st.tuples(_CELLS, _CELLS), min_size=1, max_size=40),
    count=st.integers(1, 9),
    preamble=st.integers(0, 2),
    mark=st.booleans(),
    ends=st.sampled_from(["\n", "\r\n"]),
)
def test_parts_of_a_delimited_file(
    rows: list[tuple[str, str]], count: int, preamble: int, mark: bool, ends: str
) -> None:
    out = io.StringIO()
    out.write(f"# a remark{ends}" * preamble)
    writer = csv.writer(out, lineterminator=ends, quoting=csv.QUOTE_ALL)
    writer.writerow(["k", "v"])
    writer.writerows(rows)
    content = ("\ufeff" * mark + out.getvalue()).encode()
    layout = LAYOUT.read(
        {"format": "delimited", "delimiter": ",", "quote": '"', "preamble": preamble, "header": True}
    )
    reader = open_layout(file_of("rows.csv", content), layout)
    assert _divided(reader, count) == _placed(reader)


@pytest.mark.parametrize(("size", "parts"), [(0, 1), (1, 1), (2, 2), (5_000, 7)])
def test_parts_without_a_header_and_of_many_blocks(size: int, parts: int) -> None:
    lines = "".join(f"{number},{'x' * (number % 90)}\n" for number in range(size + 1))
    layout = LAYOUT.read({"format": "delimited", "delimiter": ",", "header": False})
    reader = open_layout(file_of("rows.csv", lines.encode()), layout)
    assert len(reader.parts(parts)) == parts  # type: ignore[attr-defined]
    assert _divided(reader, parts) == _placed(reader)


@pytest.mark.parametrize(
    ("name", "layout", "why"),
    [
        ("rows.csv.gz", {}, "from its start"),
        ("rows.csv", {"footer": 1}, "known only at its end"),
        ("rows.csv", {"comment": "#"}, "changed before they are cut"),
        ("rows.csv", {"encoding": "utf-16"}, "utf-16"),
    ],
)
def test_files_that_have_to_be_read_from_their_start(name: str, layout: dict[str, object], why: str) -> None:
    text = "k,v\n1,a\n2,b\n3,c\n".encode("utf-16" if layout.get("encoding") else "utf-8")
    if name.endswith(".gz"):
        text = gzip.compress(text)
    reader = open_layout(
        file_of(name, text), LAYOUT.read({"format": "delimited", "delimiter": ",", "header": True, **layout})
    )
    assert isinstance(reader, DividesRows)
    assert why in reader.undivided


def test_a_file_that_ends_early_is_noticed() -> None:
    content = b"k,v\n" + b"1,a\n" * 1000
    reader = open_layout(file_of("rows.csv", content), None)
    assert isinstance(reader, DividesRows)
    shorter = open_layout(file_of("rows.csv", content[:2000]), reader.layout)
    assert isinstance(shorter, DividesRows)
    with pytest.raises(Exception, match="changed while it was read"):
        list(shorter.only_part(reader.parts(2)[1]).blocks())


def test_parts_of_parquet_are_row_groups() -> None:
    out = io.BytesIO()
    pq.write_table(pa.table({"k": range(1000)}), out, row_group_size=130)
    reader = open_layout(file_of("rows.parquet", out.getvalue()), None)
    assert isinstance(reader, DividesRows)
    assert len(reader.parts(3)) == 3
    assert [row for row, *_ in _divided(reader, 3)] == [row for row, *_ in _placed(reader)]
    assert len(reader.parts(50)) == 8


def test_parts_of_a_group_of_files_are_files() -> None:
    files = [file_of(f"{number}.csv", b"k,v\n" + b"1,a\n" * number) for number in range(1, 8)]
    first = open_layout(files[0], None)
    chain = ChainReader(first, files, open_layout)
    parts = chain.parts(3)
    assert [path for part in parts for path in part.files] == [file.path for file in files]
    rows = [sum(reader.read(block).count for block in reader.blocks()) for reader in map(chain.only_part, parts)]
    assert len(rows) == 3
    assert sum(rows) == 28


@given(st.lists(st.integers(1, 50), min_size=1, max_size=30), st.integers(1, 8))
def test_cuts_are_runs_of_about_equal_size(sizes: list[int], count: int) -> None:
    found = cuts(sizes, count)
    assert 1 <= len(found) <= count
    assert [number for first, last in found for number in range(first, last)] == list(range(len(sizes)))
    assert all(first < last for first, last in found)


@given(
    files=st.lists(st.lists(st.tuples(_CELLS, _CELLS), max_size=6), min_size=2, max_size=12),
    ends=st.booleans(),
)
def test_small_files_are_read_as_one_block(files: list[list[tuple[str, str]]], ends: bool) -> None:
    """The same rows, each with its own file, number and line."""
    made = []
    for number, rows in enumerate([[("1", "a")], *files]):
        out = io.StringIO()
        writer = csv.writer(out, lineterminator="\n", quoting=csv.QUOTE_ALL)
        writer.writerow(["k", "v"])
        writer.writerows(rows)
        text = out.getvalue() if ends else out.getvalue().removesuffix("\n")
        made.append(file_of(f"{number}.csv", text.encode()))
    layout = LAYOUT.read({"format": "delimited", "delimiter": ",", "quote": '"', "preamble": 0, "header": True})
    first = open_layout(made[0], layout)
    found = [list(_shown(ChainReader(first, made, open_layout, joins=joins))) for joins in (True, False)]
    assert found[0] == found[1]


def _shown(reader: ChainReader) -> list[tuple[str, int, int | None, str]]:
    shown = []
    before: dict[str, int] = {}
    for block in reader.blocks():
        count = reader.read(block).count
        spans = block.spans or [FileSpan(block.path, 0)]  # type: ignore[attr-defined]
        for at in range(count):
            span = [span for span in spans if span.first_row <= at][-1]
            before[span.path] = before.get(span.path, 0) + 1
            shown.append((span.path, before[span.path], block.row_line(at), block.row_text(at)))
    return shown
