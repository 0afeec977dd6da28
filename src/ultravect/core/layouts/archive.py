"""Members of a zip, addressed as if it were a folder: ``slips.zip/june/01.csv``."""

from __future__ import annotations

import datetime as dt
import re
import zipfile
import zlib
from collections.abc import Callable
from dataclasses import dataclass
from typing import BinaryIO, cast

from ultravect.core.errors import UltravectError
from ultravect.core.inside import leads_out
from ultravect.core.layouts.compression import GuardedStream, broken
from ultravect.core.words import counted

_SPLIT = re.compile(r"^(?P<archive>.*?\.zip)(?:/(?P<member>.*))?$", re.I)


@dataclass(frozen=True)
class Member:
    """A file in a zip; sizes in bytes."""

    name: str
    size: int
    stored: int
    modified: dt.datetime


def split_archive(path: str) -> tuple[str, str] | None:
    """The path of the zip and of the member in it; None where the path names no zip."""
    match = _SPLIT.match(path)
    return (match["archive"], match["member"] or "") if match else None


def _open_archive(stream: BinaryIO, path: str) -> zipfile.ZipFile:
    try:
        return zipfile.ZipFile(stream)
    except (zipfile.BadZipFile, OSError, ValueError) as error:
        raise broken(path, ".zip", error) from None


def members(stream: BinaryIO, path: str) -> list[Member]:
    """What a zip holds, sorted by name; folders and hidden files left out."""
    with _open_archive(stream, path) as archive:
        return sorted(
            (
                Member(item.filename, item.file_size, item.compress_size, _moment(item.date_time))
                for item in archive.infolist()
                if not item.is_dir()
                and not leads_out(item.filename)
                and not any(part.startswith((".", "__MACOSX")) for part in item.filename.split("/"))
            ),
            key=lambda member: member.name,
        )


def _moment(parts: tuple[int, ...]) -> dt.datetime:
    try:
        return dt.datetime(*parts, tzinfo=dt.UTC)  # type: ignore[arg-type,misc]
    except ValueError:
        return dt.datetime(1980, 1, 1, tzinfo=dt.UTC)


def pick_member(found: list[Member], path: str, wanted: str) -> Member:
    """The member that is meant: the one named, or the only one."""
    if wanted:
        for item in found:
            if item.name == wanted:
                return item
        names = ", ".join(item.name for item in found[:5]) or "none"
        raise UltravectError(
            "file-missing",
            f"{path} has no member {wanted!r}",
            hint=f"members: {names}{' …' if len(found) > 5 else ''}",
            object=f"{path}/{wanted}",
        )
    if len(found) != 1:
        first = f"name one, such as {path}/{found[0].name}" if found else "check that it was written completely"
        raise UltravectError(
            "archive-ambiguous", f"{path} holds {counted(len(found), 'file')}, not one", hint=first, object=path
        )
    return found[0]


def open_member(open_stored: Callable[[], BinaryIO], path: str, member: Member) -> BinaryIO:
    """The content of a member."""
    archive = _open_archive(open_stored(), path)
    try:
        stream = archive.open(member.name)
    except (
        zipfile.BadZipFile,
        NotImplementedError,
        RuntimeError,
        KeyError,
        OSError,
        ValueError,
        zlib.error,
        EOFError,
    ) as error:
        # RuntimeError: it is encrypted
        raise broken(f"{path}/{member.name}", ".zip", error) from None
    return cast(
        BinaryIO, GuardedStream(cast(BinaryIO, stream), f"{path}/{member.name}", ".zip", max(member.stored, 1))
    )
