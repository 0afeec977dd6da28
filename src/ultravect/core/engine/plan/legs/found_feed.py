"""Matches the files of a feed to providers and versions: a leg for each version that has new ones."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

from ultravect.core.contracts.mark import FileMark
from ultravect.core.engine.objects.connections import ConnectionSpec
from ultravect.core.engine.objects.names import RunFacts, escaped
from ultravect.core.engine.objects.sources import open_source, source_files
from ultravect.core.engine.objects.targets import open_target
from ultravect.core.engine.plan.legs.leg_job import FoundObject, SeenFile
from ultravect.core.engine.plan.newer.newer_rows import mark_key
from ultravect.core.engine.plan.newer.settled import changes_still, unsettled_files
from ultravect.core.errors import UltravectError
from ultravect.core.expressions.parse import parse_item
from ultravect.core.expressions.select_list import resolve
from ultravect.core.expressions.tree import Name, Star, names_in
from ultravect.core.layouts.base import SourceFile
from ultravect.core.model.feed import FeedFile, FeedVersion
from ultravect.core.model.finding import Finding
from ultravect.core.model.jobs.job import Job
from ultravect.core.patterns import literal, matcher
from ultravect.core.types.canonical import parse_type
from ultravect.core.words import some_of

_REPORTED = 20
_NAMED = 4


@dataclass(frozen=True)
class Candidate:
    """A version of a provider's files: ``number`` counts from 1."""

    provider: str
    number: int
    version: FeedVersion
    pattern: str

    @property
    def shown(self) -> str:
        return f"{self.provider} version {self.number}"


def found_feed(
    job: Job, source: ConnectionSpec, target: ConnectionSpec, facts: RunFacts, findings: list[Finding]
) -> tuple[list[tuple[FoundObject, Job]], list[SeenFile]]:
    """The legs, and every file with what it was matched to; UltravectError where source or target cannot be asked."""
    feed = job.source.feed
    assert isinstance(feed, FeedFile), "the service has put the feed in the place of its name"
    opened, table = open_target(job, target, facts)
    held = (
        opened.ledger(table).mark(mark_key(job, ()))
        if opened.table(table) is not None or job.into.table is None
        else {}
    )
    known = {path: FileMark.from_text(text) for path, text in held.items()}
    matching = _Matching(feed, source)
    files = _settled(feed, _files(feed, source), findings)
    seen = [matching.match(file, known.get(file.path)) for file in files]
    _report(feed.feed, seen, findings)
    legs = []
    for candidate in matching.candidates:
        paths = [
            item.path
            for item in seen
            if item.state == "new" and (item.provider, item.version) == (candidate.provider, candidate.number)
        ]
        if paths:
            legs.append(feed_leg(job, feed, candidate, paths))
    return legs, seen


def _files(feed: FeedFile, source: ConnectionSpec) -> list[SourceFile]:
    """All files of the feed, each once, sorted by path; UltravectError where there are none at all."""
    found: dict[str, SourceFile] = {}
    missing: UltravectError | None = None
    for pattern in feed.patterns:
        try:
            found |= {file.path: file for file in source_files(source, pattern)}
        except UltravectError as error:
            if error.code != "file-missing":
                raise
            missing = error
    if not found and missing is not None:
        raise missing
    return [found[path] for path in sorted(found)]


def _settled(feed: FeedFile, files: Sequence[SourceFile], findings: list[Finding]) -> Sequence[SourceFile]:
    """Without those that may still grow, which is said."""
    if feed.settled is None:
        return files
    is_late = changes_still(feed.settled)
    late = [file.path for file in files if is_late(file)]
    if late:
        findings.append(unsettled_files(late, feed.settled, "from.feed"))
    return [file for file in files if not is_late(file)]


def items_of(feed: FeedFile, version: FeedVersion) -> list[str]:
    """The version's select list with the types of the feed's columns, in their order; UltravectError where one is missing."""
    by_name: dict[str, str] = {}
    for number, text in enumerate(version.columns):
        item = parse_item(text, f"columns.{number}")
        if isinstance(item, Star):
            raise UltravectError(
                "feed-column-unknown", "a version names its columns one by one, and not by *", place="columns"
            )
        name = item.name or (item.value.name if isinstance(item.value, Name) else "")
        wanted = next((column for column in feed.columns if column.name == name), None)
        if wanted is None:
            raise UltravectError(
                "feed-column-unknown",
                f"{text!r} gives {name or 'no name'}, which is none of the feed's columns",
                hint=f"they are: {', '.join(column.name for column in feed.columns)}; write `as` and one of them",
                place=f"columns.{number}",
            )
        by_name[name] = text if item.type else f"{text} {wanted.type}"
    missing = [column.name for column in feed.columns if column.name not in by_name]
    if missing:
        raise UltravectError(
            "feed-column-missing",
            f"no item gives {', '.join(missing)}",
            hint=f"where the files have none, write `cast(null as text) as {missing[0]}`",
            place="columns",
        )
    return [by_name[column.name] for column in feed.columns]


def require_columns(feed: FeedFile) -> None:
    """Raises where a version does not give what the feed's columns are."""
    for at, column in enumerate(feed.columns):
        try:
            parse_type(column.type)
        except ValueError as error:
            raise UltravectError(
                "feed-column-type", str(error), hint="see the types", place=f"columns.{at}.type"
            ) from None
    for name, provider in feed.providers.items():
        for number, version in enumerate(provider.versions):
            try:
                items_of(feed, version)
            except UltravectError as error:
                place = f"providers.{name}.versions.{number}.{error.where.get('place', 'columns')}"
                raise UltravectError(
                    error.code, f"{name} version {number + 1}: {error.detail}", hint=error.hint, place=place
                ) from None


