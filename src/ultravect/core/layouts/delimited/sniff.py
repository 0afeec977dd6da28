"""Completes a layout from the first bytes of a file: encoding, delimiter, quotes, preamble, header; says why."""

from __future__ import annotations

import re
from dataclasses import dataclass, field

from ultravect.core.layouts.delimited.around import (
    has_units,
    is_framed,
    lines_after,
    named_delimiter,
    sums_found,
    unframed_text,
)
from ultravect.core.layouts.delimited.client_codes import (
    FIELD_DELIMITERS,
    decoded_text,
    delimiter_of_codes,
    has_null_code,
)
from ultravect.core.layouts.delimited.cuts import (
    Cut,
    best_cuts,
    comment_mark,
    cut_by,
    first_rows,
    is_unsure,
    trailing,
    with_quotes,
)
from ultravect.core.layouts.encoding import detect_encoding, encoding_finding
from ultravect.core.layouts.headers import judge_header, kind_of
from ultravect.core.layouts.number_formats import find_numbers
from ultravect.core.model.finding import Finding, Replacement
from ultravect.core.model.layout import BLANKS, DelimitedLayout
from ultravect.core.words import counted

HEAD_BYTES = 256 << 10
_UNITS_ROWS = 20
_ROWS_SEEN = 200
_NAMED = {"\t": "tab", " ": "space", BLANKS: "runs of blanks", "\x00": "NUL", "\x01": "U+0001"}


@dataclass(frozen=True)
class Sniffed:
    """A layout with nothing left open."""

    layout: DelimitedLayout
    findings: list[Finding] = field(default_factory=list)


def lines_of(text: str) -> list[str]:
    """Lines with their ends; a lone carriage return ends one only where there are no line feeds."""
    return re.findall(r"[^\n]*\n|[^\n]+", text) if "\n" in text else re.findall(r"[^\r]*\r|[^\r]+", text)


def whole_text(head: bytes, encoding: str, *, whole: bool) -> str:
    """The text of the first bytes, up to its last whole line."""
    text = head.decode(encoding, "replace").removeprefix("\ufeff")
    if whole:
        return text
    return text[: text.rfind("\n" if "\n" in text else "\r") + 1] or text


def sniff(head: bytes, layout: DelimitedLayout, whole: bool) -> Sniffed:
    """Fills in what ``layout`` leaves open; ``whole`` says that ``head`` is all of the file."""
    findings: list[Finding] = []
    if layout.encoding is None:
        detected = detect_encoding(head)
        layout = layout.model_copy(update={"encoding": detected.name})
        findings.append(encoding_finding(detected))
    text = whole_text(head, layout.encoding or "utf-8", whole=whole)
    lines, layout = _without_frame(lines_of(text)[layout.preamble or 0 :], layout, findings)
    lines, layout = _without_footer(lines, layout, findings, whole=whole)
    lines_read = lines  # with remarks, which may name the columns
    text, layout = _without_comments(lines, layout, findings)
    text, layout = _without_codes(text, layout, findings)
    cuts = _cuts(text, layout)
    quoted, reason = with_quotes(text, cuts[0].delimiter, layout)
    if reason:
        layout = quoted
        cuts = _cuts(text, layout)
        said = {key: getattr(layout, key) for key in ("quote", "escape", "skip_blanks")}
        findings.append(Finding("note", "quotes-found", f"{reason}: {_changed(said)}", "from.layout"))
        if (
            layout.escape == "\\"
            and "nulls" not in layout.values.model_fields_set
            and has_null_code(text, cuts[0].delimiter)
        ):
            nulls = [*layout.values.nulls, "\\N"]
            layout = layout.model_copy(update={"values": layout.values.model_copy(update={"nulls": nulls})})
            findings.append(
                Finding("note", "nulls-found", "a value that is \\N, without quotes, is NULL", "from.layout")
            )
    cut = cuts[0]
    if layout.delimiter is None:
        findings.append(_delimiter_finding(cuts))
        layout = layout.model_copy(update={"delimiter": cut.delimiter})
    if layout.preamble is None:
        if cut.preamble:
            message = f"{counted(cut.preamble, 'line')} before the header, first {lines[0].strip()[:40]!r}"
            findings.append(Finding("note", "preamble-found", message, "from.layout"))
            text = "".join(lines_of(text)[cut.preamble :])
        layout = layout.model_copy(update={"preamble": cut.preamble})
    rows = [row for _, row in first_rows(text, cut.delimiter, layout)]
    if layout.trailing is None:
        layout = layout.model_copy(update={"trailing": trailing(rows)})
        if layout.trailing:
            message = "each row ends with a delimiter; nothing after it is a column"
            findings.append(Finding("note", "trailing-found", message, "from.layout"))
    if layout.trailing:
        width = max(len(row) for row in rows) - 1 if rows else 0
        rows = [row[:width] if len(row) > width else row for row in rows]
    if layout.header is None:
        layout = layout.model_copy(update={"header": _judged(rows, findings)})
        if layout.header and (lines_found := _header_lines(rows, findings)) > 1:
            layout = layout.model_copy(update={"header": lines_found})
        if not layout.header and layout.names is None and (names := _names_above(lines_read, layout, rows)):
            layout = layout.model_copy(update={"names": names})
            noted = f"the last line of remarks names the columns: {', '.join(names)[:80]}"
            findings[-1] = Finding("note", "header-found", noted, "from.layout")
    if (
        whole
        and "footer" not in layout.model_fields_set
        and len(lines_of(text)) <= _ROWS_SEEN
        and (sums := sums_found(rows))
    ):
        findings.append(sums)
    if rows and layout.header:
        values, found = find_numbers(rows[0], rows[layout.header_rows :], layout.values)
    else:
        names = [f"column_{number}" for number in range(1, len(rows[0]) + 1)] if rows else []
        values, found = find_numbers(names, rows, layout.values)
    return Sniffed(layout.model_copy(update={"values": values}), findings + found)


