"""A fix as an edited line: what a value at a place of a file becomes, written into the file's own text.

Everything else in the file stays as it was typed, comments too. An edit is given only when the edited text reads back
as the same structure with just that value changed.
"""

from __future__ import annotations

import copy
import time
from collections.abc import Sequence
from dataclasses import asdict, dataclass, replace
from typing import Any

import yaml

from ultravect.core.errors import UltravectError
from ultravect.core.model.document import read_documents
from ultravect.core.model.problems import Problem

_WIDE = 10_000
_EDITING_SECONDS = 1.0
_MOST_CHARACTERS = 64 << 10
_DIGITS = 9
_LOADER = getattr(yaml, "CSafeLoader", yaml.SafeLoader)


@dataclass(frozen=True)
class Items:
    """Takes the place of one item of a list; none of them: the item is taken out."""

    values: Sequence[Any]


@dataclass(frozen=True)
class Renamed:
    """Gives a key another name, and leaves its value."""

    name: str


REMOVED = Items(())
"""Takes a key or an item out."""


@dataclass(frozen=True)
class Edit:
    """The lines ``old``, of which the first has the number ``line`` (from 1), become ``new``; without ``old``, ``new`` is
    put in before that line."""

    line: int
    old: Sequence[str]
    new: Sequence[str]

    def as_dict(self) -> dict[str, Any]:
        return {key: list(value) if key != "line" else value for key, value in asdict(self).items()}


def with_edits(problems: Sequence[Problem], text: str) -> list[Problem]:
    """The problems of the file ``text``, with an edit where it is known what was meant, and that is soon found."""
    until = time.monotonic() + _EDITING_SECONDS
    file = _File.read(text) if any(problem.meant for problem in problems) else None
    found = []
    for problem in problems:
        if file is not None and problem.meant and time.monotonic() < until:
            meant = Renamed(problem.meant) if problem.of_key else problem.meant
            found.append(replace(problem, edit=file.edit(problem.place, meant)))
        else:
            found.append(problem)
    return found


def edit_of(text: str, place: str, value: Any) -> Edit | None:
    """The edit that writes ``value`` at ``place`` (``into.table``, ``columns.2``); None where none is sure to be right."""
    file = _File.read(text)
    return file.edit(place, value) if file is not None else None


@dataclass(frozen=True)
class _File:
    """A file that was read once, however many edits of it are looked for."""

    root: yaml.Node | None
    data: Any
    lines: Sequence[str]

    @classmethod
    def read(cls, text: str) -> _File | None:
        """None where it is no file of one structure, or is too long for edits to be worth their time."""
        if len(text) > _MOST_CHARACTERS:
            return None
        try:
            return cls(yaml.compose(text, Loader=_LOADER), read_documents(text)[0].data, text.splitlines())
        except (yaml.YAMLError, UltravectError, IndexError, RecursionError):
            return None

    def edit(self, place: str, value: Any) -> Edit | None:
        path = [int(step) if step.isdecimal() and len(step) < _DIGITS else step for step in place.split(".")]
        edit = _written(self.root, path, value, self.lines)
        if edit is None:
            return None
        first = edit.line - 1
        edited = [*self.lines[:first], *edit.new, *self.lines[first + len(edit.old) :]]
        try:
            after = read_documents("\n".join(edited) + "\n")[0].data
        except (UltravectError, IndexError):
            return None
        return edit if after == _changed(self.data, path, value) else None


def _changed(data: Any, path: Sequence[str | int], value: Any) -> Any:
    """The structure with another value at ``path``."""
    data = copy.deepcopy(data)
    *parents, last = path
    holder = data
    for step in parents:
        if isinstance(holder, dict) and step not in holder:
            # a list of which the file says nothing yet
            holder[step] = []
        holder = holder[step]
    if isinstance(holder, list) and isinstance(last, int):
        holder[last : last + 1] = value.values if isinstance(value, Items) else [value]
    elif isinstance(value, Renamed):
        holder[value.name] = holder.pop(last)
    elif value == REMOVED:
        del holder[last]
    else:
        holder[last] = value
    return data


def _spelled(value: Any) -> str:
    """A value as it stands on a line."""
    flow = yaml.safe_dump(value, default_flow_style=True, allow_unicode=True, width=_WIDE)
    return flow.removesuffix("\n").removesuffix("\n...")


