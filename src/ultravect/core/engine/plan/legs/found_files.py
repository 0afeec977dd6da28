"""Files, groups of like files and sheets that ``from.files`` matches, by what the target's name says of them."""

from __future__ import annotations

import posixpath
import re
from collections.abc import Iterable, Mapping, Sequence

from ultravect.core.engine.objects.connections import ConnectionSpec
from ultravect.core.engine.objects.names import RunFacts, escaped, filled, with_values
from ultravect.core.engine.objects.sources import source_files
from ultravect.core.engine.plan.legs.leg_job import FoundObject
from ultravect.core.errors import UltravectError
from ultravect.core.layouts.base import SourceFile
from ultravect.core.layouts.compression import plain_name
from ultravect.core.layouts.workbook.reader import sheet_names
from ultravect.core.model.finding import Finding
from ultravect.core.model.jobs.job import Job, placeholders
from ultravect.core.patterns import has_pattern, literal, name_matcher

_PLACEHOLDER = re.compile(r"\{([A-Za-z_][A-Za-z0-9_]*)\}")
# in one name; more of them could be read in many ways
_MOST_CAPTURES = 3


def found_files(job: Job, source: ConnectionSpec, facts: RunFacts, findings: list[Finding]) -> list[FoundObject]:
    """What is there now, sorted by name; UltravectError where the source cannot be listed, or nothing is there."""
    assert job.source.files is not None
    used = set(placeholders(job.into.object_name))
    paths = paths_of(job, facts)
    files = source_files(source, paths.everything)
    if job.source.sheets is not None:
        return _sheets(job, files, paths, used, findings)
    groups: dict[str, list[tuple[SourceFile, dict[str, str]]]] = {}
    for file in files:
        captured = paths.captured(file.path)
        groups.setdefault(_group(file.path, captured, used), []).append((file, captured))
    found = []
    for name in sorted(groups):
        members = [file.path for file, _ in groups[name]]
        # two files with one stem are two legs with one target, which is an error of its own
        for path in members if "file_stem" in used else members[:1]:
            found.append(file_object(job, paths, path, several=len(members) > 1))
    return found


def file_object(job: Job, paths: Paths, path: str, *, several: bool) -> FoundObject:
    """The object that the file at ``path`` is, or the group that it is of; ``several``: whether there are others in it."""
    used = set(placeholders(job.into.object_name))
    captured = paths.captured(path)
    fact = {"path": path, "several": several}
    if "file_stem" in used:
        return FoundObject([path], {"files": escaped(path)}, {**_facts(path), **captured}, captured, fact=fact)
    if "folder" in used:
        folder = posixpath.dirname(path)
        last = posixpath.basename(paths.of(captured))
        inside = f"{literal(folder)}/{last}" if folder else last
        facts = {**_facts(path), **captured}
        return FoundObject([folder or "."], {"files": escaped(inside)}, facts, captured, fact=fact)
    shown = with_values(paths.pattern, captured).replace("{{", "{").replace("}}", "}")
    named = path if not several and not _keeps_mark(job) else paths.of(captured)
    group = _group(path, captured, used)
    return FoundObject([shown, group], {"files": escaped(named)}, captured, captured, fact=fact)


def sheet_object(job: Job, paths: Paths, path: str, sheet: str, *, several: bool) -> FoundObject:
    """The sheet of one workbook, or the sheets of this name of several."""
    captured = paths.captured(path)
    book = path if not several and not _keeps_mark(job) else paths.of(captured)
    facts = {**_facts(path), **captured, "sheet": sheet}
    names = [f"{paths.shown(captured) if several else path}/{sheet}", sheet]
    fact = {"path": path, "sheet": sheet, "several": several}
    return FoundObject(names, {"files": escaped(f"{book}/{sheet}")}, facts, captured, fact=fact)


def paths_of(job: Job, facts: RunFacts) -> Paths:
    """The paths that ``from.files`` names in a run."""
    captures = job.captures
    return Paths(filled(job.source.files or "", job, facts, "from.files", kept=captures), captures)


def _keeps_mark(job: Job) -> bool:
    """Whether what was copied is noted under the object's name, which therefore must not change when a second file arrives."""
    return job.source.newer is not None and job.source.newer.has_mark


def _group(path: str, captured: Mapping[str, str], used: set[str]) -> str:
    """What distinguishes groups of files, as text."""
    parts = [f"{name}={value}" for name, value in captured.items()]
    if used & {"file_stem", "folder"}:
        parts.append(path if "file_stem" in used else posixpath.dirname(path))
    return " ".join(parts)


def _facts(path: str) -> dict[str, str]:
    stem = posixpath.splitext(plain_name(posixpath.basename(path)))[0]
    return {"file_stem": stem, "table": stem, "folder": posixpath.dirname(path)}


