"""Finds how fixed-width text is cut: the length of a record, and the fields from the gaps between columns."""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from ultravect.core.layouts.fixed.records import Characters, characters, text_of
from ultravect.core.model.layout import FixedField

_MAX_RECORD = 2000
_MIN_RECORD = 4
_LOOK = 64 << 10
_LOOK_RECORDS = 500
_SPACE = 0x20
_EVEN_SHARE = 0.9
_LIKE_ITSELF, _EXACTLY, _FEW_DIGITS = 0.75, 0.97, 0.05
_FEWEST = 5
_MOST_ABOVE = 30
_MOST_HEAD_LINES = 4


@dataclass(frozen=True)
class Records:
    """The first records, a row each; how they were distinguished is in ``reason``."""

    matrix: Characters
    terminator: str
    reason: str

    @property
    def width(self) -> int:
        return int(self.matrix.shape[1])


@dataclass(frozen=True)
class BarredHead:
    """A head whose bars say where fields begin, above rows without bars. ``lines`` stand above the rows; ``nulls`` are words for NULL."""

    lines: int
    fields: list[FixedField]
    nulls: list[str]


def barred_head(text: str) -> BarredHead | None:
    """The head of a table as observatories write them: keywords after ``\\``, then up to four lines with the names, types, units and words for
    NULL between bars. None where the text has no such head. Source: IPAC table format, irsa.ipac.caltech.edu/applications/DDGEN/Doc/ipac_tbl.html
    """
    lines = text.split("\n")
    above = next((at for at, line in enumerate(lines) if not line.startswith("\\")), 0)
    head = list(itertools.takewhile(lambda line: line.startswith("|"), lines[above:]))
    rows = [line for line in lines[above + len(head) : above + len(head) + _LOOK_RECORDS] if line.strip()]
    bars = [at for at, mark in enumerate(head[0]) if mark == "|"] if head else []
    even = all([at for at, mark in enumerate(line) if mark == "|"] == bars for line in head)
    if not (len(bars) > 1 and 0 < len(head) <= _MOST_HEAD_LINES and even and rows):
        return None
    if any(line[at : at + 1].strip() for line in rows for at in bars):
        return None
    names, nulls = head[0], head[3] if len(head) == _MOST_HEAD_LINES else ""
    fields = [
        FixedField(name=names[begin + 1 : end].strip() or f"field_{number}", start=begin + 1, width=end - begin)
        for number, (begin, end) in enumerate(itertools.pairwise(bars), 1)
    ]
    words = {nulls[begin + 1 : end].strip() for begin, end in itertools.pairwise(bars)}
    return BarredHead(above + len(head), fields, sorted(words - {""}))


def _classes(text: Characters) -> npt.NDArray[np.uint8]:
    """Kinds of characters: space, digit, letter, other. Records resemble each other in these."""
    kinds = np.full(len(text), 3, np.uint8)
    kinds[text == _SPACE] = 0
    kinds[(text >= 0x30) & (text <= 0x39)] = 1
    kinds[((text | 0x20) >= 0x61) & ((text | 0x20) <= 0x7A)] = 2
    return kinds


