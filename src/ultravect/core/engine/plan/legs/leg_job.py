"""What a job with many objects becomes."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass, field
from typing import Any

from ultravect.core.dialects.base import TableName
from ultravect.core.model.finding import Finding
from ultravect.core.model.jobs.job import Job


@dataclass(frozen=True)
class SeenFile:
    """A file of a feed as it was matched: ``state`` is known (copied before), new, unmatched or disputed (of two providers)."""

    path: str
    size: int
    modified: str
    state: str
    provider: str = ""
    version: int = 0
    reason: str = ""

    def as_dict(self) -> dict[str, Any]:
        return asdict(self)


@dataclass(frozen=True)
class FoundObject:
    """An object, or a group of like files, that a job with many names by a pattern.

    ``names`` are what the job may call it, the shown one first; ``named`` are the keys of ``from`` that name it alone; ``facts``
    are what placeholders of the target say of it, of which ``captured`` are parameters of the leg's job too. ``table`` is its
    name as the source has it, where it is a table. ``fact`` is what was found, from which all others follow: see ``legs_of_facts``.
    """

    names: Sequence[str]
    named: Mapping[str, Any]
    facts: Mapping[str, str]
    captured: Mapping[str, str] = field(default_factory=dict)
    table: TableName | None = None
    fact: Mapping[str, Any] = field(default_factory=dict)


@dataclass(frozen=True)
class LegJob:
    """A leg before it is planned: the job of its one object. ``after``: the numbers of legs, from 1, that end before it begins."""

    number: int
    object: str
    job: Job
    after: Sequence[int] = ()
    fact: Mapping[str, Any] = field(default_factory=dict)

    def as_fact(self) -> dict[str, Any]:
        return {**self.fact, "after": list(self.after)}

    def as_dict(self) -> dict[str, Any]:
        return {
            "number": self.number,
            "object": self.object,
            "job": self.job.as_file(),
            "source": f"{self.job.source.connection}:{self.object}",
            "target": self.job.into.label,
            "after": list(self.after),
        }


@dataclass(frozen=True)
class Legs:
    """The legs of a job in the order in which they begin, and what there is to say about all of them."""

    legs: Sequence[LegJob]
    findings: Sequence[Finding] = ()
    files: Sequence[SeenFile] = ()
    """The files of a feed, and what each was matched to."""

    @property
    def errors(self) -> Sequence[Finding]:
        return [finding for finding in self.findings if finding.severity == "error"]
