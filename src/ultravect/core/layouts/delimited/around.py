"""What clients of databases and spreadsheets write around the rows: a line that names the delimiter, frames of tables that are drawn, counts of rows,
sums, and a second line of the header with units or types."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Sequence

from ultravect.core.model.finding import Finding, Replacement

_DELIMITER = re.compile(r'^\ufeff?"?sep=(?P<mark>[^"\r\n])"?[ \t]*\r?$', re.IGNORECASE)
_RULER = re.compile(r"^[ \t]*[|+:-][|+:= \t-]*[|+:-][ \t]*$")
_BARS = re.compile(rb"[ \t]*\|[ \t]*")
_FRAME_RULER = re.compile(rb"^[ \t]*(?:\+[+-]*\+|[|+: \t-]*-{2,}[|+: \t-]*)[ \t]*$")
_COUNTED = re.compile(
    r"^\(?\d[\d,.' ]* (?:rows?|records?|Zeilen?|lignes?|righe|filas?|rader|rij(?:en)?|linhas?)(?:\(s\))?(?: (?:in set|affected|selected|fetched|"
    r"returned|exported|retrieved|updated))?(?:[ .(].*)?\)?\.?$",
    re.IGNORECASE,
)
_SAID = re.compile(r"^\(|in set|affected|selected|fetched|returned|exported|retrieved|updated", re.IGNORECASE)
_TIMED = re.compile(r"^(?:Time|Completion time|Elapsed|Total execution time|Zeit|Dauer)\b.*\d", re.IGNORECASE)
_SUM = re.compile(
    r"^\W*(?:grand |sub)?(?:total|totals|totale|totaal|sum|summe|gesamt|gesamtsumme|insgesamt|somme|suma|soma|average|mittelwert|mean)\W*$",
    re.IGNORECASE,
)
_TYPE = re.compile(
    r"^(?:[(\[<].*[)\]>]|\d+[snd]|-+|(?:small|big|tiny)?int(?:eger)?\d*|float\d*|double|real|decimal(?:\(.*\))?|numeric(?:\(.*\))?|text|string"
    r"|(?:var)?char(?:acter)?(?:\(.*\))?|bool(?:ean)?|date(?:time)?|time(?:stamp)?|yyyy-?mm-?dd.*|hh:mm.*)$",
    re.IGNORECASE,
)
_UNIT = re.compile(r"^(?:%|[°µa-zA-Z]{1,4}(?:[/*^·-]?[a-zA-Z0-9²³]{1,4})*|dimensionless|-)$")
_MOST_AFTER = 12


def named_delimiter(text: str) -> str:
    """The delimiter that a first line such as ``sep=;`` names; "" where there is no such line."""
    match = _DELIMITER.match(text.split("\n", 1)[0])
    return match["mark"] if match else ""


def is_framed(lines: Sequence[str]) -> bool:
    """Whether the lines are a table that is drawn: bars between values, and a line of dashes near its top."""
    some = [line for line in lines[:40] if line.strip()]
    ruled = [
        at for at, line in enumerate(some[:6]) if _RULER.match(line) and "-" in line and ("+" in line or "|" in line)
    ]
    barred = [line for line in some if "|" in line]
    return bool(ruled) and len(barred) >= 0.6 * (len(some) - len(ruled)) and len(barred) >= min(2, len(ruled))


def unframed(chunks: Iterable[bytes]) -> Iterator[bytes]:
    """Chunks of whole lines of a drawn table, without what is drawn and the blanks around values."""
    for chunk in chunks:
        yield b"".join(_plain(line) for line in chunk.splitlines(keepends=True))


def unframed_text(text: str) -> str:
    return b"".join(_plain(line) for line in text.encode().splitlines(keepends=True)).decode()


def _plain(line: bytes) -> bytes:
    body = line.rstrip(b"\r\n")
    end = line[len(body) :]
    if _FRAME_RULER.match(body):
        return end
    if b"|" not in body:
        return line
    plain = _BARS.sub(b"|", body.strip())
    if plain.startswith(b"|") and plain.endswith(b"|") and len(plain) > 1:
        plain = plain[1:-1]
    return plain + end


def lines_after(text: str, columns: int, delimiter: str) -> int:
    """How many lines at the end are no rows: a count of rows, the time it took, a remark, and what stands between them and the rows."""
    lines = text.rstrip("\r\n").split("\n")
    found = 0
    for number, line in enumerate(reversed(lines[1:][-_MOST_AFTER:]), 1):
        plain = line.strip()
        # of one column, "12 records" may be a value
        said = (_COUNTED.match(plain) and (columns > 1 or _SAID.search(plain))) or _TIMED.match(plain)
        if said or (columns > 1 and plain.startswith("#") and delimiter not in plain):
            found = number
        elif plain and not _RULER.match(plain):
            break
    while found and found < len(lines) - 1 and not lines[-found - 1].strip():
        found += 1
    return found


def sums_at_end(rows: Sequence[Sequence[str]]) -> int:
    """How many of the last rows are sums of those above them, by what their first value is called."""
    count = 0
    for row in reversed(rows[1:]):
        named = next((cell for cell in row if cell.strip()), "")
        if not _SUM.match(named):
            break
        count += 1
    return count if 0 < count <= 3 else 0


def sums_found(rows: Sequence[Sequence[str]]) -> Finding | None:
    """Says that the last rows may be sums, and proposes to leave them out."""
    sums = sums_at_end(rows)
    if not sums:
        return None
    named = next(cell for cell in rows[-sums] if cell.strip())
    which = "the last row may be a sum" if sums == 1 else f"the last {sums} rows may be sums"
    written = Replacement("from.layout.footer", sums)
    fix = f"if so, write layout.footer: {sums}"
    return Finding("warning", "sums-likely", f"{which} of those above, first {named!r}", "from.layout", fix, written)


def counted_at_end(rows: Sequence[Sequence[str]]) -> int:
    """How many of the last rows are a count of rows, or the time it took, in one cell."""
    count = 0
    for row in reversed(rows[1:]):
        words = [cell.strip() for cell in row if cell.strip()]
        if len(words) != 1 or len(row) < 2 or not (_COUNTED.match(words[0]) or _TIMED.match(words[0])):
            break
        count += 1
    return count


def has_units(rows: Sequence[Sequence[str]], kinds: Sequence[Sequence[str]]) -> bool | None:
    """Whether the row below the header says units or types: where all rows below it have numbers, it has none. None where that is not sure: its
    words may be values, too. ``rows`` without the header, ``kinds`` of their cells, see ``kind_of``."""
    if len(rows) < 2 or len(rows[0]) != len(rows[1]):
        return False
    numeric = [
        at
        for at in range(len(rows[0]))
        if all(len(row) > at and row[at] in ("number", "moment", "") for row in kinds[1:])
        and any(row[at] in ("number", "moment") for row in kinds[1:])
    ]
    said = [rows[0][at].strip() for at in numeric]
    if all(re.fullmatch(r"-+", cell.strip()) for cell in rows[0]) and len(rows[0]) > 1:
        return True  # a line below the names
    # a word that means NULL is a value
    if not any(said) or any(kinds[0][at] != "text" for at, word in zip(numeric, said, strict=True) if word):
        return False
    if len(rows) < 3:
        return False
    words = [cell.strip() for cell in rows[0] if cell.strip()]
    if all(_TYPE.match(word) for word in words):
        return True
    units = all(_TYPE.match(word) or _UNIT.match(word) for word in words)
    return True if units and len(numeric) > 1 and len(set(said)) > 1 else None
