"""What stands around rows, and where rows are: drawn tables, counts, sums, units, remarks; codes of clients; parts of documents; columns of fixed
width that grow."""

from __future__ import annotations

import json
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from tests.core.layouts.test_formats import bad_of, opened, rows_of, workbook

from ultravect.core.layouts.delimited.client_codes import decoded_text
from ultravect.core.layouts.encoding import detect_encoding
from ultravect.core.layouts.headers import judge_header

TWO = [["1", "a"], ["2", "b"]]
BARRED = """\\fixlen = T
\\ a remark with | bars
|  id |   mag |name    |
| int |double |char    |
|     |   mag |        |
|null |   -99 |null    |
    1    2.50  a b
    2     -99  null
  103   12.25  xy-long
"""
AROUND: dict[str, tuple[str, list[str], list[list[Any]]]] = {
    "the delimiter in a line of its own": ("sep=;\nid;v\n1;a\n2;b\n", ["id", "v"], TWO),
    "a client's table": (" id | v \n----+---\n  1 | a\n  2 | b\n(2 rows)\n\n", ["id", "v"], TWO),
    "without a frame": ("id|v\n1|a\n2|b\n(2 rows)\n", ["id", "v"], TWO),
    "with a frame": ("+----+---+\n| id | v |\n+----+---+\n|  1 | a |\n|  2 | b |\n+----+---+\n2 rows in set (0.00 sec)\n", ["id", "v"], TWO),
    "of a text page": ("| id | v |\n|----|---|\n| 1 | a |\n| 2 | b |\n", ["id", "v"], TWO),
    "dashes below the names": ("id,v\n--,-\n1,a\n2,b\n\n(2 rows affected)\n", ["id", "v"], TWO),
    "columns of blanks": ("id         v\n---------- ----------\n1          a\n2          b\n\n2 rows selected.\n", ["id", "v"], TWO),
    "a remark at the end": ("id,v\n1,a\n2,b\n# end of file\n", ["id", "v"], TWO),
    "bars in the head alone": (BARRED, ["id", "mag", "name"], [["1", "2.50", "a b"], ["2", "-99", "null"], ["103", "12.25", "xy-long"]]),
    "bars above one line of names": ("|a   |b  |\n 1    2\n 3    4\n", ["a", "b"], [["1", "2"], ["3", "4"]]),
    "units": ("hut,beds,height\n,(n),(m)\nA,1,2.5\nB,3,4.5\n", ["hut", "beds", "height"], [["A", "1", "2.5"], ["B", "3", "4.5"]]),
    "types": ("agency\tid\tv\n5s\t15s\t10n\nX\t1\t2.5\nY\t3\t4.5\n", ["agency", "id", "v"], [["X", "1", "2.5"], ["Y", "3", "4.5"]]),
    "many remarks": ("".join(f"# remark {n}, with text\n" for n in range(1000)) + "id,v\n1,a\n2,b\n", ["id", "v"], TWO),
    "names in the last remark": ("# made by hand\n# id v w\n1 2 3\n4 5 6\n", ["id", "v", "w"], [["1", "2", "3"], ["4", "5", "6"]]),
    "a letter for each column": ("x,y\nfoo,bar\nbaz,qux\n", ["x", "y"], [["foo", "bar"], ["baz", "qux"]]),
    "sentences between tabs": ("id\tv\n1\tone, two, three\n2\tfour, five, six\n3\tseven, eight, nine\n", ["id", "v"],
                               [["1", "one, two, three"], ["2", "four, five, six"], ["3", "seven, eight, nine"]]),
    "clocks": ("10:00:01 start\n10:00:02 stop\n10:00:03 end\n", ["column_1", "column_2"],
               [["10:00:01", "start"], ["10:00:02", "stop"], ["10:00:03", "end"]]),
    "a sorted list": ("Alphorn\nAlpina\nArvenhut\nAttila\nAurora\n", ["column_1"], [["Alphorn"], ["Alpina"], ["Arvenhut"], ["Attila"], ["Aurora"]]),
    "numbers of columns": ("1,2,3\n0.5,0.6,0.7\n0.1,0.2,0.3\n0.3,0.4,0.5\n", ["1", "2", "3"],
                           [["0.5", "0.6", "0.7"], ["0.1", "0.2", "0.3"], ["0.3", "0.4", "0.5"]]),
    "blanks after quotes": ('id,"v" \n1,"a" \n2,"b"\n', ["id", "v"], TWO),
    "codes": ("id\tv\n1\t\\N\n2\ta\\tb\\\\c\n3\t\n4\t\"x\"\n", ["id", "v"], [["1", None], ["2", "a\tb\\c"], ["3", ""], ["4", '"x"']]),
    "codes of a file": ("1\t\\N\n2\tx\\\ny\n3\ta\\\tb\n", ["column_1", "column_2"], [["1", None], ["2", "x\ny"], ["3", "a\tb"]]),
    "quotes and codes": ('"1","x \\"q\\"",\\N\n"2",\\N,"a\\\\b"\n"3","","c"\n', ["column_1", "column_2", "column_3"],
                         [["1", 'x "q"', None], ["2", None, "a\\b"], ["3", "", "c"]]),
}  # fmt: skip


