"""What happens with files once their rows are committed: they stay, are deleted, or moved."""

from __future__ import annotations

import posixpath
import shutil
import tempfile
from collections.abc import Sequence
from pathlib import Path

from ultravect.core.contracts.mark import FileMark
from ultravect.core.contracts.storage import FileInfo, Storage, require_same
from ultravect.core.engine.objects.connections import ConnectionSpec, storage_of
from ultravect.core.engine.plan.newer.mark_plan import MarkEntry, MarkPlan
from ultravect.core.engine.run.leg import Listener
from ultravect.core.errors import UltravectError
from ultravect.core.words import counted

_PIECE = 1 << 20
_NAMED = 3


def tidy_loaded(mark: MarkPlan | None, source: ConnectionSpec, listener: Listener) -> None:
    """Does with the files of a load that was committed, and with those that earlier ones have left, what the job says."""
    if mark is not None:
        tidy(mark, source, listener, [*mark.tidied, *mark.entries])


def tidy(mark: MarkPlan, source: ConnectionSpec, listener: Listener, files: Sequence[MarkEntry]) -> None:
    """Deletes or moves files that were copied: those that are still as they were. One that cannot be stays, and is tried again by the
    next run; one that was replaced is new to that."""
    if mark.then == "keep" or not files:
        return
    storage = storage_of(source)
    does, _, folder = mark.then.partition(":")
    failed: list[str] = []
    copied = [(entry.item, entry.value) for entry in files if entry.value is not None]
    for path, value in copied:
        known = FileMark.from_text(value).info(path)
        try:
            if does == "move":
                _move(storage, path, known, posixpath.join(folder.strip("/"), posixpath.basename(path)))
            else:
                storage.remove(path, known)
        except UltravectError as error:
            failed.append(f"{path}: {error.detail}")
    done = len(copied) - len(failed)
    if done:
        where = f"moved to {folder}" if does == "move" else "deleted"
        listener.log("info", f"{counted(done, 'file was', 'files were')} {where}, now that the rows are committed")
    if failed:
        more = f" and {len(failed) - _NAMED:,} more" if len(failed) > _NAMED else ""
        listener.log(
            "warning",
            f"{counted(len(failed), 'file that was', 'files that were')} copied could not be {does}d: "
            f"{'; '.join(failed[:_NAMED])}{more}; the next run tries again",
        )


def _move(storage: Storage, path: str, known: FileInfo, to: str) -> None:
    """Under another name where that is taken: nothing is overwritten."""
    stem, ending = posixpath.splitext(to)
    number = 1
    while _is_there(storage, to):
        number += 1
        to = f"{stem}-{number}{ending}"
    with tempfile.NamedTemporaryFile(prefix="ultravect-moved-") as local:
        opened = storage.open(path)
        with opened.stream as stream:
            require_same(opened.info, known)
            shutil.copyfileobj(stream, local, _PIECE)
        local.flush()
        storage.put(to, Path(local.name))
    storage.remove(path, known)


def _is_there(storage: Storage, path: str) -> bool:
    try:
        storage.open(path).stream.close()
    except UltravectError as error:
        if error.code != "file-missing":
            raise
        return False
    return True
