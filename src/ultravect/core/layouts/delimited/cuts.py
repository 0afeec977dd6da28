"""How the first lines of delimited text fall apart: which delimiter, which quotes, and how sure that is."""

from __future__ import annotations

import csv
import re
import sys
from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from ultravect.core.layouts.delimited.alike import MAX_PREAMBLE, counts_above, first_alike, is_ruler, ruler_mark
from ultravect.core.layouts.delimited.lines import STAND_IN
from ultravect.core.layouts.headers import kind_of, title_rows
from ultravect.core.model.layout import BLANKS, DelimitedLayout

_SINGLE = (",", ";", "\t", "|", "~", "^", "\x01", "\x00", ":")
_SEVERAL = ("||", "|~|", "^|^", ";;", "~~", "::", ",,", "\t\t", "@@", "##")
_ROWS = 200
_TYPED_ROWS = 60
_STAND_IN = chr(STAND_IN)
_RUNS = re.compile(r'"[^"]*"|[ \t]+')
_CLOCK = re.compile(r"(?:^|[ T])\d{1,2}:\d{2}(?::\d{2}(?:[.,]\d+)?)?(?:$|[ Z])")
_LEADING_MARKS, _LEAST_LEADING = ("#", "%", "!", "//"), 3
_CLOSE = 0.12  # a rival whose score is nearer than this makes the choice unsure

csv.field_size_limit(min(sys.maxsize, 64 << 20))


@dataclass(frozen=True)
class Cut:
    """How the first rows fall apart with one delimiter: ``share`` of them have the commonest number of ``columns``,
    the first of these after ``preamble`` lines. ``score`` weighs that against other delimiters, from 0 to 1."""

    delimiter: str
    share: float
    columns: int
    preamble: int
    score: float = 0.0


def csv_reader(text: str, delimiter: str, layout: DelimitedLayout, *, strict: bool = False) -> Iterator[list[str]]:
    """The few rows of a head, one by one."""
    lines = text.splitlines(keepends=True) if "\n" in text else re.findall(r"[^\r]*\r|[^\r]+", text)
    if delimiter == BLANKS:
        lines = [
            _RUNS.sub(lambda run: run[0] if run[0][0] == '"' else _STAND_IN, line.strip(" \t\r\n")) + "\n"
            for line in lines
        ]
        delimiter = _STAND_IN
    elif len(delimiter) > 1 or delimiter == "\x00":
        lines = [line.replace(delimiter, _STAND_IN) for line in lines]
        delimiter = _STAND_IN
    quote = None if layout.quote == "none" else layout.quote
    return csv.reader(
        lines, delimiter=delimiter, quotechar=quote, escapechar=layout.escape,
        quoting=csv.QUOTE_NONE if quote is None else csv.QUOTE_MINIMAL,
        skipinitialspace=layout.skip_blanks, strict=strict,
    )  # fmt: skip


def first_rows(text: str, delimiter: str, layout: DelimitedLayout) -> list[tuple[int, list[str]]]:
    """The first rows, each with the number of lines before it."""
    return _read(text, delimiter, layout, strict=False)[0]


def _read(
    text: str, delimiter: str, layout: DelimitedLayout, *, strict: bool
) -> tuple[list[tuple[int, list[str]]], int]:
    """The first rows, and 1 where the quotes in them are broken."""
    reader = csv_reader(text, delimiter, layout, strict=strict)
    rows: list[tuple[int, list[str]]] = []
    before = 0
    try:
        for row in reader:
            if row and (len(row) > 1 or row[0].strip()):
                rows.append((before, row))
            before = reader.line_num  # type: ignore[attr-defined]
            if len(rows) > _ROWS:
                break
    except csv.Error:
        return rows, 1
    return rows, 0


def cut_by(text: str, delimiter: str, layout: DelimitedLayout) -> Cut:
    """How ``text`` falls apart with this delimiter."""
    rows = first_rows(text, delimiter, layout)
    if not rows:
        return Cut(delimiter, 0.0, 1, 0)
    columns, _ = Counter(len(row) for _, row in rows).most_common(1)[0]
    start = 0
    if layout.preamble is None:
        start = _start(rows, columns) or first_alike(rows, columns)
        if not start and len(rows) <= _ROWS and counts_above(rows):
            start = 1
    kept = [rows[start], *(row for row in rows[start + 1 :] if not is_ruler(row[1]))]
    whole = [row for _, row in kept if len(row) == columns]
    # a header that has no name for the names of the rows is no row that does not fit
    short = len(whole) == len(kept) - 1 > 1 and len(kept[0][1]) == columns - 1
    share = 1.0 if short else len(whole) / len(kept)
    return Cut(delimiter, share, columns, rows[start][0], share * (0.4 + 0.6 * _plain(whole, delimiter)))