class _Matching:
    """Decides whose a file is."""

    def __init__(self, feed: FeedFile, source: ConnectionSpec) -> None:
        self._feed, self._source = feed, source
        self.candidates = candidates_of(feed)
        self._fits = [matcher(candidate.pattern) for candidate in self.candidates]

    def match(self, file: SourceFile, known: FileMark | None) -> SeenFile:
        modified = file.modified.isoformat() if file.modified else ""
        seen = SeenFile(file.path, file.size, modified, "new")
        if known and (known.size, known.modified) == (file.size, modified):
            return replace(seen, state="known")
        named = [candidate for candidate, fits in zip(self.candidates, self._fits, strict=True) if fits(file.path)]
        providers = sorted({candidate.provider for candidate in named})
        if len(providers) > 1:
            return replace(seen, state="disputed", reason=f"the patterns of {' and '.join(providers)} both match it")
        day = file.modified.date().isoformat() if file.modified else dt.date.max.isoformat()
        valid = [candidate for candidate in named if (candidate.version.valid_from or "") <= day]
        reasons = []
        for candidate in reversed(valid):  # the newest version that it fits
            why = self._misfit(candidate, file.path)
            if not why:
                return replace(seen, provider=candidate.provider, version=candidate.number)
            reasons.append(f"{candidate.shown}: {why}")
        if not reasons:
            reasons = ["no provider's pattern matches it" if not named else "no version is valid on its day"]
        return replace(
            seen,
            state="unmatched",
            provider=providers[0] if providers else "",
            reason="; ".join([*reasons, *self._nearest(file.path)]),
        )

    def _misfit(self, candidate: Candidate, path: str) -> str:
        """Why a file cannot be read as a version says; "" where it can."""
        layout = candidate.version.layout
        assert not isinstance(layout, str), "the service has put the layout in the place of its name"
        try:
            reader = open_source(self._source, path, layout)
            resolve(items_of(self._feed, candidate.version), reader.names)
        except UltravectError as error:
            return error.detail
        return ""

    def _nearest(self, path: str) -> list[str]:
        """Which version's columns are most like those of the file, and what differs."""
        found: list[tuple[int, str]] = []
        try:
            names = set(open_source(self._source, path, None).names)
        except UltravectError as error:
            return [f"it cannot be read: {error.detail}"]
        for candidate in self.candidates:
            needed = _needed(candidate.version)
            lacks, more = sorted(needed - names), sorted(names - needed)
            shown = [f"lacks {some_of(lacks)}"] if lacks else []
            shown += [f"has {some_of(more)}"] if more else []
            found.append(
                (
                    len(lacks) * 2 + len(more),
                    f"nearest is {candidate.shown}: it {' and '.join(shown) or 'has the same columns'}",
                )
            )
        return [min(found)[1]]


def _needed(version: FeedVersion) -> set[str]:
    """The columns of files that a version's select list names."""
    names: set[str] = set()
    for number, text in enumerate(version.columns):
        item = parse_item(text, f"columns.{number}")
        if not isinstance(item, Star):
            names |= {name.name for name in names_in(item.value)}
    return names


def candidates_of(feed: FeedFile) -> list[Candidate]:
    """All versions of all providers."""
    return [
        Candidate(provider, number, version, version.files or said.files)
        for provider, said in sorted(feed.providers.items())
        for number, version in enumerate(said.versions, 1)
    ]


def feed_leg(job: Job, feed: FeedFile, candidate: Candidate, paths: Sequence[str]) -> tuple[FoundObject, Job]:
    items = items_of(feed, candidate.version)
    columns = [item for text in job.columns for item in (items if text.strip() == "*" else [text])]
    layout = candidate.version.layout
    pattern = paths[0] if len(paths) == 1 else candidate.pattern
    named: dict[str, Any] = {
        "connection": feed.connection,
        "files": escaped(literal(pattern) if len(paths) == 1 else pattern),
        "newer": {"files": {}},
        "part": {
            "feed": feed.feed,
            "provider": candidate.provider,
            "version": candidate.number,
            "paths": list(paths),
        },
    }
    if layout is not None and not isinstance(layout, str):
        named["layout"] = layout.model_dump(mode="json", exclude_unset=True)
    facts: Mapping[str, str] = {}
    name = f"{candidate.provider} {candidate.number}"
    captured = {"provider": candidate.provider, "version": str(candidate.number)}
    own = job.model_copy(update={"columns": columns})
    fact = {"provider": candidate.provider, "version": candidate.number, "paths": list(paths)}
    return FoundObject([name], named, facts, captured, fact=fact), own.for_object(
        name, named, job.into.object_name, captured
    )


def _report(feed: str, seen: Sequence[SeenFile], findings: list[Finding]) -> None:
    """Files that are kept aside, each with the reason."""
    aside = [item for item in seen if item.state in ("unmatched", "disputed")]
    for item in aside[:_REPORTED]:
        code = "file-unmatched" if item.state == "unmatched" else "file-disputed"
        fix = (
            f"draft a version from it: ultravect feed draft {feed} {item.path}"
            if item.state == "unmatched"
            else "narrow one of the patterns"
        )
        findings.append(Finding("warning", code, f"{item.path} is kept aside: {item.reason}", "from.feed", fix))
    if len(aside) > _REPORTED:
        what = f"and {len(aside) - _REPORTED:,} more files are kept aside"
        findings.append(Finding("warning", "file-unmatched", what, "from.feed"))
