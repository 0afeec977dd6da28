"""What other programs write, into a table that is missing and into one that is there: each value arrives as it was meant, or it is refused with an
edit which, made as it is written, lets it arrive."""

from __future__ import annotations

import csv
import datetime as dt
import json
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from decimal import Decimal
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

import openpyxl
import psycopg
import pytest
import yaml
from devtools.legs import run_leg
from devtools.pairs import Copied

from ultravect.core.engine.look.check import CheckResult, check_job
from ultravect.core.engine.objects.connections import ConnectionSpec
from ultravect.core.errors import UltravectError
from ultravect.core.model.document import job_from_data

UTC = dt.UTC
_NUMBER = re.compile(r"-?\d*\.?\d+(?:e[+-]?\d+)?")
MEANT: Mapping[str, Sequence[Any]] = {
    "boolean": [True, False, True],
    "integer": [1, -20, 3000],
    "numeric(12,3)": [Decimal("1234.500"), Decimal("-0.250"), Decimal("7.000")],
    "date": [dt.date(2025, 1, 31), dt.date(2025, 2, 1), dt.date(1999, 12, 25)],
    "timestamp": [
        dt.datetime(2025, 1, 31, 10, 15, 30),
        dt.datetime(2025, 2, 1),
        dt.datetime(1999, 12, 25, 23, 59, 59),
    ],
    "timestamptz": [
        dt.datetime(2025, 1, 31, 10, 15, 30, tzinfo=UTC),
        dt.datetime(2025, 2, 1, tzinfo=UTC),
        dt.datetime(1999, 12, 25, 23, 59, 59, tzinfo=UTC),
    ],
    "bytea": [b"\x00\xff", b"\x01", b"ab"],
    "text": ["a\tb", "c\\d\ne", 'f "g", h; i'],
}


@dataclass(frozen=True)
class Writer:
    """A program: how it writes values of each type, and what it puts between them. ``asks``: types of which it is not sure what is meant."""

    name: str
    values: Mapping[str, Sequence[str]]
    delimiter: str = ","
    quote: bool = True
    before: str = ""
    after: str = ""
    ending: str = "csv"
    asks: Sequence[str] = field(default=())

    def content(self, kind: str) -> bytes:
        def cell(text: str) -> str:
            if not self.quote or not any(mark in text for mark in (self.delimiter, '"', "\n")):
                return text
            return '"' + text.replace('"', '""') + '"'

        lines = [f"n{self.delimiter}v"]
        lines += [f"{number}{self.delimiter}{cell(text)}" for number, text in enumerate(self.values[kind], 1)]
        return f"{self.before}{chr(10).join(lines)}\n{self.after}".encode()


