"""Names of tables as people write them: ``schema.table``, parts quoted where needed."""

from __future__ import annotations

import re
from collections.abc import Callable

from ultravect.core.dialects.base import TableName


def parse_name(text: str, quote: str, too_long: Callable[[str], str], fold: Callable[[str], str] = str) -> TableName:
    """The table meant; ``too_long`` says what is wrong with the length of a part, or "", and ``fold`` what a part without quotes stands for.

    ValueError says what is wrong.
    """
    mark = re.escape(quote)
    part_pattern = re.compile(rf"\s*(?:{mark}((?:[^{mark}]|{mark}{mark})+){mark}|([^{mark}.\s]+))\s*")
    hint = f"{text!r} is not a table name; write table or schema.table, with odd names in {_QUOTES[quote]}"
    parts: list[str] = []
    position = 0
    while True:
        match = part_pattern.match(text, position)
        if not match:
            raise ValueError(hint)
        part = match[1].replace(quote * 2, quote) if match[1] else fold(match[2])
        if "\0" in part:
            raise ValueError(hint)
        if wrong := too_long(part):
            raise ValueError(wrong)
        parts.append(part)
        position = match.end()
        if position == len(text):
            break
        if text[position] != ".":
            raise ValueError(hint)
        position += 1
    if len(parts) > 2:
        raise ValueError(f"{text!r} has {len(parts)} parts; a table here is written table or schema.table")
    return TableName(parts[0] if len(parts) == 2 else None, parts[-1])


_QUOTES = {'"': "double quotes", "`": "backquotes"}
