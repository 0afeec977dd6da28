"""Every format: what is found in a file, what is read from it, and what is said of a bad one."""

from __future__ import annotations

import bz2
import datetime as dt
import gzip
import io
import json
import os
import zipfile
from pathlib import Path
from typing import Any

import openpyxl
import pyarrow as pa
import pyarrow.parquet as pq
import pytest
import zstandard
from hypothesis import given, settings
from hypothesis import strategies as st
from tests.core.files import file_of

from ultravect.core.engine.look.sample import text_rows
from ultravect.core.engine.objects.connections import ConnectionSpec
from ultravect.core.engine.objects.sources import open_source
from ultravect.core.errors import UltravectError
from ultravect.core.layouts import open_layout
from ultravect.core.layouts.base import Reader, SourceFile
from ultravect.core.model.document import LAYOUT

Rows = list[list[str | None]]


def opened(name: str, content: bytes, layout: dict[str, Any] | None = None) -> Reader:
    return open_layout(file_of(name, content), LAYOUT.read(layout) if layout is not None else None)


def f(name: str, width: int, **more: object) -> dict[str, object]:
    """A field of a fixed-width record."""
    return {"name": name, "width": width, **more}


def rows_of(reader: Reader) -> Rows:
    return [row for block in reader.blocks() for row in text_rows(reader.read(block).values)]


def bad_of(reader: Reader) -> list[tuple[int, int | None, str]]:
    found = []
    before = 0
    for block in reader.blocks():
        rows = reader.read(block)
        found += [(before + item.index + 1, block.row_line(item.index), item.reason) for item in rows.bad]
        before += rows.count
    return found


def workbook(fill: Any) -> bytes:
    book = openpyxl.Workbook()
    fill(book)
    stream = io.BytesIO()
    book.save(stream)
    return stream.getvalue()


def _inspection(book: openpyxl.Workbook) -> None:
    sheet = book.active
    sheet.title = "June"
    sheet["B2"] = "Inspections"
    sheet.merge_cells("B2:D2")
    for row, cells in enumerate(
        [["hut", "on", "beds"], ["001", dt.date(2026, 6, 3), 12], ["002", dt.date(2026, 6, 4), 8.5]], 4
    ):
        for column, value in enumerate(cells, 2):
            sheet.cell(row, column, value)
    sheet.merge_cells("B6:B7")
    sheet.cell(7, 4, 3)
    book.create_sheet("Empty")


def parquet(table: pa.Table) -> bytes:
    stream = io.BytesIO()
    pq.write_table(table, stream)
    return stream.getvalue()