_ISO = {
    "date": ["2025-01-31", "2025-02-01", "1999-12-25"],
    "timestamp": ["2025-01-31 10:15:30", "2025-02-01 00:00:00", "1999-12-25 23:59:59"],
    "integer": ["1", "-20", "3000"],
    "numeric(12,3)": ["1234.500", "-0.250", "7.000"],
}
_CODES = ["a\\tb", "c\\\\d\\ne", 'f "g", h; i']
WRITERS = (
    Writer(
        "postgresql, as text",
        {**_ISO, "boolean": ["t", "f", "t"], "bytea": ["\\\\x00ff", "\\\\x01", "\\\\x6162"], "text": _CODES,
         "timestamptz": ["2025-01-31 10:15:30+00", "2025-02-01 00:00:00+00", "1999-12-25 23:59:59+00"]},
        "\t", quote=False, ending="tsv",
    ),
    Writer(
        "postgresql, as csv",
        {**_ISO, "boolean": ["t", "f", "t"], "bytea": ["\\x00ff", "\\x01", "\\x6162"], "text": list(MEANT["text"]),
         "timestamptz": ["2025-01-31 11:15:30+01", "2025-02-01 01:00:00+01", "1999-12-26 00:59:59+01"]},
    ),
    Writer("postgresql, unaligned", {**_ISO, "boolean": ["t", "f", "t"]}, "|", quote=False, after="(3 rows)\n", ending="txt"),
    Writer("mariadb, as a batch", {**_ISO, "boolean": ["1", "0", "1"], "text": _CODES}, "\t", quote=False, ending="tsv"),
    Writer("a spreadsheet in English", {
        "boolean": ["TRUE", "FALSE", "TRUE"], "integer": ["1", "-20", "3,000"],
        "numeric(12,3)": ["$1,234.50", "($0.25)", "$7.00"], "date": ["1/31/2025", "2/1/2025", "12/25/1999"],
        "timestamp": ["1/31/2025 10:15:30", "2/1/2025 0:00:00", "12/25/1999 23:59:59"]}),
    Writer("a spreadsheet in German", {
        "boolean": ["WAHR", "FALSCH", "WAHR"], "integer": ["1", "-20", "3.000"],
        "numeric(12,3)": ["1.234,500 €", "-0,250 €", "7,000 €"], "date": ["31.01.2025", "01.02.2025", "25.12.1999"],
        "timestamp": ["31.01.2025 10:15:30", "01.02.2025 00:00:00", "25.12.1999 23:59:59"]}, ";", asks=["integer"]),
    Writer("a spreadsheet in French", {
        "boolean": ["VRAI", "FAUX", "VRAI"], "integer": ["1", "-20", "3\u202f000"],
        "numeric(12,3)": ["1\u202f234,500", "-0,250", "7,000"], "date": ["31/01/2025", "01/02/2025", "25/12/1999"],
        "timestamp": ["31/01/2025 10:15:30", "01/02/2025 00:00:00", "25/12/1999 23:59:59"]}, ";", before="sep=;\n"),
    Writer("a library for data frames", {
        "boolean": ["True", "False", "True"], "integer": ["1.0", "-20.0", "3000.0"], "numeric(12,3)": ["1234.5", "-0.25", "7.0"],
        "date": _ISO["date"], "timestamp": ["2025-01-31 10:15:30.000000000", "2025-02-01 00:00:00.000000000", "1999-12-25 23:59:59.000000000"],
        "timestamptz": ["2025-01-31 10:15:30+00:00", "2025-02-01 00:00:00+00:00", "1999-12-25 23:59:59+00:00"]}),
    Writer("a program for statistics", {
        "boolean": ["1", "0", "1"], "integer": ["1", "-20", "3e3"], "numeric(12,3)": ["1.2345e+03", "-.25", "7"],
        "date": ["31jan2025", "01feb2025", "25dec1999"], "timestamp": _ISO["timestamp"]}, asks=["date"]),
    Writer("an older system", {
        "boolean": ["Y", "N", "Y"], "integer": ["1", "20-", "3000"], "numeric(12,3)": ["1234.500", "0.250-", "7.000"],
        "date": ["20250131", "20250201", "19991225"],
        "timestamp": ["20250131101530", "20250201000000", "19991225235959"]}, "|", quote=False, ending="txt"),
    Writer("Java", {
        "boolean": ["true", "false", "true"], "date": _ISO["date"],
        "timestamp": ["2025-01-31T10:15:30", "2025-02-01T00:00", "1999-12-25T23:59:59"],
        "timestamptz": ["2025-01-31T11:15:30+01:00[Europe/Zurich]", "2025-02-01T00:00:00Z", "1999-12-25T23:59:59Z"]}),
    Writer("C#", {
        "boolean": ["True", "False", "True"],
        "timestamp": ["2025-01-31T10:15:30.0000000", "2025-02-01T00:00:00.0000000", "1999-12-25T23:59:59.0000000"],
        "timestamptz": ["2025-01-31T10:15:30.0000000Z", "2025-02-01T00:00:00.0000000Z", "1999-12-25T23:59:59.0000000Z"]}),
    Writer("JavaScript", {
        "boolean": ["true", "false", "true"],
        "timestamptz": ["2025-01-31T10:15:30.000Z", "2025-02-01T00:00:00.000Z", "1999-12-25T23:59:59.000Z"],
        "timestamp": ["2025-01-31T10:15:30.000Z", "2025-02-01T00:00:00.000Z", "1999-12-25T23:59:59.000Z"]}),
    Writer("a log", {"timestamptz": ["1738318530", "1738368000", "946166399"], "timestamp": ["1738318530000", "1738368000000", "946166399000"]}),
    Writer("a person", {"boolean": ["ja", "nein", "ja"], "date": ["31. Januar 2025", "1. Februar 2025", "25. Dezember 1999"]}, ";"),
)  # fmt: skip
CASES = [pytest.param(writer, kind, id=f"{writer.name}: {kind}") for writer in WRITERS for kind in writer.values]


