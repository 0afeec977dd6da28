"""Finds the format of a file from its bytes and its name; and that a file is none of those read here."""

from __future__ import annotations

import posixpath
from contextlib import closing

from ultravect.core.errors import UltravectError
from ultravect.core.layouts.base import SourceFile
from ultravect.core.layouts.compression import plain_name
from ultravect.core.layouts.delimited.around import is_framed
from ultravect.core.layouts.delimited.cuts import blanks_fit, delimiter_share
from ultravect.core.layouts.encoding import detect_encoding
from ultravect.core.layouts.fixed.sniff import barred_head, first_records, looks_even
from ultravect.core.model.finding import Finding

HEAD_BYTES = 64 << 10
_MAGIC = (
    (b"PAR1", "parquet", "a Parquet file"),
    (b"PK\x03\x04", "zip", "a zip archive or a workbook"),
    (b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1", "xlsx", "a workbook of the older kind"),
    (b"\x1f\x8b", "", "compressed by gzip"),
    (b"BZh", "", "compressed by bzip2"),
    (b"\x28\xb5\x2f\xfd", "", "compressed by zstd"),
    (b"%PDF", "", "a PDF document"),
    (b"\x89PNG", "", "a PNG picture"),
    (b"\xff\xd8\xff", "", "a JPEG picture"),
    (b"GIF8", "", "a GIF picture"),
    (b"SQLite format 3\0", "", "a SQLite database; make it a connection of kind sqlite"),
    (b"\x7fELF", "", "a program"),
    (b"ARROW1", "", "an Arrow file"),
    (b"ORC", "", "an ORC file"),
    (b"Obj\x01", "", "an Avro file"),
)
_ENDINGS = {
    ".csv": "delimited",
    ".tsv": "delimited",
    ".psv": "delimited",
    ".jsonl": "jsonl",
    ".ndjson": "jsonl",
    ".json": "json",
    ".xml": "xml",
    ".xlsx": "xlsx",
    ".xlsm": "xlsx",
    ".xlsb": "xlsx",
    ".xls": "xlsx",
    ".ods": "xlsx",
    ".parquet": "parquet",
    ".pq": "parquet",
}
_FIXES = {
    "parquet": "set layout.format: parquet",
    "xlsx": "set layout.format: xlsx",
    "zip": "set layout.format: xlsx if it is a workbook; give an archive the ending .zip",
}
_CONTROL = {*range(0x20), 0x7F} - set(b"\t\n\f\r\x1a\x1b\x1f")
_MAX_CONTROL = 0.04


def _magic(head: bytes) -> tuple[str, str] | None:
    return next(((name, what) for mark, name, what in _MAGIC if head.startswith(mark)), None)


def refuse_binary(file: SourceFile, head: bytes, format_name: str) -> None:
    """UltravectError when bytes that are to be read as text are none."""
    found = _magic(head)
    if found is None:
        encoding = detect_encoding(head).name
        control = sum(head.count(byte) for byte in _CONTROL)
        # odd characters in UTF-8 are still text; in bytes that are no UTF-8, many of them are a sign of no text
        if encoding.startswith("utf-") or control <= max(1, len(head) * _MAX_CONTROL):
            return
        found = ("", f"binary: {control / len(head):.0%} of its first bytes are control characters")
    name, what = found
    ending = next(
        (end for end, word in ((".gz", "gzip"), (".bz2", "bzip2"), (".zst", "zstd")) if what.endswith(word)), ""
    )
    raise UltravectError(
        "file-not-text",
        f"{file.path} is to be read as {format_name}, but it is {what}",
        hint=_FIXES.get(name) or (f"give it the ending {ending}" if ending else "look whether it is the right file"),
        object=file.path,
    )


def format_of(file: SourceFile, head: bytes | None = None) -> tuple[str, Finding]:
    """The format that a file's bytes speak for, and the reason; its name decides where the bytes leave it open."""
    if head is None:
        with closing(file.open()) as stream:
            head = stream.read(HEAD_BYTES)
    ending = posixpath.splitext(plain_name(file.path).lower())[1]
    named = _ENDINGS.get(ending, "")
    found = _magic(head)
    if found and found[0]:
        name = "xlsx" if found[0] == "zip" else found[0]
        if found[0] != "zip" or named == "xlsx" or b"[Content_Types].xml" in head or b"mimetype" in head[:60]:
            return name, _note(name, f"its first bytes are those of {found[1]}")
    if named in ("parquet", "xlsx"):
        return named, _note(named, f"the ending is {ending}")
    whole = len(head) < HEAD_BYTES
    encoding = detect_encoding(head)
    text = head.decode(encoding.name, "replace").removeprefix("\ufeff").lstrip()
    if named in ("", "json", "xml", "jsonl") and text[:1] in ("{", "[", "<"):
        return _of_markup(text, whole, named)
    if named:
        refuse_binary(file, head, named)
        return named, _note(named, f"the ending is {ending}")
    refuse_binary(file, head, "text")
    plain = text.encode()
    if barred_head(text):
        return "fixed", _note("fixed", "bars between names say where the fields begin")
    if is_framed(text.splitlines()):
        return "delimited", _note("delimited", "a table that is drawn, with | between values")
    if (
        delimiter_share(text, whole) < 0.9
        and not blanks_fit(text, whole)
        and (
            looks_even(plain, whole)
            or (b"\n" not in plain.rstrip() and first_records(plain, whole, len(plain), None, None))
        )
    ):
        return "fixed", _note("fixed", "records of one length, and no delimiter between values")
    return "delimited", _note("delimited", "text in lines")


def _of_markup(text: str, whole: bool, named: str) -> tuple[str, Finding]:
    if text[0] == "<":
        return "xml", _note("xml", "it starts with <")
    lines = [line.strip() for line in text.splitlines() if line.strip()]
    if not whole and len(lines) > 1:
        lines.pop()
    many = len(lines) > 1 and all(line[0] == "{" and line[-1] == "}" for line in lines)
    if text[0] == "{" and (many or (named == "jsonl" and len(lines) == 1)):
        return "jsonl", _note("jsonl", "each line is a JSON object")
    if named == "jsonl":
        return "jsonl", _note("jsonl", "the ending says so")
    return "json", _note("json", "it starts as one JSON document")


def _note(name: str, reason: str) -> Finding:
    return Finding("note", "format-found", f"format {name}: {reason}", "from.layout")