NESTED = pa.table(
    {"id": [1, 2], "at": [dt.date(2026, 1, 2), None], "in": [{"a": 1, "b": "x"}, None], "tags": [["x"], []]}
)
SLIPS = b"NO  HUT   KG0001007   120002039   900003001  300"
CASES: dict[str, tuple[str, bytes, dict[str, Any] | None, str, list[str], Rows]] = {
    "delimited, several characters": ("a.csv", b"a||b\n1||x|y\n", None, "delimited", ["a", "b"], [["1", "x|y"]]),
    "delimited, in quotes": ("a.csv", b'a||b\n"1||2"||3\n', {"delimiter": "||"}, "delimited", ["a", "b"], [["1||2", "3"]]),
    "delimited, escape": ("a.csv", b"a,b\n1\\,2,3\n", {"escape": "\\"}, "delimited", ["a", "b"], [["1,2", "3"]]),
    "delimited, preamble found": (
        "a.csv", b"printed today\n\nid;name;hut\n1;x;001\n2;y;002\n", None, "delimited", ["id", "name", "hut"],
        [["1", "x", "001"], ["2", "y", "002"]],
    ),
    "delimited, footer and comments": (
        "a.csv", b"a,b\n# no row\n1,2\n3,4\nsum,6\nend,2\n\n", {"comment": "#", "footer": 2}, "delimited", ["a", "b"],
        [["1", "2"], ["3", "4"]],
    ),
    "delimited, pad": ("a.csv", b"a,b,c\n1,2\n1,2,3\n", {"ragged": "pad"}, "delimited", ["a", "b", "c"], [["1", "2", None], ["1", "2", "3"]]),
    "delimited, fit": ("a.csv", b'a,b\n1\n1,"2,2",3\n', {"ragged": "fit"}, "delimited", ["a", "b"], [["1", None], ["1", "2,2"]]),
    "delimited, names": ("a.csv", b"1,2\n", {"header": False, "names": ["x", "y"]}, "delimited", ["x", "y"], [["1", "2"]]),
    "delimited, NULL words": ("a.csv", b"a,b\n-,n/a\n", {"values": {"nulls": ["-", "n/a"]}}, "delimited", ["a", "b"], [[None, None]]),
    "fixed, one line": ("s.txt", SLIPS, {"format": "fixed", "fields": [f("", 4), f("", 3), f("", 5)]}, "fixed", ["NO", "HUT", "KG"],
        [["0001", "007", "12"], ["0002", "039", "90"], ["0003", "001", "300"]]),
    "fixed, found": ("s.txt", b"name  kg\nbeer  12\nwood 900\n", None, "fixed", ["name", "kg"], [["beer", "12"], ["wood", "900"]]),
    "fixed, by positions": (
        "s.txt", b"abcdef\r\nghijkl\r\n", {"format": "fixed", "header": False, "fields": [f("x", 2, start=5), f("y", 3, start=2)]},
        "fixed", ["x", "y"], [["ef", "bcd"], ["kl", "hij"]],
    ),
    "fixed, trim": (
        "s.txt", b" a  b \n", {"format": "fixed", "header": False, "fields": [f("x", 3, trim="none"), f("y", 3, trim="left")]},
        "fixed", ["x", "y"], [[" a ", "b "]],
    ),
    "fixed, not ASCII": ("s.txt", "Hüt 1\nÖde 2\n".encode(), {"format": "fixed", "header": False, "fields": [f("a", 4), f("b", 1)]},
        "fixed", ["a", "b"], [["Hüt", "1"], ["Öde", "2"]]),
    "fixed, preamble, header and footer without line ends": (
        "s.txt", b"XX..AABB01020304ZZ..", {"format": "fixed", "record": 4, "terminator": "none", "preamble": 1, "footer": 1, "header": True,
        "fields": [f("", 2), f("", 2)]}, "fixed", ["AA", "BB"], [["01", "02"], ["03", "04"]],
    ),
    "jsonl": ("m.jsonl", b'{"a": 1, "w": {"s": 1.5, "d": {"x": "N"}}}\n\n{"a": 2, "w": null, "t": [1, "x"]}\n', None, "jsonl",
        ["a", "w_s", "w_d_x", "w", "t"], [["1", "1.5", "N", None, None], ["2", None, None, None, '[1,"x"]']]),
    "jsonl, not flattened": ("m.jsonl", b'{"a": {"b": 1}}\n', {"format": "jsonl", "flatten": 0}, "jsonl", ["a"], [['{"b":1}']]),
    "jsonl, rows": ("m.jsonl", b'{"d": [{"a": 1}, {"a": 2}]}\n{"d": []}\n', {"format": "jsonl", "rows": "/d"}, "jsonl", ["a"], [["1"], ["2"]]),
    "jsonl, exact numbers": ("m.jsonl", b'{"n": 0.1234567890123456789}\n{"n": 12345678901234567890123}\n', None, "jsonl", ["n"],
        [["0.1234567890123456789"], ["12345678901234567890123"]]),
    "json": ("m.json", b'{"n": 2, "data": {"rows": [{"a": "01", "b": {"c": true}}, {"a": null}]}}', None,
        "json", ["a", "b_c"], [["01", "true"], [None, None]]),
    "json, array": ("m.json", b'[{"a": 1},\n {"a": 2.50}]', None, "json", ["a"], [["1"], ["2.5"]]),
    "xml": (
        "r.xml",
        b'<log xmlns="urn:x"><head/><call no="1"><hut>001</hut><w><g>2</g></w></call><call no="2"><hut/><tag>a</tag><tag>b</tag></call></log>',
        None, "xml", ["no", "hut", "w_g", "tag"], [["1", "001", "2", None], ["2", None, None, '["a","b"]']],
    ),
    "xml, rows": ("r.xml", b"<a><b><c>1</c></b><d>x</d></a>", {"format": "xml", "rows": "a/b"}, "xml", ["c"], [["1"]]),
    "xlsx": ("i.xlsx", workbook(_inspection), None, "xlsx", ["hut", "on", "beds"],
        [["001", "2026-06-03", "12.0"], ["002", "2026-06-04", "8.5"], [None, None, "3.0"]]),
    "xlsx, range and merged": ("i.xlsx", workbook(_inspection), {"format": "xlsx", "sheet": 1,
        "range": "B4:D", "merged": "repeat"}, "xlsx", ["hut", "on", "beds"],
        [["001", "2026-06-03", "12.0"], ["002", "2026-06-04", "8.5"], ["002", None, "3.0"]]),
    "xlsx, no header": ("i.xlsx", workbook(_inspection), {"format": "xlsx", "range": "B5:D5", "header": False}, "xlsx",
        ["column_1", "column_2", "column_3"], [["001", "2026-06-03", "12"]]),
    "parquet": ("p.parquet", parquet(NESTED), None, "parquet", ["id", "at", "in_a", "in_b", "tags"],
        [["1", "2026-01-02", "1", "x", '["x"]'], ["2", None, None, None, "[]"]]),
    "gzip": ("a.csv.gz", gzip.compress(b"a,b\n1,2\n"), None, "delimited", ["a", "b"], [["1", "2"]]),
    "zstd": ("a.csv.zst", zstandard.compress(b"a,b\n1,2\n"), None, "delimited", ["a", "b"], [["1", "2"]]),
    "bzip2": ("a.jsonl.bz2", bz2.compress(b'{"a": 1}\n'), None, "jsonl", ["a"], [["1"]]),
}  # fmt: skip