class Place:
    """A folder with one file, and a table in PostgreSQL."""

    def __init__(self, folder: Path, url: str, number: int) -> None:
        parts = urlsplit(url)
        self.folder, self.url, self.table = folder, url, f"other_{number}"
        self.source = ConnectionSpec("here", "folder", {"path": str(folder)}, [str(folder)])
        settings = {"host": parts.hostname, "port": parts.port, "database": parts.path[1:], "user": parts.username}
        self.target = ConnectionSpec("there", "postgresql", {**settings, "password": parts.password or ""}, [])

    def make(self, columns: str) -> None:
        with psycopg.connect(self.url, autocommit=True) as session:
            session.execute(f"DROP TABLE IF EXISTS {self.table}".encode())
            if columns:
                session.execute(f"CREATE TABLE {self.table} ({columns})".encode())

    def job(self, name: str, **more: Any) -> str:
        into = {"connection": "there", "table": self.table}
        job = {
            "ultravect": 1,
            "job": "others",
            "from": {"connection": "here", "files": name},
            "columns": ["*"],
            "into": into,
        }
        return yaml.safe_dump({**job, **more}, sort_keys=False)

    def check(self, text: str) -> CheckResult:
        return check_job(job_from_data(yaml.safe_load(text)), self.source, self.target).edited(text)

    def load(self, text: str) -> list[tuple[Any, ...]]:
        run_leg(job_from_data(yaml.safe_load(text)), self.source, self.target, Copied())
        with psycopg.connect(self.url) as session:
            session.execute("SET TIME ZONE 'UTC'")
            return session.execute(f"SELECT * FROM {self.table} ORDER BY 1".encode()).fetchall()


@pytest.fixture
def place(tmp_path: Path, database_url: str, request: pytest.FixtureRequest) -> Place:
    found = Place(tmp_path, database_url, abs(hash(request.node.nodeid)) % 10**9)
    yield found
    found.make("")


def edited(text: str, result: CheckResult) -> str:
    """The job file after the first edit that a finding proposes, made as it is written."""
    for finding in result.findings:
        if finding.severity == "error" and finding.edit is not None:
            lines = text.split("\n")
            at = finding.edit.line - 1
            assert lines[at : at + len(finding.edit.old)] == list(finding.edit.old)
            lines[at : at + len(finding.edit.old)] = finding.edit.new
            return "\n".join(lines)
    raise AssertionError([finding.as_dict() for finding in result.findings])


@pytest.mark.parametrize(("writer", "kind"), CASES)
def test_into_a_table_that_is_there(writer: Writer, kind: str, place: Place) -> None:
    (place.folder / f"a.{writer.ending}").write_bytes(writer.content(kind))
    place.make(f"n integer, v {kind}")
    text = place.job(f"a.{writer.ending}")
    for _ in range(3):
        result = place.check(text)
        if result.passed:
            break
        with pytest.raises(UltravectError):
            place.load(text)
        text = edited(text, result)
    found = [value.tobytes() if isinstance(value, memoryview) else value for _, value in place.load(text)]
    assert found == list(MEANT[kind])


@pytest.mark.parametrize(("writer", "kind"), CASES)
def test_into_a_table_that_is_missing(writer: Writer, kind: str, place: Place) -> None:
    """Whatever type the values show, none of them changes: as it was meant, or the text as it was written."""
    (place.folder / f"a.{writer.ending}").write_bytes(writer.content(kind))
    found = [value for _, value in place.load(place.job(f"a.{writer.ending}"))]
    naive = [value.replace(tzinfo=None) if isinstance(value, dt.datetime) else value for value in found]
    coded = "as text" in writer.name or "batch" in writer.name
    written = [text.encode().decode("unicode_escape") if coded else text for text in writer.values[kind]]
    numbers = [Decimal(text) if _NUMBER.fullmatch(text) else text for text in written]
    as_numbers = [Decimal(str(value)) if type(value) in (int, float, Decimal) else value for value in found]
    assert list(MEANT[kind]) in (found, naive) or found == written or as_numbers == numbers


