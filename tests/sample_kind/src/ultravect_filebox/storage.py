"""Reads and writes the files of a box."""

from __future__ import annotations

import datetime as dt
import io
import sqlite3
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path

from ultravect.core.contracts.probe import Step
from ultravect.core.contracts.storage import FileInfo, Listing, OpenFile, require_same
from ultravect.core.errors import UltravectError
from ultravect_filebox.kind import FileboxSettings


class FileboxStorage:
    """See ``ultravect.core.contracts.storage.Storage``."""

    def __init__(self, name: str, settings: FileboxSettings, roots: Sequence[str]) -> None:
        self._name, self._settings, self._roots = name, settings, roots

    @contextmanager
    def _box(self) -> Iterator[sqlite3.Connection]:
        path = Path(self._settings.path).resolve()
        if not any(path.is_relative_to(Path(root).resolve()) for root in self._roots):
            raise self._error(
                "folder-outside-roots", f"{path} is outside the folders that may be read", "move it there"
            )
        if not self._settings.word:
            raise self._error("sign-in-refused", "the box needs its word", "set the word")
        try:
            database = sqlite3.connect(path)
            box = f"CREATE TABLE IF NOT EXISTS {self._settings.box} (path TEXT PRIMARY KEY, at TEXT, content BLOB)"
            database.execute(box)
            with database:  # one transaction
                yield database
            database.close()
        except sqlite3.Error as error:
            raise self._error("box-broken", f"the box cannot be used: {error}", "look at the file") from None

    def _error(self, code: str, detail: str, hint: str) -> UltravectError:
        return UltravectError(code, f"connection {self._name}: {detail}", hint=hint, connection=self._name)

    def steps(self) -> Sequence[Step]:
        return [Step("open", lambda: f"{len(self.list(Listing(limit=1000)))} files in the box")]

    def write_steps(self) -> Sequence[Step]:
        return [Step("write", self._try_write)]

    def _try_write(self) -> str:
        with self._box() as box:
            box.execute(f"INSERT OR REPLACE INTO {self._settings.box} VALUES ('.try', '', x'00')")
            box.execute(f"DELETE FROM {self._settings.box} WHERE path = '.try'")
        return "a file was put into the box and removed again"

    def list(self, listing: Listing) -> Sequence[FileInfo]:
        with self._box() as box:
            rows = box.execute(f"SELECT path, length(content), at FROM {self._settings.box} ORDER BY path").fetchall()
        found = {path: FileInfo(path, size, dt.datetime.fromisoformat(at)) for path, size, at in rows}
        shown = (path for path in found if listing.shows(path.rpartition("/")[2]))
        return [found[path] for path in listing.pick(shown)]

    def open(self, path: str) -> OpenFile:
        with self._box() as box:
            asked = f"SELECT content, at FROM {self._settings.box} WHERE path = ?"
            row = box.execute(asked, (path,)).fetchone()
        if row is None:
            raise self._error("file-missing", f"there is no file {path!r}", "look what is there: ultravect look")
        info = FileInfo(path, len(row[0]), dt.datetime.fromisoformat(row[1]))
        return OpenFile(info, io.BytesIO(row[0]))

    def put(self, path: str, local: Path) -> None:
        now = dt.datetime.now(dt.UTC).isoformat()
        with self._box() as box:
            statement = f"INSERT OR REPLACE INTO {self._settings.box} VALUES (?, ?, ?)"
            box.execute(statement, (path, now, local.read_bytes()))

    def remove(self, path: str, known: FileInfo | None = None) -> None:
        if known is not None:
            require_same(self.open(path).info, known)
        with self._box() as box:
            box.execute(f"DELETE FROM {self._settings.box} WHERE path = ?", (path,))
