"""Databases that are a file on the service's machine, confined to its roots."""

from __future__ import annotations

import os
from collections.abc import Callable, Sequence
from pathlib import Path

from ultravect.core.contracts.catalogue import TableInfo
from ultravect.core.contracts.probe import Step
from ultravect.core.errors import UltravectError
from ultravect.core.inside import within
from ultravect.core.words import counted


def file_steps(
    connection: str,
    path: str,
    roots: Sequence[str],
    sign_in: Callable[[], str],
    tables: Callable[[str, str, int], Sequence[TableInfo]],
    read: Callable[[str], object],
    *,
    create: bool = False,
) -> list[Step]:
    """Testing a database in a file; ``read`` reads a row of a table."""

    def reached() -> str:
        if create and may_be_made(connection, path, roots):
            return f"{path} is not there yet: the first load makes it"
        return f"{database_file(connection, path, roots)} is there"

    def read_first() -> str:
        found = tables("", "", 1)
        if not found:
            return "there is no table to read yet"
        read(found[0].name)
        return f"{found[0].name} can be read"

    def listed() -> str:
        return f"{counted(len(tables('', '', 100_000)), 'table or view', 'tables and views')} in it"

    return [
        Step("reach", reached),
        Step("sign in", sign_in),
        Step("list", listed),
        Step("read", read_first),
    ]


def write_obstacle(connection: str, path: str, roots: Sequence[str], *, create: bool = False) -> str:
    """Why the service cannot write to a database in this file, or ""; ``create``: the file may be missing."""
    place = Path(path) if create and may_be_made(connection, path, roots) else database_file(connection, path, roots)
    if place.exists() and not os.access(place, os.W_OK):
        return f"the service may not write to {place}"
    return "" if os.access(place.parent, os.W_OK) else f"the service may not write to the folder {place.parent}"


def may_be_made(connection: str, path: str, roots: Sequence[str]) -> bool:
    """Whether the file of a database is not there, and its folder is; UltravectError where it may not be there."""
    try:
        database_file(connection, path, roots)
    except UltravectError as error:
        if error.code == "file-missing" and Path(path).parent.is_dir():
            return True
        raise
    return False


def database_file(connection: str, path: str, roots: Sequence[str]) -> Path:
    """The file of a database; UltravectError when it is not there, or not for the service."""

    def error(code: str, detail: str, hint: str) -> UltravectError:
        return UltravectError(code, f"connection {connection}: {detail}", hint=hint, connection=connection)

    given = Path(path)
    if not given.is_absolute():
        raise error("folder-not-absolute", f"the path {path!r} is not absolute", "write it from / on")
    try:
        place = given.resolve()
        there, is_file = place.exists(), place.is_file()
    except (OSError, RuntimeError, ValueError) as problem:
        raise error(
            "file-unreadable", f"{path[:100]!r} cannot be opened: {problem}", "check it for typing errors"
        ) from None
    if within(place, roots) is None:
        raise error(
            "folder-outside-roots",
            f"{path} is outside the folders that this service may read",
            f"allowed: {', '.join(roots) or 'none'}; move it there, or start the service with another --root",
        )
    if not there:
        raise error(
            "file-missing",
            f"there is no file {path}",
            "check the path for typing errors; or set create: true, and the first load makes it",
        )
    if not is_file:
        raise error("file-is-folder", f"{path} is a folder, not a file", "name the database file in it")
    if not os.access(place, os.R_OK):
        raise error("file-denied", f"the service may not read {path}", "grant it read access")
    return place


def folder_inside(connection: str, path: str, roots: Sequence[Path]) -> Path:
    """A folder of this machine, inside one of the resolved ``roots``; UltravectError when it is not there, or not for the service."""

    def error(code: str, detail: str, hint: str) -> UltravectError:
        return UltravectError(code, f"connection {connection}: {detail}", hint=hint, connection=connection)

    folder = Path(path)
    if not folder.is_absolute():
        raise error("folder-not-absolute", f"the path {path!r} is not absolute", "write it from / on")
    try:
        folder = folder.resolve()
        there, is_folder = folder.exists(), folder.is_dir()
    except (OSError, RuntimeError, ValueError) as problem:
        raise error(
            "folder-missing", f"{path[:100]!r} cannot be opened: {problem}", "check it for typing errors"
        ) from None
    if within(folder, roots) is None:
        allowed = ", ".join(str(root) for root in roots) or "none"
        raise error(
            "folder-outside-roots",
            f"{path} is outside the folders that this service may read",
            f"allowed: {allowed}; use a folder in there, or start the service with another --root",
        )
    if not there:
        raise error("folder-missing", f"{path} does not exist", "check the path for typing errors")
    if not is_folder:
        raise error("folder-missing", f"{path} is a file, not a folder", "name the folder it is in")
    if not os.access(folder, os.R_OK | os.X_OK):
        raise error("folder-denied", f"the service may not read {path}", "grant it read access")
    return folder