def _sheets(
    job: Job, files: Sequence[SourceFile], paths: Paths, used: set[str], findings: list[Finding]
) -> list[FoundObject]:
    """The sheets of all workbooks: those of one name are read as one, unless the target is named by the workbook too."""
    wanted = job.source.sheets or ()
    fits = [name_matcher(pattern) for pattern in wanted]
    matched = [False] * len(fits)
    groups: dict[tuple[str, str], list[tuple[SourceFile, dict[str, str]]]] = {}
    for file in files:
        captured = paths.captured(file.path)
        book = _group(file.path, captured, used)
        for sheet in sheet_names(file):
            hits = [fit(sheet) for fit in fits]
            matched = [known or hit for known, hit in zip(matched, hits, strict=True)]
            if any(hits):
                groups.setdefault((book, sheet), []).append((file, captured))
    for number, (pattern, hit) in enumerate(zip(wanted, matched, strict=True)):
        if not hit and not has_pattern(pattern):
            what = f"no workbook has a sheet {pattern!r}"
            findings.append(Finding("error", "sheet-missing", what, f"from.sheets.{number}"))
    return [
        sheet_object(job, paths, members[0][0].path, sheet, several=len(members) > 1)
        for (_, sheet), members in sorted(groups.items(), key=lambda group: group[0])
    ]


class Paths:
    """A pattern of paths with captures, such as ``{hut}/*.csv``: each stands for a part of one name, of at least a character."""

    def __init__(self, pattern: str, captures: Sequence[str]) -> None:
        self.pattern, self._captures = pattern, captures
        self._segments = [self._segment(segment) for segment in self._plain(pattern).split("/")] if captures else []
        self.everything = self._without(dict.fromkeys(captures, "*"))
        """The pattern of all files."""
        if captures and self._plain(pattern).split("/").count("**") > 1:
            raise UltravectError(
                "capture-unclear",
                f"{pattern!r} crosses folders twice: which part of a path a capture stands for is not clear",
                hint="write ** once at most, or no capture",
                place="from.files",
            )

    @staticmethod
    def _plain(pattern: str) -> str:
        """Doubled braces as characters that no path has, so that they are no captures."""
        return pattern.replace("{{", "\x01").replace("}}", "\x02")

    def _without(self, values: Mapping[str, str]) -> str:
        """The pattern with these values, and no doubled braces."""
        text = _PLACEHOLDER.sub(lambda found: values.get(found[1], found[0]), self._plain(self.pattern))
        return text.replace("\x01", "{").replace("\x02", "}")

    def of(self, captured: Mapping[str, str]) -> str:
        """The pattern of the files of one group."""
        return self._without({name: literal(value) for name, value in captured.items()})

    def shown(self, captured: Mapping[str, str]) -> str:
        return self._without(captured)

    def captured(self, path: str) -> dict[str, str]:
        """What the captures stand for in ``path``, which ``everything`` matches."""
        if not self._captures:
            return {}
        parts = path.split("/")
        segments = self._segments
        if None in segments:
            across = segments.index(None)
            after = len(segments) - across - 1
            pairs: Iterable[tuple[re.Pattern[str] | None, str]] = [
                *zip(segments[:across], parts, strict=False),
                *zip(segments[across + 1 :], parts[len(parts) - after :], strict=False),
            ]
        else:
            pairs = zip(segments, parts, strict=True)
        found: dict[str, str] = {}
        for segment, part in pairs:
            match = segment.match(part) if segment is not None else None
            for name, value in (match.groupdict() if match else {}).items():
                if found.setdefault(name, value) != value:
                    raise UltravectError(
                        "capture-differs",
                        f"{path}: {{{name}}} stands for {found[name]!r} and for {value!r}",
                        hint="give the second one another name",
                        place="from.files",
                        object=path,
                    )
        return {name: found.get(name, "") for name in self._captures}

    def _segment(self, segment: str) -> re.Pattern[str] | None:
        """One name of the pattern; None for ``**``."""
        if segment == "**":
            return None
        names = _PLACEHOLDER.findall(segment)
        if len(names) > _MOST_CAPTURES or len(set(names)) < len(names):
            raise UltravectError(
                "capture-unclear",
                f"{segment!r} has more captures than can be distinguished",
                hint=f"write at most {_MOST_CAPTURES} of them in one name, each once",
                place="from.files",
            )
        text, at = "", 0
        for found in re.finditer(r"\{([A-Za-z_]\w*)\}|\*+|\?|\[[^\]]+\]|[\x01\x02]", segment):
            text += re.escape(segment[at : found.start()])
            mark = found[0]
            if found[1]:
                text += f"(?P<{found[1]}>.+?)"
            elif mark in "\x01\x02":
                text += re.escape("{" if mark == "\x01" else "}")
            else:
                # what it matches was matched already: only where it stands matters
                text += ".*?" if mark.startswith("*") else "."
            at = found.end()
        return re.compile(f"{text}{re.escape(segment[at:])}\\Z", re.DOTALL)
