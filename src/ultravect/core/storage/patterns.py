"""Patterns of paths: ``*`` and ``?`` inside a folder, ``**/`` across folders, ``[abc]``."""

from __future__ import annotations

import re
from collections.abc import Callable
from functools import lru_cache

_MARKS = re.compile(r"[*?\[]")


def has_pattern(path: str) -> bool:
    """Whether a path is a pattern."""
    return bool(_MARKS.search(path))


def literal_prefix(pattern: str) -> str:
    """The part before the first mark: every path that matches starts with it."""
    mark = _MARKS.search(pattern)
    return pattern[: mark.start()] if mark else pattern


@lru_cache(256)
def _expression(pattern: str) -> re.Pattern[str]:
    parts = []
    segments = pattern.split("/")
    for number, segment in enumerate(segments):
        last = number == len(segments) - 1
        if segment == "**":
            parts.append(".*" if last else "(?:[^/]+/)*")
        else:
            parts.append(_segment(segment) + ("" if last else "/"))
    return re.compile("".join(parts), re.S)


def _segment(segment: str) -> str:
    """One part of a path, mark by mark."""
    result, at = "", 0
    while at < len(segment):
        character = segment[at]
        end = segment.find("]", at + 2) if character == "[" else -1
        if character == "*":
            result += "[^/]*"
        elif character == "?":
            result += "[^/]"
        elif end > 0:
            inside = segment[at + 1 : end].replace("\\", r"\\")
            result += f"[{'^' + inside[1:] if inside[:1] == '!' else inside}]"
            at = end
        else:
            result += re.escape(character)
        at += 1
    return result


def matcher(pattern: str) -> Callable[[str], bool]:
    """Whether a path matches, for one pattern."""
    try:
        expression = _expression(pattern)
    except re.error:
        return lambda path: path == pattern
    return lambda path: expression.fullmatch(path) is not None