def _without_frame(
    lines: list[str], layout: DelimitedLayout, findings: list[Finding]
) -> tuple[list[str], DelimitedLayout]:
    """The lines after one that names the delimiter, and without what is drawn around values."""
    if layout.preamble is None and layout.delimiter is None and lines and (mark := named_delimiter(lines[0])):
        said = f"the first line says that the delimiter is {_named(mark)}"
        findings.append(Finding("note", "preamble-found", said, "from.layout"))
        return lines[1:], layout.model_copy(update={"delimiter": mark, "preamble": 1})
    if layout.frame is None and layout.delimiter in (None, "|") and is_framed(lines):
        said = "the table is drawn: | stands between values, and lines of dashes are no rows"
        findings.append(Finding("note", "frame-found", said, "from.layout"))
        layout = layout.model_copy(update={"frame": True})
    if layout.frame:
        layout = layout.model_copy(update={"delimiter": layout.delimiter or "|"})
        lines = lines_of(unframed_text("".join(lines)))
    return lines, layout


def _without_footer(
    lines: list[str], layout: DelimitedLayout, findings: list[Finding], *, whole: bool
) -> tuple[list[str], DelimitedLayout]:
    """The lines without those at the end that count the rows."""
    if not whole or "footer" in layout.model_fields_set:
        return lines, layout
    text = "".join(lines)
    cut = _cuts(text, layout)[0]
    if found := lines_after(text, cut.columns, cut.delimiter):
        said = f"the last {'line is no row' if found == 1 else f'{found} lines are no rows'}: {lines_of(text.rstrip())[-1].strip()[:40]!r}"
        findings.append(Finding("note", "footer-found", said, "from.layout"))
        kept = lines_of(text.rstrip("\r\n"))[:-found]
        return kept, layout.model_copy(update={"footer": found})
    return lines, layout


def _names_above(lines: list[str], layout: DelimitedLayout, rows: list[list[str]]) -> list[str] | None:
    """The names of the columns where the last remark above the rows has as many as they have values."""
    mark = layout.comment or "#"
    first = next((at for at, line in enumerate(lines) if line.strip() and not line.startswith(mark)), 0)
    if not first or not rows or not lines[first - 1].startswith(mark):
        return None
    plain = lines[first - 1].removeprefix(mark).lstrip("# ").rstrip("\r\n")
    for delimiter in dict.fromkeys((layout.delimiter or ",", BLANKS, ",", "\t")):
        found = next((row for _, row in first_rows(plain, delimiter, layout)), [])
        names = [cell.strip() for cell in found]
        if (
            len(names) == len(rows[0]) > 1
            and len(set(names)) == len(names)
            and all(kind_of(name) == "text" for name in names)
        ):
            return names
    return None


def _header_lines(rows: list[list[str]], findings: list[Finding]) -> int:
    """How many rows are the header: a second one may say units or types."""
    body = rows[1:_UNITS_ROWS]
    kinds = [[kind_of(cell) for cell in row] for row in body]
    units = has_units(body, kinds)
    if units:
        said = (
            f"the row below the names says units or types: {', '.join(cell for cell in body[0] if cell.strip())[:60]}"
        )
        findings.append(
            Finding("note", "units-found", said, "from.layout", "if it is a row, write layout.header: true")
        )
        return 2
    if units is None:
        said = f"the row below the names may belong to the header: {', '.join(cell for cell in body[0] if cell.strip())[:60]}"
        fix = "if so, write layout.header: 2"
        findings.append(
            Finding("warning", "units-likely", said, "from.layout", fix, Replacement("from.layout.header", 2))
        )
    return 1


