"""The log of a Delta Lake table, as far as it names files that only the format's library opens: all of them are in the place.

Protocol, section "Delta Log Entries": https://github.com/delta-io/delta/blob/master/PROTOCOL.md
"""

from __future__ import annotations

import json
from collections.abc import Iterator
from typing import TYPE_CHECKING, Any
from urllib.parse import unquote

import pyarrow as pa
import pyarrow.fs as pafs
import pyarrow.parquet as pq

if TYPE_CHECKING:
    from ultravect.core.kinds.lake.place import LakePlace

LOG = "_delta_log"
_FILES = ("add", "remove", "cdc")
_ABSOLUTE = "p"


def require_commits_inside(place: LakePlace, path: str, first: int, last: int) -> None:
    """UltravectError ``lake-outside`` where a commit of these versions names a file that is not in the place."""
    for version in range(first, last + 1):
        for action in _actions(place, f"{path}/{LOG}/{version:020d}.json"):
            for kind in _FILES:
                if isinstance(named := (action.get(kind) or {}).get("path"), str):
                    place.require_inside(f"{path}/{unquote(named)}")


def require_marks_inside(place: LakePlace, path: str) -> None:
    """The same for the files that say which rows are deleted, where the log names them by an address of their own."""
    for info in place.files.get_file_info(pafs.FileSelector(f"{path}/{LOG}", allow_not_found=True)):
        if info.path.endswith(".json"):
            marks = [
                (action.get(kind) or {}).get("deletionVector")
                for action in _actions(place, info.path)
                for kind in ("add", "remove")
            ]
        elif info.path.endswith(".parquet"):
            marks = _marks_of_checkpoint(place, info.path)
        else:
            continue
        for mark in marks:
            if mark and mark.get("storageType") == _ABSOLUTE:
                _require_address_inside(place, str(mark.get("pathOrInlineDv")))


def _require_address_inside(place: LakePlace, address: str) -> None:
    root = place.uri("").removeprefix("file://").rstrip("/") + "/"
    found = unquote(address).removeprefix("file://")
    if not found.startswith(root):
        raise place.outside(address)
    place.require_inside(found.removeprefix(root))


def _actions(place: LakePlace, path: str) -> Iterator[dict[str, Any]]:
    """What stands in a file of the log; nothing where it is not there, or is none: the library says so."""
    if place.files.get_file_info(path).type != pafs.FileType.File:
        return
    with place.files.open_input_stream(path) as stream:
        for line in stream.read().splitlines():
            try:
                action = json.loads(line)
            except (ValueError, RecursionError):
                continue
            if isinstance(action, dict):
                yield action


def _marks_of_checkpoint(place: LakePlace, path: str) -> list[dict[str, Any] | None]:
    with place.files.open_input_file(path) as opened:
        try:
            source = pq.ParquetFile(opened)
            if "add" not in source.schema_arrow.names:
                return []
            found = source.read(columns=["add.deletionVector"]).column("add")
        except pa.ArrowException:
            return []
    return [(added or {}).get("deletionVector") for added in found.to_pylist()]
