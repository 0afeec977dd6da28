"""What to write into the job file, as far as that is known: the value of a fix, and its place."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Any

from ultravect.core.engine.plan.target.names import quoted
from ultravect.core.errors import UltravectError
from ultravect.core.expressions.parse import parse_item
from ultravect.core.expressions.select_list import Selected
from ultravect.core.expressions.tree import Star
from ultravect.core.model.edits import REMOVED, Items
from ultravect.core.model.finding import Replacement
from ultravect.core.model.jobs.job import Job

_NEAREST = re.compile(r"^did you mean '(.+)'\?$")


def nearest_in(hint: str) -> str:
    """The name that a ``did you mean`` suggests, or ""."""
    found = _NEAREST.match(hint)
    return found[1] if found else ""


def column_as(job: Job, entry: Selected, written: str | None) -> Replacement | None:
    """``written`` as the item that selects a column of the source; None leaves the column out."""
    text = job.columns[int(entry.place.removeprefix("columns."))]
    item = parse_item(text, entry.place)
    if not isinstance(item, Star):
        return Replacement(entry.place, REMOVED if written is None else written)
    if entry.position is None:
        return None
    names = [*(quoted(name.name) for name in item.left_out), quoted(entry.name)]
    items = [written] if written is not None else []
    # a column that has an item of its own is no longer one of the others
    star = text if written is not None else f"* except ({', '.join(names)})"
    return Replacement(entry.place, Items([star, *items]))


def column_named(job: Job, entry: Selected, name: str) -> Replacement | None:
    """The item that selects a column, with another name for it in the target."""
    if not entry.renamed:
        kind = f" {entry.type}" if entry.type else ""
        return column_as(job, entry, f"{quoted(entry.name)} as {quoted(name)}{kind}")
    text = job.columns[int(entry.place.removeprefix("columns."))]
    named = re.compile(rf'\bas\s+"?{re.escape(entry.name)}"?(?!\w)', re.IGNORECASE)
    return Replacement(entry.place, named.sub(lambda _: f"as {quoted(name)}", text))


def respelled(job: Job, place: str, error: UltravectError) -> Replacement | None:
    """The text at ``place`` with the name that was not found in the spelling that the error's hint suggests."""
    text = _at(job, place)
    near, wrong = nearest_in(error.hint), str(error.where.get("wrong", error.where.get("column", text)))
    if not near or not wrong or not isinstance(text, str):
        return None
    spelled = re.sub(
        rf'(?<![\w"]){re.escape(wrong)}(?![\w"])',
        lambda _: quoted(near) if place.startswith(("columns", "from.where")) else near,
        text,
    )
    return Replacement(place, spelled) if spelled != text else None


def _at(job: Job, place: str) -> Any:
    value: Any = job.as_file()
    for step in place.split("."):
        try:
            value = value[int(step)] if isinstance(value, Sequence) and not isinstance(value, str) else value[step]
        except (KeyError, IndexError, ValueError, TypeError):
            return None
    return value