def _end(node: yaml.Node) -> int:
    """The last line of a node, from 0, without the comments and empty lines after it."""
    if isinstance(node, yaml.CollectionNode) and not node.flow_style and node.value:
        last = node.value[-1]
        return _end(last[1] if isinstance(last, tuple) else last)
    end: int = node.end_mark.line
    return end - 1 if node.end_mark.column == 0 and end > node.start_mark.line else end


def _written(root: yaml.Node | None, path: Sequence[str | int], value: Any, lines: Sequence[str]) -> Edit | None:
    node = root
    for depth, step in enumerate(path):
        last = depth == len(path) - 1
        if isinstance(node, yaml.MappingNode):
            pair = next((pair for pair in node.value if pair[0].value == step), None)
            if pair is None:
                missing = value
                if not last:
                    if not isinstance(value, Items):
                        return None
                    missing = list(value.values)
                return _added(node, str(step), missing, lines)
            if last:
                return _in_mapping(node, pair, value, lines)
            node = pair[1]
        elif isinstance(node, yaml.SequenceNode) and isinstance(step, int) and step < len(node.value):
            if last:
                return _in_list(node, step, value, lines)
            node = node.value[step]
        else:
            return None
    return None


def _added(mapping: yaml.MappingNode, key: str, value: Any, lines: Sequence[str]) -> Edit | None:
    """A key that the mapping does not have yet, after its others; ``columns`` stands before ``into``."""
    if value == REMOVED or isinstance(value, Renamed) or not mapping.value:
        return None
    if mapping.flow_style:
        line = mapping.end_mark.line
        at = mapping.end_mark.column - 1
        old = lines[line]
        return Edit(line + 1, (old,), (f"{old[:at].rstrip()}, {key}: {_spelled(value)}{old[at:]}",))
    indent = " " * mapping.start_mark.column
    into = next((pair[0] for pair in mapping.value if pair[0].value == "into"), None)
    at = into.start_mark.line if into and key == "columns" else _end(mapping) + 1
    if isinstance(value, list) and value:
        return Edit(at + 1, (), (f"{indent}{key}:", *(f"{indent}  - {_spelled(item)}" for item in value)))
    return Edit(at + 1, (), (f"{indent}{key}: {_spelled(value)}",))


def _replaced(node: yaml.Node, value: Any, lines: Sequence[str]) -> Edit | None:
    start, end = node.start_mark, node.end_mark
    if start.line != _end(node) or end.line != start.line:
        return None
    old = lines[start.line]
    return Edit(start.line + 1, (old,), (old[: start.column] + _spelled(value) + old[end.column :],))


def _in_mapping(
    mapping: yaml.MappingNode, pair: tuple[yaml.Node, yaml.Node], value: Any, lines: Sequence[str]
) -> Edit | None:
    if isinstance(value, Renamed):
        return (
            None
            if any(key.value == value.name for key, _ in mapping.value)
            else _replaced(pair[0], value.name, lines)
        )
    if value != REMOVED:
        return _replaced(pair[1], value, lines)
    if len(mapping.value) == 1:
        return None
    if mapping.flow_style:
        at = mapping.value.index(pair)
        if mapping.start_mark.line != mapping.end_mark.line:
            return None
        # with the comma before it, or the one after the first
        start = mapping.value[at - 1][1].end_mark if at else pair[0].start_mark
        end = pair[1].end_mark if at else mapping.value[1][0].start_mark
        old = lines[start.line]
        return Edit(start.line + 1, (old,), (old[: start.column] + old[end.column :],))
    first, last = pair[0].start_mark.line, _end(pair[1])
    return Edit(first + 1, tuple(lines[first : last + 1]), ())


def _in_list(sequence: yaml.SequenceNode, index: int, value: Any, lines: Sequence[str]) -> Edit | None:
    node = sequence.value[index]
    if not isinstance(value, Items):
        return _replaced(node, value, lines)
    if sequence.flow_style:
        rest = [item.value for item in sequence.value]
        rest[index : index + 1] = value.values
        return _replaced(sequence, rest, lines) if rest else None
    first, last = node.start_mark.line, _end(node)
    if first != last or (not value.values and len(sequence.value) == 1):
        return None
    old = lines[first]
    dash = old[: node.start_mark.column]
    new = [dash + _spelled(item) for item in value.values]
    if new:  # a comment after the item stays after the first
        new[0] += old[node.end_mark.column :]
    return Edit(first + 1, (old,), tuple(new))
