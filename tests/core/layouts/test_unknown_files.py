"""Files without a description: how they are cut, which row names the columns, and what is said where that is not sure."""

from __future__ import annotations

import datetime as dt
import io
import json
import zipfile
from decimal import Decimal as D
from typing import Any

import pyarrow as pa
import pyarrow.parquet as pq
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from openpyxl.utils.datetime import CALENDAR_MAC_1904
from openpyxl.workbook.defined_name import DefinedName
from openpyxl.worksheet.table import Table
from tests.core.layouts.test_formats import bad_of, opened, rows_of, workbook

from ultravect.core.engine.plan.source.proposals import value_findings
from ultravect.core.engine.plan.source.scan import scan_columns
from ultravect.core.layouts.base import Reader
from ultravect.core.layouts.documents import json_lines
from ultravect.core.layouts.documents import shared as documents
from ultravect.core.layouts.encoding import detect_encoding
from ultravect.core.model.layout import DelimitedLayout
from ultravect.core.types.arrow import convert_typed
from ultravect.core.types.canonical import parse_type
from ultravect.core.types.text_formats import TextFormats

MORE = b"\n".join(b"%d;;%d;x" % (n, n * 3) for n in range(1, 9))
_HUTS = [("Alpen rose", 40, "2001-05-01"), ("Falken horst", 22, "1999-06-10"), ("Sonn blick", 130, "2003-05-01"),
         ("Gipfelruh", 18, "1987-07-01"), ("Steinbock", 64, "1976-07-01"), ("Edelweiss", 12, "1966-07-01")]  # fmt: skip
_RECORDS = "".join(f"{name:12}{beds:>5}{opened:>12}\n" for name, beds, opened in [("name", "beds", "opened"), *_HUTS])
_FIELDS = b"HUTS OF THE WEST, SUMMER 2026\n\n" + _RECORDS.encode()