@pytest.mark.parametrize("case", CASES.values(), ids=CASES)
def test_what_is_read(case: tuple[str, bytes, dict[str, Any] | None, str, list[str], Rows]) -> None:
    name, content, layout, found, names, rows = case
    reader = opened(name, content, layout)
    assert (reader.layout.format, reader.names) == (found, names)
    assert rows_of(reader) == rows
    # the layout that was completed reads the same, and survives being written down
    again = opened(name, content, reader.layout.model_dump(mode="json", exclude_none=True))
    assert (again.names, rows_of(again)) == (names, rows)


BAD: dict[str, tuple[str, bytes, dict[str, Any] | None, str, str]] = {
    "binary": ("a.csv", bytes(range(256)) * 40, None, "file-not-text", "control characters"),
    "a picture": ("a.csv", b"\x89PNG\r\n\x1a\n" + b"\0" * 99, None, "file-not-text", "a PNG picture"),
    "a zip": ("a.csv", b"PK\x03\x04" + b"x" * 99, None, "file-not-text", "zip archive"),
    "gzip without its ending": ("a.csv", gzip.compress(b"a,b\n"), None, "file-not-text", "compressed by gzip"),
    "said to be text": ("a.dat", parquet(NESTED), {"format": "delimited"}, "file-not-text", "a Parquet file"),
    "truncated gzip": ("a.csv.gz", gzip.compress(os.urandom(9000).hex().encode())[:900], None, "compression-broken", "ended before"),
    "not gzip": ("a.csv.gz", b"a,b\n1,2\n", None, "compression-broken", "gzip"),
    "truncated zstd": ("a.csv.zst", zstandard.compress(os.urandom(9000).hex().encode())[:900], {"format": "delimited"}, "", ""),
    "truncated parquet": ("p.parquet", parquet(NESTED)[:200], None, "parquet-broken", "Parquet"),
    "truncated xlsx": ("i.xlsx", workbook(_inspection)[:3000], None, "workbook-broken", "workbook"),
    "no xlsx": ("i.xlsx", b"a,b\n", None, "workbook-broken", "workbook"),
    "no such sheet": ("i.xlsx", workbook(_inspection), {"format": "xlsx", "sheet": "Jun"}, "sheet-missing", "no sheet 'Jun'"),
    "nothing in the sheet": ("i.xlsx", workbook(_inspection), {"format": "xlsx", "sheet": "Empty"}, "file-empty", "Empty"),
    "no such row": ("i.xlsx", workbook(_inspection), {"format": "xlsx", "header": 99}, "layout-misfit", "no row 99"),
    "json ends early": ("m.json", b'{"r": [{"a": 1}, {"a"', None, "json-broken", "before it is complete"),
    "json without rows": ("m.json", b'{"a": 1}', None, "no-rows-found", "no array of objects"),
    "jsonl without rows": ("m.jsonl", b"[1]\n[2]\n", None, "no-rows-found", "no row is found"),
    "xml entities": ("x.xml", b'<!DOCTYPE a [<!ENTITY e SYSTEM "file:///etc/passwd">]><a><b>&e;</b><b/></a>', None, "xml-entities", "DOCTYPE"),
    "xml bomb": ("x.xml",
        b'<!DOCTYPE a [<!ENTITY e "' + b"x" * 99 + b'"><!ENTITY f "&e;&e;&e;">]><a><b>&f;</b><b/></a>', None, "xml-entities", "swell"),
    "xml ends early": ("x.xml", b"<a><b>1</b><b>2", None, "xml-broken", "not whole XML"),
    "xml without rows": ("x.xml", b"<a><b/><c/></a>", None, "no-rows-found", "no element that repeats"),
    "no record length": ("s.txt", b"abc", {"format": "fixed"}, "record-unknown", "how long a record is"),
    "fields after the record": ("s.txt", b"abcd\nefgh\n", {"format": "fixed", "record": 4, "fields": [f("x",
        3), f("y", 3)]}, "layout-invalid", "beyond"),
    "other number of names": ("a.csv", b"a,b\n1,2\n", {"names": ["x"]}, "layout-misfit", "layout.names has 1"),
    "10,001 columns": ("a.csv", b",".join(b"c%d" % n for n in range(10_001)) + b"\n", None, "too-many-columns", "10,001"),
    "empty": ("a.csv", b"", None, "file-empty", "empty"),
    "empty json": ("a.json", b"", None, "file-empty", "empty"),
    "empty xml": ("a.xml", b"", {"format": "xml"}, "file-empty", "empty"),
    "the stand-in": ("a.csv", b"a||b\n1||\x1f\n", {"delimiter": "||"}, "delimiter-uncertain", "U+001F"),
    "a line of 70 MiB": ("m.jsonl", b'{"a": "' + b"x" * (70 << 20), None, "record-too-long", "64 MiB"),
}  # fmt: skip


