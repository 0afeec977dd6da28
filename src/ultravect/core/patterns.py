"""Patterns of paths: ``*`` and ``?`` inside a folder, ``**/`` across folders, ``[abc]``."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from typing import Any

Mark = Callable[[str], bool]
_MARKS = re.compile(r"[*?\[]")


def has_pattern(path: str) -> bool:
    """Whether a path is a pattern."""
    return bool(_MARKS.search(path))


def literal_prefix(pattern: str) -> str:
    """The part before the first mark: every path that matches starts with it."""
    mark = _MARKS.search(pattern)
    return pattern[: mark.start()] if mark else pattern


def matcher(pattern: str) -> Callable[[str], bool]:
    """Whether a path matches, for one pattern; in time that grows with the lengths of both, never faster."""
    if len(_MARKS.findall(pattern)) == 1 and "*" in pattern:
        return _with_one_star(pattern)
    segments = [None if segment == "**" else _marks(segment) for segment in pattern.split("/")]
    ends_across = segments[-1] is None

    def fits(path: str) -> bool:
        parts = path.split("/")
        if ends_across:
            # ** at the end is whatever follows, at least one name
            return any(
                _match(segments[:-1], parts[:count], _one_segment) for count in range(len(segments) - 1, len(parts))
            )
        return _match(segments, parts, _one_segment)

    return fits


def _with_one_star(pattern: str) -> Callable[[str], bool]:
    """Patterns such as ``folder/*.csv``, which most are: the same, in a small part of the time."""
    begin, _, end = pattern.partition("*")
    least, first, last = len(begin) + len(end), len(begin), len(end)

    def fits(path: str) -> bool:
        return (
            len(path) >= least
            and path.startswith(begin)
            and path.endswith(end)
            and path.find("/", first, len(path) - last) < 0
        )

    return fits


def name_matcher(pattern: str) -> Callable[[str], bool]:
    """Whether a name matches that is no path: a slash is a character like any other."""
    marks = _marks(pattern)
    return lambda name: _one_segment(marks, name)


def literal(text: str) -> str:
    """The pattern that matches this text and no other."""
    return _MARKS.sub(lambda found: f"[{found[0]}]", text)


def _one_segment(marks: Sequence[Mark | None], name: str) -> bool:
    return _match(marks, name, lambda mark, character: mark(character))


def _match(marks: Sequence[Any], given: Sequence[Any], matches: Callable[[Any, Any], bool]) -> bool:
    """Whether ``given`` fits ``marks``, of which None stands for any number of things: only the last None met is tried
    again, since an earlier one could do no better."""
    at = here = 0
    again: tuple[int, int] | None = None
    while here < len(given):
        if at < len(marks) and marks[at] is None:
            again = at, here
            at += 1
        elif at < len(marks) and matches(marks[at], given[here]):
            at += 1
            here += 1
        elif again is not None:
            again = again[0], again[1] + 1
            at, here = again[0] + 1, again[1]
        else:
            return False
    return all(mark is None for mark in marks[at:])


def _marks(segment: str) -> list[Mark | None]:
    """One part of a path, character by character; None for ``*``."""
    found: list[Mark | None] = []
    at = 0
    while at < len(segment):
        character = segment[at]
        end = segment.find("]", at + 2) if character == "[" else -1
        if character == "*":
            if not found or found[-1] is not None:
                found.append(None)
        elif character == "?":
            found.append(lambda given: True)
        elif end > 0:
            found.append(_class(segment[at + 1 : end]))
            at = end
        else:
            found.append(character.__eq__)
        at += 1
    return found


def _class(inside: str) -> Mark:
    """``[abc]``, ``[a-z]`` or ``[!a-z]``"""
    negated = inside[:1] in ("!", "^")
    inside = inside[negated:]
    ranges: list[tuple[str, str]] = []
    at = 0
    while at < len(inside):
        last = inside[at + 2] if inside[at + 1 : at + 2] == "-" and at + 2 < len(inside) else inside[at]
        ranges.append((inside[at], last))
        at += 3 if last is not inside[at] and inside[at + 1 : at + 2] == "-" else 1
    return lambda given: any(first <= given <= last for first, last in ranges) != negated