TEXTS = {
    # name: content, names, first row, keys of the layout
    "an empty column is no delimiter of two characters": (b"a;b;c;d\n" + MORE, ["a", "b", "c", "d"], ["1", None, "3", "x"], {"delimiter": ";"}),
    "two characters": (b"a||b\n1||2\n3||4\n", ["a", "b"], ["1", "2"], {"delimiter": "||"}),
    "a pipe with blanks": (b"a | b\n1 | 2\n3 | 4\n", ["a", "b"], ["1 ", " 2"], {"delimiter": "|"}),
    "decimal commas": (b"a;b\n1,5;2,5\n3,5;4,5\n", ["a", "b"], ["1,5", "2,5"], {"delimiter": ";"}),
    "runs of blanks": (b"  hut   kg  beds\n  1   2.5 3\n 10  12.5  40\n", ["hut", "kg", "beds"], ["1", "2.5", "3"], {"delimiter": "blanks"}),
    "tabs and blanks": (b"hut \t kg\nA\t 2.5\nBc  12.5\n", ["hut", "kg"], ["A", "2.5"], {"delimiter": "blanks"}),
    "sentences are no columns": (b"one two three\nfour five six\nseven eight nine\n", ["one two three"], ["four five six"], {"delimiter": ","}),
    "NUL": (b"a\x00b\n1\x00x\n2\x00y\n", ["a", "b"], ["1", "x"], {"delimiter": "\x00"}),
    "blanks before quotes": (b'a, "b"\n1, "x, y"\n2, "z"\n', ["a", "b"], ["1", "x, y"], {"skip_blanks": True}),
    "backslashes": (b'a,b\n1,"say \\"hi\\", now"\n2,"x"\n', ["a", "b"], ["1", 'say "hi", now'], {"escape": "\\"}),
    "single quotes": (b"a,b\n1,'x, y'\n2,'z'\n3,'it'\n", ["a", "b"], ["1", "x, y"], {"quote": "'"}),
    "carriage returns": (b'a,b\r1,"x\ry"\r2,z\r', ["a", "b"], ["1", "x\ry"], {}),
    "a trailing delimiter": (b"a,b,\n1,2,\n3,4,\n", ["a", "b"], ["1", "2"], {"trailing": True}),
    "a trailing delimiter, but in the header": (b"a,b\n1,2,\n3,4,\n", ["a", "b"], ["1", "2"], {"trailing": True}),
    "comments": (b"a,b\n# taken by hand\n1,2\n# rain\n3,4\n", ["a", "b"], ["1", "2"], {"comment": "#"}),
    "a header with a mark": (b"#id,name\n1,x\n2,y\n", ["#id", "name"], ["1", "x"], {"comment": None}),
    "years as names": (b"hut,1960,1961,1962\nAlp,7,8,9\nBerg,4,5,6\n", ["hut", "1960", "1961", "1962"], ["Alp", "7", "8", "9"], {}),
    "numbers as names": (b"hut,1,2\nA,0.5,1.5\nB,2.5,3.5\nC,4.5,5.5\n", ["hut", "1", "2"], ["A", "0.5", "1.5"], {"header": True}),
    "years in rows": (b"2019,5\n2020,6\n2021,7\n", ["column_1", "column_2"], ["2019", "5"], {"header": False}),
    "names above names": (b"code,country\nAT,Austria\nBE,Belgium\nCH,Switzerland\n", ["code", "country"], ["AT", "Austria"], {}),
    "no names above names": (b"AT,Austria\nBE,Belgium\nCH,Switzerland\nDE,Germany\n", ["column_1", "column_2"], ["AT", "Austria"], {}),
    "a title above": (b"Freight of June,,,\n,,,\nhut,kg,on,by\n1,20,2026-06-01,A\n2,30,2026-06-02,B\n", ["hut", "kg", "on", "by"],
        ["1", "20", "2026-06-01", "A"], {"preamble": 2}),
    "a remark of many words above": (b"# one two three four five\n1 2.5\n2 3.5\n3 4.5\n", ["column_1", "column_2"], ["1", "2.5"], {"preamble": 1}),
    "a header in fixed columns": (b"hut  kg\nA    12\nBc    3\nD   400\n", ["hut", "kg"], ["A", "12"], {}),
    # lines of another kind above the rows
    "a description": (b"/*huts of the west\nbeds, in June; guests\n*/\n<2026 Q1>\n beds   guests\n 40  21\n 22  18\n 64   9\n 12  11\n 18  2\n",
                      ["beds", "guests"], ["40", "21"], {"preamble": 4, "delimiter": "blanks", "header": True}),
    "a ruler below the names": (b"GUESTS A MONTH\n==============\nYear Jan Feb\n------------\n2020 58.0 62.6\n2021 73.3 75.9\n2022 7 5\n2023 5 1\n",
                      ["Year", "Jan", "Feb"], ["2020", "58.0", "62.6"], {"preamble": 2, "comment": "---"}),
    "a query's output": (b"id  name       beds\n--  ---------  ----\n1   Alpenrose  40\n2   Sonnblick  30\n3   Steinbock  64\n",
                      ["id", "name", "beds"], ["1", "Alpenrose", "40"], {"comment": "--"}),
    "rows have names": (b"SIZE SUBS\nRules 13 2\nBudget 42 0\nBanking 51 5\n", ["row", "SIZE", "SUBS"], ["Rules", "13", "2"], {"header": True}),
    "counts above": (b"4,2,small,large\n1.5,2.5,0.5,0\n3.5,1.5,2.5,1\n2.5,2.5,1.5,1\n1.5,3.5,0.5,0\n",
                      ["column_1", "column_2", "column_3", "column_4"], ["1.5", "2.5", "0.5", "0"], {"preamble": 1, "header": False}),
    "a title above fields": (_FIELDS, ["name", "beds", "opened"], ["Alpen rose", "40", "2001-05-01"], {"format": "fixed", "preamble": 2}),
}  # fmt: skip


