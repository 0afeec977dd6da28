"""Databases that are a file on the service's machine, confined to its roots."""

from __future__ import annotations

import os
from collections.abc import Sequence
from pathlib import Path

from ultravect.core.errors import UltravectError


def database_file(connection: str, path: str, roots: Sequence[str]) -> Path:
    """The file of a database; UltravectError when it is not there, or not for the service."""

    def error(code: str, detail: str, hint: str) -> UltravectError:
        return UltravectError(code, f"connection {connection}: {detail}", hint=hint, connection=connection)

    given = Path(path)
    if not given.is_absolute():
        raise error("folder-not-absolute", f"the path {path!r} is not absolute", "write it from / on")
    try:
        place = given.resolve()
        inside = any(place.is_relative_to(Path(root).resolve()) for root in roots)
        there, is_file = place.exists(), place.is_file()
    except (OSError, RuntimeError, ValueError) as problem:
        raise error(
            "file-unreadable", f"{path[:100]!r} cannot be opened: {problem}", "check it for typing errors"
        ) from None
    if not inside:
        raise error(
            "folder-outside-roots",
            f"{path} is outside the folders that this service may read",
            f"allowed: {', '.join(roots) or 'none'}; move it there, or start the service with another --root",
        )
    if not there:
        raise error("file-missing", f"there is no file {path}", "check the path for typing errors")
    if not is_file:
        raise error("file-is-folder", f"{path} is a folder, not a file", "name the database file in it")
    if not os.access(place, os.R_OK):
        raise error("file-denied", f"the service may not read {path}", "grant it read access")
    return place
