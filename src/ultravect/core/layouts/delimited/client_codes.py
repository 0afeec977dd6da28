r"""Text as the clients of databases write it: \N for NULL, and \t, \n, \\, \0 for characters that would cut rows. No value is quoted.

Such text is brought to the usual form before it is cut: NULL is empty, what is empty is "", and what has a special character is quoted.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator

_MEANS = {
    b"b": b"\b", b"f": b"\f", b"n": b"\n", b"r": b"\r", b"t": b"\t", b"v": b"\v", b"0": b"\0", b"Z": b"\x1a",
}  # fmt: skip
_CODE = re.compile(rb"\\(?:([0-7]{2,3})|x([0-9A-Fa-f]{1,2})|([\s\S]))")
# a line feed, a tab or another delimiter with a backslash before it, and not part of \\
_RAW = re.compile(rb"(?<!\\)((?:\\\\)*)\\(\r?\n|\t)")
_CODES = "bfnrtv0NZ\\"
FIELD_DELIMITERS = ("\t", ",", "|", ";")


def decoded(chunks: Iterable[bytes], delimiter: int) -> Iterator[bytes]:
    """Chunks of whole lines in the usual form, with quotes."""
    change = _changer(bytes([delimiter]))
    held = b""
    for chunk in chunks:
        data = held + chunk
        if _ends_within(data):
            held = data
            continue
        held = b""
        yield change(data)
    if held:
        yield change(held)


def decoded_text(text: str, delimiter: str) -> str:
    """The same for the first lines of a file."""
    return _changer(delimiter.encode())(text.encode()).decode("utf-8", "replace")


def _ends_within(data: bytes) -> bool:
    """Whether the line feed at the end is part of a value."""
    body = data.removesuffix(b"\n").removesuffix(b"\r")
    return body != data and (len(body) - len(body.rstrip(b"\\"))) % 2 == 1


def _changer(delimiter: bytes) -> Callable[[bytes], bytes]:
    mark = re.escape(delimiter)
    raw = re.compile(rb"(?<!\\)((?:\\\\)*)\\(" + mark + rb")")
    empty = re.compile(rb"(?:(?<=" + mark + rb")|^)(?=" + mark + rb"|\r?$)", re.MULTILINE)
    null = _null_code(delimiter)
    cell = rb"[^" + mark + rb"\n]"
    end = rb"(?=" + mark + rb"|\r?$)"
    odd = re.compile(
        rb"(?:(?<=" + mark + rb")|^)((?!\"\"" + end + rb")" + cell + rb"*[\\\"]" + cell + rb"*?)" + end, re.MULTILINE
    )
    # the delimiter stands in a value as a code of its own, which no client writes otherwise
    code = b"\\x%02x" % delimiter[0]

    def change(data: bytes) -> bytes:
        if b"\\" in data:
            data = _RAW.sub(lambda found: found[1] + (b"\\t" if found[2] == b"\t" else b"\\n"), data)
            data = raw.sub(lambda found: found[1] + code, data)
        blank_end = data.endswith(b"\n")
        data = empty.sub(b'""', data.removesuffix(b"\n")) + (b"\n" if blank_end else b"")
        data = null.sub(b"", data)
        return odd.sub(_quoted, data) if b"\\" in data or b'"' in data else data

    return change


def _quoted(found: re.Match[bytes]) -> bytes:
    text = _CODE.sub(_meant, found[1])
    return b'"' + text.replace(b'"', b'""') + b'"'


def _meant(code: re.Match[bytes]) -> bytes:
    if code[1]:
        return bytes([int(code[1], 8) & 0xFF])
    if code[2]:
        return bytes([int(code[2], 16)])
    return _MEANS.get(code[3], code[3])


def with_null_kept(chunks: Iterable[bytes], delimiter: int) -> Iterator[bytes]:
    r"""Chunks in which a backslash escapes: a value that is \N stays so, for the words that mean NULL to name it."""
    null = _null_code(bytes([delimiter]))
    for chunk in chunks:
        yield null.sub(rb"\\\\N", chunk) if b"\\N" in chunk else chunk


def has_null_code(text: str, delimiter: str) -> bool:
    r"""Whether a value is \N, without quotes."""
    mark = re.escape(delimiter)
    return bool(re.search(rf"(?:(?<={mark})|^)\\N(?={mark}|\r?$)", text, re.MULTILINE))


def _null_code(delimiter: bytes) -> re.Pattern[bytes]:
    mark = re.escape(delimiter)
    return re.compile(rb"(?:(?<=" + mark + rb")|^)\\N(?=" + mark + rb"|\r?$)", re.MULTILINE)


def delimiter_of_codes(text: str, delimiters: Iterable[str] = FIELD_DELIMITERS) -> tuple[str, bool] | None:
    r"""The delimiter of text that clients of databases have written, and whether that is sure; None where nothing speaks for such text.

    A value that is \N is sure. Where each backslash begins a code and some stand for themselves (\\), so is that; \t and \n alone may be parts
    of the name of a file.
    """
    if "\\" not in text:
        return None
    for delimiter in delimiters:
        mark = re.escape(delimiter)
        quoted = re.search(rf'(?:^|{mark})"[^"\n]*"(?={mark}|\r?$)', text, re.MULTILINE)
        if quoted and not re.search(
            rf'(?:^|{mark})(?!\\)[^"{mark}\n]*[^\W\d_][^"{mark}\n]*(?={mark}|\r?$)', _below(text), re.MULTILINE
        ):
            continue  # all texts are quoted
        if has_null_code(text, delimiter) and _is_even(text, delimiter):
            return delimiter, True
    codes = re.findall(r"\\([\s\S])", text)
    quotes = re.search(r'(?:^|\t)"', text, re.MULTILINE)
    if "\t" in text and codes and all(code in _CODES or code in "\t\n" for code in codes) and not quotes:
        return "\t", any(code in "\\\t\n" for code in codes)
    return None


def _below(text: str) -> str:
    """Without the first line, which may have names."""
    return text.partition("\n")[2]


def _is_even(text: str, delimiter: str) -> bool:
    """Whether most lines have as many values as the first."""
    plain = re.sub(r"\\(?:\r?\n|" + re.escape(delimiter) + ")", "", text)
    counts = [line.count(delimiter) for line in plain.splitlines()[:200] if line]
    return len(counts) > 0 and counts[0] > 0 and sum(count == counts[0] for count in counts) >= 0.9 * len(counts)
