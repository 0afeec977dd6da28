"""What is found in a file that no one described: its format, its cuts, and whether it still fits a saved layout."""

from __future__ import annotations

import io
import zipfile

import pytest
from tests.core.files import file_of

from ultravect.core.engine.plan.source.expected_columns import misfits
from ultravect.core.layouts import open_layout
from ultravect.core.layouts.encoding import detect_encoding
from ultravect.core.layouts.formats import format_of
from ultravect.core.model.document import LAYOUT_FILE
from ultravect.core.types.canonical import parse_type
from ultravect.core.types.inference.column_type import ColumnType


@pytest.mark.parametrize(
    ("name", "content", "found"),
    [
        ("a.csv", b"a,b\n1,2\n", "delimited"),
        ("a.CSV", b"{not json}\n", "delimited"),
        ("a.tsv.gz", b"", ""),
        ("a.txt", b"a;b\n1;2\n3;4\n", "delimited"),
        ("a", b"a\nb\nccc\n", "delimited"),
        ("a.txt", b"ab  12\ncd 900\nef   7\n", "fixed"),
        ("a.dat", b"".join(b"%04dbeer%6d" % (n, n * 7) for n in range(50)), "fixed"),
        ("a.txt", b'{"a": 1}\n{"a": 2}\n', "jsonl"),
        ("a.json", b'{"a": 1}\n{"a": 2}\n', "jsonl"),
        ("a.json", b'{"a": [{"b": 1}]}', "json"),
        ("a.json", b'[{"b": 1}]', "json"),
        ("a.txt", b"\xef\xbb\xbf<?xml version='1.0'?><a/>", "xml"),
        ("a.bin", b"PAR1xxxx", "parquet"),
        ("a.xls", b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1", "xlsx"),
        ("a.ods", b"PK\x03\x04", "xlsx"),
    ],
)
def test_formats_are_told_by_bytes_and_names(name: str, content: bytes, found: str) -> None:
    if not found:
        return
    format_name, finding = format_of(file_of(name, content))
    assert (format_name, finding.code, finding.severity) == (found, "format-found", "note")


@pytest.mark.parametrize(
    ("head", "name", "sure"),
    [
        (b"a,b\n", "utf-8", True),
        ("ä".encode(), "utf-8", True),
        ("ä".encode()[:1], "utf-8", True),  # a character that goes on after the head
        ("ä,ö".encode("cp1252"), "cp1252", False),
        ("a,b".encode("utf-16"), "utf-16", True),
        ("a,b,c,d".encode("utf-16-le"), "utf-16-le", False),
        ("a,b,c,d".encode("utf-16-be"), "utf-16-be", False),
        (b"", "utf-8", True),
    ],
)
def test_encodings(head: bytes, name: str, sure: bool) -> None:
    found = detect_encoding(head)
    assert (found.name, found.sure, bool(found.reason)) == (name, sure, True)


@pytest.mark.parametrize(
    ("content", "preamble", "header", "names"),
    [
        (b"id;hut;kg\n1;2;3\n", 0, True, ["id", "hut", "kg"]),
        (b"Export\n\nid;hut;kg\n1;2;3\n4;5;6\n", 2, True, ["id", "hut", "kg"]),
        (b"Export;1\nid;hut;kg;x\n1;2;3;4\n4;5;6;7\n", 1, True, ["id", "hut", "kg", "x"]),
        (b"id;hut\n1;2;3\n4;5;6\n", 0, True, ["id", "hut"]),  # a header that is too short is one all the same
        (b"1;2;3\n4;5;6\n", 0, False, ["column_1", "column_2", "column_3"]),
        ("名;小屋\n1;二\n".encode(), 0, True, ["名", "小屋"]),
        (b";".join(b"c%d" % n for n in range(10_000)) + b"\n", 0, True, [f"c{n}" for n in range(10_000)]),
    ],
)
def test_headers(content: bytes, preamble: int, header: bool, names: list[str]) -> None:
    reader = open_layout(file_of("a.csv", content), None)
    assert (reader.layout.preamble, reader.layout.header, reader.names) == (preamble, header, names)  # type: ignore[union-attr]


def test_a_sheet_of_another_office() -> None:
    """ods, which the library reads next to xlsx."""
    cells = "".join(
        f"<table:table-row>{row}</table:table-row>"
        for row in (
            '<table:table-cell office:value-type="string"><text:p>hut</text:p></table:table-cell>'
            '<table:table-cell office:value-type="string"><text:p>beds</text:p></table:table-cell>',
            '<table:table-cell office:value-type="string"><text:p>001</text:p></table:table-cell>'
            '<table:table-cell office:value-type="float" office:value="12"><text:p>12</text:p></table:table-cell>',
        )
    )
    space = "urn:oasis:names:tc:opendocument:xmlns"
    content = (
        f'<office:document-content xmlns:office="{space}:office:1.0" xmlns:table="{space}:table:1.0" xmlns:text="{space}:text:1.0">'
        f'<office:body><office:spreadsheet><table:table table:name="Beds">{cells}</table:table></office:spreadsheet></office:body>'
        "</office:document-content>"
    )
    stream = io.BytesIO()
    with zipfile.ZipFile(stream, "w") as archive:
        archive.writestr("mimetype", "application/vnd.oasis.opendocument.spreadsheet")
        archive.writestr("META-INF/manifest.xml", '<manifest:manifest xmlns:manifest="urn:m"/>')
        archive.writestr("content.xml", content)
    reader = open_layout(file_of("beds.ods", stream.getvalue()), None)
    (block,) = reader.blocks()
    assert (reader.names, reader.read(block).values.to_pylist()) == (["hut", "beds"], [{"hut": "001", "beds": 12}])


LAYOUT = LAYOUT_FILE.read(
    {
        "ultravect": 1,
        "layout": "slips",
        "reads": {"format": "jsonl"},
        "expects": [{"name": "no", "type": "text"}, {"name": "kg", "type": "integer"}],
    }
)


@pytest.mark.parametrize(
    ("columns", "part"),
    [
        ([("no", "text"), ("kg", "integer")], []),
        ([("no", "text"), ("gross_kg", "integer")], ["column 2 is now 'gross_kg', it was 'kg'"]),
        ([("kg", "integer"), ("no", "text")], ["column 1 is now 'kg', it was 'no' (it is column 2 now)",
                                               "column 2 is now 'no', it was 'kg' (it is column 1 now)"]),
        ([("no", "text")], ["column 2 'kg' is no longer there"]),
        ([("no", "text"), ("kg", "integer"), ("pilot", "text")], ["column 3 'pilot' is new"]),
        ([("no", "text"), ("kg", "decimal(18,1)")], ["column 2 'kg' is now decimal(18,1), it was integer (seen)"]),
        ([("no", "text"), *((f"c{n}", "text") for n in range(9))], ["column 2 is now 'c0', it was 'kg'", "column 3 'c1' is new",
            "column 4 'c2' is new", "column 5 'c3' is new", "column 6 'c4' is new", "and 4 differences more"]),
    ],
)  # fmt: skip
def test_what_no_longer_fits(columns: list[tuple[str, str]], part: list[str]) -> None:
    types = {n: ColumnType(name, parse_type(kind), 5, 0, "seen") for n, (name, kind) in enumerate(columns)}
    found = misfits("slips", LAYOUT.expects, [name for name, _ in columns], types)
    assert [item.message for item in found] == [f"this file no longer fits layout slips: {what}" for what in part]
    assert {item.severity for item in found} <= {"warning"}


def test_a_column_without_values_still_fits() -> None:
    empty = {1: ColumnType("kg", parse_type("text"), 0, 5, "no values")}
    assert misfits("slips", LAYOUT.expects, ["no", "kg"], empty) == []
