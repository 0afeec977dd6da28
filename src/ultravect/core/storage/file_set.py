"""What jobs have written by one file name into a storage: notes that stay next to the files, one for each run.

Each run writes a note of its own and changes no other's while that run is under way, so that runs which write at the same
time lose nothing of each other's. A name is what is left when all placeholders but ``{part}`` are filled in: an overwrite
replaces what was written by the same name, and nothing else.
"""

from __future__ import annotations

import hashlib
import json
import posixpath
import tempfile
from collections.abc import Iterable, Sequence
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import Any

from ultravect.core.contracts.load import ReceiptKey
from ultravect.core.contracts.receipt import FENCE, Receipt
from ultravect.core.contracts.storage import NOTE, Listing, Storage
from ultravect.core.errors import UltravectError

_KEPT_RECEIPTS = 50
_MAX_NOTES = 10_000
_SINGLE = "run"


@dataclass
class FileNote:
    """One run's part: its ``files``, and its receipt once all of them are in their place.

    ``name`` is the path that it writes to, of which another attempt of the same run goes on.
    """

    run: str
    files: list[str] = field(default_factory=list)
    name: str = ""
    receipt: dict[str, Any] | None = None

    @property
    def barred(self) -> bool:
        """Whether the run may not write any more: see ``Target.committed``."""
        return self.receipt is not None and self.receipt["mode"] == FENCE

    @property
    def under_way(self) -> bool:
        return self.receipt is None


class FileSet:
    """The notes of one name; ``template`` is the name with its placeholders, by which earlier versions kept a note."""

    def __init__(self, storage: Storage, name: str, template: str) -> None:
        self._storage = storage
        folder = posixpath.dirname(name.split("{")[0])
        self._stem = posixpath.join(folder, f"{NOTE}{_digest(name)}-")
        self.notes: dict[str, FileNote] = {}
        listing = Listing(pattern=f"{_plain(self._stem)}*.json", limit=_MAX_NOTES, notes=True)
        for found in storage.list(listing):
            if data := self._read(found.path):
                note = FileNote(**data)
                self.notes[note.run] = note
        before = posixpath.join(posixpath.dirname(template.split("{")[0]), f"{NOTE}{_digest(template)}.json")
        if not self.notes and (data := self._read(before)):
            self.notes[""] = FileNote("", [path for path in data["files"] if _is_of(path, name)], name, {"mode": ""})

    def _read(self, path: str) -> dict[str, Any] | None:
        try:
            with self._storage.open(path).stream as stream:
                data: dict[str, Any] = json.loads(stream.read())
        except UltravectError as error:
            if error.code != "file-missing":
                raise
            return None
        return data

    @property
    def files(self) -> Sequence[str]:
        """All files that were written by this name."""
        return sorted({path for note in self.notes.values() for path in note.files})

    def committed(self, keys: Sequence[ReceiptKey]) -> Receipt | None:
        """See ``Target.committed``."""
        for key in keys:
            note = self.notes.get(key.run) or FileNote(key.run)
            if not note.under_way and not note.barred:
                return Receipt(**(note.receipt or {}))
            note.receipt = Receipt("", FENCE, rows_before=None).as_dict()
            self.store(note)
        return None

    def receipt(self, run: str) -> Receipt | None:
        note = self.notes.get(run)
        return Receipt(**note.receipt) if note and note.receipt and not note.barred else None

    def begun(self, run: str) -> FileNote | None:
        """What an earlier attempt of a run began to write, and may have left in the middle."""
        attempts = [note for note in self.notes.values() if _run_of(note.run) == _run_of(run) and note.files]
        return attempts[-1] if attempts else None

    def store(self, note: FileNote) -> None:
        """Writes the note of a run."""
        self.notes[note.run] = note
        with tempfile.NamedTemporaryFile("w", suffix=".json") as file:
            json.dump(asdict(note), file)
            file.flush()
            self._storage.put(self._path(note), Path(file.name))

    def is_barred(self, run: str) -> bool:
        """Asks the storage anew whether the attempt ``run`` may write."""
        data = self._read(self._path(FileNote(run)))
        return data is not None and FileNote(**data).barred

    def replaced(self, own: FileNote, files: Iterable[str]) -> None:
        """Takes ``files``, which are there no more, out of the notes of other runs, and forgets the oldest notes."""
        gone = set(files) | set(own.files)
        for note in self.notes.values():
            if note.run != own.run and gone & set(note.files):
                note.files = [path for path in note.files if path not in gone]
                self.store(note)
        settled = [note for note in self.notes.values() if not note.files and not note.under_way]
        for note in settled[:-_KEPT_RECEIPTS]:
            self._storage.remove(self._path(note))

    def _path(self, note: FileNote) -> str:
        return f"{self._stem}{note.run or _SINGLE}.json"


def _digest(name: str) -> str:
    return hashlib.sha256(name.encode()).hexdigest()[:12]


def _run_of(attempt: str) -> str:
    return attempt.partition(".")[0]


def _plain(path: str) -> str:
    """``path`` as a pattern that only it matches."""
    return "".join(f"[{character}]" if character in "*?[" else character for character in path)


def _is_of(path: str, name: str) -> bool:
    """Whether a file may have been written by a name: with numbers for {part}, and folders for partitions in between."""
    head, _, tail = name.partition("{part}")
    if not tail:
        return path == name or (
            path.startswith(f"{posixpath.dirname(name)}/") and path.endswith(posixpath.basename(name))
        )
    return path.startswith(f"{posixpath.dirname(head)}/".lstrip("/")) and path.endswith(tail)
