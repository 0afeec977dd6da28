"""What a job has written into a storage: the note of it that stays beside the files."""

from __future__ import annotations

import hashlib
import json
import posixpath
import tempfile
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from ultravect.core.databases.receipts import Receipt
from ultravect.core.errors import UltravectError
from ultravect.core.storage.base import Storage

_KEPT_RECEIPTS = 50


@dataclass
class FileSet:
    """``files`` are those that overwrite replaces; ``receipts`` what the last runs wrote, by their names."""

    storage: Storage
    path: str
    files: list[str] = field(default_factory=list)
    receipts: dict[str, dict[str, Any]] = field(default_factory=dict)
    pending: dict[str, str] = field(default_factory=dict)
    """Paths of runs that began to put files in their place, and may have been cut off there."""

    @classmethod
    def of(cls, storage: Storage, template: str) -> FileSet:
        """The note of what was written by a path template; an empty one where nothing was."""
        folder = posixpath.dirname(template.split("{")[0])
        name = f".ultravect-set-{hashlib.sha256(template.encode()).hexdigest()[:12]}.json"
        found = cls(storage, posixpath.join(folder, name))
        try:
            with storage.open(found.path).stream as stream:
                data = json.loads(stream.read())
        except UltravectError as error:
            if error.code != "file-missing":
                raise
            return found
        found.files, found.receipts, found.pending = data["files"], data["receipts"], data["pending"]
        return found

    def receipt(self, name: str) -> Receipt | None:
        told = self.receipts.get(name)
        return Receipt(**told) if told else None

    def note(self, name: str, receipt: Receipt) -> None:
        """Adds a receipt; the oldest are forgotten."""
        self.receipts[name] = receipt.as_dict()
        for old in list(self.receipts)[:-_KEPT_RECEIPTS]:
            del self.receipts[old]

    def store(self) -> None:
        with tempfile.NamedTemporaryFile("w", suffix=".json") as file:
            json.dump({"files": self.files, "receipts": self.receipts, "pending": self.pending}, file)
            file.flush()
            self.storage.put(self.path, Path(file.name))
