"""Completes a layout from the first bytes of a file: encoding, delimiter, header; says why."""

from __future__ import annotations

import csv
import re
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass, field

from ultravect.core.layouts.delimited.encoding import detect_encoding
from ultravect.core.model.finding import Finding, Severity
from ultravect.core.model.layout import DelimitedLayout

HEAD_BYTES = 256 << 10

_CANDIDATES = (",", ";", "\t", "|")
_ROWS = 200
_DATA_LIKE = re.compile(r"^[+-]?\d[\d.,:/ T+Z-]*$")


@dataclass(frozen=True)
class Sniffed:
    """A layout with nothing left open."""

    layout: DelimitedLayout
    findings: list[Finding] = field(default_factory=list)


def csv_reader(text: str, delimiter: str, quote: str) -> Iterator[list[str]]:
    """The few rows of a head, one by one."""
    lines = text.splitlines(keepends=True)
    if quote == "none":
        return csv.reader(lines, delimiter=delimiter, quoting=csv.QUOTE_NONE)
    return csv.reader(lines, delimiter=delimiter, quotechar=quote)


def _rows(text: str, delimiter: str, quote: str) -> list[list[str]]:
    reader = csv_reader(text, delimiter, quote)
    rows: list[list[str]] = []
    try:
        for row in reader:
            if row:
                rows.append(row)
            if len(rows) > _ROWS:
                break
    except csv.Error:
        pass
    return rows


def _score(rows: list[list[str]]) -> tuple[float, int]:
    """The share of rows with the commonest number of columns, and that number."""
    if not rows:
        return (0.0, 1)
    columns, count = Counter(len(row) for row in rows).most_common(1)[0]
    return (count / len(rows), columns)


def _delimiter(text: str, quote: str) -> tuple[str, str]:
    scores = {candidate: _score(_rows(text, candidate, quote)) for candidate in _CANDIDATES}
    able = {candidate: score for candidate, score in scores.items() if score[1] > 1}
    if not able:
        return ",", "no delimiter found: each row is one value"
    best = max(able, key=lambda candidate: (able[candidate][0], able[candidate][1]))
    share, columns = able[best]
    return best, f"delimiter {best!r}: {share:.0%} of the first rows have {columns} columns with it"


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
        severity: Severity = "note" if detected.sure else "warning"
        fix = "" if detected.sure else f"if that is right, write layout.encoding: {detected.name}"
        findings.append(
            Finding(
                severity,
                "encoding-detected",
                f"encoding {detected.name}: {detected.reason}",
                "from.layout",
                fix,
            )
        )
    text = head.decode(encoding, "replace").removeprefix("\ufeff")
    if not whole:
        text = text[: text.rfind("\n") + 1] or text
    text = "".join(text.splitlines(keepends=True)[layout.preamble :])
    delimiter = layout.delimiter
    if delimiter is None:
        delimiter, reason = _delimiter(text, layout.quote)
        updates["delimiter"] = delimiter
        findings.append(Finding("note", "delimiter-found", reason, "from.layout"))
    if layout.header is None:
        header, reason, sure = _header(_rows(text, delimiter, layout.quote))
        updates["header"] = header
        fix = "" if sure else "write layout.header: true or false"
        findings.append(Finding("note" if sure else "warning", "header-found", reason, "from.layout", fix))
    return Sniffed(layout.model_copy(update=updates), findings)