@pytest.mark.parametrize("case", BAD.values(), ids=BAD)
def test_bad_files_are_told_and_nothing_hangs(case: tuple[str, bytes, dict[str, Any] | None, str, str]) -> None:
    name, content, layout, code, part = case
    with pytest.raises(UltravectError) as raised:
        rows_of(opened(name, content, layout))
    assert raised.value.hint
    if code:
        assert (raised.value.code, part in raised.value.detail) == (code, True), raised.value.detail
    else:
        assert raised.value.code in ("compression-broken", "file-empty", "broken-quote")


@pytest.mark.parametrize(
    ("name", "content", "layout", "bad"),
    [
        ("s.txt", b"ab12\nab1\nab1234\n\nab99\n", {"format": "fixed", "record": 4, "header": False, "fields": [f("x", 4)]},
            [(2, 2, "3 characters where a record has 4"), (3, 3, "6 characters where a record has 4")]),
        ("s.txt", b"ab12a\n34ab56ab", {"format": "fixed", "record": 4, "terminator": "none", "header": False, "fields": [f("x", 4)]},
            [(2, None, "a line break stands inside the record; is layout.terminator newline, or the record's length wrong?"),
             (4, None, "the last record ends after 2 of 4 characters")]),
        ("m.jsonl", b'{"a": 1}\n{"a": \n{"a": 2, "a": 3}\n[1]\n{"b": 1}\n{"a": 4}\n', {"format": "jsonl"}, [
            (2, 2, "not JSON: expecting value, it ends too early"), (3, 3, "the key 'a' stands in it twice"),
            (4, 4, "a JSON object is expected, not list")]),
    ],
)  # fmt: skip
def test_rows_that_are_not_whole(
    name: str, content: bytes, layout: dict[str, Any], bad: list[tuple[int, int | None, str]]
) -> None:
    assert bad_of(opened(name, content, layout)) == bad


def test_a_bomb_is_defused() -> None:
    swollen = gzip.compress(b"a,b\n" + b"0" * (400 << 20))
    with pytest.raises(UltravectError) as raised:
        rows_of(opened("a.csv.gz", swollen, {"format": "delimited"}))
    assert raised.value.code in ("compression-suspicious", "broken-quote")


class _Endless(io.RawIOBase):
    """A file of two gigabytes on one line."""

    def __init__(self, start: bytes) -> None:
        self._start, self.given = start, 0

    def readable(self) -> bool:
        return True

    def read(self, size: int = -1) -> bytes:
        if size == 0:
            return b""
        size = min(size if size > 0 else 1 << 20, (2 << 30) - self.given)
        data = (self._start + b"x" * size)[:size] if not self.given else b"x" * size
        self.given += size
        return data