def record_length(text: Characters, size: int | None) -> int | None:
    """The length at which text without line ends repeats itself; ``size`` of the whole, where it is known."""
    kinds = _classes(text[:_LOOK])
    most = min(_MAX_RECORD, len(kinds) // 3)
    if most < _MIN_RECORD:
        return None
    scores = np.zeros(most + 1)
    for length in range(_MIN_RECORD, most + 1):
        if size is None or size % length in (0, 1, 2):
            # an even last record speaks for a length, unless a line end follows it
            scores[length] = float((kinds[:-length] == kinds[length:]).mean())
    best = scores.max()
    # sentences resemble themselves at the length of a word: what has hardly any digits has to repeat itself exactly
    if best < (_LIKE_ITSELF if float((kinds == 1).mean()) >= _FEW_DIGITS else _EXACTLY):
        return None
    # the double of a length fits as well as the length: the shortest of the good ones is meant
    return int(np.flatnonzero(scores >= best - 0.02)[0])


def first_records(text: bytes, whole: bool, size: int, record: int | None, terminator: str | None) -> Records | None:
    """The first records of a file, distinguished by its lines or by what repeats; None where nothing does."""
    lines = [line for line in _lines(text, whole) if line][:_LOOK_RECORDS]
    if terminator != "none" and (terminator == "newline" or len(lines) > 1):
        rows = [characters(line) for line in lines]
        width = record or max(map(len, rows))
        even = sum(len(row) == width for row in rows)
        fitting = [_filled(row, width) for row in rows if len(row) <= width]
        reason = f"each line is a record; {even:,} of the first {len(rows):,} have {width:,} characters"
        return Records(np.stack(fitting), "newline", reason) if fitting else None
    found = characters(b"".join(lines) if len(lines) == 1 else text)
    width_found = record or record_length(found, size if whole else None)
    if width_found is None or len(found) < width_found:
        return None
    count = min(_LOOK_RECORDS, len(found) // width_found)
    how = "as the layout says" if record else "the text repeats itself at this length"
    return Records(
        found[: count * width_found].reshape(count, width_found),
        "none",
        f"records of {width_found:,} characters follow each other without line ends: {how}",
    )


def _lines(text: bytes, whole: bool) -> list[bytes]:
    """The whole lines of a head."""
    lines = [line.removesuffix(b"\r") for line in text.split(b"\n")]
    if len(lines) > 1 and (not whole or not lines[-1]):
        lines.pop()
    return lines


def _filled(row: Characters, width: int) -> npt.NDArray[np.uint32]:
    filled = np.full(width, _SPACE, np.uint32)
    filled[: len(row)] = row
    return filled


def looks_even(text: bytes, whole: bool) -> bool:
    """Whether nearly all lines are of one length and have columns of spaces between words."""
    lines = _lines(text, whole)[lines_above(text, whole) :]
    lengths = [len(characters(line)) for line in lines if line][:_LOOK_RECORDS]
    if len(lengths) < 2:
        return False
    common = max(set(lengths), key=lengths.count)
    even = lengths.count(common)
    # of few lines, one may be a header without its last blanks
    return common >= _MIN_RECORD and (even >= _EVEN_SHARE * len(lengths) or 3 < len(lengths) == even + 1)


def lines_above(text: bytes, whole: bool) -> int:
    """How many lines above the records are none of them: a title, rulers, blank lines; not the names of the fields.

    Such a line has text where all records have a gap between fields.
    """
    rows = [characters(line) for line in _lines(text, whole)[:_LOOK_RECORDS]]
    lengths = [len(row) for row in rows[len(rows) // 3 :] if len(row)]
    if len(lengths) < _FEWEST:
        return 0
    width = max(set(lengths), key=lengths.count)
    used = np.any([_filled(row, width) != _SPACE for row in rows[len(rows) // 3 :] if len(row) == width], axis=0)
    starts = np.flatnonzero(used & ~np.concatenate([[False], used[:-1]]))
    ends = np.flatnonzero(used & ~np.concatenate([used[1:], [False]])) + 1
    if len(starts) < 2:
        return 0

    def fits(row: Characters) -> bool:
        return 0 < len(row) <= width and not (_filled(row, width) != _SPACE)[~used].any()

    first = next((at for at, row in enumerate(rows) if fits(row)), 0)
    if not 0 < first <= _MOST_ABOVE:
        return 0
    names = rows[first - 1]
    above_each = sum((names[begin:end] != _SPACE).any() for begin, end in zip(starts, ends, strict=True))
    return first - 1 if above_each == len(starts) and len(set(names.tolist())) > 2 else first


def header_found(matrix: Characters) -> tuple[bool, str]:
    """Whether the first record names the fields: words where the records below it have digits."""
    if len(matrix) < 2:
        return False, "there is one record, taken for a row"
    kinds = _classes(matrix.reshape(-1)).reshape(matrix.shape)
    digits = (kinds[1:] == 1).mean(axis=0) > 0.5
    if digits.any() and (kinds[0][digits] == 1).sum() == 0 and (kinds[0] == 2).any():
        return True, "the first record has words where the others have digits, so it names the fields"
    return False, "the first record looks like the others, so it is a row"


def fields_found(matrix: Characters, header: bool) -> list[FixedField]:
    """Fields that start where text starts after a gap: a place that is a space in every record."""
    body = matrix[1:] if header and len(matrix) > 1 else matrix
    return fields_of(places_used(body), matrix[0] if header else None)


def places_used(matrix: Characters) -> npt.NDArray[np.bool_]:
    """At which places of a record there is text in any of them."""
    used: npt.NDArray[np.bool_] = (matrix != _SPACE).any(axis=0)
    return used


def across(matrix: Characters, borders: Sequence[int]) -> npt.NDArray[np.bool_]:
    """Which records have text that goes across a border, a place where a field begins."""
    found = np.zeros(len(matrix), np.bool_)
    for border in borders:
        found |= (matrix[:, border - 1] != _SPACE) & (matrix[:, border] != _SPACE)
    return found


def fields_of(used: npt.NDArray[np.bool_], names: Characters | None) -> list[FixedField]:
    """Fields that start where text starts after a gap; ``names``: the record that names them."""
    if names is not None:
        used = used | (names != _SPACE)
    starts = [0, *(np.flatnonzero(used[1:] & ~used[:-1]) + 1).tolist()]
    if not used[: starts[1] if len(starts) > 1 else None].any() and len(starts) > 1:
        starts.pop(1)  # the first field is set in from the left
    ends = [*starts[1:], len(used)]
    named: list[FixedField] = []
    for number, (begin, end) in enumerate(zip(starts, ends, strict=True), 1):
        name = "" if names is None else text_of(names[begin:end]).strip()
        named.append(FixedField(name=name or f"field_{number}", width=end - begin))
    return named
