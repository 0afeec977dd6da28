"""Turns validation errors into problems that name the place, the line and the likely fix."""

from __future__ import annotations

import difflib
import types
import typing
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Any

from pydantic import BaseModel, ValidationError

from ultravect.core.model.connection import SECRET_TAGS, secret_keys
from ultravect.core.model.layout import FORMATS

MOST_PROBLEMS = 20
"""Of more, it is only said how many there are: no one corrects more at once, and each takes time to be worked out."""

_LONGEST_WORD = 80
_SHOWN = 100


def _cut(value: Any) -> str:
    """A value as it is shown."""
    text = (
        repr(value[: 2 * _SHOWN])
        if isinstance(value, str)
        else repr(value)
        if _is_small(value)
        else type(value).__name__
    )
    return text if len(text) <= _SHOWN else f"{text[:_SHOWN]}…"


def _is_small(value: Any) -> bool:
    return isinstance(value, int | float | bool | None) and not (isinstance(value, int) and abs(value) > 10**30)


@dataclass(frozen=True)
class Problem:
    """One thing wrong in a declaration: ``pointer`` is a JSON Pointer, ``line`` 1-based in the file, if known.

    ``meant`` is what was probably meant: another key where ``of_key``, otherwise another value; ``edit`` writes it into the
    file's own lines (see ``edits``).
    """

    pointer: str
    message: str
    hint: str = ""
    line: int | None = None
    meant: str = ""
    of_key: bool = False
    edit: Any = None

    @property
    def place(self) -> str:
        """``into.table``"""
        return self.pointer.lstrip("/").replace("/", ".")

    def as_dict(self) -> dict[str, Any]:
        summary = {"pointer": self.pointer, "message": self.message, "hint": self.hint, "line": self.line}
        shown = {key: value for key, value in summary.items() if value not in ("", None)} | {"pointer": self.pointer}
        return shown | ({"edit": self.edit.as_dict()} if self.edit else {})

    @classmethod
    def from_dict(cls, data: dict[str, Any]) -> Problem:
        """What ``as_dict`` gave."""
        return cls(data["pointer"], data["message"], data.get("hint", ""), data.get("line"))

    def __str__(self) -> str:
        return ": ".join(
            part for part in (f"line {self.line}" if self.line else "", self.place, self.message) if part
        )


def nearest(word: str, known: Iterable[str]) -> str:
    """The known word that is most like another one, or "" when none is near."""
    if len(word) > _LONGEST_WORD:
        return ""
    by_fold = {name.lower(): name for name in known if len(name) <= _LONGEST_WORD}
    near = difflib.get_close_matches(word.lower(), list(by_fold), n=1, cutoff=0.55)
    return by_fold[near[0]] if near else ""


def did_you_mean(word: str, known: Iterable[str]) -> str:
    """``did you mean 'table'?``, or "" when nothing known is near."""
    return _asked(nearest(word, known))


def _asked(meant: str) -> str:
    return f"did you mean {meant!r}?" if meant else ""


def _models_of(annotation: Any) -> list[type[BaseModel]]:
    """The models that may stand at ``annotation``, through unions, lists and annotations."""
    if isinstance(annotation, type) and issubclass(annotation, BaseModel):
        return [annotation]
    if typing.get_origin(annotation) in (typing.Union, types.UnionType, list, typing.Annotated):
        return [model for part in typing.get_args(annotation) for model in _models_of(part)]
    return []


def _known_keys(model: type[BaseModel], path: Sequence[str | int]) -> list[str]:
    models = [model]
    for step in path:
        if isinstance(step, int):
            continue
        if step in FORMATS and all(candidate in FORMATS.values() for candidate in models):
            models = [FORMATS[step]]
            continue
        fields = [
            field
            for candidate in models
            for name, field in candidate.model_fields.items()
            if step in (name, field.alias)
        ]
        models = [found for field in fields for found in _models_of(field.annotation)] or models
    return [field.alias or name for candidate in models for name, field in candidate.model_fields.items()]


def _describe(error: Any, model: type[BaseModel]) -> tuple[str, str, str]:
    """What is wrong, what to do, and the word that was meant, where one is near."""
    kind, loc, context = error["type"], error["loc"], error.get("ctx", {})
    if kind == "extra_forbidden":
        known = _known_keys(model, loc[:-1])
        meant = nearest(str(loc[-1]), known)
        return f"unknown key {_cut(loc[-1])}", _asked(meant) or f"known here: {', '.join(known)}", meant
    if kind == "missing":
        return f"key {loc[-1]!r} is missing", "", ""
    if kind == "literal_error":
        allowed = context.get("expected", "")
        known = [word.strip("'") for word in allowed.replace(" or ", ", ").split(", ")]
        meant = nearest(str(error["input"]), known)
        return f"{_cut(error['input'])} is not one of {allowed}", _asked(meant), meant
    if kind == "string_pattern_mismatch" and loc and loc[-1] in ("job", "connection", "labels", "name"):
        return (
            f"{_cut(error['input'])} is not a name: lower-case letters, digits, - and _, at most 64, a letter or digit first",
            "",
            "",
        )
    if kind == "union_tag_invalid":
        known = list(FORMATS)
        meant = nearest(str(context.get("tag")), known)
        return f"{_cut(context.get('tag'))} is not a format; formats are {', '.join(known)}", _asked(meant), meant
    message = error["msg"].removeprefix("Value error, ")
    if kind.endswith("_type"):
        message = f"{message.replace('Input', 'this').replace('valid ', '')}, not {_cut(error['input'])}"
    return message[0].lower() + message[1:], "", ""


def problems_of(
    error: ValidationError, model: type[BaseModel], lines: dict[tuple[str | int, ...], int]
) -> list[Problem]:
    """Problems in the order of the file, the first ``MOST_PROBLEMS``; ``lines`` maps a path in the document to its line."""
    found: dict[str, Problem] = {}
    secrets = secret_keys(model)
    for item in error.errors(include_url=False):
        if len(found) > MOST_PROBLEMS:
            break
        message, hint, meant = _describe(item, model)
        of_key = item["type"] == "extra_forbidden"
        # pydantic adds the branch of a union to the path; it is not in the document
        path = tuple(
            step
            for step, before in zip(item["loc"], ("layout", *item["loc"]), strict=False)
            if not (isinstance(step, str) and (step[:1].isupper() or "[" in step or step in ("str", "int", "bool")))
            and not (before == "layout" and step in (*FORMATS, "name"))
            and not (step in SECRET_TAGS and before in secrets)
        )
        line = next((lines[path[:end]] for end in range(len(path), -1, -1) if path[:end] in lines), None)
        pointer = "".join(f"/{step}" for step in path)
        found.setdefault(pointer, Problem(pointer, message, hint, line, meant, of_key))
    # what a misspelt key was meant to be is not missing next to it
    intended = {
        f"{entry.pointer.rpartition('/')[0]}/{entry.meant}"
        for entry in found.values()
        if entry.of_key and entry.meant
    }
    shown = [
        one for pointer, one in found.items() if pointer not in intended or not one.message.endswith("is missing")
    ]
    return sorted(shown, key=lambda problem: problem.line or 0)[:MOST_PROBLEMS]