@pytest.mark.parametrize(
    ("layout", "start"),
    [
        ({"format": "delimited"}, b"a,b\n1,"),
        ({"format": "delimited", "comment": "#", "header": True, "delimiter": ",", "preamble": 0}, b"a,b\n1,"),
        (
            {"format": "fixed", "terminator": "newline", "record": 4, "fields": [f("a", 4)], "header": False},
            b"abcd\n",
        ),
        ({"format": "jsonl"}, b'{"a": 1}\n{"a": "'),
        ({"format": "json", "rows": "/r"}, b'{"r": [{"a": "'),
        ({"format": "xml", "rows": "a/b"}, b"<a><b>1</b><b>"),
    ],
)
def test_a_line_of_two_gigabytes_is_told_soon(layout: dict[str, Any], start: bytes) -> None:
    streams: list[_Endless] = []

    def opener() -> Any:
        streams.append(_Endless(start))
        return streams[-1]

    with pytest.raises(UltravectError) as raised:
        rows_of(open_layout(SourceFile("long.txt", 2 << 30, opener, opener), LAYOUT.read(layout)))
    assert raised.value.code in ("record-too-long", "broken-quote", "xml-broken")
    assert max(stream.given for stream in streams) < 400 << 20


def test_later_keys_and_kinds_are_not_lost() -> None:
    """After the first MiB: a number where whole numbers were, and a key that no one knew."""
    lines = [json.dumps({"n": number, "t": "x" * 80}) for number in range(30_000)]
    lines[20_000] = json.dumps({"n": 0.5, "t": "half"})
    lines[25_000] = json.dumps({"n": 1, "t": "x", "late": 1})
    content = ("\n".join(lines) + "\n").encode()
    reader = opened("m.jsonl", content)
    rows = rows_of(reader)
    assert (len(rows), rows[20_000]) == (29_999, ["0.5", "half"])
    ((row, line, reason),) = bad_of(reader)
    assert (row, line, "'late'" in reason and "layout.keys" in reason) == (25_001, 25_001, True)
    known = opened("m.jsonl", content, {"format": "jsonl", "keys": ["late"]})
    assert (known.names, rows_of(known)[25_000]) == (["n", "t", "late"], ["1", "x", "1"])


@pytest.mark.parametrize(
    ("content", "decimal_mark", "thousands"),
    [
        (b"a;b\nx;1,50\ny;2,25\n", ",", None),
        (b"a;b\nx;1.234,50\ny;2,25\n", ",", "."),
        (b"a;b\nx;1'234.50\ny;12\n", ".", "'"),
        (b"a;b\nx;1 234\ny;12\n", ".", " "),
        (b"a;b\nx;1.234\ny;12\n", ".", None),  # either; not for us to say
        (b"a;b\n1,5;1.5\n2,5;2.5\n", ".", None),  # they contradict each other
        (b"a;b\nx;1,5 m\ny;2,5\n", ".", None),
    ],
)
def test_how_numbers_are_written(content: bytes, decimal_mark: str, thousands: str | None) -> None:
    reader = opened("a.csv", content)
    assert (reader.layout.values.decimal_mark, reader.layout.values.thousands) == (decimal_mark, thousands)
    shown = [finding for finding in reader.findings if finding.code == "numbers-found"]
    assert bool(shown) == (decimal_mark == "," or thousands is not None)


@settings(max_examples=60, deadline=None)
@given(
    st.lists(st.integers(1, 9), min_size=1, max_size=5),
    st.lists(st.lists(st.text("aé Z9-", max_size=9), min_size=5, max_size=5), min_size=1, max_size=30),
    st.sampled_from(["newline", "none"]),
    st.integers(1, 50),
)
def test_fixed_width_records_arrive_as_they_were(
    widths: list[int], table: list[list[str]], terminator: str, size: int
) -> None:
    cells = [[cell[:width].strip() for cell, width in zip(row, widths, strict=False)] for row in table]
    end = "\n" if terminator == "newline" else ""
    text = "".join("".join(c.ljust(w) for c, w in zip(row, widths, strict=True)) + end for row in cells)
    fields = [{"name": f"f{n}", "width": width} for n, width in enumerate(widths)]
    layout = {
        "format": "fixed",
        "encoding": "utf-8",
        "record": sum(widths),
        "terminator": terminator,
        "header": False,
        "fields": fields,
    }
    reader = opened("s.txt", text.encode(), layout)
    assert rows_of(reader) == cells


