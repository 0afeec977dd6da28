"""The delimited reader: where rows are cut, how headers and encodings are found, what is refused."""

from __future__ import annotations

import csv
import io
import itertools

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from tests.core.files import file_of

from ultravect.core.errors import UltravectError
from ultravect.core.layouts.delimited.blocks import Dialect, cut_blocks
from ultravect.core.layouts.delimited.opening import open_delimited
from ultravect.core.layouts.delimited.reader import DelimitedReader
from ultravect.core.model.layout import DelimitedLayout

COMMA = Dialect(ord(","), ord('"'), ord("\n"))


def opened(content: bytes, layout: DelimitedLayout | None = None) -> DelimitedReader:
    return open_delimited(file_of("x.csv", content), layout)


def rows(reader: DelimitedReader) -> list[list[str | None]]:
    found: list[list[str | None]] = []
    for block in reader.blocks():
        table = reader.read(block).values
        columns = [[None if v is None else v.decode() for v in column.to_pylist()] for column in table.columns]
        found += [list(row) for row in zip(*columns, strict=True)]
    return found


@pytest.mark.parametrize(
    ("content", "layout", "names", "first"),
    [
        (b"a,b\n1,2\n", {}, ["a", "b"], ["1", "2"]),
        (b"a;b\r\n1;2\r\n", {}, ["a", "b"], ["1", "2"]),
        (b"a\tb\n1\t2", {}, ["a", "b"], ["1", "2"]),
        (b"a|b\n1|2", {}, ["a", "b"], ["1", "2"]),
        (b"a,b\r1,2\r3,4\r", {}, ["a", "b"], ["1", "2"]),
        (b"\xef\xbb\xbfa,b\n1,2\n", {}, ["a", "b"], ["1", "2"]),
        ("ä,b\nö,2\n".encode("utf-16"), {}, ["ä", "b"], ["ö", "2"]),
        ("ä,b\nö,2\n".encode("utf-16-le"), {"encoding": "utf-16-le"}, ["ä", "b"], ["ö", "2"]),
        ("ä,b\nö,2\n".encode("latin-1"), {"encoding": "latin-1"}, ["ä", "b"], ["ö", "2"]),
        ("ä,b\nö,2\n".encode("cp1252"), {}, ["ä", "b"], ["ö", "2"]),
        (b"made by x\n\na,b\n1,2\n", {"preamble": 2}, ["a", "b"], ["1", "2"]),
        (b"1,2\n3,4\n", {}, ["column_1", "column_2"], ["1", "2"]),
        (b"a,b\n", {"header": False}, ["column_1", "column_2"], ["a", "b"]),
        (b" a , b\n1,2\n", {}, ["a", "b"], ["1", "2"]),
        (b"a,a,,a_2\n1,2,3,4\n", {}, ["a", "a_3", "column_3", "a_2"], ["1", "2", "3", "4"]),
        (b"'a','b'\n'x,y',2\n", {"quote": "'", "delimiter": ","}, ["a", "b"], ["x,y", "2"]),
        (b'a,b\n"x,2\n', {"quote": "none"}, ["a", "b"], ['"x', "2"]),
        (b'a,b\n5" pipe,2\n6",3\n', {}, ["a", "b"], ['5" pipe', "2"]),
        (b'a,b\n"x\r\ny, ""z""",2\n', {}, ["a", "b"], ['x\r\ny, "z"', "2"]),
        (b'"a ""b""",c\n1,2\n', {}, ['a "b"', "c"], ["1", "2"]),
        (b'a,b\n,""\n', {}, ["a", "b"], [None, ""]),
        (b"\n\na,b\n\n1,2\n", {}, ["a", "b"], ["1", "2"]),
        (b"only\n1x\n2x\n", {}, ["only"], ["1x"]),
    ],
)
def test_reads(content: bytes, layout: dict[str, object], names: list[str], first: list[str | None]) -> None:
    reader = opened(content, DelimitedLayout(**layout))
    assert reader.names == names
    assert rows(reader)[0] == first


