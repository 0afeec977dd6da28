"""The files of a folder as libraries of lake formats open them: none is read or written that is outside, whatever a table names."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

import pyarrow.fs as pafs

from ultravect.core.errors import UltravectError
from ultravect.core.inside import inside


class ConfinedFiles(pafs.FileSystemHandler):  # type: ignore[misc]
    """Paths are below ``folder``; links are followed as far as they stay inside. ``refusal`` makes the error for a path that leads out."""

    def __init__(self, folder: Path, refusal: Callable[[str], UltravectError]) -> None:
        self._folder, self._refusal = folder, refusal
        self._local = pafs.LocalFileSystem()

    def _place(self, path: str) -> str:
        place = inside(self._folder, path.rstrip("/"))
        if place is None:
            raise self._refusal(path)
        return str(place)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, ConfinedFiles) and other._folder == self._folder

    __hash__ = None  # type: ignore[assignment]

    def get_type_name(self) -> str:
        return "confined"

    def normalize_path(self, path: str) -> str:
        return path

    def _info(self, path: str) -> pafs.FileInfo:
        try:
            place = inside(self._folder, path.rstrip("/"))
        except (OSError, RuntimeError, ValueError):
            place = None
        if place is None:
            return pafs.FileInfo(path, pafs.FileType.NotFound)
        found = self._local.get_file_info(str(place))
        return pafs.FileInfo(path, found.type, mtime=found.mtime, size=found.size)

    def get_file_info(self, paths: list[str]) -> list[pafs.FileInfo]:
        return [self._info(path) for path in paths]

    def get_file_info_selector(self, selector: pafs.FileSelector) -> list[pafs.FileInfo]:
        """What is in a folder; what a link leads out to is not."""
        base = self._place(selector.base_dir)
        listed = self._local.get_file_info(
            pafs.FileSelector(base, allow_not_found=selector.allow_not_found, recursive=selector.recursive)
        )
        above = selector.base_dir.rstrip("/")
        paths = [f"{above}/{info.path.removeprefix(base).lstrip('/')}".lstrip("/") for info in listed]
        return [info for path in paths if (info := self._info(path)).type != pafs.FileType.NotFound]

    def create_dir(self, path: str, recursive: bool) -> None:
        self._local.create_dir(self._place(path), recursive=recursive)

    def delete_dir(self, path: str) -> None:
        self._local.delete_dir(self._place(path))

    def delete_dir_contents(self, path: str, missing_dir_ok: bool = False) -> None:
        self._local.delete_dir_contents(self._place(path), missing_dir_ok=missing_dir_ok)

    def delete_root_dir_contents(self) -> None:
        raise NotImplementedError("a lake is never emptied as a whole")

    def delete_file(self, path: str) -> None:
        self._local.delete_file(self._place(path))

    def move(self, src: str, dest: str) -> None:
        self._local.move(self._place(src), self._place(dest))

    def copy_file(self, src: str, dest: str) -> None:
        self._local.copy_file(self._place(src), self._place(dest))

    def open_input_stream(self, path: str) -> Any:
        return self._local.open_input_stream(self._place(path), compression=None)

    def open_input_file(self, path: str) -> Any:
        return self._local.open_input_file(self._place(path))

    def open_output_stream(self, path: str, metadata: Mapping[str, str]) -> Any:
        return self._local.open_output_stream(self._place(path), compression=None)

    def open_append_stream(self, path: str, metadata: Mapping[str, str]) -> Any:
        raise NotImplementedError("files of a lake are written once")
