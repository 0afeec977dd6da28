"""Looks at a job with many objects: a line for each leg, the worst first."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from contextvars import copy_context
from dataclasses import asdict, dataclass, field
from typing import Any

from ultravect.core.contracts.kept_sessions import keeping_sessions
from ultravect.core.engine.look.check import CheckResult, check_job
from ultravect.core.engine.objects.connections import ConnectionSpec
from ultravect.core.engine.objects.names import RunFacts
from ultravect.core.engine.plan.legs import LegJob, lay_out
from ultravect.core.errors import UltravectError
from ultravect.core.kinds.registry import kind_named
from ultravect.core.model.connection import place_keys
from ultravect.core.model.files import LayoutFile
from ultravect.core.model.finding import Finding
from ultravect.core.model.jobs.job import Job
from ultravect.core.words import counted

# of many objects only the beginning of each is looked at
_SAMPLE_BYTES = 256 << 10
_SCAN_BYTES = 4 << 20
# more threads of one process would wait for each other, not for the servers
_AT_ONCE = 2
_NAMED = 3
_ORDER = {"error": 0, "warning": 1, "note": 2}
_FITS = ("different", "narrower", "wider", "exact")


@dataclass
class CheckedLeg:
    """``fit``: the worst of the leg's columns, as a word of ``Fit``, "" where a new table has their types."""

    leg: LegJob
    result: CheckResult

    @property
    def fit(self) -> str:
        fits = {column["fit"] for column in self.result.columns}
        return next((fit for fit in _FITS if fit in fits), "")

    def as_dict(self) -> dict[str, Any]:
        result = self.result
        return {
            "number": self.leg.number,
            "object": self.leg.object,
            "target": result.target or self.leg.job.into.object_name,
            "target_exists": result.target_exists,
            "passed": result.passed,
            "fit": self.fit,
            "columns": len(result.columns),
            "rows_tried": result.rows_tried,
            "strategy": asdict(result.strategy) if result.strategy else None,
            "findings": [finding.as_dict() for finding in result.findings],
        }

    @property
    def rank(self) -> tuple[int, int, int]:
        """The worst first, then in the order in which they are copied."""
        severities = Counter(finding.severity for finding in self.result.findings)
        worst = min((_ORDER[severity] for severity in severities), default=3)
        fit = _FITS.index(self.fit) if self.fit else len(_FITS)
        return worst, fit, self.leg.number


@dataclass
class CheckedLegs:
    """``findings`` are those of the whole job, and of its legs together, once each."""

    findings: list[Finding]
    legs: list[CheckedLeg] = field(default_factory=list)

    @property
    def passed(self) -> bool:
        return not any(finding.severity == "error" for finding in self.findings)

    def edited(self, text: str) -> CheckedLegs:
        return CheckedLegs([finding.edited(text) for finding in self.findings], self.legs)

    def _effect(self, legs: int) -> str:
        if not legs:
            return "copies nothing: nothing is new"
        if any(checked.leg.job.follows_log for checked in self.legs):
            return f"copies {counted(legs, 'table')} once, as they are, and then follows the log of their source"
        together = any(checked.leg.job.run.publish == "together" for checked in self.legs)
        return f"copies {counted(legs, 'object')}, a leg each{', and publishes them by one transaction' if together else ''}"

    def as_dict(self) -> dict[str, Any]:
        legs = sorted(self.legs, key=lambda checked: checked.rank)
        empty = CheckResult([]).as_dict()
        return {
            **empty,
            "passed": self.passed,
            "findings": [finding.as_dict() for finding in self.findings],
            "effect": self._effect(len(legs)),
            "rows_tried": sum(checked.result.rows_tried for checked in legs),
            "strategy": None,
            "legs": [checked.as_dict() for checked in legs],
        }


def check_legs(
    job: Job,
    source: ConnectionSpec,
    target: ConnectionSpec,
    saved: LayoutFile | None = None,
    known: Sequence[str] | None = None,
) -> CheckedLegs:
    """Plans each leg of a job with many objects, and tries its first rows. ``known``: see ``lay_out``."""
    found = lay_out(job, source, target, RunFacts(), known)

    def checked(leg: LegJob) -> CheckedLeg:
        try:
            result = check_job(leg.job, source, target, saved, sample_bytes=_SAMPLE_BYTES, scan_bytes=_SCAN_BYTES)
        except UltravectError as error:
            result = CheckResult([Finding("error", error.code, error.detail, "", error.hint)])
        return CheckedLeg(leg, result)

    at_once = _AT_ONCE if _is_server(source) and _is_server(target) else 1
    with keeping_sessions(), ThreadPoolExecutor(at_once) as pool:
        legs = list(
            pool.map(lambda leg, context: context.run(checked, leg), found.legs, (copy_context() for _ in found.legs))
        )
    findings = sorted([*found.findings, *_together(legs)], key=lambda finding: _ORDER[finding.severity])
    return CheckedLegs(findings, legs)


def _is_server(spec: ConnectionSpec) -> bool:
    """Whether many sessions of one process are as good as one: databases in a file lock each other out."""
    return "host" in place_keys(kind_named(spec.kind).settings)


def _together(legs: Sequence[CheckedLeg]) -> list[Finding]:
    """What is found in legs, each kind of it once; notes are left to their legs."""
    same: dict[tuple[str, str, str], list[tuple[str, Finding]]] = {}
    for checked in legs:
        for finding in checked.result.findings:
            if finding.severity != "note":
                key = (finding.severity, finding.code, finding.place)
                same.setdefault(key, []).append((checked.leg.object, finding))
    together = []
    for found in same.values():
        name, first = found[0]
        objects = list(dict.fromkeys(name for name, _ in found))
        others = ", ".join(objects[1 : _NAMED + 1]) + (" …" if len(objects) > _NAMED + 1 else "")
        more = f"; the like in {counted(len(objects) - 1, 'other leg')}: {others}" if len(objects) > 1 else ""
        place = first.place if len(objects) == len(legs) else f"objects.{name}"
        together.append(Finding(first.severity, first.code, f"{name}: {first.message}{more}", place, first.fix))
    return together
