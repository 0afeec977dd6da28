"""Whether the first row of a table names its columns; and which lines above it are a title, not rows."""

from __future__ import annotations

import functools
import itertools
import re
from collections.abc import Sequence
from dataclasses import dataclass

from ultravect.core.types.dates import DATE_PATTERNS
from ultravect.core.types.inference.candidates import WORDS_FOR_NULL, ways_of
from ultravect.core.types.text_formats import TextFormats

_DATA_LIKE = re.compile(r"^[+-]?\d[\d.,:/ T+Z'-]*$")
_YEAR = re.compile(r"^(1[5-9]|20|21)\d\d$")
_NAME_LIKE = re.compile(r"^[^\W\d][\w.]*$")
_FORMATS = TextFormats()
_MARKED = re.compile(r"^[+-]?\d*\.\d+")
_LONG_NAME = 60
_LEAST_SORTED, _SORTED_ROWS = 3, 100
_WORDS = (  # that names of columns are made of
    "id no nr number name title code key type kind date time day month year timestamp country region "
    "state city town address zip value amount price total count quantity unit currency description label "
    "text comment note url link email phone lat lon lng latitude longitude age sex gender class category "
    "group status x y z index rank score weight height length width first last firstname lastname from to "
    "start end source target file path size color colour lang language abbr abbreviation symbol species "
    "variable iso population area "
)
_COMMON = frozenset(_WORDS.split())


@dataclass(frozen=True)
class HeaderGuess:
    """``sure`` is false where the rows allow the other reading, too; a row would be lost or a name become data."""

    present: bool
    reason: str
    sure: bool


@functools.lru_cache(20_000)
def kind_of(cell: str) -> str:
    """``number``, ``moment`` or ``text``; "" for an empty cell or a word that means NULL."""
    cell = cell.strip()
    if not cell or cell in WORDS_FOR_NULL:
        return ""
    ways = ways_of([cell], _FORMATS, DATE_PATTERNS)
    if "number" in ways or "grouped" in ways or any(way.startswith("sign") for way in ways):
        return "number"
    if "time" in ways or any(way.startswith("dated") for way in ways) or _DATA_LIKE.match(cell):
        return "moment"
    return "text"


def judge_header(rows: Sequence[Sequence[str]]) -> HeaderGuess:
    """Weighs the first of ``rows`` against those below it."""
    first = [cell.strip() for cell in rows[0]] if rows else []
    body = [[cell.strip() for cell in row] for row in rows[1:]]
    if not any(first):
        return HeaderGuess(False, "the first row is empty, so it names nothing", bool(body))
    columns = [[row[at] for row in body if at < len(row)] for at in range(len(first))]
    kinds = [kind_of(cell) for cell in first]
    if not body:
        shown = next((cell for cell, kind in zip(first, kinds, strict=True) if kind in ("number", "moment")), None)
        if shown is None:
            return HeaderGuess(True, "the only row has no data in it, so it names the columns", True)
        return _as_row(shown)
    above = [at for at, kind in enumerate(kinds) if kind == "text" and _one_kind(columns[at]) in ("number", "moment")]
    data = [at for at, kind in enumerate(kinds) if kind in ("number", "moment")]
    unique = len({cell.lower() for cell in first if cell}) == sum(1 for cell in first if cell)
    named = all(at < len(first) and first[at] for at in range(1, len(first)))
    if above and not data:
        at = above[0]
        reason = f"the first row has {first[at]!r} where the rows below have {_one_kind(columns[at])}s, so it names the columns"
        return HeaderGuess(True, reason, True)
    if data and _years(first, data, columns) and unique and named:
        reason = f"the first row names the columns: {first[data[0]]!r} and the like are years"
        return HeaderGuess(True, reason, bool(above) or len(data) > 1)
    if above and data and unique and named and not _repeated(first, data, columns):
        reason = (
            f"the first row has {first[above[0]]!r} above numbers, so it names the columns, {first[data[0]]!r} too"
        )
        return HeaderGuess(True, reason, len(body) > 2)
    if (
        len(data) == len(first) > 2
        and _counts(first)
        and any(_MARKED.match(cell) for column in columns for cell in column[:20])
    ):
        reason = f"the first row numbers the columns, from {first[0]}, above numbers with digits after their mark"
        return HeaderGuess(True, reason, len(body) > 2)
    if data and unique and named and _numbered(first, data, columns, kinds):
        reason = f"the first row numbers the columns, from {first[data[0]]}, above values that are no such numbers"
        return HeaderGuess(True, reason, False)
    if data:
        return _as_row(first[data[0]])
    return _of_texts(first, columns, unique, named)


def _as_row(shown: str) -> HeaderGuess:
    return HeaderGuess(False, f"the first row holds data ({shown!r}), so it is taken for a row, not for names", False)


def _one_kind(column: Sequence[str]) -> str:
    """The kind of all values of a column that has any."""
    kinds = {kind for cell in column if (kind := kind_of(cell))}
    return kinds.pop() if len(kinds) == 1 else "number" if kinds == {"number", "moment"} else ""


def _years(first: Sequence[str], data: Sequence[int], columns: Sequence[Sequence[str]]) -> bool:
    """Whether the numbers in the first row are years, one after the other, above values that are none."""
    cells = [first[at] for at in data]
    if not all(_YEAR.match(cell) for cell in cells):
        return False
    years = [int(cell) for cell in cells]
    if len(years) > 1:
        steps = {later - earlier for earlier, later in itertools.pairwise(years)}
        return len(steps) == 1 and 0 not in steps
    below = [cell for cell in columns[data[0]] if cell]
    return bool(below) and not all(_YEAR.match(cell) for cell in below)


