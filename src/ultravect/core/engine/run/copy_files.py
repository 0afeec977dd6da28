"""Copies files as they are, with their folder tree: no byte changes, and each is read again to be sure of that."""

from __future__ import annotations

import hashlib
import posixpath
import shutil
import tempfile
import time
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO, Literal

from ultravect.core.contracts.storage import FileInfo, Listing, Storage
from ultravect.core.engine.objects.connections import ConnectionSpec, storage_of
from ultravect.core.engine.objects.names import RunFacts, filled
from ultravect.core.engine.objects.sources import MAX_FILES, changed
from ultravect.core.engine.run.counting.tally import Tally
from ultravect.core.engine.run.leg import LegResult, Listener
from ultravect.core.engine.run.rejected.rejects import Reject, RejectLedger
from ultravect.core.errors import UltravectError
from ultravect.core.model.jobs.job import Job
from ultravect.core.patterns import literal_prefix
from ultravect.core.storage.file_set import FileNote, FileSet
from ultravect.core.storage.paths import is_pattern, matching
from ultravect.core.words import counted

_PIECE = 1 << 20
_NAMED_FILES = 10
_MAX_THERE = 1_000_000

FileOutcome = Literal["inserted", "updated", "unchanged", "rejected"]


@dataclass(frozen=True)
class FilePair:
    """A file and its place in the target; ``there`` is what stands in that place."""

    source: FileInfo
    path: str
    there: FileInfo | None


class Mirror:
    """The files of a job, and where they go."""

    def __init__(self, job: Job, source: ConnectionSpec, target: ConnectionSpec, facts: RunFacts) -> None:
        assert job.source.files is not None and job.into.folder is not None
        self._other: FileOutcome = "updated" if job.into.removes_old else "rejected"
        """What becomes of a file where another one stands in its place."""

        self._source, self.target = storage_of(source), storage_of(target)
        pattern = filled(job.source.files, job, facts, "from.files")
        self.folder = filled(job.into.folder, job, facts, "into.folder").strip("/")
        self.template = f"{job.into.folder.strip('/')}/"
        self.name = f"{self.folder}/"
        base = posixpath.dirname(literal_prefix(pattern) if is_pattern(pattern) else pattern)
        there = {item.path: item for item in _inside(self.target, self.folder)}
        self.pairs: list[FilePair] = []
        for info in _files(self._source, pattern, source.name):
            path = posixpath.join(self.folder, info.path[len(base) :].lstrip("/"))
            self.pairs.append(FilePair(info, path, there.get(path)))

    @property
    def size(self) -> int:
        return sum(max(pair.source.size, 0) for pair in self.pairs)

    def guess(self, pair: FilePair) -> FileOutcome | None:
        """What will become of a file, as far as sizes say; None where its bytes have to be compared."""
        if pair.there is None:
            return "inserted"
        if pair.there.size == pair.source.size:
            return None
        return self._other

    def outcome(self, pair: FilePair) -> FileOutcome:
        known = self.guess(pair)
        if known is not None:
            return known
        if _digest(self._source, pair.source.path) == _digest(self.target, pair.path):
            return "unchanged"
        return self._other

    def copy(self, pair: FilePair) -> str:
        """Copies a file and reads it again; its SHA-256."""
        with tempfile.NamedTemporaryFile(prefix="ultravect-file-") as local:
            with self._source.open(pair.source.path).stream as stream:
                shutil.copyfileobj(stream, local, _PIECE)
            local.flush()
            size = local.tell()
            if pair.source.size >= 0 and size != pair.source.size:
                raise changed(pair.source.path, pair.source.size, size)
            local.seek(0)
            sent = _sum(local)  # type: ignore[arg-type]
            self.target.put(pair.path, Path(local.name))
        if (found := _digest(self.target, pair.path)) != sent:
            raise UltravectError(
                "verify-failed",
                f"{pair.path} has other bytes than {pair.source.path}: SHA-256 {found} and {sent}",
                hint="others wrote to it at once, or the storage is at fault; run again",
                object=pair.path,
            )
        return sent


def _files(storage: Storage, path: str, connection: str) -> Sequence[FileInfo]:
    if is_pattern(path):
        return matching(storage, path, MAX_FILES, connection)
    opened = storage.open(path)
    opened.stream.close()
    return [opened.info]