@pytest.mark.parametrize("ending", ["json", "jsonl", "xlsx"])
@pytest.mark.parametrize(
    ("kind", "values", "asks"),
    [
        ("boolean", [1, 0, 1], False),
        ("boolean", ["Y", "N", "Y"], False),
        ("timestamptz", [1738318530000, 1738368000000, 946166399000], True),
        ("timestamp", [1738318530, 1738368000, 946166399], True),
        ("date", [45688, 45689, 36519], True),
        ("integer", [1.0, -20.0, 3000.0], False),
    ],
)
def test_values_of_documents_and_workbooks(
    ending: str, kind: str, values: Sequence[Any], asks: bool, place: Place
) -> None:
    rows = [{"n": number, "v": value} for number, value in enumerate(values, 1)]
    if ending == "xlsx":
        book = openpyxl.Workbook()
        for row in (["n", "v"], *([entry["n"], entry["v"]] for entry in rows)):
            book.active.append(row)
        book.save(place.folder / "a.xlsx")
    else:
        text = json.dumps(rows) if ending == "json" else "".join(json.dumps(row) + "\n" for row in rows)
        (place.folder / f"a.{ending}").write_text(text)
    place.make(f"n integer, v {kind}")
    text = place.job(f"a.{ending}")
    result = place.check(text)
    assert result.passed is not asks
    if asks:
        with pytest.raises(UltravectError, match="rejected"):
            place.load(text)
        text = edited(text, result)
    assert [value for _, value in place.load(text)] == list(MEANT[kind])


@pytest.mark.parametrize(
    ("content", "columns", "said", "rows"),
    [
        ("n,a,b\n1,$5,€3\n2,$6,€4\n", "n int, a numeric, b numeric", {"signs": ["$", "€"]}, [(1, 5, 3), (2, 6, 4)]),
        (
            "n,a,b,c\n1,$5,NA,1738318530\n2,$6,4,1738318531\n",
            "n int, a int, b int, c bigint",
            {"signs": ["$"], "nulls": ["", "NA"]},
            [(1, 5, None, 1738318530), (2, 6, 4, 1738318531)],
        ),
        (
            "n;d;v\n1;31.12.2025;1,234\n2;30.12.2025;2,500\n",
            "n int, d date, v numeric(10,3)",
            {"decimal_mark": ","},
            None,
        ),
    ],
)
def test_one_edit_is_enough(
    content: str, columns: str, said: dict[str, Any], rows: list[tuple[Any, ...]] | None, place: Place
) -> None:
    """For all columns at once; a comma is what the rest of the file says."""
    (place.folder / "a.csv").write_text(content)
    place.make(columns)
    text = place.job("a.csv")
    text = edited(text, place.check(text))
    assert yaml.safe_load(text)["from"]["layout"]["values"] == said
    assert place.check(text).passed
    found = place.load(text)
    assert found == rows if rows else [value for *_, value in found] == [Decimal("1.234"), Decimal("2.500")]


@pytest.mark.parametrize(
    ("content", "columns", "readings"),
    [
        ("n\tv\n1\t1,234\n2\t2,500\n", "n int, v numeric(10,3)", ["1234.000", "1.234"]),
        ("n;v\n1;A\n2;I\n", "n int, v boolean", ["A", "I"]),
        ("n;v\n1;1.234\n2;2.500\n", "n int, v numeric(10,3)", ["1234", "1.234"]),
        ("n,v\n1,01/02/2025\n2,03/04/2025\n", "n int, v date", ["DD/MM/YYYY", "MM/DD/YYYY"]),
    ],
)
def test_two_readings_are_a_question(content: str, columns: str, readings: list[str], place: Place) -> None:
    (place.folder / "a.csv").write_text(content)
    place.make(columns)
    result = place.check(place.job("a.csv"))
    (found,) = [finding for finding in result.findings if finding.severity == "error"]
    assert found.edit is None
    assert all(reading in f"{found.message} {found.fix}" for reading in readings)
    with pytest.raises(UltravectError):
        place.load(place.job("a.csv"))