def _counts(first: Sequence[str]) -> bool:
    """Whether the cells are 0, 1, 2 … or 1, 2, 3 …"""
    return list(first) in ([str(at) for at in range(len(first))], [str(at + 1) for at in range(len(first))])


def _numbered(
    first: Sequence[str], data: Sequence[int], columns: Sequence[Sequence[str]], kinds: Sequence[str]
) -> bool:
    """Whether numbers count the columns, and what else stands in the first row looks like names."""
    cells = [first[at] for at in data]
    if len(cells) < 2 or not all(cell.isascii() and cell.isdigit() and len(cell) < 6 for cell in cells):
        return False
    if any(int(later) - int(earlier) != 1 for earlier, later in itertools.pairwise(cells)) or _repeated(
        first, data, columns
    ):
        return False
    texts = [at for at, kind in enumerate(kinds) if kind == "text"]
    return bool(texts) and all(
        _looks_like_name(first[at], [column for column in columns[at] if column]) > 0 for at in texts
    )


def _repeated(first: Sequence[str], data: Sequence[int], columns: Sequence[Sequence[str]]) -> bool:
    return any(first[at] in columns[at] for at in data)


def _of_texts(first: Sequence[str], columns: Sequence[Sequence[str]], unique: bool, named: bool) -> HeaderGuess:
    """Where nothing but text stands in the first row: what do names look like?"""
    score = 0.0
    for cell, column in zip(first, columns, strict=True):
        below = [value for value in column if value]
        if not cell or not below:
            continue
        score += _looks_like_name(cell, below) / len(first)
    if _sorted_with(first, columns):
        score -= 1.5
    elif unique and _letters_above(first, columns):
        score += 1.0
    score += 0.5 if unique else -1.5
    if not named:
        score -= 0.75
    shown = next(cell for cell in first if cell)
    if score >= 0.35:
        return HeaderGuess(True, "the first row names the columns", score >= 0.8)
    if score > 0.0:
        return HeaderGuess(True, f"all values are text; the first row ({shown!r} …) is taken for names", False)
    return HeaderGuess(
        False, f"all values are text, and the first row ({shown!r} …) looks like those below it", False
    )


def _letters_above(first: Sequence[str], columns: Sequence[Sequence[str]]) -> bool:
    """Whether the first row has a letter in each cell, as x, y above longer texts."""
    if len(first) < 2 or not all(len(cell) == 1 and cell.isalpha() for cell in first):
        return False
    return all(sum(len(value) > 1 for value in column) > len(column) / 2 for column in columns)


def _sorted_with(first: Sequence[str], columns: Sequence[Sequence[str]]) -> bool:
    """Whether the first row begins a sorted list: it comes before the rows below in their order, and is no word that names are made of."""
    for cell, column in zip(first, columns, strict=True):
        below = [value for value in column if value][:_SORTED_ROWS]
        if len(below) < _LEAST_SORTED or cell.lower() in _COMMON or _case(cell) != _case(below[0]):
            continue
        whole = [cell, *below]
        near = cell[:1].lower() == below[0][:1].lower()
        if near and len(set(below)) == len(below) and all(one < other for one, other in itertools.pairwise(whole)):
            return True
    return False


def _looks_like_name(cell: str, below: Sequence[str]) -> float:
    """Above 0: rather a name than one more of the values below it."""
    score = 0.0
    lowered = cell.lower()
    if (
        lowered in _COMMON
        or lowered.replace(" ", "_") in _COMMON
        or any(item in _COMMON for item in re.split(r"[_ .]", lowered))
    ):
        score += 1.0
    if cell in below:
        score -= 2.0
    elif len(set(below)) <= len(below) / 2 and len(below) >= 4:
        score += 0.75  # the values repeat each other, and this is none of them
    lengths = {len(value) for value in below}
    if len(lengths) == 1 and len(below) >= 3:
        score += -0.75 if len(cell) in lengths else 0.75
    if len(cell) > _LONG_NAME:
        score -= 1.0
    score += _cases(cell, below)
    if _NAME_LIKE.match(cell) and not all(_NAME_LIKE.match(value) for value in below):
        score += 0.5
    return score


def _cases(cell: str, below: Sequence[str]) -> float:
    """Small letters above capitals, and the like."""
    forms = [_case(value) for value in below]
    common = max(set(forms), key=forms.count)
    if forms.count(common) < 0.9 * len(forms) or not common:
        return 0.0
    return 0.5 if _case(cell) != common else -0.25


def _case(text: str) -> str:
    if text.islower():
        return "lower"
    if text.isupper():
        return "upper"
    return "first" if text[:1].isupper() else ""


def title_rows(rows: Sequence[Sequence[str]]) -> int:
    """How many of the first rows are a title above a table: one or two filled cells where the rows below have more."""
    filled = [sum(1 for cell in row if cell.strip()) for row in rows]
    width = max(filled, default=0)
    if width < 3:
        return 0
    usual = sorted(filled)[len(filled) // 2]
    if usual < 3:
        return 0
    most = 2 if width > 3 else 1
    start = next((at for at, count in enumerate(filled) if count > most), 0)
    # the row after a title has to be a whole one: a first column with few values is not a title
    return start if start and filled[start] >= 0.6 * width else 0
