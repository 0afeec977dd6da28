"""What a kind of storage can do."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO, Protocol

from ultravect.core.contracts.probe import Step
from ultravect.core.errors import UltravectError
from ultravect.core.patterns import literal_prefix, matcher

NOTE = ".ultravect-set-"
"""What the names of our own notes start with, which stay next to files that jobs have written."""


@dataclass(frozen=True)
class FileInfo:
    """``path`` is relative to the connection, with forward slashes; ``size`` in bytes, -1 where it is not known.

    ``tag``: what the store names this content by, which another content does not have; "" where it names it by nothing.
    """

    path: str
    size: int
    modified: dt.datetime | None
    tag: str = ""

    def is_same(self, other: FileInfo) -> bool:
        """Whether both are of one content, as far as is known of them."""
        if self.tag and other.tag and self.tag != other.tag:
            return False
        return -1 in (self.size, other.size) or (self.size, self.modified) == (other.size, other.modified)


@dataclass(frozen=True)
class OpenFile:
    """A file opened for reading from its start; the caller closes ``stream``, which may not be able to seek."""

    info: FileInfo
    stream: BinaryIO


@dataclass(frozen=True)
class Listing:
    """What is asked for: paths that contain ``search`` (in any case) and match ``pattern``, those after ``after``."""

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


def require_same(found: FileInfo, known: FileInfo | None) -> None:
    """Raises where a file was replaced since it was seen."""
    if known is not None and not found.is_same(known):
        raise replaced(found.path)


def replaced(path: str) -> UltravectError:
    return UltravectError(
        "file-replaced", f"{path} was replaced since it was read", hint="it is new to the next run", object=path
    )


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

    def remove(self, path: str, known: FileInfo | None = None) -> None:
        """Removes a file, if it is there. UltravectError ``file-replaced``, with nothing removed, where it is no longer the one that is
        ``known``."""