@pytest.mark.parametrize("case", AROUND.values(), ids=AROUND)
def test_only_rows_are_rows(case: tuple[str, list[str], list[list[Any]]]) -> None:
    content, names, rows = case
    reader = opened("a.txt", content.encode())
    assert (reader.names, rows_of(reader), bad_of(reader)) == (names, rows, [])


ALL_ROWS = {
    "a first row that was not measured": ("id,v\nx,ND\ny,2\nz,3\n", "units-likely", 3),
    "two of them": ("a,v,w\nx,ND,ND\ny,2,3\nz,3,4\n", "units-likely", 3),
    "NULL in the first row": ("id,v,w\nx,NA,NA\ny,2,3\nz,3,4\n", "", 3),
    "a value that counts": ("note\nhello\n12 records\n", "", 2),
    "a sum": ("id,v\n1,2\n3,4\nTotal,6\n", "sums-likely", 3),
    "a path": ("id\tv\n1\tC:\\temp\\new\n2\tD:\\net\n", "codes-likely", 2),
    "another path": ("id\tv\n1\tC:\\Users\\new\n", "", 1),
}


@pytest.mark.parametrize("case", ALL_ROWS.values(), ids=ALL_ROWS)
def test_what_may_be_a_row_stays_one(case: tuple[str, str, int]) -> None:
    content, code, count = case
    reader = opened("a.txt", content.encode())
    assert len(rows_of(reader)) == count
    warned = {found.code for found in reader.findings if found.severity == "warning" and found.code != "header-found"}
    assert warned == ({code} if code else set())


@given(st.lists(st.text(st.characters(codec="utf-8", exclude_characters="\x00"), max_size=6), min_size=1, max_size=4))
@settings(max_examples=200, deadline=None)
def test_codes_give_back_what_was_written(values: list[str]) -> None:
    r"""As PostgreSQL's COPY writes: \ first, then what would cut the row."""
    means = {"\\": "\\\\", "\t": "\\t", "\n": "\\n", "\r": "\\r", "\b": "\\b", "\f": "\\f", "\v": "\\v"}
    written = ["".join(means.get(item, item) for item in value) for value in values]
    row = "\t".join(["\\N", *written])
    reader = opened(
        "a.tsv",
        f"{row}\n{row}\n".encode(),
        {
            "format": "delimited",
            "delimiter": "\t",
            "codes": True,
            "header": False,
            "trailing": False,
            "encoding": "utf-8",
        },
    )
    assert rows_of(reader) == [[None, *values]] * 2
    assert decoded_text(f"{row}\n", "\t").endswith("\n")