def _start(rows: list[tuple[int, list[str]]], columns: int) -> int:
    """The first row that is not a title, or a line of another kind."""
    remarks = 0
    while remarks < len(rows) - 1 and rows[remarks][1][0].startswith("#") and len(rows[remarks][1]) != columns:
        remarks += 1
    if remarks:
        return remarks + _start(rows[remarks:], columns)
    start = next(index for index, (_, row) in enumerate(rows) if len(row) == columns)
    # a row with nearly as many values is a header that does not match its rows, not a line before it
    if start > MAX_PREAMBLE or any(len(row) > max(1, columns // 2) for _, row in rows[:start]):
        start = 0
    return start + min(title_rows([row for _, row in rows[start:]]), MAX_PREAMBLE)


def _plain(rows: list[list[str]], delimiter: str) -> float:
    """The share of cells that are whole values: no other delimiter cuts them, unless they are numbers or dates."""
    if not rows:
        return 0.0
    others = [item for item in (",", ";", "\t", "|") if item != delimiter and item not in delimiter]
    cells = [cell for row in rows[:_TYPED_ROWS] for cell in row[:100]]
    prose = delimiter in ",;:"
    odd = sum(
        1
        for cell in cells
        # after a comma in a sentence comes a blank
        if (
            any(_cut_at(other, cell.strip()) for other in others)
            or (prose and cell[:1] == " " and cell[1:2].isalpha())
        )
        and kind_of(cell) not in ("number", "moment")
    )
    return 1 - odd / len(cells) if cells else 0.0


def _cut_at(mark: str, cell: str) -> bool:
    return mark in cell and (mark not in ",;" or bool(re.search(re.escape(mark) + r"(?! )", cell)))


def best_cuts(text: str, layout: DelimitedLayout) -> list[Cut]:
    """The cuts that explain the text, the best first; one of a single column when none does."""
    cuts = [cut_by(text, item, with_quotes(text, item, layout)[0]) for item in _SINGLE if item in text]
    able = [cut for cut in cuts if _explains(text, cut)]
    able += [
        item
        for item in (cut_by(text, many, layout) for many in _SEVERAL if many in text)
        if _doubled(text, item, layout)
    ]
    if not any(item.share >= 0.8 for item in able):
        able += _by_blanks(text, layout)
    if not able:
        return [Cut(",", 1.0, 1, 0, 1.0)]
    return sorted(
        able, key=lambda entry: (-round(entry.score, 2), -len(entry.delimiter), -entry.columns, entry.preamble)
    )


def _explains(text: str, cut: Cut) -> bool:
    if cut.columns < 2 or cut.share < 0.5:
        return False
    if cut.delimiter != ":":
        return True
    # what a clock or an address has between its parts is rarely a delimiter
    some = text.splitlines()[1:6]
    return cut.columns > 2 and not any(kind_of(line) == "moment" or _CLOCK.search(line) for line in some)


def _doubled(text: str, cut: Cut, layout: DelimitedLayout) -> bool:
    """Whether a delimiter of several characters is meant: in the first row nothing stands between them, anywhere."""
    if cut.columns < 2 or cut.share < 0.9:
        return False
    single = cut.delimiter[0]
    if cut.delimiter != single * len(cut.delimiter):
        return True
    first = first_rows(text, single, layout)[0][1]
    return len(first) == 2 * cut.columns - 1 and not any(first[1::2])


def _by_blanks(text: str, layout: DelimitedLayout) -> list[Cut]:
    """Blanks between values, when these show it: columns of numbers, and as many values in every row."""
    cut = cut_by(text, BLANKS, layout)
    if cut.columns < 2 or cut.share < 0.95:
        return []
    found = first_rows(text, BLANKS, layout)
    rows = [row for before, row in found if before >= cut.preamble and len(row) == cut.columns][1:]
    numbers = sum(
        1 for column in zip(*rows, strict=True) if all(kind_of(cell) in ("number", "moment", "") for cell in column)
    )
    if not rows or numbers < max(1, cut.columns / 3):
        return []
    single = cut_by(text, " ", layout)
    return [single if single.columns == cut.columns and single.share == 1.0 and "\t" not in text else cut]


def is_unsure(cuts: list[Cut]) -> bool:
    """Whether another delimiter explains the text nearly as well."""
    if len(cuts) < 2:
        return cuts[0].columns > 1 and cuts[0].share < 0.8
    return cuts[0].score - cuts[1].score < _CLOSE or cuts[0].share < 0.8


def with_quotes(text: str, delimiter: str, layout: DelimitedLayout) -> tuple[DelimitedLayout, str]:
    """The layout with the quotes, escapes and blanks that read the text best, and why they are others; the same where the
    layout says them or nothing is wrong."""
    if layout.codes or {"quote", "escape", "skip_blanks"} & layout.model_fields_set:
        return layout, ""
    if _quoted_after_blanks(text, delimiter):
        return layout.model_copy(update={"skip_blanks": True}), "values are quoted after blanks"
    if _blanks_after_quotes(text, delimiter) and _broken(text, delimiter, layout):
        return layout.model_copy(update={"skip_blanks": True}), "blanks stand after quoted values"
    if "'" in text and _quoted(text, delimiter, "'") and not _quoted(text, delimiter, '"'):
        other = layout.model_copy(update={"quote": "'"})
        if cut_by(text, delimiter, other).share >= cut_by(text, delimiter, layout).share and not _broken(
            text, delimiter, other
        ):
            return other, "values stand in single quotes"
    if '\\"' in text or "\\" + delimiter in text:
        other = layout.model_copy(update={"escape": "\\"})
        now, found = cut_by(text, delimiter, layout).share, cut_by(text, delimiter, other).share
        better = found > now or (found == now and _broken(text, delimiter, layout))
        if better and not _broken(text, delimiter, other):
            return other, "a backslash takes the meaning from the character after it"
    return layout, ""


def _broken(text: str, delimiter: str, layout: DelimitedLayout) -> bool:
    """Whether the quotes in the first rows contradict each other."""
    return bool(_read(text, delimiter, layout, strict=True)[1])


def _quoted_after_blanks(text: str, delimiter: str) -> bool:
    if len(delimiter) > 1 or delimiter in " \x00":
        return False
    mark = re.escape(delimiter)
    return len(re.findall(rf'{mark}[ \t]+"[^"\n]*"[ \t]*(?={mark}|\r?\n|$)', text)) >= 1 and not re.search(
        rf'{mark}"', text
    )


def _blanks_after_quotes(text: str, delimiter: str) -> bool:
    if len(delimiter) > 1 or delimiter in " \t\x00":
        return False
    mark = re.escape(delimiter)
    return bool(re.search(rf'(?:^|{mark})"[^"\n]*"[ \t]+(?={mark}|\r?$)', text, re.MULTILINE))


def _quoted(text: str, delimiter: str, quote: str) -> bool:
    """Whether many values stand in these quotes."""
    mark = re.escape(delimiter) if delimiter != BLANKS else r"[ \t]"
    inside = re.findall(rf"(?:^|{mark}){quote}[^{quote}\n]*{quote}(?={mark}|\r?$)", text, re.MULTILINE)
    lines = max(1, text.count("\n"))
    return len(inside) >= 2 and len(inside) >= lines / 2


def trailing(rows: list[list[str]]) -> bool:
    """Whether every row ends with a delimiter after which nothing comes."""
    if len(rows) < 2:
        return False
    header, body = rows[0], rows[1:]
    width = max(set(map(len, body)), key=list(map(len, body)).count)
    if width < 3 or not all(len(row) == width and not row[-1].strip() for row in body):
        return False
    return (len(header) == width and not header[-1].strip()) or (len(header) == width - 1 and all(header))


def comment_mark(lines: Sequence[str], layout: DelimitedLayout) -> str:
    """The mark of lines that are no rows, "" where there is none: they are cut into another number of values than the rows."""
    if ruler := ruler_mark(lines[:_ROWS]):
        return ruler
    for mark in _LEADING_MARKS:
        leading = next((at for at, line in enumerate(lines) if line.strip() and not line.startswith(mark)), 0)
        if leading >= (_LEAST_LEADING if mark != "#" else _ROWS):
            return mark
    marked = [line for line in lines[:_ROWS] if line.startswith("#")]
    others = [line for line in lines[:_ROWS] if line.strip() and not line.startswith("#")]
    if not marked or not others or (len(marked) == 1 and lines[0].startswith("#")):
        return ""  # one line above all is a header, or a line before it
    cuts = best_cuts("".join(others), layout)
    alike = [row for _, row in first_rows("".join(marked), cuts[0].delimiter, layout) if len(row) == cuts[0].columns]
    return "#" if cuts[0].columns > 1 and len(alike) <= len(marked) / 3 else ""


def delimiter_share(text: str, whole: bool) -> float:
    """The share of the first rows that some delimiter cuts into the same number of columns; 0 where none does."""
    if not whole:
        text = text[: text.rfind("\n") + 1] or text
    cut = best_cuts(text, DelimitedLayout())[0]
    # one row alone says nothing: any comma in it would do
    if cut.delimiter in (BLANKS, " "):
        return 0.0
    return cut.share if cut.columns > 1 and text.strip().count("\n") else 0.0


def blanks_fit(text: str, whole: bool) -> bool:
    """Whether runs of blanks cut the text into columns of values, below remarks or a description."""
    if not whole:
        text = text[: text.rfind("\n") + 1] or text
    best = best_cuts(text, DelimitedLayout())[0]
    return best.delimiter in (BLANKS, " ") and (best.preamble > 0 or text.startswith("#"))
