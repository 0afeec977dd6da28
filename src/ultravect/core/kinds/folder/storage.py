"""A folder on the service's machine, confined to the roots that the service was started with."""

from __future__ import annotations

import datetime as dt
import difflib
import errno
import itertools
import os
import posixpath
import secrets
import shutil
import weakref
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import BinaryIO

from ultravect.core.contracts.probe import Step
from ultravect.core.contracts.storage import FileInfo, Listing, OpenFile, require_same
from ultravect.core.inside import inside_resolved, leads_out, within
from ultravect.core.kinds.folder.kind import FolderSettings
from ultravect.core.loading.local.local_file import folder_inside
from ultravect.core.storage.paths import Named, hidden_name
from ultravect.core.words import counted

_COUNT_LIMIT = 100_000


def _may_match(folder: str, prefix: str) -> bool:
    """Whether paths in a folder may start with ``prefix``."""
    return folder.startswith(prefix) or prefix.startswith(folder)


class FolderStorage(Named):
    """See ``Storage``. Links are followed only as far as they stay inside the folder."""

    def __init__(self, name: str, settings: FolderSettings, roots: Sequence[str]) -> None:
        super().__init__(name)
        self._path = settings.path
        self._roots = [Path(root).resolve() for root in roots]
        self._opened_in: Path | None = None
        self._parent: _OpenFolder | None = None

    def _folder(self) -> Path:
        return folder_inside(self._name, self._path, self._roots)

    def _walk(self, folder: Path, listing: Listing) -> Iterator[str]:
        """Paths of files, sorted; links that lead out of the folder are left out."""
        after = listing.after
        stack: list[Iterator[tuple[str, bool]]] = [self._entries(folder, "", listing)]
        while stack:
            found = next(stack[-1], None)
            if found is None:
                stack.pop()
                continue
            path, is_folder = found
            if not is_folder:
                yield path
            elif not (after > path and not after.startswith(path)) and _may_match(path, listing.prefix):
                stack.append(self._entries(folder, path, listing))

    def _entries(self, folder: Path, base: str, listing: Listing) -> Iterator[tuple[str, bool]]:
        """What stands in a folder, in the order of whole paths: a folder sorts with a slash after it."""
        found: list[tuple[str, bool]] = []
        try:
            with os.scandir(folder / base) as entries:
                for entry in entries:
                    if entry.is_symlink() and within(Path(entry.path), [folder]) is None:
                        continue
                    if entry.is_dir(follow_symlinks=False):
                        if entry.name.startswith("."):
                            continue
                        found.append((f"{base}{entry.name}/", True))
                    elif listing.shows(entry.name) and entry.is_file():
                        found.append((f"{base}{entry.name}", False))
        except OSError:
            return iter(())  # vanished meanwhile, or not for our eyes
        found.sort()
        return iter(found)

    def steps(self) -> Sequence[Step]:
        def listed() -> str:
            files = itertools.islice(self._walk(self._folder(), Listing()), _COUNT_LIMIT)
            count = sum(1 for _ in files)
            return f"{'at least ' if count >= _COUNT_LIMIT else ''}{counted(count, 'file')} in it"

        def read() -> str:
            first = next(self._walk(self._folder(), Listing()), None)
            if first is None:
                return "there is no file to read yet"
            with self.open(first).stream as stream:
                stream.read(1)
            return f"{first} can be read"

        return [
            Step("reach", lambda: f"{self._folder()} is there, inside the allowed folders"),
            Step("list", listed),
            Step("read", read),
        ]

    def write_steps(self) -> Sequence[Step]:
        def written() -> str:
            path = self._folder() / f".ultravect-test-{secrets.token_hex(6)}"
            try:
                path.write_bytes(b"test")
                path.unlink()
            except OSError as error:
                raise self._error(
                    "folder-denied",
                    f"the service may not write into {self._path}: {error.strerror}",
                    "grant it write access",
                ) from None
            return "a file was written and removed again"

        return [Step("write", written)]

    def list(self, listing: Listing) -> Sequence[FileInfo]:
        folder = self._folder()
        found: list[FileInfo] = []
        for path in listing.pick(self._walk(folder, listing)):
            try:
                status = (folder / path).stat()
            except OSError:
                continue
            found.append(_info(path, status))
        return found

    def _inside(self, folder: Path, path: str) -> Path:
        resolved = inside_resolved(folder, path)
        if resolved is None:
            raise self._error(
                "file-outside-folder",
                f"{path!r} leads out of the folder {self._path}",
                "name a file inside it",
                object=path,
            )
        self._require_shown(posixpath.normpath(path).lstrip("/"))
        self._require_shown(resolved.relative_to(folder).as_posix())
        return resolved

    def put(self, path: str, local: Path) -> None:
        folder = self._folder()
        target = self._inside(folder, path)
        temporary = self._inside(folder, path).with_name(hidden_name(target.name))
        try:
            target.parent.mkdir(parents=True, exist_ok=True)
            try:
                shutil.copyfile(local, temporary)
                with temporary.open("rb") as stream:
                    os.fsync(stream.fileno())
                temporary.replace(target)
            finally:
                temporary.unlink(missing_ok=True)
        except OSError as error:
            full = error.errno in (errno.ENOSPC, errno.EDQUOT)
            raise self._error(
                "target-full" if full else "file-not-written",
                f"{path} cannot be written: {error.strerror}",
                "free disk space there"
                if full
                else "grant the service write access, and check that the folder is there",
                object=path,
            ) from None

    def remove(self, path: str, known: FileInfo | None = None) -> None:
        target = self._inside(self._folder(), path)
        try:
            require_same(_info(path, target.stat()), known)
            target.unlink(missing_ok=True)
        except FileNotFoundError:
            return
        except OSError as error:
            raise self._error(
                "file-not-written", f"{path} cannot be removed: {error.strerror}", "grant write access", object=path
            ) from None

    def _opened_at(self, path: str) -> BinaryIO | None:
        """A file in the folder of the file before, which is not looked for again; None where it is a link, or in another way not simple."""
        base, name = posixpath.split(path)
        if path != posixpath.normpath(path) or leads_out(path) or self._opened_in is None:
            return None
        self._require_shown(path)
        parent = self._parent
        if parent is None or parent.path != base:
            parent = self._parent = _OpenFolder(base, self._inside(self._opened_in, base))
            if within(Path(f"/proc/self/fd/{parent.number}"), [self._opened_in]) is None:
                self._parent = None
                return None  # it was replaced by a link at just this moment
        try:
            number = os.open(name, os.O_RDONLY | os.O_CLOEXEC | os.O_NOFOLLOW, dir_fd=parent.number)
        except OSError as error:
            if error.errno == errno.ELOOP:
                return None
            raise
        try:
            return os.fdopen(number, "rb")
        except OSError:
            os.close(number)
            raise

    def open(self, path: str) -> OpenFile:
        # the folder is looked at once; a link that is put in its place later leads out of it
        self._opened_in = self._opened_in or self._folder()
        try:
            stream = self._opened_at(path) or self._inside(self._opened_in, path).open("rb")
        except IsADirectoryError:
            detail = f"{path!r} is a folder, not a file"
            raise self._error("file-is-folder", detail, "name one file in it", object=path) from None
        except (FileNotFoundError, NotADirectoryError):
            near = difflib.get_close_matches(
                path, [info.path for info in self.list(Listing(limit=2000))], n=1, cutoff=0.6
            )
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
        return OpenFile(_info(path, os.fstat(stream.fileno())), stream)


class _OpenFolder:
    """A folder of files that are read one after the other; ``path`` as they name it."""

    def __init__(self, path: str, place: Path) -> None:
        self.path = path
        self.number = os.open(place, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
        self._closed = weakref.finalize(self, os.close, self.number)


def _info(path: str, status: os.stat_result) -> FileInfo:
    return FileInfo(path, status.st_size, dt.datetime.fromtimestamp(status.st_mtime, dt.UTC))
