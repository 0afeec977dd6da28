"""Completes a layout from the first bytes of a file: encoding, delimiter, preamble, header; says why."""

from __future__ import annotations

import csv
import re
import sys
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass, field

from ultravect.core.layouts.encoding import detect_encoding, encoding_finding
from ultravect.core.layouts.number_formats import find_numbers
from ultravect.core.model.finding import Finding
from ultravect.core.model.layout import DelimitedLayout
from ultravect.core.words import counted

HEAD_BYTES = 256 << 10

_CANDIDATES = (",", ";", "\t", "|", "~", "^", "||", "|~|", "^|^", ";;", "~~", "::")
_ROWS = 200
_MAX_PREAMBLE = 30
_DATA_LIKE = re.compile(r"^[+-]?\d[\d.,:/ T+Z'-]*$")
_STAND_IN = "\x1f"

csv.field_size_limit(min(sys.maxsize, 64 << 20))


@dataclass(frozen=True)
class Sniffed:
    """A layout with nothing left open."""

    layout: DelimitedLayout
    findings: list[Finding] = field(default_factory=list)


@dataclass(frozen=True)
class _Cut:
    """How the first rows fall apart with one delimiter: ``share`` of them have the commonest number of ``columns``,
    the first of these after ``preamble`` lines."""

    delimiter: str
    share: float
    columns: int
    preamble: int


def csv_reader(text: str, delimiter: str, quote: str, escape: str | None = None) -> Iterator[list[str]]:
    """The few rows of a head, one by one."""
    lines = text.splitlines(keepends=True)
    if len(delimiter) > 1:
        lines = [line.replace(delimiter, _STAND_IN) for line in lines]
        delimiter = _STAND_IN
    if quote == "none":
        return csv.reader(lines, delimiter=delimiter, escapechar=escape, quoting=csv.QUOTE_NONE)
    return csv.reader(lines, delimiter=delimiter, quotechar=quote, escapechar=escape)


def _rows(text: str, delimiter: str, layout: DelimitedLayout) -> list[tuple[int, list[str]]]:
    """The first rows, each with the number of lines before it."""
    reader = csv_reader(text, delimiter, layout.quote, layout.escape)
    rows: list[tuple[int, list[str]]] = []
    before = 0
    try:
        for row in reader:
            if row:
                rows.append((before, row))
            before = reader.line_num  # type: ignore[attr-defined]
            if len(rows) > _ROWS:
                break
    except csv.Error:
        pass
    return rows


def _cut(text: str, delimiter: str, layout: DelimitedLayout) -> _Cut:
    rows = _rows(text, delimiter, layout)
    if not rows:
        return _Cut(delimiter, 0.0, 1, 0)
    columns, _ = Counter(len(row) for _, row in rows).most_common(1)[0]
    start = 0
    if layout.preamble is None:
        start = next(index for index, (_, row) in enumerate(rows) if len(row) == columns)
        # a row with nearly as many values is a header that does not match its rows, not a line before it
        if start > _MAX_PREAMBLE or any(len(row) > max(1, columns // 2) for _, row in rows[:start]):
            start = 0
    kept = rows[start:]
    share = sum(1 for _, row in kept if len(row) == columns) / len(kept)
    return _Cut(delimiter, share, columns, rows[start][0])


def _best(text: str, layout: DelimitedLayout) -> _Cut:
    if layout.delimiter is not None:
        return _cut(text, layout.delimiter, layout)
    cuts = [_cut(text, candidate, layout) for candidate in _CANDIDATES if candidate in text]
    able = [cut for cut in cuts if cut.columns > 1 and cut.share >= 0.5]
    if not able:
        return _Cut(",", 1.0, 1, 0)
    # "||" is also cut by "|", with an empty value between: the longer one is meant
    doubled = [cut for cut in able if len(cut.delimiter) > 1 and cut.share >= 0.9]
    return max(doubled or able, key=lambda cut: (round(cut.share, 2), cut.columns, -cut.preamble))


def delimiter_share(text: str, whole: bool) -> float:
    """The share of the first rows that some delimiter cuts into the same number of columns; 0 where none does."""
    if not whole:
        text = text[: text.rfind("\n") + 1] or text
    cut = _best(text, DelimitedLayout())
    # one row alone says nothing: any comma in it would do
    return cut.share if cut.columns > 1 and text.strip().count("\n") else 0.0


def _header(rows: list[list[str]]) -> tuple[bool, str, bool]:
    first = [cell.strip() for cell in rows[0]] if rows else []
    if any(_DATA_LIKE.match(cell) for cell in first):
        shown = next(cell for cell in first if _DATA_LIKE.match(cell))
        return False, f"the first row holds data ({shown!r}), so it is taken for a row, not for names", False
    return True, "the first row names the columns", True


def sniff(head: bytes, layout: DelimitedLayout, whole: bool) -> Sniffed:
    """Fills in what ``layout`` leaves open; ``whole`` says that ``head`` is all of the file."""
    findings: list[Finding] = []
    updates: dict[str, object] = {}
    encoding = layout.encoding
    if encoding is None:
        detected = detect_encoding(head)
        encoding = updates["encoding"] = detected.name
        findings.append(encoding_finding(detected))
    text = head.decode(encoding, "replace").removeprefix("\ufeff")
    if not whole:
        text = text[: text.rfind("\n") + 1] or text
    lines = text.splitlines(keepends=True)[layout.preamble or 0 :]
    if layout.comment:
        # emptied, not removed: the count of lines before the header stays
        lines = ["\n" if line.startswith(layout.comment) else line for line in lines]
    text = "".join(lines)
    cut = _best(text, layout)
    if layout.delimiter is None:
        updates["delimiter"] = cut.delimiter
        reason = f"delimiter {cut.delimiter!r}: {cut.share:.0%} of the first rows have {cut.columns} columns with it"
        if cut.columns == 1:
            reason = "no delimiter found: each row is one value"
        findings.append(Finding("note", "delimiter-found", reason, "from.layout"))
    if layout.preamble is None:
        updates["preamble"] = cut.preamble
        if cut.preamble:
            told = f"{counted(cut.preamble, 'line')} before the header, first {lines[0].strip()[:40]!r}"
            findings.append(Finding("note", "preamble-found", told, "from.layout"))
            text = "".join(lines[cut.preamble :])
    rows = [row for _, row in _rows(text, cut.delimiter, layout)]
    if layout.header is None:
        header, reason, sure = _header(rows)
        updates["header"] = header
        fix = "" if sure else "write layout.header: true or false"
        findings.append(Finding("note" if sure else "warning", "header-found", reason, "from.layout", fix))
    whole_layout = layout.model_copy(update=updates)
    if rows and whole_layout.header:
        values, found = find_numbers(rows[0], rows[1:], layout.values)
    else:
        names = [f"column_{number}" for number in range(1, len(rows[0]) + 1)] if rows else []
        values, found = find_numbers(names, rows, layout.values)
    return Sniffed(whole_layout.model_copy(update={"values": values}), findings + found)