def _inside(storage: Storage, folder: str) -> Sequence[FileInfo]:
    return storage.list(Listing(pattern=posixpath.join(folder, "**"), limit=_MAX_THERE))


def _sum(stream: BinaryIO) -> str:
    digest = hashlib.sha256()
    while piece := stream.read(_PIECE):
        digest.update(piece)
    return digest.hexdigest()


def _digest(storage: Storage, path: str) -> str:
    with storage.open(path).stream as stream:
        return _sum(stream)


def mirror_leg(
    job: Job, source: ConnectionSpec, target: ConnectionSpec, listener: Listener, facts: RunFacts
) -> LegResult:
    """Copies the files of a job; its tally counts files. What differs is found before the first is copied.

    Raises UltravectError when it fails; each file is then as it was, or whole and new, and another run goes on from there.
    """
    started = time.monotonic()
    listener.phase("read", "running")
    mirror = Mirror(job, source, target, facts)
    tally = Tally(read=len(mirror.pairs))
    ledger = RejectLedger(job.into.rejects, listener.rejects)
    copied: list[FilePair] = []
    seen = 0
    for pair in mirror.pairs:
        outcome = mirror.outcome(pair)
        if outcome == "rejected":
            reason = f"{pair.path} is there already with other bytes, and the job appends"
            ledger.add([Reject(pair.source.path, 1, None, "", None, reason, pair.source.path)])
        elif outcome == "unchanged":
            tally.unchanged += 1
        else:
            copied.append(pair)
        seen += max(pair.source.size, 0)
        listener.progress({"bytes_total": mirror.size, "bytes_read": seen, "rows_read": 0, "rows_staged": 0})
    ledger.enforce(tally.read, final=True)
    tally.rejected = ledger.count
    for phase in ("read", "shape", "stage"):
        listener.phase(phase, "done")
    listener.phase("publish", "running")
    _publish(mirror, copied, listener, tally, removes=job.into.removes_old)
    listener.phase("publish", "done")
    listener.phase("verify", "done")
    size = sum(max(item.source.size, 0) for item in copied)
    if copied:
        what = counted(len(copied), "file was", "files were")
        listener.log("info", f"{what} copied, {size:,} bytes, and read again: the SHA-256 is the same")
    else:
        listener.log("info", "there was nothing to copy: the files are there with the same bytes")
    return LegResult(tally, None, None, False, time.monotonic() - started)


def _publish(mirror: Mirror, copied: Sequence[FilePair], listener: Listener, tally: Tally, *, removes: bool) -> None:
    known = FileSet(mirror.target, mirror.name, mirror.template)
    for number, pair in enumerate(copied):
        digest = mirror.copy(pair)
        if pair.there is None:
            tally.inserted += 1
        else:
            tally.updated += 1
        if number < _NAMED_FILES:
            listener.log("info", f"copied {pair.path}, SHA-256 {digest}")
    now = {pair.path for pair in mirror.pairs}
    gone = sorted(set(known.files) - now) if removes else []
    for path in gone:
        mirror.target.remove(path)
        listener.log("info", f"removed {path}, which is no longer among the files")
    note = FileNote("", sorted(now | (set(known.files) - set(gone))), mirror.name, {"mode": ""})
    known.store(note)
    known.replaced(note, gone)


def summary(mirror: Mirror) -> str:
    """What a run would do now, by the sizes of files alone."""
    counts: Mapping[str, int] = {
        outcome: sum(1 for pair in mirror.pairs if mirror.guess(pair) == outcome)
        for outcome in ("inserted", "updated", "rejected")
    }
    alike = len(mirror.pairs) - sum(counts.values())
    parts = [
        *([f"{counts['inserted']:,} new"] if counts["inserted"] else []),
        *([f"{counts['updated']:,} in the place of others of another size"] if counts["updated"] else []),
        *([f"{counts['rejected']:,} are there with another size, and are rejects"] if counts["rejected"] else []),
        *([f"{alike:,} of the same size, whose bytes are compared"] if alike else []),
    ]
    count = "1 file as it is" if len(mirror.pairs) == 1 else f"{len(mirror.pairs):,} files as they are"
    return f"copies {count}, {mirror.size:,} bytes, into {mirror.folder or 'the top folder'}: {', '.join(parts)}"
