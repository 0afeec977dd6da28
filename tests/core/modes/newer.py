"""What tests of jobs that copy only what is new share: runs of one job from a table or a folder into a table."""

from __future__ import annotations

import itertools
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

from devtools.legs import run_leg
from devtools.pairs import Copied, Place

from ultravect.core.engine.look.check import CheckResult, check_job
from ultravect.core.engine.objects.connections import ConnectionSpec
from ultravect.core.engine.plan.newer.newer_rows import Again
from ultravect.core.engine.run.leg import LegResult
from ultravect.core.model.document import job_from_data
from ultravect.core.model.jobs.job import Job

_runs = itertools.count(1)


class Killed(Exception):
    """The process that would publish is no more."""


@contextmanager
def _killed() -> Iterator[None]:
    raise Killed
    yield


class Nightly:
    """A job and its runs; ``source`` is what ``from`` says without the connection."""

    def __init__(
        self, source: ConnectionSpec, target: Place | ConnectionSpec, given: dict[str, Any], into: dict[str, Any]
    ) -> None:
        self.source = source
        self.target = target.spec if isinstance(target, Place) else target
        self.data: dict[str, Any] = {
            "ultravect": 1,
            "job": f"nightly-{next(_runs)}",
            "from": {"connection": source.name, **given},
            "into": {"connection": self.target.name, **into},
        }
        self.heard = Copied()
        self._last = ""

    @property
    def job(self) -> Job:
        return job_from_data(self.data)

    def run(self, *, killed: bool = False, repeated: bool = False, again: Again | None = None) -> LegResult:
        """A run; ``killed`` before it publishes, or ``repeated`` by another worker after it did."""
        self.heard = Copied()
        earlier = [self._last] if repeated and self._last else []
        self._last = f"{self._last}.2" if earlier else f"newer-{next(_runs)}"
        more: dict[str, Any] = {"shield": _killed} if killed else {}
        return run_leg(
            self.job, self.source, self.target, self.heard, receipt=self._last, earlier=earlier, again=again, **more
        )

    def check(self) -> CheckResult:
        return check_job(self.job, self.source, self.target)

    def codes(self) -> list[str]:
        return [finding.code for finding in self.check().findings]
