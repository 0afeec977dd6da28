"""Defaults of columns, as catalogues write them: those that are constants, as their text."""

from __future__ import annotations

import re

_NUMBER = re.compile(r"[+-]?(\d+(\.\d*)?|\.\d+)([eE][+-]?\d+)?")
_TEXT = re.compile(r"'((?:[^']|'')*)'")
_ESCAPED = re.compile(r"(?s)'((?:[^'\\]|''|\\.)*)'")
_HEX = re.compile(r"[xX]'((?:[0-9a-fA-F]{2})*)'")
_TYPED = re.compile(r"(?s)(.+)::[a-zA-Z_\" ]+(\(\d+(,\d+)?\))?")
_CAST = re.compile(r"(?is)CAST\((.+) AS [a-z ]+(\(\d+(,\d+)?\))?\)")


def constant_default(expression: str | None, *, backslash: bool = False) -> str | None:
    """The text of a default that is a number, a text or a truth value; None for any other, and for none.

    ``backslash``: one takes the meaning from the character after it.
    """
    text = (expression or "").strip()
    while text.startswith("(") and text.endswith(")"):
        text = text[1:-1].strip()
    for pattern in (_TYPED, _CAST):
        if (inner := pattern.fullmatch(text)) is not None:
            return constant_default(inner[1], backslash=backslash)
    if _NUMBER.fullmatch(text) or text.lower() in ("true", "false"):
        return text.lower()
    if backslash and (digits := _HEX.fullmatch(text)):
        return bytes.fromhex(digits[1]).decode("utf-8", "replace")
    if backslash:
        escaped = _ESCAPED.fullmatch(text)
        return re.sub(r"(?s)\\(.)|''", lambda match: match[1] or "'", escaped[1]) if escaped else None
    quoted = _TEXT.fullmatch(text)
    return quoted[1].replace("''", "'") if quoted else None