@pytest.mark.parametrize("width", [4, 9])
def test_columns_that_grow_are_not_cut(width: int) -> None:
    """Numbers on the right have one digit in the first five hundred records, and more later."""
    rows = [(43.388, number // 100) for number in range(88_000)]
    content = "".join(f"{left:8.3f}{right:>{width}}\n" for left, right in rows)
    reader = opened("a.txt", content.encode(), {"format": "fixed"})
    found = rows_of(reader)
    assert (bad_of(reader), len(found)) == ([], 88_000)
    assert [found[at] for at in (0, 5_000, 87_999)] == [["43.388", "0"], ["43.388", "50"], ["43.388", "879"]]


def test_text_across_a_border_that_was_found_is_a_reject(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("ultravect.core.layouts.fixed.reader._PROVEN_BYTES", 1)
    lines = ["ab   1\n"] * 30_000 + ["ab 123\n", "abcdef\n"]
    reader = opened("a.txt", "".join(lines).encode(), {"format": "fixed"})
    assert [(row, "across the border" in reason) for row, _, reason in bad_of(reader)] == [
        (30_001, True),
        (30_002, True),
    ]


def test_a_sentence_is_no_table_of_records() -> None:
    reader = opened("a.txt", b"The quick brown fox jumps over the lazy dog, and goes away for ever and ever again")
    assert reader.layout.format == "delimited"  # type: ignore[attr-defined]


_ROWS = [{"id": number, "v": f"x{number}", "w": 1.5} for number in range(8)]
PARTS: dict[str, tuple[str, str, list[str], int, bool]] = {
    # name: file, content, names, rows, whether that is a doubt
    "a larger array, deeper": (
        "a.json", json.dumps({"links": [{"rel": "self"}, {"rel": "next"}], "result": {"records": _ROWS}}), ["id", "v", "w"], 8, False),
    "one object around": ("a.json", json.dumps([{"status": "ok", "items": [{"a": n, "b": n} for n in range(40)]}]), ["a", "b"], 40, False),
    "definitions next to arrays": (
        "a.json",
        json.dumps({"columns": [{"name": "a", "type": "x"}, {"name": "b", "type": "y"}], "data": [[n, n] for n in range(20)]}),
        ["a", "b"], 20, False),
    "two as good": ("a.json", json.dumps({"huts": _ROWS, "guests": [{"g": n, "h": n, "i": n} for n in range(8)]}), ["id", "v", "w"], 8, True),
    "rows of cells": (
        "a.xml",
        "<V><INFO name='a' value='b'/><INFO name='c' value='d'/><T><FIELD name='ra' unit='d'/><FIELD name='dec' unit='d'/><DATA>"
        + "".join(f"<TR><TD>{n}</TD><TD>{n}.5</TD></TR>" for n in range(12))
        + "</DATA></T></V>",
        ["ra", "dec"], 12, False),
    "parts of rows": (
        "a.xml",
        "<o>" + "".join(f"<b><id>{n}</id><who>x</who><n>1</n><n>2</n><n>3</n></b>" for n in range(5)) + "</o>", ["id", "who", "n"], 5, False),
    "two elements as good": (
        "a.xml", "<r><as>" + "<a><x>1</x></a>" * 5 + "</as><bs>" + "<b><y>1</y></b>" * 5 + "</bs></r>", ["x"], 5, True),
}  # fmt: skip


@pytest.mark.parametrize("case", PARTS.values(), ids=PARTS)
def test_the_rows_of_a_document(case: tuple[str, str, list[str], int, bool]) -> None:
    path, content, names, count, doubt = case
    reader = opened(path, content.encode())
    assert (reader.names, len(rows_of(reader))) == (names, count)
    assert any(found.code == "rows-unsure" for found in reader.findings) is doubt


@pytest.mark.parametrize(
    ("text", "encoding"),
    [
        ("id,name\n1,Acme © 2020\n2,x\n", "cp1252"),
        ("a,b\nFoo®,1\n", "cp1252"),
        ("t\n12°C\n13°C\n", "cp1252"),
        ("p\n5 €\n", "cp1252"),
        ("id,n\n1,it’s “fine” – ok\n", "cp1252"),
        ("id,name\n1,Η καλύβα πάνω από τη λίμνη και το δάσος\n2,Αθήνα και Θεσσαλονίκη\n", "cp1253"),
        ("id,name\n1,これはテストのデータです\n2,ホテルの名前\n", "euc_jp"),
        ("id,name\n1,Zażółć gęślą jaźń\n2,Łódź\n", "cp1250"),
        ("id,name\n1,이것은 테스트 데이터입니다\n2,호텔 이름과 주소\n", "euc_kr"),
    ],
)
def test_encodings_by_where_bytes_stand(text: str, encoding: str) -> None:
    content = text.encode(encoding)
    found = detect_encoding(content)
    assert (content.decode(found.name), found.sure) == (text, False)


@pytest.mark.parametrize(
    ("below", "footer", "sums"),
    [
        ([], 0, 0),
        ([["(3 rows)", None]], 1, 0),
        ([["Total", 6]], 0, 1),
        ([[None, None], ["Summe", 6], [None, None], ["3 rows selected.", None]], 1, 1),
        ([["average", 2], ["total", 6]], 0, 2),
        ([["d", 6]], 0, 0),
    ],
)
def test_what_stands_below_the_rows_of_a_sheet(below: list[list[Any]], footer: int, sums: int) -> None:
    def fill(book: Any) -> None:
        for row in (["hut", "kg"], ["a", 1], ["b", 2], ["c", 3], *below):
            book.active.append(row)

    reader = opened("a.xlsx", workbook(fill))
    assert reader.layout.footer == footer
    proposed = [finding.replacement.value for finding in reader.findings if finding.code == "sums-likely"]
    assert proposed == ([sums] if sums else [])
    without = opened("a.xlsx", workbook(fill), {"format": "xlsx", "footer": footer + sums})
    assert rows_of(without) == [["a", "1"], ["b", "2"], ["c", "3"], *([["d", "6"]] if below == [["d", 6]] else [])]


def test_a_head_with_bars_names_words_for_null() -> None:
    assert opened("a.tbl", BARRED.encode()).layout.values.nulls == ["", "-99", "null"]


def test_a_header_begins_no_sorted_list() -> None:
    assert judge_header([["State"], ["Alabama"], ["Alaska"], ["Arizona"]]).present
