"""From the name of an object in a connection to a reader of its rows."""

from __future__ import annotations

import tempfile
from collections.abc import Callable, Sequence
from contextlib import suppress
from typing import BinaryIO, cast

from ultravect.core.contracts.storage import FileInfo, Storage
from ultravect.core.engine.objects.connections import ConnectionSpec, storage_of
from ultravect.core.errors import UltravectError
from ultravect.core.layouts import open_layout
from ultravect.core.layouts.archive import Member, members, open_member, pick_member, split_archive
from ultravect.core.layouts.base import FileReader, SourceFile
from ultravect.core.layouts.chain import ChainReader, partitions_of
from ultravect.core.layouts.compression import compression_of, decompress
from ultravect.core.layouts.workbook.cells import split_book
from ultravect.core.model.layout import AnyLayout, XlsxLayout
from ultravect.core.patterns import matcher
from ultravect.core.storage.paths import is_pattern, matching
from ultravect.core.streams import ReadThrough

MAX_FILES = 10_000
_SPOOL_BYTES = 32 << 20
_COPY_BYTES = 1 << 20


class _Watched(ReadThrough):
    """A stream that notices when it gives another number of bytes than its file had."""

    def __init__(self, stream: BinaryIO, path: str, size: int) -> None:
        super().__init__(stream)
        self._path, self._size = path, size
        self._given = 0

    def seen(self, data: bytes, wanted: int) -> None:
        self._given += len(data)
        ended = len(data) < wanted or wanted < 0
        if self._given > self._size or (ended and self._given != self._size):
            raise changed(self._path, self._size, self._given)


def changed(path: str, size: int, found: int) -> UltravectError:
    grown = f"at least {found:,}" if found > size else f"{found:,}"
    return UltravectError(
        "file-changed",
        f"{path} changed while it was read: it had {size:,} bytes, now {grown}",
        hint="copy it when its writer is done; writers should write under another name and rename at the end",
        object=path,
    )


def _opener(storage: Storage, info: FileInfo) -> Callable[[], BinaryIO]:
    """Opens a file again and again; UltravectError when it is no longer the one that it was."""

    def opened() -> BinaryIO:
        found = storage.open(info.path)
        if not found.info.is_same(info):
            found.stream.close()
            raise changed(info.path, info.size, found.info.size)
        return found.stream

    return opened


def _seekable(stream: BinaryIO) -> BinaryIO:
    """The stream itself, or a copy of it on disk when it cannot seek."""
    if stream.seekable():
        return stream
    copy = tempfile.SpooledTemporaryFile(_SPOOL_BYTES)  # noqa: SIM115 - closed by the reader
    with stream:
        while chunk := stream.read(_COPY_BYTES):
            copy.write(chunk)
    copy.seek(0)
    return cast(BinaryIO, copy)


def stored_file(spec: ConnectionSpec, path: str) -> BinaryIO:
    """A file as it is stored, to be sought in."""
    return _seekable(storage_of(spec).open(path).stream)


def source_file(spec: ConnectionSpec, path: str) -> SourceFile:
    """A file of a connection, or of a zip in it; UltravectError when it cannot be opened."""
    storage = storage_of(spec)
    archive = split_archive(path)
    opened = storage.open(archive[0] if archive else path)
    opened.stream.close()
    if archive is None:
        return _plain_file(storage, opened.info)
    stored = _opener(storage, opened.info)
    with _seekable(stored()) as stream:
        member = pick_member(members(stream, archive[0]), archive[0], archive[1])
    return _member_file(stored, archive[0], member)


def _plain_file(storage: Storage, info: FileInfo) -> SourceFile:
    stored = _opener(storage, info)

    def content() -> BinaryIO:
        stream = stored()
        if info.size >= 0:
            stream = cast(BinaryIO, _Watched(stream, info.path, info.size))
        return decompress(stream, info.path, info.size)

    compressed = bool(compression_of(info.path))
    seekable = content if compressed else stored
    size = info.size if info.size >= 0 else 0
    return SourceFile(
        info.path,
        size,
        content,
        lambda: _seekable(seekable()),
        info.modified,
        compressed,
        partitions_of(info.path),
        info.tag,
    )


def _member_file(stored: Callable[[], BinaryIO], archive: str, member: Member) -> SourceFile:
    path = f"{archive}/{member.name}"

    def content() -> BinaryIO:
        return decompress(open_member(lambda: _seekable(stored()), archive, member), path, member.size)

    return SourceFile(
        path, member.size, content, lambda: _seekable(content()), member.modified, True, partitions_of(path)
    )


def source_files(spec: ConnectionSpec, path: str) -> list[SourceFile]:
    """The file that a path names, or all those that a pattern matches, sorted by path."""
    if not is_pattern(path):
        return [source_file(spec, path)]
    storage = storage_of(spec)
    archive = split_archive(path)
    if archive and is_pattern(archive[1]):
        return _matching_members(storage, spec.name, *archive)
    return [_plain_file(storage, info) for info in matching(storage, path, MAX_FILES, spec.name)]


def _matching_members(storage: Storage, connection: str, archive: str, pattern: str) -> list[SourceFile]:
    opened = storage.open(archive)
    opened.stream.close()
    stored = _opener(storage, opened.info)
    fits = matcher(pattern)
    with _seekable(stored()) as stream:
        found = [member for member in members(stream, archive) if fits(member.name)]
    if not found:
        raise UltravectError(
            "file-missing",
            f"connection {connection}: nothing in {archive} matches {pattern!r}",
            hint="* stays inside a folder, ** crosses folders",
            connection=connection,
            object=f"{archive}/{pattern}",
        )
    return [_member_file(stored, archive, member) for member in found]


def _named_files(spec: ConnectionSpec, path: str) -> tuple[list[SourceFile], str]:
    """The files that a path names, and the sheet of a workbook in it; what is there by exactly this name comes first."""
    if not is_pattern(path) and split_book(path) is None:
        return [source_file(spec, path)], ""
    if not set(path) & set("[?") and split_book(path) is None and split_archive(path) is None:
        # a file that is called as the pattern is among those that match it
        with suppress(UltravectError):
            files = source_files(spec, path)
            return [file for file in files if file.path == path] or files, ""
    with suppress(UltravectError):
        return [source_file(spec, path)], ""
    if book := split_book(path):
        return source_files(spec, book[0]), book[1]
    return source_files(spec, path), ""


def _only(files: Sequence[SourceFile], chosen: Sequence[str]) -> list[SourceFile]:
    """The files of these paths; UltravectError where one of them is there no more."""
    by_path = {file.path: file for file in files}
    gone = [path for path in chosen if path not in by_path]
    if gone:
        raise UltravectError(
            "file-missing",
            f"{gone[0]} is gone since the run was planned",
            hint="run again: the plan is made anew",
            object=gone[0],
        )
    return [by_path[path] for path in chosen]


def open_source(
    spec: ConnectionSpec, path: str, layout: AnyLayout | None, chosen: Sequence[str] | None = None
) -> FileReader:
    """A reader of one file, or of all files that a pattern matches as if they were one; ``chosen``: only of these."""
    files, inside = _named_files(spec, path)
    if chosen is not None:
        files = _only(files, chosen)
    if inside:
        # a sheet of a workbook is named as a member of a zip is
        layout = (
            layout.model_copy(update={"sheet": inside})
            if isinstance(layout, XlsxLayout)
            else XlsxLayout(format="xlsx", sheet=inside)
        )
    first = open_layout(files[0], layout)
    return ChainReader(first, files, open_layout) if len(files) > 1 or files[0].partitions else first
