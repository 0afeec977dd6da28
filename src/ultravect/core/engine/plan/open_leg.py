"""A plan with the handles that its execution needs."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from ultravect.core.contracts.target import Target
from ultravect.core.engine.objects.connections import ConnectionSpec, database_of
from ultravect.core.engine.objects.sources import open_source
from ultravect.core.engine.objects.tables import TableRows
from ultravect.core.engine.objects.targets import open_target
from ultravect.core.engine.plan.leg_plan import FilesPlan, LegPlan
from ultravect.core.engine.plan.planning import Planning
from ultravect.core.engine.plan.source.expressions import bound_again
from ultravect.core.engine.plan.target.guarding import own_checks
from ultravect.core.engine.plan.target.target_checks import TargetCheck, checks_for
from ultravect.core.errors import UltravectError
from ultravect.core.expressions.bind import Bound
from ultravect.core.layouts.base import Reader
from ultravect.core.model.document import LAYOUT, job_from_data
from ultravect.core.model.jobs.job import Job


@dataclass(frozen=True)
class OpenLeg:
    """``bound``: the computed columns by name; ``condition`` what is left to filter by; ``checks`` those of the target that are
    decided before rows are sent."""

    plan: LegPlan
    job: Job
    reader: Reader
    target: Target
    bound: Mapping[str, Bound]
    condition: Bound | None
    checks: Sequence[TargetCheck]

    @classmethod
    def of(cls, planning: Planning) -> OpenLeg:
        """With the handles that planning has opened."""
        assert planning.reader is not None and planning.target is not None
        return cls(
            planning.leg_plan(),
            planning.job,
            planning.reader,
            planning.target,
            planning.bound,
            planning.condition,
            planning.checks,
        )

    @classmethod
    def open(cls, plan: LegPlan, source: ConnectionSpec, target: ConnectionSpec) -> OpenLeg:
        """Opens source and target anew, in whatever process; UltravectError when the source is another than was planned for."""
        job = job_from_data(dict(plan.job))
        reader = _reader(plan, source)
        opened, _ = open_target(job, target, plan.facts)
        bound, condition = bound_again(plan, job, source.keys)
        return cls(plan, job, reader, opened, bound, condition, _checks(plan, job, opened))


def _reader(plan: LegPlan, spec: ConnectionSpec) -> Reader:
    found = plan.source
    if not isinstance(found, FilesPlan):
        database = database_of(spec)
        return TableRows(
            database, found.origin, found.columns, found.label, condition=found.condition, live=found.live
        )
    declared = LAYOUT.read(dict(found.declared)) if found.declared is not None else None
    reader = open_source(spec, found.path, declared, found.chosen)
    if tuple(reader.names) != found.names or reader.layout.model_dump(mode="json") != dict(found.layout):
        raise UltravectError(
            "file-changed",
            f"{found.label} is cut into other columns than when the run was planned",
            hint="run again: the plan is made anew",
            object=found.label,
        )
    return reader


def _checks(plan: LegPlan, job: Job, target: Target) -> Sequence[TargetCheck]:
    found = _checks_of_table(plan, target)
    return [*own_checks(job, plan.columns), *found]


def _checks_of_table(plan: LegPlan, target: Target) -> Sequence[TargetCheck]:
    if not plan.checked or plan.live is None:
        return ()
    found = checks_for(plan.live, plan.columns, target.dialect)
    return [check for check in found if check.name in plan.checked]
