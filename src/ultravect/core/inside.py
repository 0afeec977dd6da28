"""Whether a path stays inside a place: one decision for folders, lakes, archives, uploads, buckets and servers."""

from __future__ import annotations

import os
from collections.abc import Iterable, Iterator
from pathlib import Path
from urllib.parse import unquote

_MOST_ENCODINGS = 5


def readings(path: str) -> Iterator[str]:
    """A path as all those may read it who undo encodings, once or more often: with ``/`` as the only separator."""
    for _ in range(_MOST_ENCODINGS):
        yield path.replace("\\", "/")
        path, before = unquote(path), path
        if path == before:
            return
    # still encoded: no one names a file so, and what it is in the end was not looked at
    yield "../" * (1 + path.count("/"))


def leads_out(path: str) -> bool:
    """Whether a path below a place leads out of it, links apart: by ``..``, from the root on, or as an address of its own."""
    return any(_climbs(reading) for reading in readings(path))


def _climbs(path: str) -> bool:
    if path.startswith("/") or "\0" in path or "://" in path or path.startswith("file:"):
        return True
    depth = 0
    for part in path.split("/"):
        depth += -1 if part == ".." else part not in ("", ".")
        if depth < 0:
            return True
    return False


def inside(folder: Path, path: str) -> Path | None:
    """Where ``path`` below ``folder`` is, links followed; None where that is outside. A path from the root on may lead into it as well.

    OSError, RuntimeError or ValueError where it can be no path, such as links in a circle.
    """
    return inside_resolved(folder.resolve(), path)


def inside_resolved(folder: Path, path: str) -> Path | None:
    """The same for a folder whose links were followed before: one that has become a link since leads out of itself."""
    if "\0" in path:
        raise ValueError("a path has no NUL character")
    if path.startswith(f"{folder}/"):
        path = path.removeprefix(f"{folder}/")
    if leads_out(path):
        return None
    place = os.path.realpath(folder / path)
    if place == str(folder) or place.startswith(f"{str(folder).rstrip('/')}/"):
        return Path(place)
    return None


def within(path: Path, folders: Iterable[str | Path]) -> Path | None:
    """Where ``path`` is, links followed; None where that is in none of ``folders``, or links go in a circle."""
    try:
        place = path.resolve()
    except (OSError, RuntimeError, ValueError):
        return None
    return place if any(place.is_relative_to(Path(folder).resolve()) for folder in folders) else None