@settings(max_examples=60, deadline=None)
@given(
    st.lists(
        st.fixed_dictionaries(
            {},
            optional={
                "a": st.one_of(st.none(), st.integers(-(2**63), 2**63 - 1)),
                "b": st.one_of(st.none(), st.text("aé\n\"\\\u2028", max_size=5)),
                "c": st.one_of(st.none(), st.booleans()),
                "d": st.one_of(st.none(), st.fixed_dictionaries({"x": st.decimals(-9999, 9999, places=3)})),
            },
        ),
        min_size=1,
        max_size=20,
    )
)  # fmt: skip
def test_json_lines_are_read_the_same_in_both_ways(records: list[dict[str, Any]]) -> None:
    content = "".join(
        json.dumps(item, default=str) + "\n" for item in [{"a": 1, "b": "", "c": True, "d": {"x": 1}}, *records]
    )
    # decimals are written as numbers, not as text
    plain = content.replace('"x": "', '"x": ').replace('"}', "}") if '"x": "' in content else content
    reader = opened("m.jsonl", plain.encode(), {"format": "jsonl", "encoding": "utf-8"})
    fast = rows_of(reader)
    slow = rows_of(opened("m.jsonl", plain.encode(), {"format": "jsonl", "encoding": "utf-8", "keys": ["zz"]}))
    names = reader.names
    assert [dict(zip(names, row, strict=True)) for row in fast] == [
        dict(zip(names, row, strict=False)) for row in slow
    ]


def test_many_files_as_one_with_their_partitions(tmp_path: Path) -> None:
    spec = ConnectionSpec("f", "folder", {"path": str(tmp_path)}, [str(tmp_path)])
    for year in ("2025", "2026"):
        for hut in ("007", "__HIVE_DEFAULT_PARTITION__"):
            place = tmp_path / f"year={year}" / f"hut={hut}"
            place.mkdir(parents=True)
            (place / "a.parquet").write_bytes(parquet(pa.table({"n": [1]})))
    reader = open_source(spec, "**/*.parquet", None)
    assert (reader.names, rows_of(reader)) == (
        ["n", "year", "hut"],
        [["1", "2025", "007"], ["1", "2025", None], ["1", "2026", "007"], ["1", "2026", None]],
    )
    plain = open_source(spec, "**/*.parquet", LAYOUT.read({"format": "parquet", "partitions": False}))
    assert plain.names == ["n"]
    with zipfile.ZipFile(tmp_path / "z.zip", "w") as archive:
        archive.writestr("june/a.csv", "a,b\n1,2\n")
        archive.writestr("june/b.csv", "a,b\n3,4\n")
        archive.writestr("july/c.csv", "b,a\n3,4\n")
    assert rows_of(open_source(spec, "z.zip/june/*.csv", None)) == [["1", "2"], ["3", "4"]]
    for path, code in (
        ("z.zip/**/*.csv", "files-differ"),
        ("z.zip", "archive-ambiguous"),
        ("z.zip/may.csv", "file-missing"),
        ("z.zip/x*", "file-missing"),
        ("*.nothing", "file-missing"),
    ):
        with pytest.raises(UltravectError) as raised:
            rows_of(open_source(spec, path, None))
        assert raised.value.code == code


@pytest.mark.parametrize("change", [b"a,b\n1,2\n3,4\n5,6\n", b"a,b\n"])
def test_a_file_that_changes_is_reported(tmp_path: Path, change: bytes) -> None:
    path = tmp_path / "a.csv"
    path.write_bytes(b"a,b\n1,2\n3,4\n")
    spec = ConnectionSpec("f", "folder", {"path": str(tmp_path)}, [str(tmp_path)])
    reader = open_source(spec, "a.csv", None)
    path.write_bytes(change)
    with pytest.raises(UltravectError) as raised:
        rows_of(reader)
    assert (raised.value.code, raised.value.where["object"]) == ("file-changed", "a.csv")
    path.unlink()
    with pytest.raises(UltravectError) as raised:
        rows_of(reader)
    assert raised.value.code == "file-missing"


def test_it_grows_while_it_is_read(tmp_path: Path) -> None:
    path = tmp_path / "a.csv"
    path.write_bytes(b"a,b\n" + b"1,2\n" * 100_000)
    reader = open_source(ConnectionSpec("f", "folder", {"path": str(tmp_path)}, [str(tmp_path)]), "a.csv", None)
    blocks = reader.blocks()
    next(blocks)
    with path.open("ab") as file:
        file.write(b"3,4\n")
    with pytest.raises(UltravectError, match="changed while it was read"):
        list(blocks)