def _without_codes(text: str, layout: DelimitedLayout, findings: list[Finding]) -> tuple[str, DelimitedLayout]:
    """The text in the usual form where clients of databases have written it."""
    said_so = {
        "quote",
        "escape",
        "skip_blanks",
    } & layout.model_fields_set or "nulls" in layout.values.model_fields_set
    if layout.codes is None and not said_so:
        found = delimiter_of_codes(text, [layout.delimiter] if layout.delimiter else FIELD_DELIMITERS)
        if found is not None and found[1]:
            layout = layout.model_copy(update={"codes": True, "delimiter": found[0]})
            said = f"as clients of databases write: \\N is NULL, \\t, \\n and \\\\ are characters; delimiter {_named(found[0])}"
            findings.append(Finding("note", "codes-found", said, "from.layout"))
        elif found is not None:
            said = (
                "backslashes stand before t or n only, which may be codes of a database's client, or parts of names"
            )
            fix = "if they are codes, write layout.codes: true; if not, layout.codes: false"
            findings.append(
                Finding("warning", "codes-likely", said, "from.layout", fix, Replacement("from.layout.codes", True))
            )
    if layout.codes and layout.delimiter is None:
        found = delimiter_of_codes(text)
        layout = layout.model_copy(update={"delimiter": found[0] if found else "\t"})
    return (decoded_text(text, layout.delimiter or "\t") if layout.codes else text), layout


def _cuts(text: str, layout: DelimitedLayout) -> list[Cut]:
    if layout.delimiter is not None:
        return [cut_by(text, layout.delimiter, layout)]
    return best_cuts(text, layout)


def _without_comments(
    lines: list[str], layout: DelimitedLayout, findings: list[Finding]
) -> tuple[str, DelimitedLayout]:
    """The text with its comment lines emptied, not removed: the count of lines before the header stays."""
    mark = layout.comment
    if mark is None and (mark := comment_mark(lines, layout)):
        layout = layout.model_copy(update={"comment": mark})
        count = sum(line.startswith(mark) for line in lines)
        message = f"lines that start with {mark} are comments, {count:,} of the first {len(lines):,}"
        findings.append(Finding("note", "comments-found", message, "from.layout"))
    if not mark:
        return "".join(lines), layout
    return "".join("\n" if line.startswith(mark) else line for line in lines), layout


def _changed(said: dict[str, object]) -> str:
    usual = {"quote": '"', "escape": None, "skip_blanks": False}
    words = {True: "true", False: "false"}
    return ", ".join(
        f"layout.{key}: {words.get(value, repr(value)) if isinstance(value, bool) else repr(value)}"
        for key, value in said.items()
        if value != usual[key]
    )


def _named(delimiter: str) -> str:
    return _NAMED.get(delimiter, repr(delimiter))


def _delimiter_finding(cuts: list[Cut]) -> Finding:
    best = cuts[0]
    if best.columns == 1:
        return Finding("note", "delimiter-found", "no delimiter found: each row is one value", "from.layout")
    text = f"delimiter {_named(best.delimiter)}: {best.share:.0%} of the first rows have {counted(best.columns, 'column')} with it"
    if len(cuts) < 2:
        if not is_unsure(cuts):
            return Finding("note", "delimiter-found", text, "from.layout")
        fix = "if the columns are wrong, write layout.delimiter, or layout.format: fixed"
        return Finding("warning", "delimiter-found", f"{text}; that is not sure", "from.layout", fix)
    rival = cuts[1]
    text += f"; next best {_named(rival.delimiter)}, {rival.share:.0%} with {counted(rival.columns, 'column')}"
    if not is_unsure(cuts):
        return Finding("note", "delimiter-found", text, "from.layout")
    fix = f"if the columns are wrong, write layout.delimiter: {_written(rival.delimiter)}"
    replacement = Replacement("from.layout.delimiter", rival.delimiter)
    return Finding("warning", "delimiter-found", f"{text}: that is not sure", "from.layout", fix, replacement)


def _written(delimiter: str) -> str:
    return delimiter if delimiter == BLANKS else f'"{delimiter.encode("unicode_escape").decode()}"'


def _judged(rows: list[list[str]], findings: list[Finding]) -> bool:
    if not rows:
        return True
    found = judge_header(rows)
    other = "false" if found.present else "true"
    fix = "" if found.sure else f"if that is wrong, write layout.header: {other}"
    replacement = None if found.sure else Replacement("from.layout.header", not found.present)
    severity = "note" if found.sure else "warning"
    findings.append(Finding(severity, "header-found", found.reason, "from.layout", fix, replacement))  # type: ignore[arg-type]
    return found.present
