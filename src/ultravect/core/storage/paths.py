"""Names of files: which a pattern matches, which are hidden."""

from __future__ import annotations

import posixpath
import secrets
from collections.abc import Sequence

from ultravect.core.contracts.storage import NOTE, FileInfo, Listing, Storage
from ultravect.core.errors import UltravectError
from ultravect.core.patterns import has_pattern


def is_hidden(path: str) -> bool:
    """Whether a file, or a folder that it is in, is hidden by its name; our own notes can be opened."""
    *folders, name = path.split("/")
    return any(part.startswith(".") and part != "." for part in (*folders, "" if name.startswith(NOTE) else name))


class Named:
    """What kinds share: errors that name the connection."""

    def __init__(self, name: str) -> None:
        self._name = name

    def _error(self, code: str, detail: str, hint: str, **where: str) -> UltravectError:
        return UltravectError(code, f"connection {self._name}: {detail}", hint=hint, connection=self._name, **where)

    def _require_shown(self, path: str) -> None:
        """Raises for what listings leave out."""
        if is_hidden(path):
            raise self._error(
                "file-hidden",
                f"{path!r} is hidden: files and folders whose names start with a dot are neither read nor written",
                "give it another name, if it is meant to be copied",
                object=path,
            )

    def lost(self, path: str, error: Exception) -> UltravectError:
        """The connection broke while a file was read."""
        reason = str(error)[:200] or type(error).__name__
        return self._error("connection-lost", f"reading {path} broke off: {reason}", "run again", object=path)


def hidden_name(path: str) -> str:
    """A name next to ``path`` that listings leave out, for a file that is not whole yet."""
    folder, name = posixpath.split(path)
    return posixpath.join(folder, f".ultravect-{secrets.token_hex(4)}-{name}"[:200])


def matching(storage: Storage, pattern: str, limit: int, connection: str) -> Sequence[FileInfo]:
    """The files that a pattern matches; UltravectError when there are none, or more than ``limit``."""
    found = storage.list(Listing(pattern=pattern, limit=limit + 1))
    if not found:
        some = storage.list(Listing(limit=3))
        there = f"files here: {', '.join(item.path for item in some)} …" if some else "there are no files at all"
        raise UltravectError(
            "file-missing",
            f"connection {connection}: no file matches {pattern!r}",
            hint=f"{there}; * stays inside a folder, ** crosses folders",
            connection=connection,
            object=pattern,
        )
    if len(found) > limit:
        raise UltravectError(
            "too-many-files",
            f"connection {connection}: more than {limit:,} files match {pattern!r}",
            hint="narrow the pattern",
            connection=connection,
            object=pattern,
        )
    return found


def is_pattern(path: str) -> bool:
    """Whether a path names many files."""
    return has_pattern(path)
