"""What a kind of storage can do."""

from __future__ import annotations

import datetime as dt
import posixpath
import secrets
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO, Protocol

from ultravect.core.errors import UltravectError
from ultravect.core.probe import Step
from ultravect.core.storage.patterns import has_pattern, literal_prefix, matcher

NOTE = ".ultravect-set-"
"""What the names of our own notes start with, which stay next to files that jobs have written."""


def is_hidden(path: str) -> bool:
    """Whether a file, or a folder that it is in, is hidden by its name; our own notes can be opened."""
    *folders, name = path.split("/")
    return any(part.startswith(".") and part != "." for part in (*folders, "" if name.startswith(NOTE) else name))


@dataclass(frozen=True)
class FileInfo:
    """``path`` is relative to the connection, with forward slashes; ``size`` in bytes, -1 where it is not known."""

    path: str
    size: int
    modified: dt.datetime | None


@dataclass(frozen=True)
class OpenFile:
    """A file opened for reading from its start; the caller closes ``stream``, which may not be able to seek."""

    info: FileInfo
    stream: BinaryIO


@dataclass(frozen=True)
class Listing:
    """What is asked for: paths that contain ``search`` (in any case) and match ``pattern``, those behind ``after``."""

    search: str = ""
    pattern: str = ""
    after: str = ""
    limit: int = 200
    notes: bool = False
    """Whether our own notes are asked for, and nothing else; all other hidden files are never listed."""

    def shows(self, name: str) -> bool:
        """Whether a file or folder of this name may be listed."""
        return name.startswith(NOTE) if self.notes else not name.startswith(".")

    @property
    def prefix(self) -> str:
        """What every path that matches starts with."""
        return literal_prefix(self.pattern)

    def pick(self, paths: Iterator[str]) -> Iterator[str]:
        """Those of the paths, which come sorted, that are asked for."""
        wanted = self.search.lower()
        fits = matcher(self.pattern) if self.pattern else None
        found = 0
        for path in paths:
            if path > self.after and wanted in path.lower() and (fits is None or fits(path)):
                yield path
                found += 1
                if found >= self.limit:
                    return


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
    """A name beside ``path`` that listings leave out, for a file that is not whole yet."""
    folder, name = posixpath.split(path)
    return posixpath.join(folder, f".ultravect-{secrets.token_hex(4)}-{name}"[:200])


class Storage(Protocol):
    """One module a kind."""

    def steps(self) -> Sequence[Step]:
        """What a copy would do to read here, a step each."""

    def write_steps(self) -> Sequence[Step]:
        """What a copy would do to write here: put a file into the staging place, and remove it."""

    def list(self, listing: Listing) -> Sequence[FileInfo]:
        """Files sorted by path; UltravectError where they cannot be listed."""

    def open(self, path: str) -> OpenFile:
        """Opens a file; UltravectError says why it cannot be."""

    def put(self, path: str, local: Path) -> None:
        """Stores a local file; it appears whole or not at all, in the place of one that is there."""

    def remove(self, path: str) -> None:
        """Removes a file, if it is there."""


def matching(storage: Storage, pattern: str, limit: int, connection: str) -> Sequence[FileInfo]:
    """The files that a pattern matches; UltravectError when there are none, or more than ``limit``."""
    found = storage.list(Listing(pattern=pattern, limit=limit + 1))
    if not found:
        some = storage.list(Listing(limit=3))
        there = f"files here: {', '.join(one.path for one in some)} …" if some else "there are no files at all"
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
