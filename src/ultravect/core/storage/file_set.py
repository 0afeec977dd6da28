"""What jobs have written by one file name into a storage: notes that stay next to the files, one for each run.

Each run writes a note of its own and changes no other's while that run is under way, so that runs which write at the same
time lose nothing of each other's. Notes of runs that ended long ago are put together into one, which is a new one each time: where two runs
do so at once, both say the same. A name is what is left when all placeholders but ``{part}`` are filled in: an overwrite
replaces what was written by the same name, and nothing else.
"""

from __future__ import annotations

import datetime as dt
import hashlib
import json
import posixpath
import secrets
import tempfile
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import Any

from ultravect.core.contracts.mark import MarkChange
from ultravect.core.contracts.receipt import FENCE, Receipt, ReceiptKey
from ultravect.core.contracts.storage import NOTE, FileInfo, Listing, Storage
from ultravect.core.errors import UltravectError

_KEPT_RECEIPTS = 50
_FEWEST = 20
_BARRED = dt.timedelta(days=2)
_PAGE = 1_000
_NEVER = dt.datetime.min.replace(tzinfo=dt.UTC)
_TOGETHER = "together-"
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
        """Whether the run may not write any more: see ``Ledger.committed``."""
        return self.receipt is not None and self.receipt["mode"] == FENCE

    @property
    def under_way(self) -> bool:
        return self.receipt is None

    @property
    def marks(self) -> list[MarkChange]:
        """What the run notes of what it has copied, as long as that is not written."""
        return Receipt(**self.receipt).mark_changes if self.receipt is not None else []


class FileSet:
    """The notes of one name; ``template`` is the name with its placeholders, by which earlier versions kept a note."""

    def __init__(self, storage: Storage, name: str, template: str) -> None:
        self._storage = storage
        folder = posixpath.dirname(name.split("{")[0])
        self._stem = posixpath.join(folder, f"{NOTE}{_digest(name)}-")
        self.notes: dict[str, FileNote] = {}
        self._written: dict[str, dt.datetime] = {}
        for found in self._listed():
            if data := self._read(found.path):
                note = FileNote(**data)
                self.notes[note.run] = note
                self._written[note.run] = found.modified or _NEVER
        before = posixpath.join(posixpath.dirname(template.split("{")[0]), f"{NOTE}{_digest(template)}.json")
        if not self.notes and (data := self._read(before)):
            self.notes[""] = FileNote("", [path for path in data["files"] if _is_of(path, name)], name, {"mode": ""})

    def _listed(self) -> Iterator[FileInfo]:
        after = ""
        while True:
            asked = Listing(pattern=f"{_plain(self._stem)}*.json", after=after, limit=_PAGE, notes=True)
            page = self._storage.list(asked)
            yield from page
            if len(page) < _PAGE:
                return
            after = page[-1].path

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
        """See ``Ledger.committed``."""
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

    def has_ended(self, run: str) -> bool:
        """Asks the storage anew whether the attempt ``run`` was committed, or is barred: it may not write any more."""
        data = self._read(self._path(FileNote(run)))
        return data is not None and not FileNote(**data).under_way

    def replaced(self, own: FileNote, files: Iterable[str]) -> None:
        """Takes ``files``, which are there no more, out of the notes of other runs, and forgets the oldest notes."""
        gone = set(files) | set(own.files)
        for note in self.notes.values():
            if note.run != own.run and gone & set(note.files):
                note.files = [path for path in note.files if path not in gone]
                self.store(note)
        self._put_together(own)

    def _put_together(self, own: FileNote) -> None:
        """Has one note instead of those of runs that ended long ago: their files, without their receipts."""
        ended = [note for note in self.notes.values() if not note.under_way and note.run != own.run]
        ended.sort(key=lambda note: self._written.get(note.run, _NEVER))
        oldest = dt.datetime.now(dt.UTC) - _BARRED
        # a late attempt looks whether it is barred
        left = [note for note in ended if not note.barred or self._written.get(note.run, _NEVER) < oldest]
        left = left[: max(0, len(ended) - _KEPT_RECEIPTS)]
        files = sorted({path for note in left for path in note.files})
        if len(left) < (_FEWEST if files else 1):
            return
        if files:
            self.store(FileNote(f"{_TOGETHER}{secrets.token_hex(8)}", files, own.name, {"mode": ""}))
        for note in left:
            self._storage.remove(self._path(note))
            del self.notes[note.run]

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