def test_renamed_columns_are_reported() -> None:
    shown = [finding.message for finding in opened(b"a,a,\n1,2,3\n").findings if finding.code == "column-renamed"]
    assert shown == [
        "the name 'a' stands in the header more than once; it is called 'a_2' here",
        "column 3 has no name; it is called 'column_3' here",
    ]


@pytest.mark.parametrize(
    ("content", "code", "line", "part"),
    [
        (b"", "file-empty", None, "is empty"),
        (b"\n\n", "file-empty", None, "no rows and no header"),
        (b'a,b\n1,"x\n2,y\n', "broken-quote", 2, "never closed"),
        (b'a,b\n1,"x\n2,"y\n', "broken-quote", 3, "the value starts in line 2"),
        (b'a,b\n1,"x"y\n', "broken-quote", 2, "text follows a closing quote"),
    ],
)
def test_refuses(content: bytes, code: str, line: int | None, part: str) -> None:
    with pytest.raises(UltravectError) as raised:
        rows(opened(content))
    assert (raised.value.code, raised.value.where.get("line")) == (code, line)
    assert part in raised.value.detail


def test_bytes_that_are_not_of_the_encoding() -> None:
    content = "a,b\n1,2\n".encode("utf-16") + b"\x00\xd8x\n"
    with pytest.raises(UltravectError) as raised:
        rows(opened(content, DelimitedLayout(encoding="utf-16")))
    assert raised.value.code == "wrong-encoding"


def test_a_row_without_end_does_not_eat_memory() -> None:
    endless = itertools.chain([b'a,b\n1,"'], itertools.repeat(b"x" * (8 << 20), 100))
    with pytest.raises(UltravectError, match="more than 64 MiB"):
        list(cut_blocks(endless, COMMA, 1, "x.csv"))


def test_ragged_rows_are_told_apart_and_lines_are_right() -> None:
    reader = opened(b'a,b\n1,"x\ny"\n2\n\n3,4,5\n6,7\n')
    (block,) = reader.blocks()
    text = reader.read(block)
    assert [(item.index, item.reason) for item in text.bad] == [
        (1, "1 value where the header has 2 columns"),
        (2, "3 values where the header has 2 columns"),
    ]
    assert text.index.tolist() == [0, 3]
    assert [block.row_line(index) for index in range(4)] == [2, 4, 6, 7]
    assert block.row_text(2) == "3,4,5"


CELL = st.text(alphabet='ab,"\n\r;é \t', max_size=6)


@settings(deadline=None)
@given(
    st.lists(st.lists(CELL, min_size=3, max_size=3), min_size=1, max_size=30),
    st.integers(1, 40),
    st.sampled_from([csv.QUOTE_ALL, csv.QUOTE_MINIMAL]),
)
def test_whatever_is_written_is_read(table: list[list[str]], size: int, quoting: int) -> None:
    """Blocks of any size are cut at row ends, and their rows are those that were written."""
    text = io.StringIO(newline="")
    csv.writer(text, quoting=quoting).writerows([["a", "b", "c"], *table])
    content = text.getvalue().encode()  # rows end with \r\n
    chunks = [content[start : start + size] for start in range(0, len(content), size)]
    blocks = list(cut_blocks(chunks, COMMA, 1, "x.csv"))
    assert b"".join(block.data for block in blocks) == content
    whole = [[None if value == "" and quoting == csv.QUOTE_MINIMAL else value for value in row] for row in table]
    reader = opened(content, DelimitedLayout(delimiter=",", header=True))
    assert rows(reader) == whole
    line = 1
    for block in blocks:
        assert block.line == line
        line += block.data.count(b"\n")
        parsed = list(csv.reader(io.StringIO(block.data.decode(), newline="")))
        assert len(parsed) == len(block.row_starts)
