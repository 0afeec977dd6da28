"""How far a job has copied an object, as the target keeps it: written by the load that copied the rows, in its own transaction."""

from __future__ import annotations

import datetime as dt
import json
from dataclasses import asdict, dataclass, field
from typing import Any

from ultravect.core.contracts.storage import FileInfo

MARKS = "ultravect_mark"


@dataclass(frozen=True)
class MarkKey:
    """Whose mark it is: ``object`` is what the job copies. Several jobs, and several objects of one, have marks of their own."""

    job: str
    object: str


@dataclass(frozen=True)
class MarkChange:
    """What a load makes of one entry of a mark: "" is that of a column, a path that of a file; ``value`` None removes it.

    ``before`` is the entry as it was when the load was planned, None where there was none: a load that finds another one commits
    nothing, since another run has copied the same rows meanwhile.
    """

    key: MarkKey
    item: str
    value: str | None
    before: str | None = None

    def apply(self, entries: dict[str, str]) -> None:
        """Has the entries of a mark be as the load leaves them."""
        entries.pop(self.item, None)
        if self.value is not None:
            entries[self.item] = self.value


@dataclass(frozen=True)
class ColumnMark:
    """The highest value that was copied, as text of its canonical ``type``.

    ``ties``: the copied rows that have it, how many of each hash, so that they are known from rows with the same value that are committed
    later; ``columns`` of the source are what is hashed, in this order (marks of early versions do not say which).
    """

    type: str
    value: str
    ties: dict[str, int] = field(default_factory=dict)
    columns: tuple[str, ...] = ()

    def as_text(self) -> str:
        return json.dumps(asdict(self), sort_keys=True)

    @classmethod
    def from_text(cls, text: str) -> ColumnMark:
        data: dict[str, Any] = json.loads(text)
        return cls(data["type"], data["value"], data.get("ties") or {}, tuple(data.get("columns") or ()))


@dataclass(frozen=True)
class VersionMark:
    """The newest version of a table whose rows were copied."""

    version: str

    def as_text(self) -> str:
        return json.dumps({"version": self.version})

    @classmethod
    def from_text(cls, text: str) -> VersionMark:
        data: dict[str, Any] = json.loads(text)
        return cls(str(data.get("version", "")))


@dataclass(frozen=True)
class FileMark:
    """A file that was copied: its size in bytes, the time of its last change as ISO text, and its SHA-256 where it was compared.

    ``tag``: see ``FileInfo``. ``earlier``: the checksums of what was copied under this name before.
    """

    size: int
    modified: str
    checksum: str = ""
    tag: str = ""
    earlier: tuple[str, ...] = ()

    @classmethod
    def of(cls, info: FileInfo) -> FileMark:
        return cls(info.size, info.modified.isoformat() if info.modified else "", tag=info.tag)

    def info(self, path: str) -> FileInfo:
        """The file as it was."""
        modified = dt.datetime.fromisoformat(self.modified) if self.modified else None
        return FileInfo(path, self.size, modified, self.tag)

    def as_text(self) -> str:
        return json.dumps(asdict(self), sort_keys=True)

    @classmethod
    def from_text(cls, text: str) -> FileMark:
        data: dict[str, Any] = json.loads(text)
        return cls(**data | {"earlier": tuple(data.get("earlier", ()))})
