"""A folder on the service's machine, confined to the roots that the service was started with."""

from __future__ import annotations

import datetime as dt
import difflib
import os
from collections.abc import Iterator, Sequence
from pathlib import Path

from ultravect.core.errors import UltravectError
from ultravect.core.model.connection import FolderSettings
from ultravect.core.storage.base import FileInfo, OpenFile
from ultravect.core.words import counted

_COUNT_LIMIT = 100_000


def _leads_into(path: Path, folder: Path) -> bool:
    """Whether a path, links followed, ends inside the folder; links in a circle do not."""
    try:
        return path.resolve().is_relative_to(folder)
    except (OSError, RuntimeError):
        return False


class FolderStorage:
    """See ``Storage``. Links are followed only as far as they stay inside the folder."""

    def __init__(self, name: str, settings: FolderSettings, roots: Sequence[str]) -> None:
        self._name = name
        self._path = settings.path
        self._roots = [Path(root).resolve() for root in roots]

    def _folder(self) -> Path:
        folder = Path(self._path)
        if not folder.is_absolute():
            raise self._error("folder-not-absolute", f"the path {self._path!r} is not absolute", "write it from / on")
        folder = folder.resolve()
        if not any(folder.is_relative_to(root) for root in self._roots):
            allowed = ", ".join(str(root) for root in self._roots) or "none"
            raise self._error(
                "folder-outside-roots",
                f"{self._path} is outside the folders that this service may read",
                f"allowed: {allowed}; use a folder in there, or start the service with another --root",
            )
        if not folder.exists():
            raise self._error("folder-missing", f"{self._path} does not exist", "check the path for typing errors")
        if not folder.is_dir():
            raise self._error("folder-missing", f"{self._path} is a file, not a folder", "name the folder it is in")
        if not os.access(folder, os.R_OK | os.X_OK):
            raise self._error("folder-denied", f"the service may not read {self._path}", "grant it read access")
        return folder

    def _error(self, code: str, detail: str, hint: str, **where: str) -> UltravectError:
        return UltravectError(code, f"connection {self._name}: {detail}", hint=hint, connection=self._name, **where)

    def _files(self, folder: Path) -> Iterator[FileInfo]:
        for base, folders, names in os.walk(folder):
            folders[:] = sorted(name for name in folders if not name.startswith("."))
            for name in sorted(names):
                path = Path(base, name)
                if name.startswith(".") or not _leads_into(path, folder):
                    continue
                try:
                    status = path.stat()
                except OSError:
                    continue
                modified = dt.datetime.fromtimestamp(status.st_mtime, dt.UTC)
                yield FileInfo(path.relative_to(folder).as_posix(), status.st_size, modified)

    def probe(self) -> list[str]:
        folder = self._folder()
        count = 0
        for count, _ in enumerate(self._files(folder), 1):
            if count >= _COUNT_LIMIT:
                break
        at_least = "at least " if count >= _COUNT_LIMIT else ""
        return [f"folder {folder} is there and readable", f"{at_least}{counted(count, 'file')} in it"]

    def list(self, search: str, limit: int) -> Sequence[FileInfo]:
        found: list[FileInfo] = []
        for info in self._files(self._folder()):
            if search.lower() in info.path.lower():
                found.append(info)
            if len(found) >= limit:
                break
        return found

    def open(self, path: str) -> OpenFile:
        folder = self._folder()
        if any(character in path for character in "*?["):
            raise self._error(
                "pattern-not-supported",
                f"{path!r} is a pattern; this version copies one file a job",
                "name one file",
                object=path,
            )
        try:
            resolved = Path(folder, path).resolve()
            if not resolved.is_relative_to(folder):
                raise self._error(
                    "file-outside-folder",
                    f"{path!r} leads out of the folder {self._path}",
                    "name a file inside it",
                    object=path,
                )
            stream = resolved.open("rb")
        except IsADirectoryError:
            detail = f"{path!r} is a folder, not a file"
            raise self._error("file-is-folder", detail, "name one file in it", object=path) from None
        except (FileNotFoundError, NotADirectoryError):
            near = difflib.get_close_matches(path, [info.path for info in self.list("", 2000)], n=1, cutoff=0.6)
            hint = f"did you mean {near[0]!r}?" if near else "look at the connection to see which files are there"
            detail = f"there is no file {path!r} in {self._path}"
            raise self._error("file-missing", detail, hint, object=path) from None
        except PermissionError:
            detail = f"the service may not read {path!r}"
            raise self._error("file-denied", detail, "grant it read access", object=path) from None
        except (OSError, ValueError, RuntimeError) as error:
            reason = getattr(error, "strerror", None) or str(error)
            detail = f"{path[:100]!r} cannot be opened: {reason}"
            raise self._error("file-unreadable", detail, "check the name for typing errors", object=path) from None
        status = os.fstat(stream.fileno())
        modified = dt.datetime.fromtimestamp(status.st_mtime, dt.UTC)
        return OpenFile(FileInfo(path, status.st_size, modified), stream)
