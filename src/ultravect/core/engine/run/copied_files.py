"""What happens with files once their rows are committed: they stay, are deleted, or moved."""

from __future__ import annotations

import posixpath
import shutil
import tempfile
from collections.abc import Sequence
from pathlib import Path

from ultravect.core.contracts.storage import Storage
from ultravect.core.engine.objects.connections import ConnectionSpec, storage_of
from ultravect.core.engine.plan.newer.mark_plan import MarkPlan
from ultravect.core.engine.run.leg import Listener
from ultravect.core.errors import UltravectError
from ultravect.core.words import counted

_PIECE = 1 << 20
_NAMED = 3


def tidy_loaded(mark: MarkPlan | None, source: ConnectionSpec, listener: Listener) -> None:
    """Does with the files of a load that was committed, and with those that earlier ones have left, what the job says."""
    if mark is not None:
        tidy(mark, source, listener, [*mark.tidied, *(entry.item for entry in mark.entries)])


def tidy(mark: MarkPlan, source: ConnectionSpec, listener: Listener, paths: Sequence[str]) -> None:
    """Deletes or moves files that were copied; one that cannot be stays, and is tried again by the next run."""
    if mark.then == "keep" or not paths:
        return
    storage = storage_of(source)
    does, _, folder = mark.then.partition(":")
    failed: list[str] = []
    for path in paths:
        try:
            if does == "move":
                _move(storage, path, posixpath.join(folder.strip("/"), posixpath.basename(path)))
            else:
                storage.remove(path)
        except UltravectError as error:
            failed.append(f"{path}: {error.detail}")
    done = len(paths) - len(failed)
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


def _move(storage: Storage, path: str, to: str) -> None:
    """Under another name where that is taken: nothing is overwritten."""
    stem, ending = posixpath.splitext(to)
    number = 1
    while _is_there(storage, to):
        number += 1
        to = f"{stem}-{number}{ending}"
    with tempfile.NamedTemporaryFile(prefix="ultravect-moved-") as local:
        with storage.open(path).stream as stream:
            shutil.copyfileobj(stream, local, _PIECE)
        local.flush()
        storage.put(to, Path(local.name))
    storage.remove(path)


def _is_there(storage: Storage, path: str) -> bool:
    try:
        storage.open(path).stream.close()
    except UltravectError as error:
        if error.code != "file-missing":
            raise
        return False
    return True