@pytest.mark.parametrize("case", TEXTS.values(), ids=TEXTS)
def test_texts(case: tuple[bytes, list[str], list[str | None], dict[str, Any]]) -> None:
    content, names, first, keys = case
    reader = opened("a.txt", content)
    layout: Any = reader.layout  # type: ignore[attr-defined]
    assert (reader.names, rows_of(reader)[0], bad_of(reader)) == (names, first, [])
    assert {key: getattr(layout, key) for key in keys} == keys


@pytest.mark.parametrize(
    ("content", "code", "part", "put"),
    [
        (b"a|b;c\nx|y;z\nu|v;w\n", "delimiter-found", "next best", ("from.layout.delimiter", "|")),
        (b"AT,Austria\nBE,Belgium\nCH,Switzerland\nDE,Germany\n", "header-found", "all values are text", ("from.layout.header", True)),
        (b"1,2\n3,4\n", "header-found", "taken for a row", ("from.layout.header", True)),
        ("a,b\n1,ä\n".encode("cp1252"), "encoding-detected", "is not UTF-8", ("from.layout.encoding", "cp1252")),
        (b"id,x\na,1,2\nb,3,4\n", "header-short", "every row 3 values", ("from.layout.names", ["row", "id", "x"])),
    ],
)  # fmt: skip
def test_what_is_not_sure_is_a_warning_with_the_edit(
    content: bytes, code: str, part: str, put: tuple[str, Any]
) -> None:
    (found,) = [finding for finding in opened("a.csv", content).findings if finding.code == code]
    assert (
        found.severity,
        part in found.message,
        found.replacement and (found.replacement.place, found.replacement.value),
    ) == (
        "warning",
        True,
        put,
    ), found


@given(
    st.lists(st.lists(st.sampled_from(["1", "x y", "", "2,5", "a|b", "12:30"]), min_size=3, max_size=3), min_size=2)
)
@settings(max_examples=60)
def test_no_row_is_lost_whatever_is_found(rows: list[list[str]]) -> None:
    """Each line is a row, the header, or a line that the layout calls preamble; none is dropped or cut in silence."""
    lines = [";".join(row) for row in rows]
    reader = opened("a.csv", "\n".join(["one;two;three", *lines]).encode())
    layout = reader.layout  # type: ignore[attr-defined]
    assert isinstance(layout, DelimitedLayout)
    before = (layout.preamble or 0) + bool(layout.header)
    assert len(rows_of(reader)) + len(bad_of(reader)) == len(rows) + 1 - before


@pytest.mark.parametrize(
    ("encoding", "text"),
    [
        ("gb18030", "编号,名称,城市\n1,山间小屋,北京\n2,高山旅馆,上海\n"),
        ("shift_jis", "番号,名前,都市\n1,山小屋,東京\n2,たかやまロッジ,大阪\n"),
        ("big5", "編號,名稱,城市\n1,山間小屋,臺北\n2,高山旅館,高雄\n"),
        ("koi8_r", "номер,имя\n1,Горный приют\n2,Озеро\n3,Хижина\n"),
        ("cp1251", "номер,имя\n1,Горный приют\n2,Озеро\n3,Хижина\n"),
        ("mac_roman", "id;ort\n1;Zürich\n2;Genève\n3;Straße\n4;Müllers\n5;Béatrice\n"),
        ("cp1252", "id;ort\n1;Zürich\n2;Genève\n3;Straße\n4;Müllers\n5;Béatrice\n"),
        ("utf-16-le", "编号,名称\n1,山间小屋\n2,高山旅馆\n"),
        ("utf-16-be", "id;ort\n1;Zürich\n2;Genève\n"),
    ],
)
def test_encodings_are_told_apart_and_never_in_silence(encoding: str, text: str) -> None:
    content = text.encode(encoding)
    found = detect_encoding(content)
    assert (content.decode(found.name), found.sure) == (text, False)
    warnings = [finding.code for finding in opened("a.csv", content).findings if finding.severity == "warning"]
    assert "encoding-detected" in warnings