def test_a_rare_word_among_booleans_is_a_reject_by_itself(place: Place) -> None:
    (place.folder / "a.csv").write_text(
        "n,v\n" + "".join(f"{n},{'t' if n % 2 else 'f'}\n" for n in range(1, 201)) + "201,maybe\n"
    )
    place.make("n int, v boolean")
    result = place.check(place.job("a.csv"))
    (found,) = [finding for finding in result.findings if finding.severity == "error"]
    assert found.message.startswith("1 of 201 rows does not fit boolean")


@pytest.mark.parametrize(
    ("kind", "values", "why", "meant"),
    [
        ("integer", ["2.5", "3"], "to round them", [3, 3]),
        ("numeric(10,2)", ["2.5671", "3"], "to round them", [Decimal("2.57"), Decimal("3.00")]),
        ("varchar(3)", ["abcdef", "x"], "to cut all after 3 characters off", ["abc", "x"]),
        (
            "date",
            ["2025-01-31 10:00:00", "2025-02-01 11:00:00"],
            "to leave the time of day out",
            [dt.date(2025, 1, 31), dt.date(2025, 2, 1)],
        ),
        (
            "timestamp",
            ["2025-01-31 10:00:00.123456789", "2025-02-01 11:00:00"],
            "to cut off what is finer than microseconds",
            [dt.datetime(2025, 1, 31, 10, 0, 0, 123456), dt.datetime(2025, 2, 1, 11)],
        ),
    ],
)
def test_what_cuts_is_said_to_cut(
    kind: str, values: Sequence[str], why: str, meant: Sequence[Any], place: Place
) -> None:
    """Nothing is rounded or cut by itself; the edit that does it says so."""
    (place.folder / "a.csv").write_text("n,v\n" + "".join(f"{n},{value}\n" for n, value in enumerate(values, 1)))
    place.make(f"n integer, v {kind}")
    text = place.job("a.csv")
    result = place.check(text)
    assert why in result.findings[0].fix
    assert [value for _, value in place.load(edited(text, result))] == list(meant)


def test_json_that_the_table_keeps_whole(place: Place) -> None:
    (place.folder / "a.json").write_text(json.dumps([{"n": 1, "v": {"a": 1, "b": [2]}}]))
    place.make("n integer, v jsonb")
    text = place.job("a.json")
    assert place.load(edited(text, place.check(text))) == [(1, {"a": 1, "b": [2]})]


@pytest.mark.parametrize("ending", ["json", "csv"])
@pytest.mark.parametrize(
    ("kind", "values"),
    [
        ("text[]", [["a", "b c", 'd"e', "[f]", "g\\h", "{i}", None, "null", "é\n"], [], None]),
        ("integer[]", [[1, -2, None], [[1, 2], [3, 4]]]),
        ("boolean[]", [[True, False]]),
        ("jsonb[]", [[{"a": ["x"]}, {}]]),
    ],
)
def test_lists_of_json_into_arrays(ending: str, kind: str, values: Sequence[Any], place: Place) -> None:
    lines = [[number, None if value is None else json.dumps(value)] for number, value in enumerate(values, 1)]
    with (place.folder / f"a.{ending}").open("w", newline="") as file:
        if ending == "csv":
            csv.writer(file).writerows([["n", "v"], *lines])
        else:
            json.dump([{"n": number, "v": value} for number, value in enumerate(values, 1)], file)
    place.make(f"n integer, v {kind}")
    assert [value for _, value in place.load(place.job(f"a.{ending}"))] == list(values)


@pytest.mark.parametrize("text", ["{a,[b]}", "{[c]}"])
def test_an_array_as_the_database_writes_it_stays(text: str, place: Place) -> None:
    (place.folder / "a.jsonl").write_text(json.dumps({"n": 1, "v": text}))
    place.make("n integer, v text[]")
    assert place.load(place.job("a.jsonl")) == [(1, text[1:-1].split(","))]


@pytest.mark.parametrize("text", ["2025-01-31 00:00:00", "2025-01-31T00:00:00.000Z", "1/31/2025 12:00:00 AM"])
def test_midnight_is_a_day(text: str, place: Place) -> None:
    (place.folder / "a.csv").write_text(f"n,v\n1,{text}\n2,{text}\n")
    place.make("n integer, v date")
    assert place.load(place.job("a.csv"))[0] == (1, dt.date(2025, 1, 31))
