"""Plans which files are new: those that no load of this job has noted in the target."""

from __future__ import annotations

import hashlib
import posixpath
from collections.abc import Sequence
from dataclasses import replace

from ultravect.core.contracts.mark import FileMark
from ultravect.core.contracts.storage import FileInfo
from ultravect.core.engine.objects.connections import ConnectionSpec
from ultravect.core.engine.objects.sources import source_files
from ultravect.core.engine.plan.newer.mark_plan import MarkEntry, MarkPlan
from ultravect.core.engine.plan.newer.newer_rows import mark_key
from ultravect.core.engine.plan.newer.settled import changes_still, unsettled_files
from ultravect.core.engine.plan.planning import Planning
from ultravect.core.errors import UltravectError
from ultravect.core.layouts.base import SourceFile
from ultravect.core.model.jobs.job import Job
from ultravect.core.model.jobs.newer import MoveTo, NewFiles
from ultravect.core.patterns import matcher
from ultravect.core.storage.paths import is_pattern
from ultravect.core.words import counted, some_of

_PIECE = 1 << 20
_MOST_EARLIER = 1000


def plan_newer_files(job: Job, plan: Planning, source: ConnectionSpec) -> list[str] | None:
    """The paths of the files that the leg reads; None for all. Sets the plan's mark; with nothing new, ``plan.nothing``."""
    newer = job.source.newer
    if newer is None or newer.files is None:
        # of a feed, the pattern matches files of other versions, too
        return job.source.part.paths if job.source.part else None
    assert plan.target is not None and plan.table is not None
    key = mark_key(job, plan.mark_parameters)
    held = dict(plan.target.ledger(plan.table).mark(key))
    if held and plan.live is None and job.into.table is not None:
        plan.add(
            "warning",
            "mark-without-table",
            f"{plan.table} is gone since {counted(len(held), 'file was', 'files were')} copied into it: all files are copied again",
            "into.table",
        )
        fresh = True
    else:
        fresh = False
    known = {} if fresh else {path: FileMark.from_text(text) for path, text in held.items()}
    files = source_files(source, plan.path)
    if job.source.part is not None:
        wanted = set(job.source.part.paths)
        files = [file for file in files if file.path in wanted]
    chosen, tidied = _chosen(plan, newer.files, files, known)
    _require_elsewhere(plan, newer.files, [file.path for file, _ in chosen])
    then = f"move:{newer.files.then.move}" if isinstance(newer.files.then, MoveTo) else newer.files.then
    summary = (
        f"{counted(len(known), 'file was', 'files were')} copied before" if known else "no file was copied before"
    )
    entries = tuple(MarkEntry(file.path, mark.as_text(), held.get(file.path)) for file, mark in chosen)
    if fresh:
        # a file that is away at this moment was copied into the table that is gone: it is new when it comes back
        copied = {file.path for file, _ in chosen}
        entries += tuple(MarkEntry(path, None, text) for path, text in held.items() if path not in copied)
    left = [MarkEntry(path, mark.as_text()) for path, mark in tidied] if then != "keep" else []
    plan.mark = MarkPlan(key, summary, entries, None, then, tuple(left))
    plan.summary_of_mark = f"{summary}; {counted(len(chosen), 'is new', 'are new')}"
    if not chosen:
        plan.nothing = "no file is new"
    return [file.path for file, _ in chosen]


def _chosen(
    plan: Planning, options: NewFiles, files: Sequence[SourceFile], known: dict[str, FileMark]
) -> tuple[list[tuple[SourceFile, FileMark]], list[tuple[str, FileMark]]]:
    """The files that are new, each with its entry; and those that were copied and are still there, as they are now."""
    is_late = changes_still(options.settled)
    contents = {
        checksum: path for path, mark in known.items() for checksum in (*mark.earlier, mark.checksum) if checksum
    }
    chosen: list[tuple[SourceFile, FileMark]] = []
    there: list[tuple[str, FileMark]] = []
    changed: list[str] = []
    unsettled: list[str] = []
    doubled: list[str] = []
    for file in files:
        mark = FileMark.of(FileInfo(file.path, file.size, file.modified, file.tag))
        before = known.get(file.path)
        if before and mark.info("").is_same(before.info("")):
            there.append((file.path, mark))
            continue
        if is_late(file):
            unsettled.append(file.path)
            continue
        if options.compare == "checksum":
            mark = replace(mark, checksum=_checksum(file), earlier=_earlier(before))
            if mark.checksum in contents:
                # the same content, under this name or another
                there.append((file.path, mark))
                if contents[mark.checksum] != file.path:
                    doubled.append(f"{file.path} is {contents[mark.checksum]}")
                continue
            contents[mark.checksum] = file.path
        if before:
            changed.append(file.path)
            if options.changed == "ignore":
                continue
        chosen.append((file, mark))
    _report(plan, options, changed, unsettled, doubled)
    return chosen, there


def _earlier(before: FileMark | None) -> tuple[str, ...]:
    """The checksums of what was copied under a name before, the newest last."""
    found = () if before is None else (*before.earlier, before.checksum)
    return tuple(dict.fromkeys(checksum for checksum in found if checksum))[-_MOST_EARLIER:]


def _report(
    plan: Planning, options: NewFiles, changed: Sequence[str], unsettled: Sequence[str], doubled: Sequence[str]
) -> None:
    if changed and options.changed == "fail":
        raise UltravectError(
            "files-changed",
            f"{counted(len(changed), 'file that was', 'files that were')} copied before changed since: {some_of(changed)}",
            hint="write from.newer: {files: {changed: again}} to have them copied again, or ignore",
            place="from.newer",
        )
    if changed:
        does = "copied again" if options.changed == "again" else "left out"
        what = f"{counted(len(changed), 'file')} changed since it was copied, and is {does}: {some_of(changed)}"
        if len(changed) > 1:
            what = (
                f"{counted(len(changed), 'file')} changed since they were copied, and are {does}: {some_of(changed)}"
            )
        plan.add("warning", "files-changed", what, "from.newer")
    if unsettled:
        plan.findings.append(unsettled_files(unsettled, options.settled or "", "from.newer"))
    if doubled:
        what = f"{counted(len(doubled), 'file has', 'files have')} the content of another one, and left out: {some_of(doubled)}"
        plan.add("warning", "files-doubled", what, "from.newer")


def _require_elsewhere(plan: Planning, options: NewFiles, paths: Sequence[str]) -> None:
    """Raises where moved files would be found again, as new ones."""
    if not isinstance(options.then, MoveTo) or not is_pattern(plan.path):
        return
    fits = matcher(plan.path)
    folder = options.then.move.strip("/")
    if any(fits(posixpath.join(folder, posixpath.basename(path))) for path in paths):
        raise UltravectError(
            "moved-into-source",
            f"files that are moved to {options.then.move} would be new again: {plan.path!r} matches them there",
            hint="move them elsewhere, or narrow the pattern",
            place="from.newer",
        )


def _checksum(file: SourceFile) -> str:
    digest = hashlib.sha256()
    with file.open() as stream:
        while piece := stream.read(_PIECE):
            digest.update(piece)
    return digest.hexdigest()