DOCUMENTS: dict[str, tuple[Any, list[str], list[list[Any]]]] = {
    "columns": ({"a": [1, 2], "b": ["x", None]}, ["a", "b"], [["1", "x"], ["2", None]]),
    "columns by row number": ({"a": {"0": 1, "1": 2}, "b": {"0": "x", "1": "y"}}, ["a", "b"], [["1", "x"], ["2", "y"]]),
    "arrays with names": ([["id", "n"], [1, "x"], [2, "y"]], ["id", "n"], [["1", "x"], ["2", "y"]]),
    "arrays without": ([[1, 2], [3, 4]], ["column_1", "column_2"], [["1", "2"], ["3", "4"]]),
    "names next to arrays": ({"columns": ["id", "n"], "data": [[1, "x"], [2, "y"]]}, ["id", "n"], [["1", "x"], ["2", "y"]]),
    "objects by their keys": ({"A": {"n": 1}, "B": {"n": 2}}, ["key", "n"], [["A", "1"], ["B", "2"]]),
    "a key that is a number": ({"2026": [{"a": 1}, {"a": 2}]}, ["a"], [["1"], ["2"]]),
}  # fmt: skip


@pytest.mark.parametrize("case", DOCUMENTS.values(), ids=DOCUMENTS)
def test_forms_of_json(case: tuple[Any, list[str], list[list[Any]]]) -> None:
    document, names, rows = case
    for encoding in ("utf-8", "utf-16"):
        reader = opened("a.json", json.dumps(document).encode(encoding))
        assert (reader.names, rows_of(reader)) == (names, rows)


VALUES = st.one_of(st.none(), st.integers(-(2**40), 2**40), st.decimals(-1000, 1000, places=2))
DATES = st.one_of(st.none(), st.dates(dt.date(1900, 1, 1), dt.date(2100, 1, 1)).map(str))


@given(st.lists(st.tuples(VALUES, DATES), min_size=1, max_size=60), st.integers(1, 9), st.integers(0, 30))
@settings(max_examples=60, deadline=None)
def test_blocks_of_nothing_but_null_are_no_other_type(
    rows: list[tuple[Any, str | None]], size: int, nulls: int
) -> None:
    """Whatever the borders of blocks: NULLs fit every type, and each value arrives."""
    held = [*rows, *[(None, None)] * nulls, *rows]
    objects = [{"n": None if n is None else float(n), "on": on} for n, on in held]
    columns = {name: [item[name] for item in objects] for name in ("n", "on")}
    contents = {"a.json": json.dumps(objects).encode(), "columns.json": json.dumps(columns).encode()}
    contents["a.jsonl"] = "\n".join(map(json.dumps, objects)).encode()
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(documents, "_FIRST_ROWS", size)
        patch.setattr(json_lines, "_SIZES", (size * 10, size * 20))
        patch.setattr(json_lines, "_LATER_SIZE", size * 30)
        for name, content in contents.items():
            reader = opened(name, content)
            found: list[list[Any]] = [[], []]
            for block in reader.blocks():
                read = reader.read(block)
                assert not read.bad
                for at, kind in enumerate(("double", "date")):
                    converted = convert_typed(
                        read.values.column(at).combine_chunks(), parse_type(kind), TextFormats()
                    )
                    assert not converted.failed.any()
                    found[at] += converted.array.to_pylist()
            wanted = [
                [None if n is None else float(n) for n, _ in held],
                [on and dt.date.fromisoformat(on) for _, on in held],
            ]
            assert found == wanted


@given(
    st.lists(
        st.decimals(allow_nan=False, allow_infinity=False, places=12, min_value=-(10**9), max_value=10**9), min_size=1
    )
)
def test_decimals_become_the_doubles_that_they_are(values: list[D]) -> None:
    found = convert_typed(pa.array(values, pa.decimal128(38, 12)), parse_type("double"), TextFormats())
    assert found.array.to_pylist() == [float(value) for value in values]


