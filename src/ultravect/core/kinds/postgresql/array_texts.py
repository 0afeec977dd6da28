"""Lists written as JSON, `[1, "a"]`, as the literals that PostgreSQL reads into a column of an array type, `{1,"a"}`."""

from __future__ import annotations

import json
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from ultravect.core.types.casting import as_mask

_PLAIN = r'^\[(?:[-+0-9.eE,\s\[\]]|true|false|null|"[^"\\{}\[\]]*")*\]$'


def as_array_literals(values: pa.Array) -> pa.Array:
    """Texts, of which those that are lists in JSON become literals; all others stay, PostgreSQL's own literals among them."""
    lists = pc.starts_with(values, "[")
    if not as_mask(lists).any():
        return values
    plain = pc.match_substring_regex(values, _PLAIN)
    words = pc.replace_substring(pc.replace_substring(values, "[", "{"), "]", "}")
    found = pc.if_else(plain, words, values)
    others = as_mask(pc.and_(lists, pc.invert(plain)))
    if not others.any():
        return found
    texts = found.to_pylist()
    for at in others.nonzero()[0]:
        texts[at] = _literal_of(texts[at])
    return pa.array(texts, pa.string())


def _literal_of(text: str) -> str:
    """One that has escapes, objects or brackets in its texts; what is no JSON stays, and the database says what it is."""
    try:
        value = json.loads(text, parse_float=str, parse_int=str)
    except (ValueError, RecursionError):
        return text
    return _element(value)


def _element(value: Any) -> str:
    if value is None:
        return "NULL"
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, list):
        return "{" + ",".join(map(_element, value)) + "}"
    word = value if isinstance(value, str) else json.dumps(value, ensure_ascii=False)
    return '"' + word.replace("\\", "\\\\").replace('"', '\\"') + '"'
