"""What a kind of storage can do."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from dataclasses import dataclass
from typing import BinaryIO, Protocol


@dataclass(frozen=True)
class FileInfo:
    """``path`` is relative to the connection, with forward slashes; ``size`` in bytes."""

    path: str
    size: int
    modified: dt.datetime


@dataclass(frozen=True)
class OpenFile:
    """A file opened for reading from its start; the caller closes ``stream``."""

    info: FileInfo
    stream: BinaryIO


class Storage(Protocol):
    """One module a kind."""

    def probe(self) -> list[str]:
        """What was reached, a line a step; UltravectError where it stops."""

    def list(self, search: str, limit: int) -> Sequence[FileInfo]:
        """Files whose path contains ``search``, sorted by path, at most ``limit``."""

    def open(self, path: str) -> OpenFile:
        """Opens a file; UltravectError says why it cannot be."""