def test_late_keys_are_named_at_once_and_become_columns(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(json_lines, "HEAD_BYTES", 30)
    rows: list[dict[str, Any]] = [{"a": n} for n in range(9)]
    rows[4] |= {"b": 1, "c": 2}
    rows[7] |= {"d": 3}
    content = json.dumps(rows).encode()
    reader = opened("a.json", content)
    assert [row for row, _, _ in bad_of(reader)] == [5, 8]
    (found,) = [finding for finding in value_findings(reader, []) if finding.code == "keys-late"]
    assert ("'b', 'c', 'd'" in found.message, "layout.keys: [b, c, d]" in found.fix) == (True, True)
    whole = opened("a.json", content, {"format": "json", "keys": ["b", "c", "d"]})
    assert (whole.names, len(rows_of(whole)), bad_of(whole)) == (["a", "b", "c", "d"], 9, [])


def test_an_element_keeps_its_name_when_it_has_attributes() -> None:
    reader = opened("a.xml", b'<r><h><kg>1</kg></h><h><kg unit="t">2</kg></h><h><kg unit="t"/></h></r>')
    assert (reader.names, rows_of(reader)) == (["kg", "kg_unit"], [["1", None], ["2", "t"], [None, "t"]])


def _with_errors(book: Any) -> None:
    sheet = book.active
    sheet.title = "June"
    sheet["B2"], sheet["C2"], sheet["D2"] = "hut", "share", "took"
    for row, values in enumerate(
        [("A", 0.5, dt.timedelta(hours=27, minutes=5)), ("B", None, None), (None, None, None)], 3
    ):
        for column, value in enumerate(values, 2):
            sheet.cell(row, column, value)
    for place, word in (("C4", "#DIV/0!"), ("B5", "#N/A"), ("C5", "#DIV/0!")):
        sheet[place] = word
        sheet[place].data_type = "e"
    sheet.add_table(Table(displayName="Shares", ref="B2:C4"))
    book.defined_names["took"] = DefinedName("took", attr_text="June!$D$2:$D$3")
    hidden = book.create_sheet("Notes", 0)
    hidden["A1"], hidden["A2"] = "x", 1
    hidden.sheet_state = "hidden"


ERRORS = workbook(_with_errors)


@pytest.mark.parametrize(
    ("layout", "rows", "bad"),
    [
        ({}, [["A", "0.5", "27:05:00"], ["B", None, None], [None, None, None]], []),
        ({"values": {"errors": "text"}}, [["A", "0.5", "27:05:00"], ["B", "#DIV/0!", None], ["#N/A", "#DIV/0!", None]], []),
        ({"values": {"errors": "reject"}}, [["A", "0.5", "27:05:00"]], [(2, 4, "cell C4 is #DIV/0!"), (3, 5, "cell B5 is #N/A")]),
    ],
)  # fmt: skip
def test_error_cells(layout: dict[str, Any], rows: list[list[str | None]], bad: list[Any]) -> None:
    reader = opened("a.xlsx", ERRORS, {"format": "xlsx", **layout})
    assert (reader.names, rows_of(reader), bad_of(reader)) == (["hut", "share", "took"], rows, bad)
    (found,) = [finding for finding in reader.findings if finding.code == "cells-with-errors"]
    assert found.message.startswith("3 cells with an error")
    assert "#DIV/0! 2 times, #N/A 1 time, first #DIV/0! in C4" in found.message
    (sheet,) = [finding for finding in reader.findings if finding.code == "sheet-found"]
    assert sheet.message == "the sheet 'June' is read; others: Notes (hidden)"


@pytest.mark.parametrize(
    ("cells", "names", "count"), [("Shares", ["hut", "share"], 2), ("took", ["took"], 1), ("B2:B3", ["hut"], 1)]
)
def test_tables_and_ranges_by_name(cells: str, names: list[str], count: int) -> None:
    reader = opened("a.xlsx", ERRORS, {"format": "xlsx", "sheet": "June", "range": cells})
    assert (reader.names, len(rows_of(reader))) == (names, count)


def _two_headers(book: Any) -> None:
    sheet = book.active
    for row in (
        ["hut", "beds", None, "on"],
        [None, "taken", "free", None],
        ["A", 3, 4, dt.date(2026, 6, 1)],
        ["B", 5, 6, dt.date(2026, 6, 2)],
    ):
        sheet.append(row)
    sheet.merge_cells("B1:C1")
    book.epoch = CALENDAR_MAC_1904


@pytest.mark.parametrize("layout", [None, {"format": "xlsx", "header": [1, 2]}])
def test_headers_of_two_rows_and_the_other_epoch(layout: dict[str, Any] | None) -> None:
    reader = opened("a.xlsx", workbook(_two_headers), layout)
    assert reader.names == ["hut", "beds taken", "beds free", "on"]
    assert rows_of(reader) == [["A", "3", "4", "2026-06-01"], ["B", "5", "6", "2026-06-02"]]


def test_blanks_around_numbers_in_cells() -> None:
    content = workbook(lambda made: (made.active.append(["n"]), made.active.append([12])))
    held = io.BytesIO()
    with zipfile.ZipFile(io.BytesIO(content)) as source, zipfile.ZipFile(held, "w") as target:
        for item in source.infolist():
            target.writestr(item, source.read(item).replace(b"<v>12</v>", b"<v> 12 </v>"))
    reader = opened("a.xlsx", held.getvalue())
    assert (reader.names, rows_of(reader)) == (["n"], [["12"]])


def _found(reader: Reader) -> list[str]:
    columns = scan_columns(reader, list(range(len(reader.names)))).columns
    return [finding.message for finding in value_findings(reader, columns.values())]


def test_words_and_signs_are_proposed_with_their_evidence() -> None:
    lines = ["n,on,price,share,big"]
    lines += [f'{n},2026-06-{n:02d},"$1,{n:03d}.50",{n}%,"1,{n:03d}"' for n in range(1, 20)]
    lines += ["NA,-,,,"]
    shown = _found(opened("a.csv", "\n".join(lines).encode()))
    assert any("column n: 19 whole numbers, and 'NA' 1 time, which may mean NULL" in item for item in shown)
    assert any("column price: 19 decimal numbers with $" in item for item in shown)
    assert any("column big: 19 decimal numbers with a comma between thousands" in item for item in shown)
    layout = {"values": {"nulls": ["", "NA", "-"], "signs": ["$", "%"], "thousands": ","}}
    reader = opened("a.csv", "\n".join(lines).encode(), layout)
    found = scan_columns(reader, list(range(5))).columns
    assert [str(item.type) for item in found.values()] == ["integer", "date", "decimal(18,2)", "integer", "integer"]


def test_rare_types_of_parquet() -> None:
    """Spans of time keep their unit, maps are objects, and what an extension or a dictionary holds is what it holds."""
    columns = {
        "took": pa.array([1500, None, 90_061_001], pa.duration("ms")),
        "d256": pa.array([D("1" * 50), None, D("2.5")], pa.decimal256(60, 5)),
        "id": pa.array([b"0123456789abcdef", None, b"\0" * 16], pa.uuid()),
        "tags": pa.array([[("k", {"x": 1})], None, []], pa.map_(pa.string(), pa.struct([("x", pa.int32())]))),
        "word": pa.array(["a", None, "b"]).dictionary_encode(),
        "long": pa.array(["a", None, "b"], pa.large_string()),
        "fine": pa.array([1, None, 1_780_000_000_123_456_789], pa.timestamp("ns")),
    }
    held = io.BytesIO()
    pq.write_table(pa.table(columns), held)
    reader = opened("a.parquet", held.getvalue())
    assert [str(item) for item in reader.given] == ["text", "decimal", "uuid", "json", "text", "text", "timestamp"]
    first, nothing, last = rows_of(reader)
    assert first == [
        "PT1.5S",
        "1" * 50,
        "30313233-3435-3637-3839-616263646566",
        '{"k":{"x":1}}',
        "a",
        "a",
        "1970-01-01 00:00:00.000000001",
    ]
    assert (nothing, last[0]) == ([None] * 7, "PT25H1M1.001S")
    converted = convert_typed(columns["fine"], parse_type("timestamp"), TextFormats())
    assert converted.failed.tolist() == [True, False, True]  # rejects, and not cut to microseconds
