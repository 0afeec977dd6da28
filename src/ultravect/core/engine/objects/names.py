"""Names of objects with {placeholders} in them: parameters of the job, and what a run and its source say."""

from __future__ import annotations

import datetime as dt
import posixpath
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from ultravect.core.errors import UltravectError
from ultravect.core.layouts.compression import plain_name
from ultravect.core.model.jobs.job import Job
from ultravect.core.model.problems import did_you_mean
from ultravect.core.model.written import PART

_PLACEHOLDER = re.compile(r"\{\{|\}\}|\{([A-Za-z_][A-Za-z0-9_]*)\}|[{}]")


@dataclass(frozen=True)
class RunFacts:
    """What names may say about a run; before there is one, its number is 0.

    ``usual``: by ``rows_read`` and ``rows_written``, what the last runs that succeeded had, which guards compare with.
    """

    id: str = "0"
    date: dt.date = field(default_factory=lambda: dt.datetime.now(dt.UTC).date())
    usual: Mapping[str, tuple[int, ...]] = field(default_factory=dict)


def _source_facts(job: Job) -> dict[str, str]:
    if job.source.files is not None:
        name = plain_name(posixpath.basename(job.source.files)).replace("*", "").replace("?", "")
        stem = posixpath.splitext(name)[0] or "files"
        return {"file_stem": stem, "table": stem}
    table = (job.source.table or "query").split(".")[-1].strip('"`')
    return {"file_stem": table, "table": table}


def filled(text: str, job: Job, facts: RunFacts, place: str, *, part: bool = False, kept: Sequence[str] = ()) -> str:
    """``text`` with its placeholders filled in; ``part``: {part} is left as it is, as are those of ``kept``, and doubled braces with
    them. UltravectError names an unknown one."""
    known = {**{name: str(value) for name, value in job.parameters.items()}, **_source_facts(job)}
    known |= {"run_id": facts.id, "run_date": facts.date.isoformat()}
    if part:
        known[PART] = "{part}"

    known |= {name: f"{{{name}}}" for name in kept}

    def value(match: re.Match[str]) -> str:
        if match[0] in ("{{", "}}"):
            return match[0] if kept else match[0][0]
        if match[1] is None or match[1] not in known:
            near = did_you_mean(match[1] or "", known)
            raise UltravectError(
                "placeholder-unknown",
                f"{match[0]} in {text!r} is nothing that can be filled in",
                hint=near or f"known are {', '.join(sorted(known))}; a brace itself is doubled",
                place=place,
            )
        return known[match[1]]

    return _PLACEHOLDER.sub(value, text)


def escaped(text: str) -> str:
    """A text in which nothing is filled in."""
    return text.replace("{", "{{").replace("}", "}}")


def with_values(text: str, values: Mapping[str, str]) -> str:
    """``text`` with some of its placeholders filled in; the others, and doubled braces, stay as they are."""
    return _PLACEHOLDER.sub(lambda found: escaped(values[found[1]]) if found[1] in values else found[0], text)
